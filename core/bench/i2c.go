package bench

import (
	"fmt"
	"math"
	"strconv"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/transfer"
)

// I2CUnit is how a unit makes the clock of an i2c bus.
type I2CUnit struct {
	i2c.Counters
	LowRegister, LowField, HighRegister, HighField string
}

// I2C is an i2c bus with its devices.
type I2C struct {
	*Link
	Clocking *I2CUnit
	Wanted   quantity.Rate
	Class    i2c.Class
	Supply   float64 // volt
	PullUp   float64 // ohm; 0: there is none
	Wires    float64 // capacitance of the wires alone, farad
	Load     float64 // with all pins
	Fall     quantity.Time
	Rise     quantity.Time
	Range    i2c.PullUp // what the pull-up may be
	NoRange  error      // nothing serves
	Options  []i2c.Timing
	Timing   i2c.Timing
	Chosen   bool
	Devices  []*I2CDevice
	Asks     []BusAsk // what the firmware does again and again
	// Stretch and Stuck are how long the unit waits for a clock that is held low, and
	// for data that are, before it ends the transaction or frees the bus; 0: for ever.
	Stretch, Stuck quantity.Time
}

// I2CDevice is one device on an i2c bus.
type I2CDevice struct {
	Name, About, Source string
	End                 i2c.End
	// Strapped is the address that the part really has.
	Strapped i2c.Address
	Part     *device.Device
}

func scaledType(unit, example string) *doc.Type {
	return doc.Scalar("a value in "+unit+", as "+example, func(s string) (float64, error) { return quantity.ParseScaled(s, unit) })
}

var i2cKind = kind{
	bus: i2c.Kind,
	unit: func() []doc.Key {
		return []doc.Key{
			{Name: "counters", Doc: "how the unit counts its clock for the low and the high time", Type: doc.Map(
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
		}
	},
	mcu: func() []doc.Key {
		return []doc.Key{
			{Name: "rate", Doc: "bit rate that is wanted, never exceeded", Type: doc.RateType, Required: true},
			{Name: "stretch", Doc: "how long the unit waits for a clock that a device holds low; absent: for ever", Type: doc.TimeType},
			{Name: "stuck", Doc: "how long data may be held low on a quiet bus before the unit sends clocks to free it; absent: it never does", Type: doc.TimeType},
			{Name: "low", Doc: "low count chosen by hand, together with high", Type: doc.Int(0, 1<<20)},
			{Name: "high", Doc: "high count chosen by hand", Type: doc.Int(0, 1<<20)},
			asksKey(),
		}
	},
	link: func() []doc.Key {
		return []doc.Key{
			{Name: "supply", Doc: "supply of the lines", Type: scaledType("V", "3.3 V"), Required: true},
			{Name: "pull-up", Doc: "pull-up of each line; absent: there is none", Type: scaledType("Ω", "2.2k")},
			{Name: "capacitance", Doc: "of the wires of a line, without pins", Type: scaledType("F", "50 pF"), Required: true},
			{Name: "fall", Doc: "time in which a line falls", Type: doc.TimeType, Default: "20 ns"},
			devicesKey(doc.Key{Name: "address", Doc: "address at which this very part is reached, where its straps make it another than that of its file", Type: i2c.AddressType},
				doc.Key{Name: "strapped", Doc: "address that the straps of this very part give, where it is not that of its file", Type: i2c.AddressType}),
			transactionChecks(i2c.Kind),
		}
	},
	clocking: func(x *binder, u *Unit, n *doc.Node) any {
		c := n.Get("counters")
		out := &I2CUnit{
			Counters: i2c.Counters{
				Least: doc.Of[int](c, "least"), Most: doc.Of[int](c, "most"), LowPlus: doc.Of[int](c, "low-plus"), HighPlus: doc.Of[int](c, "high-plus"), Filter: doc.Of[int](c, "filter"),
			},
			LowRegister: c.Text("low-register"), LowField: c.Text("low-field"), HighRegister: c.Text("high-register"), HighField: c.Text("high-field"),
		}
		if err := out.Check(); err != nil {
			x.fault("bad-counters", c.Place(), "fix least and most", "unit %s: %v", u.Name, err)
		}
		return out
	},
	model:  func(x *binder, l *Link, n *doc.Node) Model { return x.i2c(l, n) },
	stream: i2cStream,
	check:  (*binder).transactionCheck,
}

func (x *binder) i2c(l *Link, n *doc.Node) Model {
	m := n.Get("mcu")
	out := &I2C{
		Link: l, Clocking: l.Unit.Clocking.(*I2CUnit), Wanted: doc.Of[quantity.Rate](m, "rate"), Supply: doc.Of[float64](n, "supply"), Wires: doc.Of[float64](n, "capacitance"),
		PullUp: doc.Of[float64](n, "pull-up"), Fall: doc.Of[quantity.Time](n, "fall"), Stretch: doc.Of[quantity.Time](m, "stretch"), Stuck: doc.Of[quantity.Time](m, "stuck"),
	}
	var err error
	if out.Class, err = i2c.ClassFor(out.Wanted); err != nil {
		x.fault("rate-above-classes", m.Get("rate").Place(), "write at most 1 Mbit/s", "%v", err)
		return nil
	}
	out.Load = out.Wires + 10e-12 // the MCU's own pin
	own := i2c.Settings{Stuck: stuckAfter}
	l.Ends[0].Settings, l.Ends[0].Toward = own, own
	parts, nodes := x.devices(l, n)
	for i, d := range parts {
		if a := nodes[i].Get("address"); a != nil {
			d = x.kept.part(part{d, nodes[i].Key, a.Scalar}, func(d *device.Device) { d.End = d.End.(i2c.End).At(doc.As[i2c.Address](a)) })
		}
		end := d.End.(i2c.End)
		out.Load += end.Load
		out.Devices = append(out.Devices, &I2CDevice{Name: nodes[i].Key, About: d.About, Source: d.Source, End: end, Strapped: end.Address, Part: d})
		if s := nodes[i].Get("strapped"); s != nil {
			out.Devices[len(out.Devices)-1].Strapped = doc.As[i2c.Address](s)
		}
		l.Ends = append(l.Ends, End{Name: nodes[i].Key, About: d.About, Source: d.Source, Settings: own, Toward: own, Part: d})
	}
	if len(n.Get("devices").All()) == 0 {
		x.noDevices(n)
	}
	out.Asks = x.asks(l, m, func(text string) error {
		_, err := i2c.ParseTransaction(text)
		return err
	})
	out.Range, out.NoRange = i2c.PullUpFor(out.Supply, out.Load, out.Class)
	out.Rise = out.Class.Rise
	if out.PullUp > 0 {
		out.Rise = i2c.RiseTime(out.PullUp, out.Load)
	}
	x.i2cCounters(out, m)
	return out
}

// stuckAfter is how long a line is held low until an ideal tap says that it is stuck.
const stuckAfter = 25 * quantity.Millisecond

// Bit implements Model.
func (l *I2C) Bit() quantity.Time { return l.Timing.Time }

// Short implements Model.
func (l *I2C) Short() string { return l.Wanted.BitRate() }

// Tap implements Model: the clock line says all that there is to know.
func (l *I2C) Tap() []bus.Settings { return []bus.Settings{l.Ends[0].Settings} }

func (l *I2C) wishes(int) []wish {
	source := "derived"
	if l.Chosen {
		source = "chosen"
	}
	u := l.Clocking
	var ws []wish
	if u.LowRegister != "" && u.LowField != "" {
		ws = append(ws, wish{u.LowRegister + "." + u.LowField, "low", "rate", strconv.Itoa(l.Timing.Low), source})
	}
	if u.HighRegister != "" && u.HighField != "" {
		role := "rate"
		if u.HighRegister != u.LowRegister {
			role = "rate-fine"
		}
		ws = append(ws, wish{u.HighRegister + "." + u.HighField, "high", role, strconv.Itoa(l.Timing.High), source})
	}
	return ws
}

func (l *I2C) sourced() []Sourced {
	var out []Sourced
	for _, d := range l.Devices {
		out = append(out, Sourced{"links." + l.Name + ".devices: " + d.Name, fmt.Sprintf("%s, to %s", d.End.Address, d.End.Most.BitRate()), d.Source, IsCopied, 0})
	}
	if !l.Chosen {
		out = append(out, Sourced{"links." + l.Name + ".mcu: counts", fmt.Sprintf("low %d, high %d", l.Timing.Low, l.Timing.High), "", IsDerived, 0})
	}
	return out
}

// FromRegisters gives the counts that values of the control registers mean: the inverse
// of Words. What goes into no described field is as it was chosen.
func (l *I2C) FromRegisters(value func(*register.Register) uint64) (i2c.Timing, error) {
	u := l.Clocking
	low, high := l.Timing.Low, l.Timing.High
	for _, f := range []struct {
		register, field string
		to              *int
	}{{u.LowRegister, u.LowField, &low}, {u.HighRegister, u.HighField, &high}} {
		if l.registers == nil || f.register == "" || f.field == "" {
			continue
		}
		r, field, err := place(l.registers, f.register+"."+f.field)
		if err != nil {
			return l.Timing, err
		}
		*f.to = int(field.Of(value(r)))
	}
	return u.Timing(l.Unit.Clock.Freq(), l.Wanted, low, high, l.Rise, l.Fall), nil
}

// i2cCounters finds the counts for the rate, or takes those that were chosen.
func (x *binder) i2cCounters(out *I2C, m *doc.Node) {
	l, u := out.Link, out.Clocking
	freq := l.Unit.Clock.Freq()
	opts, err := u.SolveCounters(l.Unit.Clock.Meant(), out.Wanted, out.Class, min(out.Rise, out.Class.Rise), out.Fall, 8)
	if err != nil {
		x.fault("rate-not-reached", m.Get("rate").Place(), "choose another rate, or another clock for the unit", "%v", err)
		return
	}
	for i, o := range opts {
		opts[i] = u.Timing(freq, out.Wanted, o.Low, o.High, out.Rise, out.Fall)
	}
	out.Options, out.Timing = opts, opts[0]
	low, high := m.Get("low"), m.Get("high")
	switch {
	case low == nil && high == nil:
	case low == nil || high == nil:
		x.fault("counts-go-together", m.KeyPlace(), "write low and high, or none of them", "only one of the two counts is given")
	default:
		out.Chosen = true
		lo, hi := doc.As[int](low), doc.As[int](high)
		if lo < u.Least || hi < u.Least || lo > u.Most || hi > u.Most {
			x.fault("count-out-of-range", low.Place(), fmt.Sprintf("write %d to %d", u.Least, u.Most), "counts %d and %d: unit %s has %d to %d", lo, hi, l.Unit.Name, u.Least, u.Most)
			return
		}
		out.Timing = u.Timing(freq, out.Wanted, lo, hi, out.Rise, out.Fall)
	}
}

func (b *I2C) lint() []finding.Finding {
	var out []finding.Finding
	l := b.Link
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
	for _, d := range b.Devices {
		if d.Strapped != d.End.Address {
			add(finding.Error, "strap-differs", l.node.Get("devices", d.Name, "strapped"), fmt.Sprintf("%s: the MCU addresses %s, the straps give %s", d.Name, d.End.Address, d.Strapped), "it does not acknowledge", "change the straps, or the address in "+d.Part.File,
				finding.Fix{Label: "straps to " + d.End.Address.String(), Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("devices", d.Name, "strapped")}}})
		}
	}
	for i, d := range b.Devices {
		for _, e := range b.Devices[:i] {
			switch at := l.node.Get("devices", d.Name); {
			case d.Strapped == e.Strapped:
				add(finding.Error, "address-twice", at, fmt.Sprintf("%s and %s both have address %s (%s)", e.Name, d.Name, d.Strapped, d.Strapped.OnWire()), "both answer at once", "change the straps of one, and write its `address:` beside its file")
			case d.End.Address == e.End.Address:
				add(finding.Error, "address-twice", at, fmt.Sprintf("the MCU asks for %s and %s at the same address %s (%s)", e.Name, d.Name, d.End.Address, d.End.Address.OnWire()), "one of them is never reached", "write its `address:` beside the file of one")
			}
		}
		if a := d.End.Address; !a.Ten() && (a < 0x08 || a > 0x77) {
			add(finding.Warning, "address-reserved", l.node.Get("devices", d.Name), fmt.Sprintf("%s: address %s is reserved", d.Name, a), "other uses of the bus have it", "write the 7-bit address, without the read bit")
		}
	}
	if off := b.Timing.Rate.Bd()/b.Wanted.Bd() - 1; b.Chosen && math.Abs(off) > 0.02 {
		sev, why := finding.Warning, "every transaction takes longer than it is planned for"
		if off > 0 {
			sev, why = finding.Error, "the rate that is wanted is never to be exceeded: a device may lose bits"
		}
		add(sev, "chosen-counts-off", l.node.Get("mcu", "low"), fmt.Sprintf("low %d and high %d give %s, %s from the wanted %s", b.Timing.Low, b.Timing.High, b.Timing.Rate.BitRate(), clock.Percent(off), b.Wanted.BitRate()), why, "take the counts that are found, or another rate",
			finding.Fix{Label: fmt.Sprintf("low %d, high %d", b.Options[0].Low, b.Options[0].High), Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("mcu", "low")}, {Op: finding.Delete, Path: l.path("mcu", "high")}}})
	}
	if t := b.Timing; b.Chosen && (t.LowTime < b.Class.Low || t.HighTime < b.Class.High) {
		add(finding.Error, "clock-phase-too-short", l.node.Get("mcu", "low"), fmt.Sprintf("low %s, high %s; class %s wants %s and %s", t.LowTime.Round(4), t.HighTime.Round(4), b.Class.Name, b.Class.Low, b.Class.High), "devices may miss the clock", "take the counts that are found",
			finding.Fix{Label: fmt.Sprintf("low %d, high %d", b.Options[0].Low, b.Options[0].High), Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("mcu", "low")}, {Op: finding.Delete, Path: l.path("mcu", "high")}}})
	}
	return out
}

// Derivations implements Model.
func (b *I2C) Derivations(int) []finding.Derivation {
	return []finding.Derivation{b.Timing.Derivation(b.Rise, b.Fall), i2c.PullUpDerivation(b.Supply, b.Load, b.Class, b.Range), b.Unit.Clock.Derivation()}
}

// i2cStream: a byte and its acknowledge bit; the unit holds the clock for a late reader.
func i2cStream(l *Link, _ bool) transfer.Stream {
	return transfer.Stream{Bits: 8, WordBits: 9, Rate: quantity.FromBd(1 / l.Model.Bit().Seconds()), Held: true}
}
