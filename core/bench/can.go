package bench

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/transfer"
)

// CANUnit are the limits of a unit's bit timing, and where it goes.
type CANUnit struct {
	Nominal canPhase
	Data    *canPhase // nil: it has no data phase of its own
}

// canPhase is one of the two bit timings of a unit.
type canPhase struct {
	can.Segments
	MinusOne                                        bool // the registers hold one less
	PrescalerField, Seg1Field, Seg2Field, JumpField string
}

// CAN is a can bus with its nodes.
type CAN struct {
	*Link
	Clocking *CANUnit
	Nodes    []*can.End // the MCU's first
	// Options are the timings that the MCU's unit can have, best first;
	// DataOptions those of the data phase.
	Options, DataOptions []can.BitTiming
	Sample, DataSample   float64 // wanted
	Chosen, DataChosen   bool
	Length               float64 // of the bus in metres; 0: not stated
	PerMetre             quantity.Time
	Pairs                []can.Pair
	Odd                  *can.End  // whose rate differs from that of all others
	Load                 *can.Load // nil without messages
}

func canPhaseKeys() *doc.Type {
	return doc.Map(
		doc.Key{Name: "prescaler", Doc: "largest prescaler", Type: doc.Int(1, 1<<16), Default: "1024"},
		doc.Key{Name: "seg1", Doc: "most quanta before the sample point, the first not counted", Type: doc.Int(1, 512), Default: "16"},
		doc.Key{Name: "seg2", Doc: "most quanta after it", Type: doc.Int(1, 512), Default: "8"},
		doc.Key{Name: "jump", Doc: "most quanta of the jump width", Type: doc.Int(1, 512), Default: "4"},
		doc.Key{Name: "minus-one", Doc: "the registers hold one less", Type: doc.YesNo, Default: "yes"},
		doc.Key{Name: "prescaler-field", Doc: "REGISTER.FIELD of the prescaler", Type: fieldType},
		doc.Key{Name: "seg1-field", Doc: "REGISTER.FIELD of the first segment", Type: fieldType},
		doc.Key{Name: "seg2-field", Doc: "REGISTER.FIELD of the second segment", Type: fieldType},
		doc.Key{Name: "jump-field", Doc: "REGISTER.FIELD of the jump width", Type: fieldType},
	)
}

var sampleType = doc.Scalar("a share of the bit in %", func(s string) (float64, error) {
	v, err := quantity.ParsePercent(s)
	if err == nil && v >= 1 {
		return 0, fmt.Errorf("%s is not between 0 and 100 %%", s)
	}
	return v, err
})

var canKind = kind{
	bus:   can.Kind,
	depth: "3",
	unit: func() []doc.Key {
		return []doc.Key{
			{Name: "quanta", Doc: "limits of the bit timing", Type: canPhaseKeys(), Required: true},
			{Name: "data-quanta", Doc: "limits of the bit timing of the data phase", Type: canPhaseKeys()},
		}
	},
	mcu: func() []doc.Key {
		return []doc.Key{
			{Name: "rate", Doc: "nominal bit rate", Type: doc.RateType, Required: true},
			{Name: "sample", Doc: "sample point that is wanted", Type: sampleType, Default: "87.5 %"},
			{Name: "jump", Doc: "jump width in quanta; absent: as large as it may be", Type: doc.Int(1, 512)},
			{Name: "timing", Doc: "prescaler, segments and jump width chosen by hand, as 6, 1+13+2, 1", Type: can.TimingType},
			{Name: "data-rate", Doc: "bit rate of the data phase", Type: doc.RateType},
			{Name: "data-sample", Doc: "sample point that is wanted in the data phase", Type: sampleType, Default: "75 %"},
			{Name: "data-timing", Doc: "timing of the data phase chosen by hand", Type: can.TimingType},
			{Name: "tolerance", Doc: "how far its clock may be off, as 0.01 %", Type: doc.PPMType, Default: "0 ppm"},
			{Name: "delay", Doc: "of its loop: out through its driver and in again", Type: doc.TimeType, Default: "0 ns"},
			{Name: "messages", Doc: "what it sends again and again, by name", Type: doc.MapOf(can.MessageType)},
			{Name: "listen-only", Doc: "it never drives the line", Type: doc.YesNo, Default: "no"},
			{Name: "one-shot", Doc: "a frame that fails or loses arbitration is not sent again", Type: doc.YesNo, Default: "no"},
			{Name: "stay-off", Doc: "once bus off, it waits to be started again", Type: doc.YesNo, Default: "no"},
		}
	},
	link: func() []doc.Key {
		return []doc.Key{
			{Name: "length", Doc: "of the bus, as 25 m", Type: scaledType("m", "25 m")},
			{Name: "per-metre", Doc: "delay of a metre of cable", Type: doc.TimeType, Default: "5 ns"},
			transactionChecks(can.Kind),
			devicesKey(
				doc.Key{Name: "rate", Doc: "nominal bit rate, where it differs from the device file", Type: doc.RateType},
				doc.Key{Name: "timing", Doc: "bit timing, where it differs from the device file", Type: can.TimingType},
				doc.Key{Name: "clock-off", Doc: "how far this part's clock is off, as 0.4 %", Type: doc.PPMType, Default: "0 ppm"},
				doc.Key{Name: "listen-only", Doc: "it never drives the line", Type: doc.YesNo, Default: "no"},
				doc.Key{Name: "one-shot", Doc: "a frame that fails or loses arbitration is not sent again", Type: doc.YesNo, Default: "no"},
				doc.Key{Name: "stay-off", Doc: "once bus off, it waits to be started again", Type: doc.YesNo, Default: "no"},
			),
		}
	},
	clocking: func(_ *binder, _ *Unit, n *doc.Node) any {
		out := &CANUnit{Nominal: phaseOf(n.Get("quanta"))}
		if d := n.Get("data-quanta"); d != nil {
			p := phaseOf(d)
			out.Data = &p
		}
		return out
	},
	model:  func(x *binder, l *Link, n *doc.Node) Model { return x.can(l, n) },
	stream: canStream,
	check:  (*binder).transactionCheck,
}

func phaseOf(n *doc.Node) canPhase {
	return canPhase{
		Segments:       can.Segments{Prescaler: doc.Of[int](n, "prescaler"), Seg1: doc.Of[int](n, "seg1"), Seg2: doc.Of[int](n, "seg2"), Jump: doc.Of[int](n, "jump")},
		MinusOne:       doc.Of[bool](n, "minus-one"),
		PrescalerField: n.Text("prescaler-field"), Seg1Field: n.Text("seg1-field"), Seg2Field: n.Text("seg2-field"), JumpField: n.Text("jump-field"),
	}
}

func (x *binder) can(l *Link, n *doc.Node) Model {
	m := n.Get("mcu")
	out := &CAN{
		Link: l, Clocking: l.Unit.Clocking.(*CANUnit), Sample: doc.Of[float64](m, "sample"), DataSample: doc.Of[float64](m, "data-sample"),
		Length: doc.Of[float64](n, "length"), PerMetre: doc.Of[quantity.Time](n, "per-metre"),
	}
	own := &can.End{Name: "MCU", Tolerance: math.Abs(float64(doc.Of[quantity.PPM](m, "tolerance"))) / 1e6, Delay: doc.Of[quantity.Time](m, "delay")}
	own.ListenOnly, own.OneShot, own.StayOff = doc.Of[bool](m, "listen-only"), doc.Of[bool](m, "one-shot"), doc.Of[bool](m, "stay-off")
	if pm := l.Unit.Clock.PlusMinus(); pm > 0 {
		own.Tolerance += pm
	}
	parts, nodes := x.devices(l, n)
	nominal, opts, ok := x.bitTiming(l, m, "", &out.Clocking.Nominal, out.Sample)
	if !ok {
		return nil
	}
	own.Nominal, out.Options, out.Chosen = nominal, opts, m.Get("timing") != nil
	if m.Get("data-rate") != nil {
		if out.Clocking.Data == nil {
			x.fault("no-data-phase", m.Get("data-rate").Place(), "remove it, or take another unit", "unit %s has no data phase of its own", l.Unit.Name)
			return nil
		}
		data, opts, ok := x.bitTiming(l, m, "data-", out.Clocking.Data, out.DataSample)
		if !ok {
			return nil
		}
		own.Data, out.DataOptions, out.DataChosen = &data, opts, m.Get("data-timing") != nil
	}
	var err error
	if own.Messages, err = can.ParseMessages(m.Get("messages")); err != nil {
		x.fault("bad-message", m.Get("messages").KeyPlace(), "correct the message", "%v", err)
	}
	out.Nodes = append(out.Nodes, own)
	l.Ends[0].Settings, l.Ends[0].Toward = own.Timing(), own.Timing()
	for i, d := range parts {
		e := nodeOf(d.End.(can.End), nodes[i])
		out.Nodes = append(out.Nodes, e)
		l.Ends = append(l.Ends, End{Name: e.Name, About: d.About, Source: d.Source, Settings: e.Timing(), Toward: own.Timing(), Clock: e.Nominal.Clock, Off: e.Off, Part: d})
	}
	if len(n.Get("devices").All()) == 0 {
		x.noDevices(n)
	}
	out.Pairs, out.Odd = can.Pairs(out.Nodes), can.OddOneOut(out.Nodes)
	var all []can.Message
	for _, e := range out.Nodes {
		if !e.ListenOnly { // it sends nothing
			all = append(all, e.Messages...)
		}
	}
	if len(all) > 0 {
		t := can.Timing{Nominal: nominal.Phase(), Data: nominal.Phase()}
		if own.Data != nil {
			t.Data = own.Data.Phase()
		}
		load, err := can.LoadOf(all, t)
		if err != nil {
			x.fault("bad-message", n.KeyPlace(), "correct the messages", "%v", err)
		} else {
			out.Load = &load
		}
	}
	return out
}

// nodeOf is a device's node with what the bench says of it.
func nodeOf(e can.End, c *doc.Node) *can.End {
	e.OneShot, e.StayOff = doc.Of[bool](c, "one-shot"), doc.Of[bool](c, "stay-off")
	e.Name, e.ListenOnly, e.Off = c.Key, doc.Of[bool](c, "listen-only"), float64(doc.Of[quantity.PPM](c, "clock-off"))/1e6
	rate := e.Nominal.Wanted
	if c.Get("rate") != nil {
		rate = doc.Of[quantity.Rate](c, "rate")
	}
	q := can.Quanta{Prescaler: e.Nominal.Prescaler, Seg1: e.Nominal.Seg1, Seg2: e.Nominal.Seg2, Jump: e.Nominal.Jump}
	switch {
	case c.Get("timing") != nil:
		q = doc.Of[can.Quanta](c, "timing")
	case rate != e.Nominal.Wanted:
		// The timing of its file is for another rate.
		if ts, err := can.SolveTiming(e.Nominal.Clock, rate, e.Nominal.Sample, can.UsualSegments, 0, 1); err == nil {
			q = can.Quanta{Prescaler: ts[0].Prescaler, Seg1: ts[0].Seg1, Seg2: ts[0].Seg2, Jump: ts[0].Jump}
		}
	}
	e.Nominal = q.Of(e.Nominal.Clock, rate)
	return &e
}

// bitTiming finds the timings of a phase, or takes the one that was chosen.
func (x *binder) bitTiming(l *Link, m *doc.Node, prefix string, limits *canPhase, sample float64) (can.BitTiming, []can.BitTiming, bool) {
	rate := doc.Of[quantity.Rate](m, prefix+"rate")
	freq := l.Unit.Clock.Freq()
	jump := 0
	if prefix == "" {
		jump = min(doc.Of[int](m, "jump"), limits.Jump)
	}
	opts, err := can.SolveTiming(l.Unit.Clock.Meant(), rate, sample, limits.Segments, jump, 12)
	if err != nil {
		x.fault("no-bit-timing", m.Get(prefix+"rate").Place(), "choose another rate, or another clock for the unit", "%s: %v", l.Name, err)
		return can.BitTiming{}, nil, false
	}
	for i, o := range opts {
		opts[i] = can.Quanta{Prescaler: o.Prescaler, Seg1: o.Seg1, Seg2: o.Seg2, Jump: o.Jump}.Of(freq, rate)
	}
	t := m.Get(prefix + "timing")
	if t == nil {
		return opts[0], opts, true
	}
	b := doc.As[can.Quanta](t).Of(freq, rate)
	if b.Prescaler > limits.Prescaler || b.Seg1 > limits.Seg1 || b.Seg2 > limits.Seg2 || b.Jump > limits.Jump {
		x.fault("timing-out-of-range", t.Place(), fmt.Sprintf("prescaler to %d, segments to %d and %d, jump width to %d", limits.Prescaler, limits.Seg1, limits.Seg2, limits.Jump), "unit %s can't have %s", l.Unit.Name, t.Scalar)
		return b, nil, false
	}
	return b, opts, true
}

// Bit implements Model.
func (c *CAN) Bit() quantity.Time { return c.Nodes[0].Nominal.Phase().Bit.Times(1) }

// Short implements Model.
func (c *CAN) Short() string { return c.Nodes[0].Nominal.Wanted.BitRate() }

// Tap implements Model: all nodes share one line, read as the MCU does.
func (c *CAN) Tap() []bus.Settings { return []bus.Settings{c.Nodes[0].Timing()} }

func (c *CAN) sourced() []Sourced {
	var out []Sourced
	for i, e := range c.Nodes {
		switch {
		case i > 0:
			out = append(out, Sourced{"links." + c.Name + ".devices: " + e.Name, e.Nominal.Wanted.BitRate() + ", " + e.Nominal.Text(), c.Ends[i].Source, IsCopied, 0})
		case !c.Chosen:
			out = append(out, Sourced{"links." + c.Name + ".mcu: timing", e.Nominal.Text(), "", IsDerived, 0})
		}
	}
	return out
}

// wishes are the settings of the MCU's node.
func (c *CAN) wishes(int) []wish {
	var out []wish
	phase := func(prefix string, b can.BitTiming, p *canPhase, chosen bool) {
		source, less := "derived", 0
		if chosen {
			source = "chosen"
		}
		if p.MinusOne {
			less = 1
		}
		for _, f := range []struct {
			name, where string
			value       int
		}{{"prescaler", p.PrescalerField, b.Prescaler}, {"seg1", p.Seg1Field, b.Seg1}, {"seg2", p.Seg2Field, b.Seg2}, {"jump", p.JumpField, b.Jump}} {
			if f.where != "" {
				out = append(out, wish{f.where, prefix + f.name, "rate", strconv.Itoa(f.value - less), source})
			}
		}
	}
	phase("", c.Nodes[0].Nominal, &c.Clocking.Nominal, c.Chosen)
	if d := c.Nodes[0].Data; d != nil {
		phase("data ", *d, c.Clocking.Data, c.DataChosen)
	}
	return out
}

// MostLength is the greatest length of the bus in metres that all nodes stand.
func (c *CAN) MostLength() float64 {
	most := math.Inf(1)
	for _, e := range c.Nodes {
		most = min(most, e.MostLength(c.PerMetre))
	}
	return most
}

// FromRegisters gives the bit timings that values of the control registers mean: the
// inverse of Words. What goes into no described field is as stated.
func (c *CAN) FromRegisters(value func(*register.Register) uint64) (nominal can.BitTiming, data *can.BitTiming, err error) {
	own := c.Nodes[0]
	nominal, err = c.readPhase(value, own.Nominal, &c.Clocking.Nominal)
	if err != nil || own.Data == nil {
		return nominal, nil, err
	}
	d, err := c.readPhase(value, *own.Data, c.Clocking.Data)
	return nominal, &d, err
}

func (c *CAN) readPhase(value func(*register.Register) uint64, b can.BitTiming, p *canPhase) (can.BitTiming, error) {
	if c.registers == nil {
		return b, nil
	}
	for _, f := range []struct {
		where string
		to    *int
	}{{p.PrescalerField, &b.Prescaler}, {p.Seg1Field, &b.Seg1}, {p.Seg2Field, &b.Seg2}, {p.JumpField, &b.Jump}} {
		if f.where == "" {
			continue
		}
		r, field, err := place(c.registers, f.where)
		if err != nil {
			return b, err
		}
		*f.to = int(field.Of(value(r)))
		if p.MinusOne {
			*f.to++
		}
		if *f.to < 1 {
			return b, fmt.Errorf("%s is 0", f.where)
		}
	}
	b.Jump = min(b.Jump, b.Seg1, b.Seg2)
	return can.ParseTiming(b.Clock, b.Wanted, b.Text())
}

func (c *CAN) lint() []finding.Finding {
	var out []finding.Finding
	l := c.Link
	place := func(name string) finding.Place {
		if n := l.node.Get("devices", name); n != nil {
			return n.KeyPlace()
		}
		return l.node.Get("mcu", "rate").Place()
	}
	own := c.Nodes[0]
	for _, e := range c.Nodes {
		if e.Misses() {
			out = append(out, c.missed(e, place(e.Name)))
		}
		if j, most := e.Nominal.Jump, e.Nominal.JumpMost(); j > most {
			out = append(out, finding.Finding{
				Severity: finding.Warning, Code: "jump-too-wide", Where: place(e.Name),
				Seen: fmt.Sprintf("%s: a jump width of %s in %s", e.Name, quantity.Quanta(j), e.Nominal.Split()),
				Why:  fmt.Sprintf("a phase segment can't be shortened by more than it has: %d", most), Change: fmt.Sprintf("take a jump width of at most %d", most),
			})
		}
	}
	if math.Abs(own.Nominal.Error) > 1e-6 && !own.Misses() {
		out = append(out, finding.Finding{
			Severity: finding.Warning, Code: "rate-not-exact", Where: l.node.Get("mcu", "rate").Place(),
			Seen: fmt.Sprintf("%s from %s gives %+.3f %%", own.Nominal.Wanted.BitRate(), own.Nominal.Clock, 100*own.Nominal.Error),
			Why:  "a CAN bus lives on exact rates: this uses up what the clocks may be off", Change: "choose a clock that the rate divides",
		})
	}
	if c.Odd != nil {
		rest := c.Nodes[0]
		if rest == c.Odd {
			rest = c.Nodes[1]
		}
		f := finding.Finding{
			Severity: oddSeverity(c.Odd), Code: "node-at-another-rate", Where: place(c.Odd.Name),
			Seen: fmt.Sprintf("%s runs at %s, all others at %s", c.Odd.Name, c.Odd.Nominal.Wanted.BitRate(), rest.Nominal.Wanted.BitRate()),
			Why:  "it destroys the others' frames with error flags as long as it is active; if it only listens it receives nothing and disturbs nobody", Change: "give it the others' rate",
		}
		want := rest.Nominal.Wanted
		if c.Odd == own {
			f.Fixes = []finding.Fix{{Label: "MCU to " + want.BitRate(), Edits: []finding.Edit{{Path: l.path("mcu", "rate"), Value: want.String()}}}}
		} else if ts, err := can.SolveTiming(c.Odd.Nominal.Clock, want, rest.Nominal.Sample, can.UsualSegments, 0, 1); err == nil && math.Abs(ts[0].Error) < 1e-4 {
			f.Fixes = []finding.Fix{{Label: c.Odd.Name + " to " + want.BitRate() + ", " + ts[0].Split(), Edits: []finding.Edit{
				{Path: l.path("devices", c.Odd.Name, "rate"), Value: want.String()}, {Path: l.path("devices", c.Odd.Name, "timing"), Value: ts[0].Text()},
			}}}
		}
		out = append(out, f)
	}
	out = append(out, c.listening(place)...)
	for _, p := range c.Pairs {
		both := p.A.Name + " and " + p.B.Name
		switch {
		case p.RatesDiffer && (c.Odd == p.A || c.Odd == p.B):
			// said already
		case p.RatesDiffer:
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "bit-rate-differs", Where: place(p.B.Name),
				Seen: fmt.Sprintf("%s runs at %s, %s at %s", p.A.Name, p.A.Nominal.Wanted.BitRate(), p.B.Name, p.B.Nominal.Wanted.BitRate()),
				Why:  "no frame gets through; who is active answers with error flags", Change: "give both one rate",
				Fixes: []finding.Fix{{Label: "MCU to " + p.B.Nominal.Wanted.BitRate(), Edits: []finding.Edit{{Path: l.path("mcu", "rate"), Value: p.B.Nominal.Wanted.String()}}}},
			})
		case p.A.Misses() || p.B.Misses():
			// said already
		case !p.Decodes:
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "clocks-too-far-apart", Where: place(p.B.Name),
				Seen: fmt.Sprintf("%s: clocks up to %.3f %% apart, allowed are %.3f %%", both, 100*p.Sum, 100*p.Pair),
				Why:  "long frames lose the bit border before an edge brings it back", Change: "take more exact clocks, a wider jump width or a longer second segment",
			})
		}
		if p.FarApart() && !p.RatesDiffer {
			out = append(out, finding.Finding{
				Severity: finding.Warning, Code: "sample-points-far-apart", Where: place(p.B.Name),
				Seen: fmt.Sprintf("%s sample %.1f %% of the bit apart", both, 100*p.Apart), Why: "length and clock error leave less room than either end calculates with", Change: "give all nodes nearly the same sample point",
				Fixes: c.sampleFix(p),
			})
		}
	}
	for _, e := range c.Nodes {
		if lim := e.Limit(); e.Error() > lim.Limit && !e.Misses() {
			out = append(out, finding.Finding{
				Severity: finding.Warning, Code: "node-does-not-conform", Where: place(e.Name),
				Seen: fmt.Sprintf("%s: its clock may be %.3f %% off, its timing stands %.3f %%", e.Name, 100*e.Error(), 100*lim.Limit),
				Why:  "with a partner as far off the other way frames break; with an exact one it may still work (" + lim.Name + ")", Change: "take a more exact clock or a wider jump width",
			})
		}
		if most := e.MostLength(c.PerMetre); c.Length > most {
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "bus-too-long", Where: l.node.Get("length").Place(),
				Seen: fmt.Sprintf("%s: %g m; the propagation segment of %s allows %.0f m", l.Name, c.Length, e.Name, most),
				Why:  fmt.Sprintf("a bit comes back after 2 · (%g m · %s + %s), later than %s", c.Length, c.PerMetre, e.Delay, quantity.Quanta(e.Nominal.Propagation())), Change: "shorten the bus, slow it down, or sample later",
			})
		}
		if e.Data != nil {
			if k := can.Compensate(*e.Data, e.Delay); k.Needed {
				out = append(out, finding.Finding{
					Severity: finding.Note, Code: "delay-compensation-needed", Where: place(e.Name),
					Seen: fmt.Sprintf("%s: its own bits come back after %s, after the sample point of the data phase", e.Name, e.Delay), Change: fmt.Sprintf("turn on the transmitter's delay compensation, offset %d clock periods", k.Offset),
				})
			}
		}
	}
	out = append(out, c.lintMixed(place)...)
	return append(out, c.lintLoad()...)
}

// missed says that a node's timing gives another rate than is wanted.
func (c *CAN) missed(e *can.End, at finding.Place) finding.Finding {
	n := e.Nominal
	f := finding.Finding{
		Severity: finding.Error, Code: "timing-gives-another-rate", Where: at,
		Seen: fmt.Sprintf("%s: %s from %s gives %s, not %s", e.Name, n.Division(), n.Clock, n.Rate.BitRate(), n.Wanted.BitRate()),
		Why:  "no frame gets through between it and nodes at the wanted rate", Change: "choose another timing, or state the rate that it has",
	}
	if e == c.Nodes[0] && c.misclocked() {
		f.Change = correctClock
		return f
	}
	mended, ok := e.Mended()
	if !ok {
		return f
	}
	f.Change = fmt.Sprintf("%s gives %s", mended.Division(), mended.Rate.BitRate())
	edit := finding.Edit{Path: c.path("devices", e.Name, "timing"), Value: mended.Text()}
	if e == c.Nodes[0] {
		edit = finding.Edit{Path: c.path("mcu", "timing"), Value: mended.Text()}
	}
	f.Fixes = []finding.Fix{{Label: e.Name + " to " + mended.Division(), Edits: []finding.Edit{edit}}}
	return f
}

// lintMixed finds nodes that know nothing of the flexible format on a bus where
// another sends it.
func (c *CAN) lintMixed(place func(string) finding.Place) []finding.Finding {
	var out []finding.Finding
	i := slices.IndexFunc(c.Nodes, func(e *can.End) bool { return e.SendsFlexible() })
	for _, e := range c.Nodes {
		if i < 0 || !e.Classic() || e.ListenOnly {
			continue
		}
		out = append(out, finding.Finding{
			Severity: finding.Error, Code: "node-without-flexible-format", Where: place(e.Name),
			Seen: fmt.Sprintf("%s sends frames of the flexible format; %s does not know it", c.Nodes[i].Name, e.Name),
			Why:  "it takes them for form errors and answers with error frames", Change: "keep it on another bus, let it only listen, or send classic frames",
		})
	}
	return out
}

// sampleFix brings the MCU's sample point to the other node's.
func (c *CAN) sampleFix(p can.Pair) []finding.Fix {
	if p.A != c.Nodes[0] || c.Chosen || p.B.Data != nil {
		return nil
	}
	want := strconv.FormatFloat(100*p.B.Nominal.Sample, 'f', 2, 64) + " %"
	return []finding.Fix{{Label: "sample point of the MCU to " + want, Edits: []finding.Edit{{Path: c.path("mcu", "sample"), Value: want}}}}
}

// listening says what does not go together with nodes that only listen: messages of theirs, and a
// bus on which a sender is the only one that could acknowledge.
func (c *CAN) listening(place func(string) finding.Place) (out []finding.Finding) {
	active, senders := 0, []*can.End{}
	for _, e := range c.Nodes {
		switch {
		case !e.ListenOnly:
			if active++; len(e.Messages) > 0 {
				senders = append(senders, e)
			}
		case len(e.Messages) > 0:
			out = append(out, finding.Finding{
				Severity: finding.Warning, Code: "listens-only", Where: place(e.Name),
				Seen: fmt.Sprintf("%s only listens, and has %s to send", e.Name, quantity.Count(len(e.Messages), "message")),
				Why:  "none of them is ever sent", Change: "let it take part, or leave its messages out",
			})
		}
	}
	if active == 1 && len(senders) == 1 {
		out = append(out, finding.Finding{
			Severity: finding.Error, Code: "nobody-acknowledges", Where: place(senders[0].Name),
			Seen: fmt.Sprintf("%s sends, and all others only listen", senders[0].Name),
			Why:  "nobody acknowledges: it sends the same frame again and again, and becomes error-passive", Change: "let another node take part",
		})
	}
	return out
}

// oddSeverity: a node at another rate that only listens harms nobody.
func oddSeverity(e *can.End) finding.Severity {
	if e.ListenOnly {
		return finding.Warning
	}
	return finding.Error
}

func (c *CAN) lintLoad() []finding.Finding {
	l := c.Link
	if c.Load == nil {
		return nil
	}
	var late []string
	for _, m := range c.Load.Messages {
		if m.Late {
			late = append(late, m.Name)
		}
	}
	switch {
	case c.Load.Most > 1:
		return []finding.Finding{{Severity: finding.Error, Code: "bus-overloaded", Where: l.node.KeyPlace(), Seen: fmt.Sprintf("%s: its messages take up to %.0f %% of the time", l.Name, 100*c.Load.Most), Why: "the lowest priorities may never be sent", Change: "send less often, or at a higher rate"}}
	case len(late) > 0:
		return []finding.Finding{{Severity: finding.Warning, Code: "message-may-be-late", Where: l.node.KeyPlace(), Seen: fmt.Sprintf("%s: %s may come later than the next one is due", l.Name, strings.Join(late, ", ")), Change: "give it a higher priority, or send less"}}
	}
	return nil
}

// Derivations implements Model.
func (c *CAN) Derivations(dev int) []finding.Derivation {
	e := c.Nodes[min(dev, len(c.Nodes)-1)]
	out := []finding.Derivation{e.Nominal.Derivation(), can.ToleranceDerivation(e.Conditions())}
	if e.Data != nil {
		d := e.Data.Derivation()
		d.Name = "bit timing of the data phase"
		out = append(out, d)
	}
	return append(out, c.Unit.Clock.Derivation())
}

// canStream: a word is the data of a frame, of which memory keeps 8 bytes.
func canStream(l *Link, _ bool) transfer.Stream {
	c := l.Model.(*CAN)
	return transfer.Stream{Bits: 64, WordBits: float64(can.LeastBits(can.Frame{Data: make([]byte, 8)})), Rate: c.Nodes[0].Nominal.Rate}
}
