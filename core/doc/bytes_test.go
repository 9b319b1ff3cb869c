package doc

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestBytesOfTexts: bytes written as \xNN are themselves, all else is as the text reads.
func TestBytesOfTexts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var text, want strings.Builder
		for range rapid.IntRange(1, 12).Draw(t, "pieces") {
			switch rapid.IntRange(0, 2).Draw(t, "kind") {
			case 0:
				b := rapid.Byte().Draw(t, "byte")
				fmt.Fprintf(&text, `\x%02X`, b)
				want.WriteByte(b)
			case 1:
				s := rapid.StringMatching(`[ a-zA-Z0-9é¥…#:]{0,4}`).Draw(t, "plain")
				text.WriteString(s)
				want.WriteString(s)
			default:
				text.WriteString(`\n`)
				want.WriteByte('\n')
			}
		}
		for _, form := range []string{"text: \"%s\"\n", "{text: \"%s\", more: \"\\xFF\"}\n", "text: &a \"%s\" # \"\n"} {
			f, faults := Parse("a.yaml", []byte(fmt.Sprintf(form, text.String())))
			require.Empty(t, faults, form)
			require.Equal(t, want.String(), string(f.Root.Get("text").Bytes()))
		}
	})
	f, _ := Parse("a.yaml", []byte("text: 'a\\xA5'\nplain: b\\xA5\nfolded: \"one\n  two\"\n"))
	require.Equal(t, `a\xA5`, string(f.Root.Get("text").Bytes()))
	require.Equal(t, `b\xA5`, string(f.Root.Get("plain").Bytes()))
	require.Equal(t, "one two", string(f.Root.Get("folded").Bytes()))
}
