package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLog: what was done stands in the file, behind what was there; without one nothing is
// written, and at a higher level less.
func TestLog(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "log.txt")
	require.NoError(t, os.WriteFile(file, []byte("before\n"), 0o600))
	_, status := run(t, "do", "demo", "gate", "prove leaf-angle", "--log", file, "--log-level", "debug")
	require.Equal(t, fine, status)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(text), "before\n"))
	for _, want := range []string{`command="gavrix do"`, "bench read", "links=7"} {
		assert.Contains(t, string(text), want)
	}
	_, status = run(t, "lint", filepath.Join(dir, "nowhere", "b.yaml"), "--log", file, "--log-level", "error")
	assert.Equal(t, cannot, status)
	_, status = run(t, "lint", "demo", "--log", filepath.Join(dir, "no", "log"))
	assert.Equal(t, cannot, status)
	_, status = run(t, "lint", "demo", "--log", file, "--log-level", "loud")
	assert.Equal(t, cannot, status)
	out, status := run(t, "--version")
	assert.Equal(t, fine, status)
	assert.Contains(t, out, "gavrix ")
	assert.Contains(t, out, "go1.")
}

// TestCompletion: the shell is offered benches, links, operations and settings; nothing where
// the bench can't be read.
func TestCompletion(t *testing.T) {
	offers := func(args ...string) []string {
		out, _ := run(t, append([]string{"__complete"}, args...)...)
		lines := strings.Split(strings.TrimSpace(out), "\n")
		return lines[:max(len(lines)-1, 0)]
	}
	assert.Subset(t, offers("lint", ""), []string{"demo", "demo:culvert", "demo:weir"})
	assert.Contains(t, offers("do", "demo", ""), "gate")
	assert.Contains(t, offers("do", "demo", "gate", ""), "prove leaf-angle")
	assert.Contains(t, offers("watch", "demo", "--link", ""), "hull")
	assert.Contains(t, offers("lint", "demo", "--set", ""), "links.lower-gauge.mcu.rate=")
	assert.NotContains(t, offers("do", "no such bench", ""), "gate")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine.yaml"), nil, 0o600))
	assert.Contains(t, offers("lint", filepath.Join(dir, "m")), filepath.Join(dir, "mine.yaml"))
}

// TestManualPages: each command has one.
func TestManualPages(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "man1")
	_, status := run(t, "man", dir)
	require.Equal(t, fine, status)
	for _, name := range []string{"gavrix.1", "gavrix-calc-baud.1", "gavrix-do.1"} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Contains(t, string(text), ".SH SYNOPSIS")
	}
}

// TestNewEmpty: the short bench with notes has no problems, its check passes and its part is
// the one that is described.
func TestNewEmpty(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "mine")
	out, status := run(t, "new", dir, "--empty")
	require.Equal(t, fine, status, out)
	bench := filepath.Join(dir, "bench.yaml")
	out, status = run(t, "lint", bench)
	assert.Equal(t, fine, status)
	assert.Contains(t, out, "no problems found")
	out, status = run(t, "prove", bench)
	assert.Equal(t, fine, status, out)
	out, status = run(t, "do", bench, "board", "prove part", "write part.CTRL.RATE 10 Hz")
	assert.Equal(t, fine, status, out)
	_, status = run(t, "new", dir, "--empty")
	assert.Equal(t, cannot, status, "nothing is written over")
}
