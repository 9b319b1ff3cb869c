package check

import (
	"bytes"
	"encoding/xml"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestJUnitReadsBack: whatever checks are called and see, the file is XML with as many cases
// and failures as there are.
func TestJUnitReadsBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var results []Result
		failed := 0
		for range rapid.IntRange(0, 8).Draw(t, "results") {
			r := Result{Link: rapid.SampledFrom([]string{"a", "b", "\x1b[2J"}).Draw(t, "link"), Check: rapid.String().Draw(t, "check"), Pass: rapid.Bool().Draw(t, "pass"), Simulated: rapid.Bool().Draw(t, "simulated")}
			if !r.Pass {
				failed++
				r.Problem = rapid.String().Draw(t, "problem")
				r.Differences = []Difference{{1, rapid.String().Draw(t, "expected"), "nothing"}}
			}
			results = append(results, r)
		}
		var b bytes.Buffer
		require.NoError(t, WriteJUnit(&b, rapid.String().Draw(t, "name"), results))
		var back junitSuites
		require.NoError(t, xml.Unmarshal(b.Bytes(), &back))
		n, bad := 0, 0
		for _, s := range back.Suites {
			require.Len(t, s.Cases, s.Tests)
			for _, c := range s.Cases {
				n++
				if c.Failure != nil {
					bad++
				}
			}
		}
		require.Equal(t, []int{len(results), failed, len(results), failed}, []int{n, bad, back.Tests, back.Failures})
	})
}
