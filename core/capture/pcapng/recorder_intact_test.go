package pcapng

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
)

// TestFilesThatWentAreSaid: a recording whose file was deleted, replaced or cut meanwhile is
// not taken for one that is whole.
func TestFilesThatWentAreSaid(t *testing.T) {
	for what, harm := range map[string]func(path string) error{
		"deleted or replaced": os.Remove,
		"replaced": func(path string) error {
			if err := os.Rename(path, path+".old"); err != nil {
				return err
			}
			return os.WriteFile(path, []byte("another"), 0o600)
		},
		"was cut": func(path string) error { return os.Truncate(path, 10) },
		"":        func(string) error { return nil },
	} {
		path := filepath.Join(t.TempDir(), "a.pcapng")
		store := capture.NewStore(capture.Meta{Links: []capture.Link{{Name: "a", Kind: "uart", Ends: []string{"MCU", "b"}}}})
		r, err := RecordLimited(store, path, Limits{})
		require.NoError(t, err)
		for i := range 50 {
			store.Put(&record.Record{Kind: record.Chars, From: record.MCU, Seen: record.Tap, Start: 1000 * 1000, End: 1000*1000 + 1, Data: []byte{byte(i)}})
		}
		r.Beat()
		require.NoError(t, harm(path))
		err = r.Close()
		if what == "" {
			require.NoError(t, err)
			info, err := os.Stat(path)
			require.NoError(t, err)
			assert.Zero(t, info.Mode().Perm()&0o077, "others can read it")
			continue
		}
		assert.ErrorContains(t, err, what)
	}
}
