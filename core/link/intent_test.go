package link

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// anIntent draws an intent of any verb.
func anIntent(rt *rapid.T) Intent {
	name := rapid.StringMatching(`[a-z][a-z0-9-]{0,9}`).Draw(rt, "name")
	on := rapid.Bool().Draw(rt, "on")
	return rapid.SampledFrom([]Intent{
		Send{rapid.SliceOfN(rapid.Byte(), 1, 40).Draw(rt, "data")},
		Transact{rapid.StringMatching(`[0-9A-Fa-z. ]{0,20}[0-9a-f]`).Draw(rt, "words")},
		Cut{name, on}, Hold{name, on}, Power{name, on},
		Configure{rapid.StringMatching(`[A-Za-z0-9+/]{0,40}`).Draw(rt, "state")},
	}).Draw(rt, "intent")
}

func TestIntentsParseBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		in := Input{quantity.Time(rapid.Int64Min(0).Draw(rt, "at")), rapid.String().Draw(rt, "link"), anIntent(rt)}
		text := in.String()
		require.NotContains(rt, text, "\n")
		back, err := ParseInput(text)
		require.NoError(rt, err)
		require.Equal(rt, in, back)
	})
}

func TestBadIntents(t *testing.T) {
	for text, want := range map[string]string{
		"":                            "nothing that can be asked",
		"explode":                     "nothing that can be asked",
		"send 4":                      "bytes in hex",
		"send":                        "bytes in hex",
		"cut mcu":                     "on or off",
		"hold on":                     "on or off",
		"transact  ":                  "which transaction",
		"transact 3C\nat 0 \"x\" cut": "one line",
	} {
		_, err := ParseIntent(text)
		assert.ErrorContains(t, err, want, text)
	}
	for text, want := range map[string]string{
		"":                               "begin with",
		"at x \"pump\" cut on mcu":       "begin with",
		"at -3 \"pump\" cut on mcu":      "begin with",
		"at 3 pump cut on mcu":           "quotes",
		"at 3 \"pump":                    "quotes",
		"at 3 \"pump\" cut sideways mcu": "on or off",
	} {
		_, err := ParseInput(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzInput(f *testing.F) {
	f.Add(`at 12 "lower-gauge" send 534e41500a`)
	f.Add(`at 0 "trim" transact 0C 01`)
	f.Add(`at 9223372036854775807 "x\n" hold off SDA`)
	f.Fuzz(func(t *testing.T, text string) {
		in, err := ParseInput(text)
		if err != nil {
			return
		}
		again, err := ParseInput(in.String())
		require.NoError(t, err, "%q", in.String())
		require.Equal(t, in, again)
		require.False(t, strings.ContainsAny(in.String(), "\r\n"))
	})
}
