package bench

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"

	"gavrix/core/finding"
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
	onDisk, err := os.ReadFile(path)
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
			if err := renameio.WriteFile(beside, text, 0o644); err != nil {
				return "", err
			}
			return beside, ErrChangedOnDisk
		}
	}
	if err := renameio.WriteFile(path, text, 0o644); err != nil {
		return "", fmt.Errorf("%s was not written: %w", path, err)
	}
	b.disk = text
	return path, b.saveBeside(filepath.Dir(path))
}

// saveBeside writes the files that the bench refers to into its folder where they
// are not there yet: it may have been saved elsewhere.
func (b *Bench) saveBeside(folder string) error {
	names := []string{b.file.Root.Text("mcu", "registers")}
	for _, l := range b.file.Root.Get("links").All() {
		names = append(names, l.Text("device", "file"))
		for _, d := range l.Get("devices").All() {
			names = append(names, d.Text("file"))
		}
	}
	for _, name := range names {
		to := filepath.Join(folder, filepath.FromSlash(name))
		if _, err := os.Stat(to); name == "" || err == nil {
			continue
		}
		text, err := fs.ReadFile(b.dir, name)
		if err == nil {
			err = os.MkdirAll(filepath.Dir(to), 0o755)
		}
		if err == nil {
			err = renameio.WriteFile(to, text, 0o644)
		}
		if err != nil {
			return fmt.Errorf("the bench is saved, but %s is not beside it: %w", name, err)
		}
	}
	return nil
}
