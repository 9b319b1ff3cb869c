package setpoint

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/values"
)

// A message that is sent by its name is read as such from the wire, with its values.
func TestMessagesByName(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(200 * quantity.Millisecond)
	i, err := Message(b.Link("pump"), "Pump-Command mode = lower, wanted=31 bar")
	require.NoError(t, err)
	sent := false
	require.NoError(t, h.World.Do("pump", i, func(o link.Outcome) { sent = o.OK }))
	// The firmware's own command follows, so that the first look counts.
	for n := 0; !sent && n < 100; n++ {
		h.World.RunTo(h.World.Now() + 100*quantity.Microsecond)
	}
	require.True(t, sent)
	book := values.NewBook(b, &h.Store().Meta, 1<<20)
	for book.Take(h.Store().Snapshot(), 1<<20) {
	}
	for name, want := range map[string]string{"pump-command.mode": "lower", "pump-command.wanted": "31 bar"} {
		n, err := book.Find(name)
		require.NoError(t, err)
		assert.Equal(t, want, book.Of(n).Last, name)
	}
	// What is not named is as the firmware sends it.
	i, err = Message(b.Link("winch"), "winch-drive.winch-set-point load-limit = 40 %")
	require.NoError(t, err)
	assert.Regexp(t, "^120 switch 0A 00 ([0-9A-F]{2} ){6}28", i.(link.Transact).Text)
}

func TestMessagesThatAreNone(t *testing.T) {
	b := lock7(t)
	for text, why := range map[string]string{
		"pump pump-status pressure = 3 bar":                "the part sends pump-status; the MCU can send pump-drive.pump-command",
		"pump pump-order":                                  "no message \"pump-order\"",
		"pump pump-command wanted 3":                       "write NAME = QUANTITY; it has mode, wanted",
		"pump pump-command speed = 3":                      "it has mode, wanted",
		"pump pump-command wanted = 181 bar":               "180 bar",
		"pump pump-command wanted = 1 bar, WANTED = 2 bar": "named twice",
		"hull lamps on = 1":                                "no device file of hull describes a message",
	} {
		name, rest, _ := strings.Cut(text, " ")
		_, err := Message(b.Link(name), rest)
		assert.ErrorContains(t, err, why, text)
	}
}
