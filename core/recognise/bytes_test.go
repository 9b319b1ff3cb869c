package recognise_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// received gives what a receiver with a frame and rate of its own reads of what
// a sender sends with pauses now and then.
func received(own, sent uart.Frame, faster float64, pauses func() int64, values ...uint16) []recognise.Char {
	const bit = quantity.Period(100_000_000)
	at := bit.Times(20)
	var tog []quantity.Time
	for _, v := range values {
		tog, at = uart.Encode(tog, sent, bit, at, v)
		at += bit.Times(pauses())
	}
	set := uart.Settings{Frame: own}
	rec := uart.NewReceiver(set.Config(quantity.Period(float64(bit) / faster)))
	var out record.List
	rec.Feed(&wire.Window{To: at + bit.Times(100), High: !own.Inverted, Toggles: tog}, &out)
	rec.Flush(&out)
	var chars []recognise.Char
	for i := range out.Done {
		r := &out.Done[i]
		for k := range r.Len() {
			chars = append(chars, recognise.Char{Value: r.Char(k), Flags: r.FlagsAt(k)})
		}
	}
	return chars
}

func always(n int64) func() int64 { return func() int64 { return n } }

func text(s string) []uint16 {
	var out []uint16
	for _, b := range []byte(s) {
		out = append(out, uint16(b))
	}
	return out
}

const sentence = "The upper gauge reads 4.82 m; the lower one 1.07 m.\r\n"

// Text with seven bits and parity reads as 8N1 without a single error; the bytes
// alone must tell.
func TestSevenEvenReadAsEight(t *testing.T) {
	own := uart.Frame{Data: 8, Stop: 1}
	for _, want := range []string{"7E1", "7O1"} {
		sent, _ := uart.ParseFrame(want)
		chars := received(own, sent, 1, always(0), text(sentence)...)
		for _, c := range chars {
			require.Zero(t, c.Flags)
		}
		gs := recognise.Bytes(own, chars)
		require.NotEmpty(t, gs)
		assert.Equal(t, want, gs[0].Class[0])
		assert.Equal(t, "8N1", gs[1].Class[0], "the laxer frame is second")
		assert.Greater(t, gs[0].Gain, gs[1].Gain+15)
	}
}

// Whatever the two frames, the sender's is in the first class, if its characters
// stand apart so that the receiver keeps in step, and its frame is as long as the
// receiver's or by a bit longer.
func TestBytesFindTheSender(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		frame := func(name string) uart.Frame {
			return uart.Frame{Data: rapid.IntRange(7, 8).Draw(rt, name), Parity: uart.ParityRule(rapid.IntRange(0, 2).Draw(rt, name)), Stop: 1}
		}
		own, sent := frame("own"), frame("sent")
		longer := sent.HalfBits()/2 - own.HalfBits()/2
		if longer < 0 || longer > 1 {
			rt.Skip()
		}
		values := rapid.SliceOfN(rapid.Uint16Range(0, sent.Mask()), 60, 60).Draw(rt, "values")
		distinct := map[uint16]bool{}
		ones := uint16(0)
		for _, v := range values {
			distinct[v] = true
			ones |= v
		}
		// Few different characters tell little; a top bit that is never set is
		// another class.
		if len(distinct) < 30 || ones != sent.Mask() {
			rt.Skip()
		}
		gs := recognise.Bytes(own, received(own, sent, 1, always(4), values...))
		if len(gs) == 0 {
			rt.Fatal("no guess")
		}
		for _, c := range gs[0].Class {
			if c == sent.String() {
				return
			}
		}
		rt.Fatalf("%s read as %s: %v", sent, own, gs)
	})
}

func TestBytesTooFast(t *testing.T) {
	own := uart.Frame{Data: 8, Stop: 1}
	for _, faster := range []float64{2, 4} {
		gs := recognise.Bytes(own, received(own, own, faster, always(20), text(sentence+sentence)...))
		require.NotEmpty(t, gs)
		assert.InDelta(t, faster, gs[0].Faster, 0.01, "%v", gs)
	}
	gs := recognise.Bytes(own, received(own, own, 1, always(0), text(sentence)...))
	require.NotEmpty(t, gs)
	assert.InDelta(t, 1, gs[0].Faster, 0)
	assert.Equal(t, "8N1 whose top bit is never set", gs[0].Class[0])
	assert.True(t, strings.HasPrefix(gs[0].Class[1], "7S1"), gs[0].Class)
}

func TestBytesTooFew(t *testing.T) {
	assert.Empty(t, recognise.Bytes(uart.Frame{Data: 8, Stop: 1}, []recognise.Char{{Value: 'U'}, {Value: 1}}))
	assert.Empty(t, recognise.Bytes(uart.Frame{Data: 8, Stop: 1}, nil))
}
