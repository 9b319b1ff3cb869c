package constants

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/demo"
)

// TestConstantsSayWhatTheFileSays: each number decodes back to the field, code or register
// that it is named after, and no name comes twice.
func TestConstantsSayWhatTheFileSays(t *testing.T) {
	text, err := demo.Files.ReadFile(demo.Bench)
	require.NoError(t, err)
	b, faults := bench.Parse(demo.Files, demo.Bench, text)
	require.Empty(t, faults)
	form := regexp.MustCompile(`^[A-Z][A-Z0-9_]*$`)
	n := 0
	for _, l := range b.Links {
		for _, p := range l.Parts() {
			if p.Map == nil {
				continue
			}
			by := map[string]uint64{}
			for _, c := range Of(p) {
				assert.Regexp(t, form, c.Name)
				_, twice := by[c.Name]
				assert.False(t, twice, c.Name)
				by[c.Name] = c.Value
				n++
			}
			for _, r := range p.Map.Registers {
				reg := Name(p.Name) + "_" + Name(r.Name)
				if r.Numbered {
					assert.Equal(t, r.Address, by[reg])
				}
				for i := range r.Fields {
					f := &r.Fields[i]
					field := reg + "_" + Name(f.Name)
					mask, shift := by[field+"_MASK"], by[field+"_SHIFT"]
					assert.Equal(t, f.Of(^uint64(0))<<f.Low, mask)
					for raw, word := range f.Meanings {
						found := false
						for name, v := range by {
							if strings.HasPrefix(name, field+"_") && v == raw<<shift && v&^mask == 0 && strings.HasPrefix(name, field+"_"+Name(word)) {
								found = true
							}
						}
						assert.True(t, found, "%s %s", field, word)
					}
				}
			}
		}
	}
	assert.Greater(t, n, 60)
	assert.Equal(t, "LEAF_TILT_2", Name("leaf-tilt 2°"))
	assert.Equal(t, "", Name("°"))
}
