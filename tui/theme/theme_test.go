package theme

import (
	"math"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/draw/cells"
)

// luminance is the relative luminance of an sRGB colour.
func luminance(t *testing.T, colour string) float64 {
	v, err := strconv.ParseUint(colour[1:], 16, 24)
	require.NoError(t, err)
	linear := func(c uint64) float64 {
		x := float64(c) / 255
		if x <= 0.04045 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	return 0.2126*linear(v>>16) + 0.7152*linear(v>>8&0xff) + 0.0722*linear(v&0xff)
}

func contrast(t *testing.T, a, b string) float64 {
	x, y := luminance(t, a), luminance(t, b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

// The darkest and the lightest backgrounds of a dark, and of a light terminal, and the row
// under the cursor.
var (
	darks  = []string{"#000000", "#1c1c1c", Selected.Dark}
	lights = []string{"#ffffff", "#f0f0e8", Selected.Light}
)

// TestContrast: whatever has a colour of its own stands out from each background.
func TestContrast(t *testing.T) {
	assert.InDelta(t, 21, contrast(t, "#000000", "#ffffff"), 1e-9)
	least := [2]float64{21, 21}
	for s := cells.Style(0); s < cells.Styles; s++ {
		p, has := ColoursOf(s)
		if !has {
			continue
		}
		for _, b := range darks {
			c := contrast(t, p.Dark, b)
			least[0] = min(least[0], c)
			assert.GreaterOrEqual(t, c, 4.5, "style %d, %s on %s", s, p.Dark, b)
		}
		for _, b := range lights {
			c := contrast(t, p.Light, b)
			least[1] = min(least[1], c)
			assert.GreaterOrEqual(t, c, 4.5, "style %d, %s on %s", s, p.Light, b)
		}
	}
	t.Logf("least contrast: %.2f on dark, %.2f on light", least[0], least[1])
}

// TestHuesDiffer: no two kinds of bus have one hue, on either background.
func TestHuesDiffer(t *testing.T) {
	seen := map[string]bool{}
	for s := cells.Hue1; s <= cells.Hue5; s++ {
		p, has := ColoursOf(s)
		require.True(t, has)
		assert.False(t, seen[p.Dark] || seen[p.Light], "style %d", s)
		seen[p.Dark], seen[p.Light] = true, true
	}
}
