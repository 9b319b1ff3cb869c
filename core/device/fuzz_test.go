package device

import (
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/demo"
)

func FuzzParse(f *testing.F) {
	require.NoError(f, fs.WalkDir(demo.Files, "devices", func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			text, _ := fs.ReadFile(demo.Files, path)
			f.Add(text)
		}
		return err
	}))
	f.Fuzz(func(t *testing.T, text []byte) {
		d, faults := Parse("x.yaml", text)
		if d != nil {
			require.NotNil(t, d.Kind)
			require.NotNil(t, d.End)
			return
		}
		require.NotEmpty(t, faults)
		for _, x := range faults {
			require.NotEmpty(t, x.Seen)
			require.Equal(t, "x.yaml", x.Where.File)
			require.False(t, strings.ContainsRune(x.String(), '\x1b'))
		}
	})
}
