package regular

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"

	"github.com/google/renameio/v2/maybe"
)

// New is a file that is being written and was not there before.
type New struct {
	*os.File
	path string
}

// Create begins a file; one that is there is not touched. The error names it.
func Create(path string, mode fs.FileMode) (*New, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	switch {
	case errors.Is(err, fs.ErrExist):
		return nil, fault{path + " can't be written: it is there already; give another name, or remove it", err}
	case err != nil:
		return nil, unwritten(path, "can't be written", err)
	}
	return &New{f, path}, nil
}

// End closes the file, with why its writing ended early or nil. An empty file goes then, and
// one whose writing was cancelled: a part would look like the whole. The error names the file.
func (f *New) End(why error) error {
	if err := f.Close(); why == nil {
		why = err
	}
	if why == nil {
		return nil
	}
	info, err := os.Stat(f.path)
	if errors.Is(why, context.Canceled) || err == nil && info.Size() == 0 {
		return errors.Join(unwritten(f.path, "is not written", why), os.Remove(f.path))
	}
	return unwritten(f.path, "ends early", why)
}

// Write writes a file that is not there yet, as New says.
func Write(path string, mode fs.FileMode, write func(io.Writer) error) error {
	f, err := Create(path, mode)
	if err != nil {
		return err
	}
	return f.End(write(f))
}

// Replace writes a whole file, also over one that is there; where it fails, that one stays.
func Replace(path string, text []byte, mode fs.FileMode) error {
	err := maybe.WriteFile(path, text, mode)
	if err == nil {
		return nil
	}
	// It was written under another name, which says nothing to anybody.
	at, link := (*fs.PathError)(nil), (*os.LinkError)(nil)
	switch {
	case errors.As(err, &at):
		err = &fs.PathError{Op: at.Op, Path: path, Err: at.Err}
	case errors.As(err, &link):
		err = &fs.PathError{Op: link.Op, Path: path, Err: link.Err}
	}
	return unwritten(path, "is not written", err)
}

// unwritten says in our words why a file is not written.
func unwritten(path, what string, err error) error {
	why := err.Error()
	at := (*fs.PathError)(nil)
	switch {
	case !errors.As(err, &at) || at.Path != path:
	case errors.Is(err, fs.ErrNotExist):
		why = "there is no such folder"
	case errors.Is(err, fs.ErrPermission):
		why = "writing it is not permitted"
	default:
		why = at.Err.Error()
	}
	return fault{path + " " + what + ": " + why, err}
}
