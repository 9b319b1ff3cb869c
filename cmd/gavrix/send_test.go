package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is sent by its name is in the capture; replayed with another value, that is in the next.
func TestSendByNameAndChanged(t *testing.T) {
	dir := t.TempDir()
	first, second := filepath.Join(dir, "first.pcapng"), filepath.Join(dir, "second.pcapng")
	out, status := run(t, "send", "demo", "pump", "message pump-command mode = raise, wanted = 33 bar", "--times", "3", "--every", "7ms", "--save", first)
	require.Zero(t, status, out)
	assert.Contains(t, out, "3 sent")
	out, status = run(t, "decode", first, "--filter", "pump-command.wanted = 33 bar")
	require.Zero(t, status, out)
	assert.Equal(t, 3, strings.Count(out, "wanted 33 bar"))

	again := []string{"send", "demo", "--replay", first, "--only", "pump-command.wanted = 33 bar", "--save", second}
	out, status = run(t, append(again, "--change", "pump-command.wanted = 44 bar", "--change", "pump-command.mode = lower")...)
	require.Zero(t, status, out)
	assert.Contains(t, out, "3 sent")
	out, status = run(t, "decode", second, "--filter", "pump-command.wanted = 44 bar")
	require.Zero(t, status, out)
	assert.Equal(t, 3, strings.Count(out, "mode lower, wanted 44 bar"))

	out, status = run(t, "send", "demo", "gate", "do read leaf-angle.angle", "--after", "100ms", "--times", "2", "--every", "5ms")
	require.Zero(t, status, out)
	assert.Contains(t, out, "2 sent")

	for args, why := range map[string]string{
		"--replay " + first + " --change pump-command.wanted=900_bar":                "180 bar",
		"--replay " + first + " --change winch-set-point.load-limit=3_% --only pump": "no message that the MCU sends",
		"pump message_pump-command_wanted=3_bar --change pump-command.wanted=3_bar":  "without --replay",
		"pump message_pump-order_wanted=3_bar":                                       "no message",
		"lower-gauge do_nothing":                                                     `as a text it is written \x64o`,
	} {
		words := []string{"send", "demo"}
		for _, w := range strings.Fields(args) {
			words = append(words, strings.ReplaceAll(w, "_", " "))
		}
		out, status := run(t, words...)
		assert.Equal(t, 2, status, args)
		assert.Contains(t, out, why, args)
	}
}

// TestKeptQuiet holds what --silence says against what the firmware of the bench does.
func TestKeptQuiet(t *testing.T) {
	out, status := run(t, "send", "demo", "lower-gauge", `SNAP\n`, "--silence")
	assert.Equal(t, fine, status, out)
	assert.Contains(t, out, "kept quiet on lower-gauge, pump")
	t.Chdir(t.TempDir())
	out, status = run(t, "new", "mine", "--empty")
	require.Equal(t, fine, status, out)
	raw, err := os.ReadFile("mine/bench.yaml")
	require.NoError(t, err)
	mute := regexp.MustCompile(`(?m)^ +asks?:.*\n`).ReplaceAll(raw, nil)
	require.NotEqual(t, len(raw), len(mute))
	require.NoError(t, os.WriteFile("mine/bench.yaml", mute, 0o600))
	out, status = run(t, "send", "mine/bench.yaml", "sensor", "41", "--silence")
	assert.Equal(t, cannot, status, out)
	assert.Contains(t, out, "sends nothing by itself")
}
