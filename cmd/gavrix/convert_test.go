package main

import (
	"context"
	"encoding/json"
	"io"
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

// A conversion that was interrupted leaves no file that looks like a whole one; what stands
// before a fault in what is read is kept.
func TestInterruptedConversion(t *testing.T) {
	t.Chdir(t.TempDir())
	part := func(why error) func(io.Writer) error {
		return func(w io.Writer) error {
			_, err := w.Write([]byte("a part"))
			require.NoError(t, err)
			return why
		}
	}
	assert.ErrorContains(t, created("x.vcd", part(context.Canceled)), "x.vcd is not written")
	assert.NoFileExists(t, "x.vcd")
	assert.Error(t, created("x.vcd", part(io.ErrUnexpectedEOF)))
	assert.FileExists(t, "x.vcd")
	assert.ErrorContains(t, created("x.vcd", part(nil)), "can't be written")
}
