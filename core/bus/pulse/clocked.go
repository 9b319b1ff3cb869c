package pulse

import (
	"fmt"
	"strconv"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Choice is a divider of the unit that clocks the patterns out, with what it makes of
// them.
type Choice struct {
	Divider int
	Rate    quantity.Freq // of the clocked bits
	Tolerance
	// Spare is the smallest distance of any symbol time to its limits, as a share of
	// the limits' width; below 0 where one is outside.
	Spare float64
}

// Choices judges all dividers against what a receiver takes, in their order. The pause
// is what the unit makes between bytes.
func Choices(clock quantity.Freq, dividers []int, s Settings, p Patterns, pause quantity.Time) []Choice {
	var out []Choice
	for _, d := range dividers {
		c := Choice{Divider: d, Rate: quantity.FromHz(clock.Hz() / float64(d))}
		c.Tolerance = Fit(s, p, quantity.PeriodOf(quantity.FromBd(c.Rate.Hz())), pause)
		c.Spare = 1
		for _, x := range c.Times(s) {
			width := float64(max(x.Limits.Most-x.Limits.Least, 1))
			c.Spare = min(c.Spare, float64(x.Is-x.Limits.Least)/width, float64(x.Limits.Most-x.Is)/width)
		}
		out = append(out, c)
	}
	return out
}

// Best gives the place of the choice that leaves most to spare.
func Best(choices []Choice) int {
	best := 0
	for i, c := range choices {
		if b := &choices[best]; c.Fits && !b.Fits || c.Fits == b.Fits && c.Spare > b.Spare {
			best = i
		}
	}
	return best
}

// SymbolTime is one of the four times of a line's symbols, with its limits.
type SymbolTime struct {
	Name   string
	Is     quantity.Time
	Limits Range
}

// Fits says whether the time lies in its limits.
func (t SymbolTime) Fits() bool { return t.Limits.Holds(t.Is) }

// Times gives the four times of the symbols with the limits of the settings.
func (t *Tolerance) Times(s Settings) []SymbolTime {
	return []SymbolTime{
		{"high time of a 0", t.ZeroHigh, s.Zero.High}, {"low time of a 0", t.ZeroLow, s.Zero.Low},
		{"high time of a 1", t.OneHigh, s.One.High}, {"low time of a 1", t.OneLow, s.One.Low},
	}
}

// Sent gives the settings of a line as the patterns make it, for a decoder or a
// drawing: each time is the one that it is.
func (t *Tolerance) Sent(s Settings, latch quantity.Time) Settings {
	at := func(x quantity.Time) Range { return Range{x, x} }
	s.Zero = Symbol{at(t.ZeroHigh), at(t.ZeroLow)}
	s.One = Symbol{at(t.OneHigh), at(t.OneLow)}
	s.Latch = latch
	return s
}

// ParsePattern reads the bits of a pattern, as 110.
func ParsePattern(text string) (value uint32, bits int, err error) {
	v, err := strconv.ParseUint(text, 2, 8)
	if err != nil {
		return 0, 0, fmt.Errorf("%q is no pattern: write the bits of the data line, as 110", text)
	}
	return uint32(v), len(text), nil
}

// Text gives a pattern as it is written.
func (p Patterns) Text(one bool) string {
	v := p.Zero
	if one {
		v = p.One
	}
	return fmt.Sprintf("%0*b", p.Bits, v)
}

// Wider gives the patterns of as many bits that divide the time of a bit nearest to
// what the settings want in the middle.
func Wider(s Settings, bits int) (Patterns, error) {
	p := Patterns{Bits: bits}
	share := func(sym Symbol) int {
		high, low := float64(sym.High.Middle()), float64(sym.Low.Middle())
		return min(max(int(high/(high+low)*float64(bits)+0.5), 1), bits-1)
	}
	ones := func(n int) uint32 { return (1<<n - 1) << (bits - n) }
	zero, one := share(s.Zero), share(s.One)
	if zero == one {
		if one < bits-1 {
			one++
		} else {
			zero--
		}
	}
	if bits < 3 || bits > 8 || zero < 1 {
		return p, fmt.Errorf("patterns of %d bits can't hold two symbols", bits)
	}
	p.Zero, p.One = ones(zero), ones(one)
	return p, p.Check()
}

// Derivation explains the time of a bit.
func (c *Choice) Derivation(clock quantity.Freq, p Patterns) finding.Derivation {
	return finding.Derivation{
		Name: "time of a bit on the line", Formula: "pattern · divider / clock",
		Inputs: []finding.Input{
			{Symbol: "pattern", Name: "bits of the data line for one of the pulse line", Value: strconv.Itoa(p.Bits)},
			{Symbol: "divider", Name: "of the unit's clock", Value: strconv.Itoa(c.Divider)},
			{Symbol: "clock", Name: "of the unit", Value: clock.String()},
		},
		Worked: fmt.Sprintf("%d · %d / %s", p.Bits, c.Divider, clock), Result: c.Bit.Round(4), Source: "docs/formulas.md, pulse lines",
	}
}

// Frame is the time of n elements with the latch behind them, as the patterns make
// them.
func (c *Choice) Frame(s Settings, n int, latch quantity.Time) quantity.Time {
	return c.Bit*quantity.Time(n*s.Element) + latch
}

// Drive gives the toggles of a clocked data line that sends bytes back to back from a
// time on, most significant bit first, and rests low before and behind.
func Drive(dst []quantity.Time, clock quantity.Period, start quantity.Time, data []byte) ([]quantity.Time, quantity.Time) {
	high := false
	n := int64(0)
	for _, b := range data {
		for i := 7; i >= 0; i-- {
			if bit := b>>i&1 == 1; bit != high {
				high = bit
				dst = append(dst, start+clock.Times(n))
			}
			n++
		}
	}
	end := start + clock.Times(n)
	if high {
		dst = append(dst, end)
	}
	return dst, end
}
