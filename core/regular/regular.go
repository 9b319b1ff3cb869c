// Package regular reads and writes files that are named by a user. None but regular ones are read,
// since a pipe or a device may have no end or never begin, and none that are longer than they can be;
// new ones never take the place of others, and none is left empty when its disk is full.
package regular

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// Open opens a regular file. The error says why there is none, without the path.
func Open(path string) (*os.File, error) {
	// Opening a pipe to which nobody writes would wait.
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, Reason(err)
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no regular file, but a pipe or a device: save what comes from it into a file first")
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, Reason(err)
	}
	return f, nil
}

// Read reads a regular file of at most so many bytes.
func Read(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	switch {
	case err != nil:
		return nil, Reason(err)
	case int64(len(text)) > most:
		return nil, fmt.Errorf("it is longer than %d MB", max(most>>20, 1))
	}
	return text, nil
}

// fault is why a file can't be read, in our words; it is what it was to errors.Is.
type fault struct {
	text string
	of   error
}

func (f fault) Error() string { return f.text }
func (f fault) Unwrap() error { return f.of }

// Reason says in our words why a file can't be read.
func Reason(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fault{"there is no such file", err}
	case errors.Is(err, fs.ErrPermission):
		return fault{"reading it is not permitted", err}
	}
	if at := (*fs.PathError)(nil); errors.As(err, &at) {
		return fault{at.Err.Error(), err}
	}
	return err
}
