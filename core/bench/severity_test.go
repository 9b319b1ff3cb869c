package bench

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// TestSeverityNeverFalls: as the rates of both ends part, in either direction and with
// any frame, what is said never gets milder.
func TestSeverityNeverFalls(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		frame := rapid.SampledFrom([]string{"5", "6", "7", "8"}).Draw(rt, "data") + rapid.SampledFrom([]string{"N", "E", "O", "M", "S"}).Draw(rt, "parity") + rapid.SampledFrom([]string{"1", "1.5", "2"}).Draw(rt, "stop")
		oversampling := rapid.SampledFrom([]string{"16", "8", "4"}).Draw(rt, "oversampling")
		side := rapid.SampledFrom([]float64{1, -1}).Draw(rt, "side")
		b := parse(t, strings.Replace(good, "plus-one: yes}}", "plus-one: yes}, oversampling: ["+oversampling+"]}", 1))
		require.NoError(rt, b.Apply(
			finding.Edit{Path: []string{"links", "gauge", "mcu", "frame"}, Value: frame},
			finding.Edit{Path: []string{"links", "gauge", "device", "frame"}, Value: frame},
			finding.Edit{Path: []string{"links", "gauge", "device", "rate"}, Value: "28.8 kBd"},
		))
		worst := finding.Note
		for step := range 60 {
			rate := quantity.FromBd(28800 * (1 + side*0.005*float64(step)))
			require.NoError(rt, b.Apply(finding.Edit{Path: []string{"links", "gauge", "device", "rate"}, Value: rate.String()}))
			now := finding.Note
			for _, f := range b.Link("gauge").Lint() {
				if f.Code == "rates-disagree" || f.Code == "rate-depends-on-phase" {
					now = max(now, f.Severity)
				}
			}
			require.GreaterOrEqual(rt, now, worst, fmt.Sprintf("%s ×%s at %s", frame, oversampling, rate))
			worst = max(worst, now)
		}
		require.Equal(rt, finding.Error, worst)
	})
}
