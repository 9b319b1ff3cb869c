package regular

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsLeft: what was written before a fault stays, what is empty or was cancelled goes, and
// each message names the file once and says why.
func TestWhatIsLeft(t *testing.T) {
	for name, c := range map[string]struct {
		text   string
		why    error
		stays  bool
		reason string
	}{
		"whole":           {"a", nil, true, ""},
		"nothing to say":  {"", nil, true, ""},
		"ends early":      {"a", syscall.ENOSPC, true, "no space left on device"},
		"nothing written": {"", syscall.ENOSPC, false, "no space left on device"},
		"cancelled":       {"a", context.Canceled, false, "context canceled"},
		"bad source":      {"a", errors.New("in.vcd:3: no such code"), true, "in.vcd:3: no such code"},
	} {
		path := filepath.Join(t.TempDir(), "f")
		err := Write(path, 0o600, func(w io.Writer) error {
			_, err := io.WriteString(w, c.text)
			require.NoError(t, err)
			if c.why == syscall.ENOSPC {
				return &fs.PathError{Op: "write", Path: path, Err: c.why}
			}
			return c.why
		})
		if c.stays {
			assert.FileExists(t, path, name)
		} else {
			assert.NoFileExists(t, path, name)
		}
		if c.why == nil {
			assert.NoError(t, err, name)
			continue
		}
		require.ErrorIs(t, err, c.why, name)
		assert.Equal(t, 1, strings.Count(err.Error(), path), "%s: %v", name, err)
		assert.ErrorContains(t, err, c.reason, name)
	}
}

// TestReplaced: a file is replaced as a whole or stays, and no other name than its own is told.
func TestReplaced(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "f")
	require.NoError(t, Replace(path, []byte("old"), 0o600))
	require.NoError(t, Replace(path, []byte("new"), 0o600))
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "new", string(text))
	_, err = Create(path, 0o600)
	assert.ErrorContains(t, err, "it is there already")
	assert.ErrorIs(t, err, fs.ErrExist)
	for _, err := range []error{
		Replace(filepath.Join(dir, "none", "f"), nil, 0o600),
		Write(filepath.Join(dir, "none", "f"), 0o600, func(io.Writer) error { return nil }),
	} {
		assert.ErrorContains(t, err, "there is no such folder")
		assert.NotContains(t, err.Error(), "/.f")
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o755))
	err = Replace(filepath.Join(dir, "folder"), nil, 0o600)
	require.Error(t, err)
	assert.NotContains(t, err.Error(), ".folder")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2, "nothing is left beside")
}
