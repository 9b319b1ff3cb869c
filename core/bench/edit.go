package bench

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/regular"
)

// Apply makes the edits together as one step. An edit that would leave a
// bench with faults is refused, and nothing is changed.
func (b *Bench) Apply(edits ...finding.Edit) error {
	if err := b.file.Apply(edits...); err != nil {
		return err
	}
	if faults := b.bind(); len(faults) > 0 {
		b.file.Undo()
		return fmt.Errorf("%s: %s", strings.Join(edits[0].Path, "."), faults[0].Seen)
	}
	return nil
}

// Still gives the bench as it is now, for who reads it while edits go on; it is not to be edited.
func (b *Bench) Still() *Bench {
	if b == nil {
		return nil
	}
	still := *b
	return &still
}

// Undo takes the last step back; false if there is none.
func (b *Bench) Undo() bool {
	if !b.file.Undo() {
		return false
	}
	return len(b.bind()) == 0
}

// Redo makes the step that was undone last again; false if there is none.
func (b *Bench) Redo() bool {
	if !b.file.Redo() {
		return false
	}
	return len(b.bind()) == 0
}

// Dirty says whether there are edits that were not saved.
func (b *Bench) Dirty() bool { return !bytes.Equal(b.disk, b.file.Text()) }

// ErrChangedOnDisk says that somebody else changed the bench file since it
// was read.
var ErrChangedOnDisk = errors.New("the file was changed on disk since it was read")

// Save writes the bench to path. If the file there is no longer the one that
// was read, it is kept and the bench goes to a file beside it, whose name is
// given with ErrChangedOnDisk.
func (b *Bench) Save(path string) (written string, err error) {
	text := b.file.Text()
	folder := filepath.Dir(path)
	if to, err := filepath.EvalSymlinks(path); err == nil {
		path = to // the link stays one
	}
	onDisk, err := regular.Read(path, doc.MostText)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("%s can't be compared before saving: %w", path, err)
	}
	if err == nil && !bytes.Equal(onDisk, b.disk) && !bytes.Equal(onDisk, text) {
		ext := filepath.Ext(path)
		for i := 1; ; i++ {
			beside := fmt.Sprintf("%s.mine%d%s", strings.TrimSuffix(path, ext), i, ext)
			if _, err := os.Lstat(beside); !errors.Is(err, os.ErrNotExist) {
				continue
			}
			if err := regular.Replace(beside, text, 0o644); err != nil {
				return "", err
			}
			return beside, ErrChangedOnDisk
		}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", fmt.Errorf("%s is not written: %w", path, err)
	}
	if err := regular.Replace(path, text, 0o644); err != nil {
		return "", err
	}
	b.disk = text
	return path, b.saveBeside(folder)
}

// Reload reads the bench again as it is at path, with its device files, in place of what
// it is now; edits are forgotten. One whose links are others is refused: a session that
// runs can't take it over.
func (b *Bench) Reload(path string) error {
	text, err := regular.Read(path, doc.MostText)
	if err != nil {
		return fmt.Errorf("%s can't be read: %w", path, err)
	}
	n, faults := Parse(b.dir, filepath.Base(path), text)
	if n == nil {
		return errors.New(faults[0].String())
	}
	same := len(n.Links) == len(b.Links)
	for i := 0; same && i < len(n.Links); i++ {
		old, now := b.Links[i], n.Links[i]
		same = old.Name == now.Name && old.Kind == now.Kind && len(old.Ends) == len(now.Ends) && (old.Port == nil) == (now.Port == nil)
	}
	if !same {
		return errors.New("its links or their devices are others now: leave and open it again")
	}
	*b = *n
	return nil
}

// names are the files that the bench refers to.
func (b *Bench) names() []string {
	out := []string{b.file.Root.Text("mcu", "registers")}
	for _, l := range b.file.Root.Get("links").All() {
		out = append(out, l.Text("device", "file"))
		for _, d := range l.Get("devices").All() {
			out = append(out, d.Text("file"))
		}
	}
	return slices.DeleteFunc(out, func(s string) bool { return s == "" })
}

// Files gives the texts of the files that the bench refers to, by name, for a capture
// to carry them.
func (b *Bench) Files() map[string]string {
	out := map[string]string{}
	for _, name := range b.names() {
		text, err := doc.ReadFile(b.dir, name)
		if err != nil {
			continue
		}
		out[name] = string(text)
		if table := device.TableOf(name, text); table != "" {
			if text, err := doc.ReadFile(b.dir, table); err == nil {
				out[table] = string(text)
			}
		}
	}
	return out
}

// FromFiles gives the bench of a text whose files are given by name, as a capture
// carries them.
func FromFiles(name, text string, files map[string]string) (*Bench, []finding.Finding) {
	return Parse(carried(files), name, []byte(text))
}

// carried are files in memory.
type carried map[string]string

// Open implements fs.FS.
func (c carried) Open(name string) (fs.File, error) {
	text, has := c[name]
	if !has {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return &carriedFile{strings.NewReader(text), name}, nil
}

type carriedFile struct {
	*strings.Reader
	name string
}

// The methods of fs.File, and of its fs.FileInfo.
func (f *carriedFile) Stat() (fs.FileInfo, error) { return f, nil }
func (f *carriedFile) Close() error               { return nil }
func (f *carriedFile) Name() string               { return f.name }
func (f *carriedFile) Mode() fs.FileMode          { return 0o444 }
func (f *carriedFile) ModTime() time.Time         { return time.Time{} }
func (f *carriedFile) IsDir() bool                { return false }
func (f *carriedFile) Sys() any                   { return nil }

// saveBeside writes the files that the bench refers to into its folder where they
// are not there yet: it may have been saved elsewhere.
func (b *Bench) saveBeside(folder string) error {
	for _, name := range b.names() {
		to := filepath.Join(folder, filepath.FromSlash(name))
		if _, err := os.Stat(to); err == nil {
			continue
		}
		text, err := doc.ReadFile(b.dir, name)
		if err == nil {
			err = os.MkdirAll(filepath.Dir(to), 0o755)
		}
		if err == nil {
			err = regular.Replace(to, text, 0o644)
		}
		if err != nil {
			return fmt.Errorf("the bench is saved, but %s is not beside it: %w", name, err)
		}
	}
	return nil
}
