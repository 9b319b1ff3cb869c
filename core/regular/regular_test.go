package regular

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyRegularFiles(t *testing.T) {
	dir := t.TempDir()
	good := filepath.Join(dir, "a")
	require.NoError(t, os.WriteFile(good, []byte("text"), 0o600))
	text, err := Read(good, 4)
	require.NoError(t, err)
	assert.Equal(t, "text", string(text))
	_, err = Read(good, 3)
	assert.ErrorContains(t, err, "longer than")
	_, err = Read(filepath.Join(dir, "b"), 3)
	assert.ErrorContains(t, err, "no such file")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	for _, odd := range []string{os.DevNull, dir} {
		_, err = Read(odd, 3)
		assert.Error(t, err, odd)
	}
	link := filepath.Join(dir, "link")
	if os.Symlink(os.DevNull, link) == nil {
		_, err = Read(link, 3)
		assert.ErrorContains(t, err, "no regular file")
	}
}
