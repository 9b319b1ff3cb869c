package prefs

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestSetAndLoad: what is set is what is loaded, whatever was set before; notes in the file
// stay; nothing bad is written.
func TestSetAndLoad(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	p, faults := Load()
	assert.Empty(t, faults)
	assert.Equal(t, Default(), p)
	want := Default()
	rapid.Check(t, func(rt *rapid.T) {
		switch rapid.IntRange(0, 3).Draw(rt, "what") {
		case 0:
			want.Theme = rapid.SampledFrom([]string{"auto", "dark", "light"}).Draw(rt, "theme")
			_, err := Set("theme", want.Theme)
			require.NoError(rt, err)
		case 1:
			want.Colours = rapid.SampledFrom([]string{"auto", "full", "16", "none"}).Draw(rt, "colours")
			_, err := Set("colours", want.Colours)
			require.NoError(rt, err)
		case 2:
			name, key := rapid.SampledFrom([]string{"fix", "undo", "save"}).Draw(rt, "command"), rapid.SampledFrom([]string{"ctrl+f", "f5", "Q"}).Draw(rt, "key")
			want.Keys[name] = key
			_, err := Set("keys."+name, key)
			require.NoError(rt, err)
		case 3:
			_, err := Set(rapid.SampledFrom([]string{"theme", "colours", "nothing", "theme.x"}).Draw(rt, "name"), "loud")
			require.Error(rt, err)
		}
		got, faults := Load()
		require.Empty(rt, faults)
		require.Equal(rt, want, got)
	})
	path, err := Path()
	require.NoError(t, err)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(text), "# What is preferred")
	require.NoError(t, os.WriteFile(path, []byte("theme: dark\nthem: light\n"), 0o600))
	_, faults = Load()
	require.Len(t, faults, 1)
	assert.Equal(t, filepath.Base(path), filepath.Base(faults[0].Where.File))
	assert.Equal(t, 2, faults[0].Where.Line)
}

func TestUTF8(t *testing.T) {
	for env, want := range map[[3]string]bool{
		{"", "", ""}: true, {"C", "", ""}: false, {"", "", "en_GB.UTF-8"}: true, {"POSIX", "", "en_GB.UTF-8"}: false,
		{"", "de_DE.ISO-8859-1", "C.UTF-8"}: false, {"", "", "C.utf8"}: true,
	} {
		assert.Equal(t, want, UTF8(func(name string) string {
			return map[string]string{"LC_ALL": env[0], "LC_CTYPE": env[1], "LANG": env[2]}[name]
		}), env)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("theme: dark\nkeys: {fix: x}\n"))
	f.Add([]byte("- a\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, faults := Parse("p.yaml", text)
		if len(faults) > 0 {
			require.Equal(t, Default(), p)
		}
		require.NotNil(t, p.Keys)
	})
}
