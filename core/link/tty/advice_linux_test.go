package tty

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAdviceThatWorks: a group is to be joined only where that gives access, and only a port
// is offered in the place of one.
func TestAdviceThatWorks(t *testing.T) {
	for _, c := range []struct {
		gid  uint32
		mode os.FileMode
		join bool
	}{{20, 0o660, true}, {20, 0o600, false}, {20, 0o640, false}, {0, 0o660, false}} {
		assert.Equal(t, c.join, len(mayOpen("/dev/x", "g", c.gid, c.mode)) > 0 && mayOpen("/dev/x", "g", c.gid, c.mode)[:4] == "join")
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "port1"), nil, 0o600))
	assert.Empty(t, nearest(filepath.Join(dir, "port0")))
	require.NoError(t, os.Symlink(os.DevNull, filepath.Join(dir, "port2")))
	assert.Equal(t, filepath.Join(dir, "port2"), nearest(filepath.Join(dir, "port0")))
}
