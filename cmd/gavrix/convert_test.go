package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestConvertToRecords: levels that were decoded to a capture tell the same traffic as the
// capture that was recorded beside them; of a capture a stretch and a filter give a part.
func TestConvertToRecords(t *testing.T) {
	t.Chdir(t.TempDir())
	_, status := run(t, "watch", "demo", "--fast", "--for", "1s", "--save", "a.pcapng", "--levels", "a.vcd")
	require.Zero(t, status)
	_, status = run(t, "convert", "a.vcd", "b.pcapng", "--bench", "demo")
	require.Zero(t, status)
	_, status = run(t, "convert", "a.pcapng", "a.jsonl", "--filter", "frames", "--from", "100 ms", "--to", "200 ms")
	require.Zero(t, status)
	_, status = run(t, "convert", "b.pcapng", "b.jsonl", "--filter", "frames", "--from", "100 ms", "--to", "200 ms")
	require.Zero(t, status)
	a, err := os.ReadFile("a.jsonl")
	require.NoError(t, err)
	b, err := os.ReadFile("b.jsonl")
	require.NoError(t, err)
	require.Greater(t, strings.Count(string(a), "\n"), 20)
	parts := func(text []byte) (out []string) {
		for line := range strings.Lines(string(text)) {
			var x struct{ Link, Data, Text string }
			require.NoError(t, json.Unmarshal([]byte(line), &x))
			out = append(out, x.Link+" "+x.Data)
		}
		return out
	}
	assert.Equal(t, parts(a), parts(b))
	for _, wrong := range [][]string{
		{"a.vcd", "x.pcapng"}, {"a.pcapng", "x.vcd"}, {"a.pcapng", "x.txt"}, {"a.pcapng", "a.jsonl"}, {"a.pcapng", "x.jsonl", "--filter", "nonsense"},
		{"a.pcapng", "x.jsonl", "--bench", "demo"}, {"a.vcd", "x.csv", "--filter", "errors"}, {"none.pcapng", "x.jsonl"},
	} {
		_, status := run(t, append([]string{"convert"}, wrong...)...)
		assert.Equal(t, cannot, status, wrong)
	}
}
