package bench

import (
	"fmt"

	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// clockSchema is what a clock says of itself.
func clockSchema() *doc.Type {
	return doc.Map(
		doc.Key{Name: "source", Doc: "frequency of a crystal or oscillator", Type: doc.ClockType},
		doc.Key{Name: "from", Doc: "the clock that this one is made from", Type: doc.NameType},
		doc.Key{Name: "times", Doc: "factor of a multiplier", Type: doc.Int(1, 1024)},
		doc.Key{Name: "divide", Doc: "factor of a divider", Type: doc.Int(1, 65536)},
		doc.Key{Name: "divide-option", Doc: "OPTION.FIELD of a non-volatile option that holds the factor; its meanings are the factors", Type: fieldType},
		doc.Key{Name: "of", Doc: "the clocks that a selector chooses from; `from` is the one that is chosen", Type: doc.ListOf(doc.NameType, 2)},
		doc.Key{Name: "select", Doc: "REGISTER.FIELD that takes the choice; its meanings are the clocks' names", Type: fieldType},
		doc.Key{Name: "measured", Doc: "what this clock was measured at; all after it follows", Type: doc.ClockType},
		doc.Key{Name: "plus-minus", Doc: "uncertainty of the measurement, as 0.01 MHz", Type: doc.FreqType},
		doc.Key{Name: "most", Doc: "the most that it may run at", Type: doc.ClockType},
		doc.Key{Name: "sheet", Doc: "document and page", Type: doc.AnyText},
		doc.Key{Name: "unproven", Doc: "assumed only, not checked yet", Type: doc.YesNo, Default: "no"},
	)
}

// path follows a clock back to its source.
func (x *binder) path(clocks, ref *doc.Node) clock.Path { return x.pathTo(clocks, ref.Scalar, ref) }

// pathTo is the path to a clock by its name, which stands at a node.
func (x *binder) pathTo(clocks *doc.Node, name string, at *doc.Node) clock.Path {
	var back clock.Path
	for range 64 {
		c := clocks.Get(name)
		if c == nil {
			var names []string
			for _, e := range clocks.All() {
				names = append(names, e.Key)
			}
			change := "add it below mcu.clocks"
			if m := doc.Nearest(name, names); m != "" {
				change = fmt.Sprintf("did you mean %s?", m)
			}
			x.fault("unknown-clock", at.Place(), change, "there is no clock %q", name)
			return nil
		}
		h := clock.Hop{Name: name, Unproven: doc.Of[bool](c, "unproven"), Most: doc.Of[quantity.Freq](c, "most"), Measured: doc.Of[quantity.Freq](c, "measured")}
		if h.Measured > 0 {
			h.PlusMinus = float64(doc.Of[quantity.Freq](c, "plus-minus")) / float64(h.Measured)
		}
		src, from := c.Get("source"), c.Get("from")
		if (src == nil) == (from == nil) {
			x.fault("clock-origin", c.KeyPlace(), "write `source:` for a crystal, `from:` for a clock made from another", "clock %s needs either source or from", name)
			return nil
		}
		times, divide := c.Get("times"), c.Get("divide")
		if src != nil {
			if times != nil || divide != nil || c.Get("of") != nil || c.Get("divide-option") != nil {
				x.fault("clock-origin", c.KeyPlace(), "make a second clock from it", "clock %s is a source and can't multiply, divide or select", name)
			}
			h.Freq = doc.As[quantity.Freq](src)
			back = append(back, h)
			path := make(clock.Path, 0, len(back))
			for i := len(back) - 1; i >= 0; i-- {
				path = append(path, back[i])
			}
			path.Solve()
			for _, h := range path {
				if h.Most > 0 && h.Freq > h.Most {
					x.fault("clock-too-fast", clocks.Get(h.Name).KeyPlace(), "change a factor before it", "clock %s runs at %s; at most %s is allowed", h.Name, h.Freq, h.Most)
				}
			}
			return path
		}
		h.Op, h.Factor = clock.Divide, 1
		if divide != nil {
			h.Factor = doc.As[int](divide)
		}
		if times != nil {
			if divide != nil {
				x.fault("clock-factor", c.KeyPlace(), "make two clocks, one after the other", "clock %s both multiplies and divides", name)
			}
			h.Op, h.Factor = clock.Times, doc.As[int](times)
		}
		x.hop(&h, c, from)
		back = append(back, h)
		name, at = from.Scalar, from
	}
	x.fault("clock-circle", clocks.Get(name).KeyPlace(), "let one of them be a source", "clock %s is made from itself", name)
	return nil
}
