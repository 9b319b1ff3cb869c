package pulse

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// ParseRange reads a range of times: `0.2 to 0.5 us`, or one time. A unit at
// the end is for both.
func ParseRange(s string) (Range, error) {
	a, b, two := strings.Cut(s, " to ")
	if !two {
		b = a
	}
	most, err := quantity.ParseTime(b)
	if err != nil {
		return Range{}, err
	}
	least, err := quantity.ParseTime(a)
	if err != nil {
		unit := strings.TrimLeft(strings.TrimSpace(b), "0123456789. ")
		if least, err = quantity.ParseTime(a + " " + unit); err != nil {
			return Range{}, err
		}
	}
	if least <= 0 || most < least {
		return Range{}, fmt.Errorf("%q: the times must be above 0 and rise", s)
	}
	return Range{least, most}, nil
}

func parse(n *doc.Node) (bus.Settings, error) {
	s := Settings{Element: doc.Of[int](n, "element"), LSBFirst: doc.Of[string](n, "order") == "lsb", Latch: doc.Of[quantity.Time](n, "latch")}
	s.Zero.High, s.One.High = doc.Of[Range](n, "zero"), doc.Of[Range](n, "one")
	s.Zero.Low = doc.Of[Range](n, "low")
	s.One.Low = s.Zero.Low
	return s, s.Check()
}

func sentence(r *record.Record) string {
	digits := (int(r.Bits) + 3) / 4
	var out []string
	for _, e := range Elements(r) {
		out = append(out, fmt.Sprintf("%0*X", digits, e))
	}
	s := fmt.Sprintf("%s  %s", quantity.Count(len(out), "element"), strings.Join(out, " "))
	if r.Text != "" {
		s += "  " + r.Text
	}
	return s
}

// Compare lists in what the sender of a line, whose times are the middles of
// its ranges, misses what the receiver takes.
func Compare(a, b Settings, nameA, nameB string) []bus.Difference {
	var out []bus.Difference
	add := func(code, what, effect string) {
		out = append(out, bus.Difference{Code: code, What: what, Effects: []string{effect}})
	}
	for _, x := range []struct {
		name string
		a, b Range
	}{{"high time of 0", a.Zero.High, b.Zero.High}, {"high time of 1", a.One.High, b.One.High}, {"low time of 0", a.Zero.Low, b.Zero.Low}, {"low time of 1", a.One.Low, b.One.Low}} {
		if m := x.a.Middle(); !x.b.Holds(m) {
			add("pulse-differs", fmt.Sprintf("%s: %s sends %s, %s takes %s to %s", x.name, nameA, m, nameB, x.b.Least, x.b.Most), "the bit is read by the nearer width, right or wrong")
		}
	}
	if a.Latch < b.Latch {
		add("latch-differs", fmt.Sprintf("latch: %s pauses for %s, %s needs %s", nameA, a.Latch, nameB, b.Latch), "elements of the next message are taken for more of this one")
	}
	if a.Element != b.Element {
		add("element-differs", fmt.Sprintf("element: %s %d bits, %s %d bits", nameA, a.Element, nameB, b.Element), "all elements after the first are shifted")
	}
	if a.LSBFirst != b.LSBFirst {
		add("bit-order-differs", "bit order: one end sends the most significant bit first", "every element is mirrored")
	}
	return out
}

// Duration is the time of n elements with the symbols' middle times, from the
// first rise to the latch.
func Duration(s Settings, n int) (least, most quantity.Time) {
	zero, one := s.Zero.High.Middle()+s.Zero.Low.Middle(), s.One.High.Middle()+s.One.Low.Middle()
	bits := quantity.Time(n * s.Element)
	return bits*min(zero, one) + s.Latch, bits*max(zero, one) + s.Latch
}
