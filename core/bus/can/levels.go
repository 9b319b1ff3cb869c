package can

import (
	"fmt"
	"math"

	"gavrix.org/gavrix/core/quantity"
)

// Phase is the timing of the bits of one phase, as one node has it.
type Phase struct {
	Bit    quantity.Period
	Sample float64 // sample point, as a share of the bit
	Jump   float64 // synchronisation jump width, as a share of the bit
	// Quanta is the number of time quanta a bit: a node notices edges only
	// from quantum to quantum, and its sample point and jump width are whole
	// quanta. With 0 the node is ideal and sees an edge when it happens.
	Quanta int
}

// Timing is the bit timing of a node: nominal, and of the data phase of frames
// with a rate switch.
type Timing struct {
	Nominal, Data Phase
}

// UsualTiming gives a timing with the sample point at 80 % and a jump width of
// 10 % in both phases. The data rate may be 0 where there is none.
func UsualTiming(rate, data quantity.Rate) Timing {
	t := Timing{Nominal: Phase{Bit: quantity.PeriodOf(rate), Sample: 0.8, Jump: 0.1}}
	t.Data = t.Nominal
	if data > 0 {
		t.Data.Bit = quantity.PeriodOf(data)
	}
	return t
}

// Check says what is out of range.
func (t Timing) Check() error {
	for _, p := range []Phase{t.Nominal, t.Data} {
		switch {
		case p.Bit <= 0:
			return fmt.Errorf("no bit rate is given")
		case p.Bit > quantity.PeriodOf(quantity.Kilobaud):
			return fmt.Errorf("bit rate %s: at least 1 kbit/s", p.Bit.Rate().Round(4))
		case !(p.Sample > 0.3 && p.Sample < 1):
			return fmt.Errorf("sample point %.1f %%: expected 30 to 100 %%", 100*p.Sample)
		case !(p.Jump >= 0 && p.Jump <= 1-p.Sample+1e-9):
			return fmt.Errorf("jump width %.1f %% of a bit: at most the part after the sample point", 100*p.Jump)
		}
	}
	return nil
}

// length gives the time of a bit in femtoseconds. The rate changes at the
// sample points of the rate-switch bit and of the check delimiter.
func (t Timing) length(b Bit, switched bool) float64 {
	n, d := float64(t.Nominal.Bit), float64(t.Data.Bit)
	switch {
	case !switched:
		return n
	case b.Field == RateSwitch && !b.Stuff:
		return t.Nominal.Sample*n + (1-t.Data.Sample)*d
	case b.Field == CheckDelimiter:
		return t.Data.Sample*d + (1-t.Nominal.Sample)*n
	case b.Fast:
		return d
	}
	return n
}

// Encode appends to dst the toggles of a built frame on a line that rests
// recessive, from the time start on, and gives the end of the last bit.
func Encode(dst []quantity.Time, b Built, t Timing, start quantity.Time) ([]quantity.Time, quantity.Time) {
	switched := false
	for _, x := range b.Bits {
		if x.Field == RateSwitch && !x.Stuff {
			switched = x.Recessive
		}
	}
	level := true
	at := 0.0
	for _, x := range b.Bits {
		if x.Recessive != level {
			level = x.Recessive
			dst = append(dst, start+quantity.Time(math.Round(at/1000)))
		}
		at += t.length(x, switched)
	}
	return dst, start + quantity.Time(math.Round(at/1000))
}

// Duration is the time of a frame from its start to the end of the end of
// frame, stuff bits counted.
func Duration(f Frame, t Timing) quantity.Time {
	_, end := Encode(nil, Build(f, true), t, 0)
	return end
}
