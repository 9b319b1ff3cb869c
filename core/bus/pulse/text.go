package pulse

import (
	"fmt"
	"strconv"
	"strings"

	"gavrix/core/bus"
	"gavrix/core/doc"
	"gavrix/core/quantity"
	"gavrix/core/record"
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

func checkRange(s string) error {
	_, err := ParseRange(s)
	return err
}

func parse(n *doc.Node) (bus.Settings, error) {
	s := Settings{Element: 8, LSBFirst: n.Text("order") == "lsb"}
	s.Zero.High, _ = ParseRange(n.Text("zero"))
	s.One.High, _ = ParseRange(n.Text("one"))
	low, _ := ParseRange(n.Text("low"))
	s.Zero.Low, s.One.Low = low, low
	s.Latch, _ = quantity.ParseTime(n.Text("latch"))
	if e, err := strconv.Atoi(n.Text("element")); err == nil {
		s.Element = e
	}
	return s, s.Check()
}

func sentence(r *record.Record) string {
	digits := (int(r.Bits) + 3) / 4
	var out []string
	for _, e := range Elements(r) {
		out = append(out, fmt.Sprintf("%0*X", digits, e))
	}
	s := fmt.Sprintf("%d elements  %s", len(out), strings.Join(out, " "))
	if r.Text != "" {
		s += "  " + r.Text
	}
	return s
}
