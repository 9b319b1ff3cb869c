package bench

import (
	"fmt"
	"io/fs"
	"strconv"

	"gavrix/core/bus/i2c"
	"gavrix/core/check"
	"gavrix/core/doc"
	"gavrix/core/finding"
	"gavrix/core/quantity"
	"gavrix/core/register"
)

// I2CUnit is how a unit makes the clock of an i2c bus.
type I2CUnit struct {
	i2c.Counters
	LowRegister, LowField, HighRegister, HighField string
}

// I2C is an i2c bus with its devices.
type I2C struct {
	Wanted  quantity.Rate
	Class   i2c.Class
	Supply  float64 // volt
	PullUp  float64 // ohm; 0: there is none
	Wires   float64 // capacitance of the wires alone, farad
	Load    float64 // with all pins
	Fall    quantity.Time
	Rise    quantity.Time
	Range   i2c.PullUp // what the pull-up may be
	NoRange error      // nothing serves
	Options []i2c.Timing
	Timing  i2c.Timing
	Chosen  bool
	Devices []*I2CDevice
	Asks    []I2CAsk // what the firmware does again and again
}

// I2CAsk is a transaction that the firmware makes again and again: it writes, then
// reads.
type I2CAsk struct {
	Name, Device string
	Address      uint8
	Every        quantity.Time
	Write        []byte
	Read         int
}

// I2CDevice is one device on an i2c bus.
type I2CDevice struct {
	Name, About, Source string
	End                 i2c.End
}

var i2cUnit = doc.Map(
	doc.Key{Name: "counters", Doc: "how the unit counts its clock for the low and the high time", Type: doc.Map(
		doc.Key{Name: "least", Doc: "smallest count", Type: doc.Int(0, 1<<20), Default: "1"},
		doc.Key{Name: "most", Doc: "largest count", Type: doc.Int(1, 1<<20), Required: true},
		doc.Key{Name: "low-plus", Doc: "periods that the unit adds to the low time", Type: doc.Int(0, 64), Default: "0"},
		doc.Key{Name: "high-plus", Doc: "periods that it adds to the high time", Type: doc.Int(0, 64), Default: "0"},
		doc.Key{Name: "filter", Doc: "periods by which its input filter delays each edge", Type: doc.Int(0, 64), Default: "0"},
		doc.Key{Name: "low-register", Doc: "register of the low count", Type: doc.NameType},
		doc.Key{Name: "low-field", Doc: "its bit field", Type: doc.NameType},
		doc.Key{Name: "high-register", Doc: "register of the high count", Type: doc.NameType},
		doc.Key{Name: "high-field", Doc: "its bit field", Type: doc.NameType},
	), Required: true},
)

func scaledType(unit, example string) *doc.Type {
	return doc.Scalar("a value in "+unit+", as "+example, func(s string) error { _, err := quantity.ParseScaled(s, unit); return err })
}

var i2cBus = doc.Map(
	unitKey,
	doc.Key{Name: "mcu", Doc: "the MCU's end", Type: doc.Map(append([]doc.Key{
		{Name: "rate", Doc: "bit rate that is wanted, never exceeded", Type: doc.RateType, Required: true},
		{Name: "low", Doc: "low count chosen by hand, together with high", Type: doc.Int(0, 1<<20)},
		{Name: "high", Doc: "high count chosen by hand", Type: doc.Int(0, 1<<20)},
		{Name: "asks", Doc: "transactions that the firmware makes again and again, by name: it writes, then reads", Type: doc.MapOf(doc.Map(
			doc.Key{Name: "device", Doc: "the device that it addresses", Type: doc.NameType, Required: true},
			doc.Key{Name: "every", Doc: "time from one to the next", Type: doc.TimeType, Required: true},
			doc.Key{Name: "write", Doc: "bytes to write, in hex", Type: hexType(false)},
			doc.Key{Name: "read", Doc: "number of bytes to read behind them", Type: doc.Int(0, 255), Default: "0"},
		))},
	}, startedKeys...)...), Required: true},
	doc.Key{Name: "supply", Doc: "supply of the lines", Type: scaledType("V", "3.3 V"), Required: true},
	doc.Key{Name: "pull-up", Doc: "pull-up of each line; absent: there is none", Type: scaledType("Ω", "2.2k")},
	doc.Key{Name: "capacitance", Doc: "of the wires of a line, without pins", Type: scaledType("F", "50 pF"), Required: true},
	doc.Key{Name: "fall", Doc: "time in which a line falls", Type: doc.TimeType, Default: "20 ns"},
	busDevice(),
)

func (x *binder) i2cUnit(u *Unit, n *doc.Node) *I2CUnit {
	c := n.Get("counters")
	out := &I2CUnit{
		Counters:    i2c.Counters{Least: number(c.Text("least"), 1), Most: number(c.Text("most"), 1), LowPlus: number(c.Text("low-plus"), 0), HighPlus: number(c.Text("high-plus"), 0), Filter: number(c.Text("filter"), 0)},
		LowRegister: c.Text("low-register"), LowField: c.Text("low-field"), HighRegister: c.Text("high-register"), HighField: c.Text("high-field"),
	}
	if err := out.Check(); err != nil {
		x.fault("bad-counters", c.Place(), "mend least and most", "unit %s: %v", u.Name, err)
	}
	return out
}

func (x *binder) i2c(dir fs.FS, l *Bus, n *doc.Node) *I2C {
	out := &I2C{Fall: 20 * quantity.Nanosecond}
	m := n.Get("mcu")
	out.Wanted, _ = quantity.ParseRate(m.Text("rate"))
	var err error
	if out.Class, err = i2c.ClassFor(out.Wanted); err != nil {
		x.fault("rate-above-classes", m.Get("rate").Place(), "write at most 1 Mbit/s", "%v", err)
		return out
	}
	out.Supply, _ = quantity.ParseScaled(n.Text("supply"), "V")
	out.Wires, _ = quantity.ParseScaled(n.Text("capacitance"), "F")
	if t := n.Text("pull-up"); t != "" {
		out.PullUp, _ = quantity.ParseScaled(t, "Ω")
	}
	if t := n.Text("fall"); t != "" {
		out.Fall, _ = quantity.ParseTime(t)
	}
	out.Load = out.Wires + 10e-12 // the MCU's own pin
	for _, c := range n.Get("devices").All() {
		d := x.loadDevice(dir, &l.Common, c)
		if d == nil {
			continue
		}
		out.Load += d.I2C.Load
		out.Devices = append(out.Devices, &I2CDevice{Name: c.Key, About: d.About, Source: d.Source, End: *d.I2C})
	}
	x.i2cAsks(out, m)
	out.Range, out.NoRange = i2c.PullUpFor(out.Supply, out.Load, out.Class)
	out.Rise = out.Class.Rise
	if out.PullUp > 0 {
		out.Rise = i2c.RiseTime(out.PullUp, out.Load)
	}
	x.i2cCounters(out, l, m)
	l.settings = func() []wish {
		source := "derived"
		if out.Chosen {
			source = "chosen"
		}
		u := l.Unit.I2C
		var ws []wish
		if u.LowRegister != "" && u.LowField != "" {
			ws = append(ws, wish{u.LowRegister + "." + u.LowField, "low", "rate", strconv.Itoa(out.Timing.Low), source})
		}
		if u.HighRegister != "" && u.HighField != "" {
			role := "rate"
			if u.HighRegister != u.LowRegister {
				role = "rate-fine"
			}
			ws = append(ws, wish{u.HighRegister + "." + u.HighField, "high", role, strconv.Itoa(out.Timing.High), source})
		}
		return ws
	}
	return out
}

// i2cAsks reads what the firmware does by itself.
func (x *binder) i2cAsks(out *I2C, m *doc.Node) {
	for _, a := range m.Get("asks").All() {
		ask := I2CAsk{Name: a.Key, Device: a.Text("device"), Read: number(a.Text("read"), 0)}
		ask.Every, _ = quantity.ParseTime(a.Text("every"))
		if t := a.Text("write"); t != "" {
			cells, _ := check.ParseHex(t, false)
			ask.Write = check.Bytes(cells)
		}
		known := false
		for _, d := range out.Devices {
			if d.Name == ask.Device {
				ask.Address, known = d.End.Address, true
			}
		}
		switch {
		case !known:
			x.fault("unknown-device", a.Get("device").Place(), "name one of the bus's devices", "%s is no device on this bus", ask.Device)
		case ask.Every < quantity.Millisecond:
			x.fault("ask-too-fast", a.Get("every").Place(), "write at least 1 ms", "asking every %s", ask.Every)
		case len(ask.Write) == 0 && ask.Read == 0:
			x.fault("ask-empty", a.KeyPlace(), "add `write:` or `read:`", "%s neither writes nor reads", a.Key)
		}
		out.Asks = append(out.Asks, ask)
	}
}

// I2CTiming gives the counts that values of the control registers mean: the inverse
// of Words. What goes into no described field is as it was chosen.
func (l *Bus) I2CTiming(value func(*register.Register) uint64) (i2c.Timing, error) {
	b, u := l.I2C, l.Unit.I2C
	low, high := b.Timing.Low, b.Timing.High
	for _, f := range []struct {
		register, field string
		to              *int
	}{{u.LowRegister, u.LowField, &low}, {u.HighRegister, u.HighField, &high}} {
		if l.registers == nil || f.register == "" || f.field == "" {
			continue
		}
		r, field, err := place(l.registers, f.register+"."+f.field)
		if err != nil {
			return b.Timing, err
		}
		*f.to = int(field.Of(value(r)))
	}
	return u.Timing(l.Unit.Clock.Freq(), b.Wanted, low, high, b.Rise, b.Fall), nil
}

// i2cCounters finds the counts for the rate, or takes those that were chosen.
func (x *binder) i2cCounters(out *I2C, l *Bus, m *doc.Node) {
	u := l.Unit.I2C
	opts, err := u.SolveCounters(l.Unit.Clock.Freq(), out.Wanted, out.Class, min(out.Rise, out.Class.Rise), out.Fall, 8)
	if err != nil {
		x.fault("rate-not-reached", m.Get("rate").Place(), "choose another rate, or another clock for the unit", "%v", err)
		return
	}
	out.Options, out.Timing = opts, opts[0]
	low, high := m.Get("low"), m.Get("high")
	switch {
	case low == nil && high == nil:
		if out.Rise > out.Class.Rise {
			// With slow lines the rate is lower than reckoned.
			out.Timing = u.Timing(l.Unit.Clock.Freq(), out.Wanted, out.Timing.Low, out.Timing.High, out.Rise, out.Fall)
		}
	case low == nil || high == nil:
		x.fault("counts-go-together", m.KeyPlace(), "write low and high, or none of them", "only one of the two counts is given")
	default:
		out.Chosen = true
		lo, hi := number(low.Scalar, 0), number(high.Scalar, 0)
		if lo < u.Least || hi < u.Least || lo > u.Most || hi > u.Most {
			x.fault("count-out-of-range", low.Place(), fmt.Sprintf("write %d to %d", u.Least, u.Most), "counts %d and %d: unit %s has %d to %d", lo, hi, l.Unit.Name, u.Least, u.Most)
			return
		}
		out.Timing = u.Timing(l.Unit.Clock.Freq(), out.Wanted, lo, hi, out.Rise, out.Fall)
	}
}

func (l *Bus) lintI2C() []finding.Finding {
	var out []finding.Finding
	b := l.I2C
	add := func(sev finding.Severity, code string, at *doc.Node, seen, why, change string, fixes ...finding.Fix) {
		place := at.Place()
		if place.Line == 0 {
			place = l.node.KeyPlace()
		}
		out = append(out, finding.Finding{Severity: sev, Code: code, Where: place, Seen: seen, Why: why, Change: change, Fixes: fixes})
	}
	pull := l.node.Get("pull-up")
	fit := func() []finding.Fix {
		if b.NoRange != nil {
			return nil
		}
		v := i2c.Usual(b.Range)
		if v == 0 {
			return nil
		}
		return []finding.Fix{{Label: "pull-up of " + quantity.Scaled(v, "Ω"), Edits: []finding.Edit{{Path: l.path("pull-up"), Value: quantity.Scaled(v, "Ω")}}}}
	}
	switch {
	case b.NoRange != nil:
		add(finding.Error, "no-pull-up-serves", l.node.Get("capacitance"), b.NoRange.Error(), "", "shorten the wires, or take a slower class")
	case b.PullUp == 0:
		add(finding.Error, "pull-up-missing", pull, "the lines have no pull-up", "nothing makes a line high: the bus never leaves low", fmt.Sprintf("fit %.0f to %.0f Ω", b.Range.Least, b.Range.Most), fit()...)
	case b.PullUp > b.Range.Most:
		add(finding.Error, "rise-too-slow", pull, fmt.Sprintf("the lines rise in %s; class %s allows %s", b.Rise.Round(3), b.Class.Name, b.Class.Rise), fmt.Sprintf("a pull-up of %s with %s is too weak", quantity.Scaled(b.PullUp, "Ω"), quantity.Scaled(b.Load, "F")), fmt.Sprintf("fit %.0f to %.0f Ω, or shorten the wires", b.Range.Least, b.Range.Most), fit()...)
	case b.PullUp < b.Range.Least:
		add(finding.Error, "pull-up-too-strong", pull, fmt.Sprintf("a pull-up of %s asks the outputs to sink %.1f mA; they are bound to %g mA", quantity.Scaled(b.PullUp, "Ω"), 1e3*(b.Supply-b.Class.Output)/b.PullUp, 1e3*b.Class.Sink), "the low level may stay too high", fmt.Sprintf("fit %.0f to %.0f Ω", b.Range.Least, b.Range.Most), fit()...)
	}
	for _, d := range b.Devices {
		if b.Timing.Rate > d.End.Most {
			add(finding.Error, "bus-too-fast-for-device", l.node.Get("mcu", "rate"), fmt.Sprintf("%s: %s, %s stands %s", l.Name, b.Timing.Rate.BitRate(), d.Name, d.End.Most.BitRate()), "it loses bits or the whole bus", "run the bus as fast as the slowest device",
				finding.Fix{Label: "rate " + d.End.Most.BitRate(), Edits: []finding.Edit{{Path: l.path("mcu", "rate"), Value: d.End.Most.String()}}})
		}
	}
	for i, d := range b.Devices {
		for _, e := range b.Devices[:i] {
			if d.End.Address == e.End.Address {
				add(finding.Error, "address-twice", l.node.Get("devices", d.Name), fmt.Sprintf("%s and %s both have address %02X (%02X, %02X on the wire)", e.Name, d.Name, d.End.Address, d.End.Address<<1, d.End.Address<<1|1), "both answer at once", "change the straps of one")
			}
		}
		if a := d.End.Address; a < 0x08 || a > 0x77 {
			add(finding.Warning, "address-reserved", l.node.Get("devices", d.Name), fmt.Sprintf("%s: address %02X is reserved", d.Name, a), "other uses of the bus have it", "write the 7-bit address, without the read bit")
		}
	}
	if t := b.Timing; b.Chosen && (t.LowTime < b.Class.Low || t.HighTime < b.Class.High) {
		add(finding.Error, "clock-phase-too-short", l.node.Get("mcu", "low"), fmt.Sprintf("low %s, high %s; class %s wants %s and %s", t.LowTime.Round(4), t.HighTime.Round(4), b.Class.Name, b.Class.Low, b.Class.High), "devices may miss the clock", "take the counts that are found",
			finding.Fix{Label: fmt.Sprintf("low %d, high %d", b.Options[0].Low, b.Options[0].High), Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("mcu", "low")}, {Op: finding.Delete, Path: l.path("mcu", "high")}}})
	}
	return out
}

func (b *I2C) derivations() []finding.Derivation {
	return []finding.Derivation{b.Timing.Derivation(b.Rise, b.Fall), i2c.PullUpDerivation(b.Supply, b.Load, b.Class, b.Range)}
}
