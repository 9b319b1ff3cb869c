package bench

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/transfer"
)

// Each link of the demo has transfers; no two share a channel, all is derived but what is
// given, and nothing is wrong with them.
func TestTransfersOfTheDemo(t *testing.T) {
	b := demoBench(t)
	channels := map[int]string{}
	for _, p := range b.Transfers.Plans {
		if p.Means == transfer.DMA {
			assert.Empty(t, channels[p.Channel], p.Name)
			channels[p.Channel] = p.Name
		}
	}
	require.NotEmpty(t, channels)
	for _, l := range b.Links {
		require.NotEmpty(t, l.Transfers, l.Name)
		assert.Empty(t, l.Lint(), l.Name)
		for _, x := range l.Transfers {
			assert.Equal(t, x, l.Transfer(x.Name))
			assert.Positive(t, x.Plan.Stream.Word(), x.Name)
		}
		assert.Nil(t, l.Transfer("nothing"))
	}
	assert.Equal(t, "dma", b.Link("upper-gauge").Receive)
}

// What is said in two places is held against each other, and each finding's fix ends it.
func TestTransfersAgainstTheRest(t *testing.T) {
	for path, c := range map[string]struct{ value, code string }{
		"links.upper-gauge.mcu.receive":                      {"polled", "receive-differs"},
		"links.upper-gauge.mcu.service":                      {"9 µs", "service-unused"},
		"links.upper-gauge.transfers.readings.channel":       {"4", "transfer-channel-not-served"},
		"links.upper-gauge.transfers.readings.tell-half":     {"no", "transfer-half-untold"},
		"links.depth-strip.transfers.lamps.time-out":         {"none", "transfer-time-out-missing"},
		"links.gate.transfers.words out.release":             {"register-empty", "transfer-released-too-early"},
		"links.gate.transfers.words in.unit-step":            {"yes", "transfer-unit-moves"},
		"links.pump.transfers.frames.line":                   {"off", "transfer-line-off"},
		"links.hull.transfers.bytes in.time-out":             {"10 µs", "transfer-time-out-short"},
		"links.lower-gauge.transfers.answers.word-interrupt": {"off", "transfer-words-untold"},
	} {
		b := demoBench(t)
		put(t, b, c.value, strings.Split(path, ".")...)
		l := b.Link(strings.Split(path, ".")[1])
		fs := l.Lint()
		require.Contains(t, codes(fs), c.code, path)
		for _, f := range fs {
			if f.Code == c.code {
				require.NotEmpty(t, f.Fixes, path)
				assert.Positive(t, f.Where.Line)
				require.NoError(t, b.Apply(f.Fixes[0].Edits...))
			}
		}
		assert.NotContains(t, codes(b.Link(l.Name).Lint()), c.code, path)
	}
	// A board whose processor's clock nobody describes is told what is assumed.
	b := demoBench(t)
	require.NoError(t, b.Apply(finding.Edit{Path: []string{"mcu", "core"}, Value: "pll"}))
	assert.Equal(t, 80e6, b.Transfers.Part.Core.Hz())
	require.Error(t, b.Apply(finding.Edit{Path: []string{"mcu", "core"}, Value: "quartz"}))
}
