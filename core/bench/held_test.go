package bench

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/demo"
)

// TestSettingsWithoutAField: what no register takes is said, once for each setting.
func TestSettingsWithoutAField(t *testing.T) {
	b := demoBench(t)
	for frame, want := range map[string][]string{
		"8N1": nil, "7E1": nil, "8N1.5": nil, "8N1 inverted": {"levels of the lines inverted"},
		"8N2 msb-first": {"order of the data bits msb-first"}, "8N1 msb-first inverted": {"order of the data bits msb-first", "levels of the lines inverted"},
	} {
		require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "upper-gauge", "mcu", "frame"}, Value: frame}), frame)
		l := b.Link("upper-gauge")
		assert.Equal(t, want, l.Unheld(), frame)
		said := 0
		for _, f := range l.Lint() {
			if f.Code == "setting-without-field" {
				said++
			}
		}
		assert.Equal(t, len(want), said, frame)
	}
}

// TestBytesBeyondTheFrame: what the firmware or a check sends must fit the data bits.
func TestBytesBeyondTheFrame(t *testing.T) {
	text, err := demo.Files.ReadFile(demo.Bench)
	require.NoError(t, err)
	b, faults := Parse(demo.Files, demo.Bench, bytes.Replace(text, []byte(`"SNAP\n"}`), []byte(`"\xA5\n"}`), 1))
	require.Empty(t, faults)
	require.Equal(t, "\xA5\n", string(b.Link("lower-gauge").Model.(*UART).Ask.Text))
	var said []string
	for _, f := range b.Link("lower-gauge").Lint() {
		if f.Code == "byte-too-wide" {
			said = append(said, f.Seen)
		}
	}
	require.Len(t, said, 1)
	assert.Contains(t, said[0], "byte 1")
}
