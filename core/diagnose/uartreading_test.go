package diagnose

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// heard gives what a receiver with one frame reads of texts sent with another.
func heard(own, sent uart.Frame, faster float64, texts ...string) []record.Record {
	const bit = quantity.Period(34_722_222)
	var tog []quantity.Time
	at := bit.Times(50)
	for _, t := range texts {
		var chars []uint16
		for _, b := range []byte(t) {
			chars = append(chars, uint16(b))
		}
		tog, at = uart.Encode(tog, sent, bit, at, chars...)
		at += bit.Times(200)
	}
	set := uart.Settings{Frame: own}
	cfg := set.Config(quantity.Period(float64(bit) / faster))
	cfg.Link, cfg.Seen, cfg.From = 1, record.MCU, record.Device
	rec := uart.NewReceiver(cfg)
	var out record.List
	rec.Feed(&wire.Window{To: at, High: true, Toggles: tog}, &out)
	rec.Flush(&out)
	return out.Done
}

// TestSenderWithAnotherFrame: a real device that does not send as its file says
// is found out from the characters alone, and the fix is one key.
func TestSenderWithAnotherFrame(t *testing.T) {
	frame := func(s string) uart.Frame {
		f, err := uart.ParseFrame(s)
		require.NoError(t, err)
		return f
	}
	var texts []string
	for i := range 9 {
		texts = append(texts, fmt.Sprintf("%d.%03d m, %d C\r\n", i, 999-97*i, 10+3*i))
	}
	for _, c := range []struct {
		own, sent string
		faster    float64
		code, fix string
	}{
		{"8N1", "7E1", 1, "sender-has-another-frame", "7E1"},
		{"8N1", "7O1", 1, "sender-has-another-frame", "7O1"},
		{"7E1", "7E1", 1, "", ""},
		{"8N1", "8N1", 1, "", ""},
		{"8N1", "8N1", 4, "sender-is-slower", ""},
	} {
		l := lower(t, c.own)
		l.Model.(*bench.UART).DeviceEnd.Frame = l.Model.(*bench.UART).MCU.Frame // as stated
		s := newSeen()
		for _, r := range heard(frame(c.own), frame(c.sent), c.faster, texts...) {
			s.Put(&r)
			s.Advance(r.End)
		}
		var got *finding.Finding
		for _, f := range Link(s.Snapshot(), l) {
			if f.Code == "sender-has-another-frame" || f.Code == "sender-is-slower" {
				got = &f
			}
		}
		if c.code == "" {
			assert.Nil(t, got, "%+v", c)
			continue
		}
		require.NotNil(t, got, "%+v", c)
		assert.Equal(t, c.code, got.Code)
		if c.fix != "" {
			require.Len(t, got.Fixes, 1)
			assert.Equal(t, c.fix, got.Fixes[0].Edits[0].Value)
			assert.Contains(t, got.Seen, c.sent)
		}
		// Where the stated frames differ, that is said already.
		l.Model.(*bench.UART).DeviceEnd.Frame = frame("8O2")
		for _, f := range Link(s.Snapshot(), l) {
			assert.NotEqual(t, c.code, f.Code)
		}
	}
}

// A rate that is a little off gives framing errors, which no frame explains: a frame
// that they seem to speak for is never named alone, and not at all where the stated
// rates differ already.
func TestFramingErrorsOfAnotherRate(t *testing.T) {
	named := 0
	for _, faster := range []float64{0.9, 0.93, 1.07, 1.1, 1.2, 1.31, 1.43} {
		var texts []string
		for i := range 12 {
			texts = append(texts, fmt.Sprintf("%d.%03d m, %d C\r\n", i, 999-77*i, 10+3*i))
		}
		frame := uart.Frame{Data: 8, Stop: 1}
		l := lower(t, "8N1")
		m := l.Model.(*bench.UART)
		m.DeviceEnd.Frame = m.MCU.Frame
		s := newSeen()
		for _, r := range heard(frame, frame, faster, texts...) {
			s.Put(&r)
			s.Advance(r.End)
		}
		for _, f := range Link(s.Snapshot(), l) {
			if f.Code == "sender-has-another-frame" {
				named++
				assert.Contains(t, f.Seen, "or comes at another rate", "%g", faster)
			}
		}
		m.DeviceEnd.Rate = quantity.Rate(float64(m.DeviceEnd.Rate) / faster)
		for _, f := range Link(s.Snapshot(), l) {
			assert.NotEqual(t, "sender-has-another-frame", f.Code, "%g", faster)
		}
	}
	assert.Positive(t, named)
}
