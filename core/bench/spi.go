package bench

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/transfer"
)

// SPIUnit is how a unit makes the clock of an spi bus.
type SPIUnit struct {
	spi.Unit
	Register, Field string // take the divider
}

// SPI is an spi bus with its devices.
type SPI struct {
	*Link
	Clocking *SPIUnit
	Devices  []*SPIDevice
	Asks     []BusAsk // what the firmware does again and again
}

// SPIDevice is one device on an spi bus, with both ends' settings.
type SPIDevice struct {
	Name, About, Source string
	MCU                 spi.Settings // as the firmware sets the unit for this device
	End                 spi.End      // as the device wants it
	Margins             []spi.Margin // all dividers, the fastest first
	Margin              spi.Margin   // that of the divider in use
	Chosen              bool         // the divider was chosen by hand
	// Lead, Lag and Idle are the times that the firmware gives select.
	Lead, Lag, Idle quantity.Time
	// ByHand: the firmware moves select itself, not the unit; Release says when it lets
	// it go.
	ByHand    bool
	Release   Release
	NoDivider bool // no divider serves; Margin is the slowest
	Part      *device.Device
}

// Release says when firmware lets select go that moves it by hand.
type Release string

// The moments.
const (
	WhenSent  Release = "sent"  // behind the last bit
	WhenEmpty Release = "empty" // when the last word has gone from the register: too early
	Never     Release = "never"
)

// Words says when that is.
func (r Release) Words() string {
	switch r {
	case WhenEmpty:
		return "released when the register is empty, a word too early"
	case Never:
		return "never released"
	}
	return "released when the last bit is sent"
}

// WordTime is the time of a word at the divider in use.
func (d *SPIDevice) WordTime() quantity.Time {
	return quantity.Time(float64(d.MCU.Word) * 1e12 / d.Margin.Rate.Hz())
}

var spiKind = kind{
	bus: spi.Kind,
	unit: func() []doc.Key {
		return []doc.Key{
			{Name: "prescaler", Doc: "what the unit can divide its clock by", Type: doc.Map(
				doc.Key{Name: "values", Doc: "the dividers, as [2, 4, 8]", Type: doc.ListOf(doc.Int(1, 1<<20), 1), Required: true},
				doc.Key{Name: "register", Doc: "register that takes the choice", Type: doc.NameType},
				doc.Key{Name: "field", Doc: "its bit field; its meanings are the dividers", Type: doc.NameType},
			), Required: true},
			{Name: "set-up", Doc: "time that the unit's input stands still before it is sampled", Type: doc.TimeType, Default: "0 ns"},
			{Name: "hold", Doc: "time that it stands still after", Type: doc.TimeType, Default: "0 ns"},
		}
	},
	controls: func() []doc.Key {
		return []doc.Key{
			{Name: "clock-idle", Doc: "level at which the clock rests: low, high", Type: fieldType},
			{Name: "sample-edge", Doc: "edge of each clock period that samples: first, second", Type: fieldType},
			{Name: "order", Doc: "which bit comes first: msb, lsb", Type: fieldType},
			{Name: "word", Doc: "bits per word, as 8", Type: fieldType},
		}
	},
	mcu: func() []doc.Key { return []doc.Key{asksKey()} },
	link: func() []doc.Key {
		return []doc.Key{transactionChecks(spi.Kind), devicesKey(
			doc.Key{Name: "mcu", Doc: "the MCU's settings for this device; absent: those that the device wants", Type: doc.Map(
				doc.Key{Name: "mode", Doc: "clock idle level and sampling edge, 0 to 3", Type: doc.OneOf(0, 1, 2, 3)},
				doc.Key{Name: "word", Doc: "bits per word, 4 to 32", Type: doc.Int(4, 32)},
				doc.Key{Name: "order", Doc: "which bit comes first", Type: doc.Enum("msb", "lsb")},
				doc.Key{Name: "divider", Doc: "divider chosen by hand; absent: the fastest that the device stands", Type: doc.Int(1, 1<<20)},
				doc.Key{Name: "lead", Doc: "time from select to the first edge; absent: half a period", Type: doc.TimeType},
				doc.Key{Name: "lag", Doc: "time from the last edge to release; absent: half a period", Type: doc.TimeType},
				doc.Key{Name: "idle", Doc: "time between two transfers; absent: a period", Type: doc.TimeType},
				doc.Key{Name: "wires", Doc: "data lines of the unit: 2, or 1 that serves both directions", Type: doc.OneOf(2, 1)},
				doc.Key{Name: "select", Doc: "who moves select: the unit, or the firmware by hand", Type: doc.Enum("unit", "hand"), Default: "unit"},
				doc.Key{Name: "release", Doc: "of a select moved by hand: it is released when the last bit is sent, when the register is empty (a word too early), or never", Type: doc.Enum(string(WhenSent), string(WhenEmpty), string(Never)), Default: string(WhenSent)},
				doc.Key{Name: "source", Doc: "document and page, or who chose it", Type: doc.AnyText},
			)},
		)}
	},
	clocking: func(_ *binder, u *Unit, n *doc.Node) any {
		p := n.Get("prescaler")
		out := &SPIUnit{Register: p.Text("register"), Field: p.Text("field")}
		out.Dividers = doc.List[int](p, "values")
		slices.Sort(out.Dividers)
		out.SetUp, out.Hold = doc.Of[quantity.Time](n, "set-up"), doc.Of[quantity.Time](n, "hold")
		if u.Clock != nil {
			out.Clock = u.Clock.Freq()
		}
		return out
	},
	model:  func(x *binder, l *Link, n *doc.Node) Model { return x.spi(l, n) },
	stream: spiStream,
	check:  (*binder).transactionCheck,
}

func (x *binder) spi(l *Link, n *doc.Node) Model {
	out := &SPI{Link: l, Clocking: l.Unit.Clocking.(*SPIUnit)}
	parts, nodes := x.devices(l, n)
	for i, d := range parts {
		c := nodes[i]
		end := d.End.(spi.End)
		s := &SPIDevice{Name: c.Key, About: d.About, Source: d.Source, MCU: end.Settings, End: end, Part: d}
		m := c.Map("mcu")
		if m.Get("mode") != nil {
			s.MCU = s.MCU.WithMode(doc.Of[int](m, "mode"))
		}
		if m.Get("word") != nil {
			s.MCU.Word = doc.Of[int](m, "word")
		}
		if t := m.Text("order"); t != "" {
			s.MCU.LSBFirst = t == "lsb"
		}
		switch doc.Of[int](m, "wires") {
		case 1:
			if s.MCU.Shared = true; s.MCU.Turn == 0 {
				s.MCU.Turn = s.MCU.Word
			}
		case 2:
			s.MCU.Shared, s.MCU.Turn, s.MCU.TurnIf = false, 0, ""
		}
		s.ByHand, s.Release = doc.Of[string](m, "select") == "hand", Release(doc.Of[string](m, "release"))
		if r := m.Get("release"); r != nil && !s.ByHand {
			x.fault("release-by-unit", r.Place(), "write select: hand too, or take release away", "%s: the unit moves its select, so that it says when it is released", s.Name)
		}
		margins, err := out.Clocking.Margins(s.End.Part)
		if err != nil {
			x.fault("bad-prescaler", l.unitNode.Get("prescaler").Place(), "correct the dividers", "unit %s: %v", l.Unit.Name, err)
			continue
		}
		s.Margins = margins
		meant := out.Clocking.Unit
		meant.Clock = l.Unit.Clock.Meant()
		s.Margin, s.NoDivider = margins[len(margins)-1], true
		if choices, err := meant.Margins(s.End.Part); err == nil {
			if i := slices.IndexFunc(choices, func(mg spi.Margin) bool { return mg.Refused == "" }); i >= 0 {
				s.Margin, s.NoDivider = margins[i], false
			}
		}
		if t := m.Get("divider"); t != nil {
			s.Chosen = true
			i := slices.IndexFunc(margins, func(mg spi.Margin) bool { return mg.Divider == doc.As[int](t) })
			if i < 0 {
				x.fault("divider-not-there", t.Place(), fmt.Sprintf("unit %s has %v", l.Unit.Name, out.Clocking.Dividers), "unit %s can't divide by %s", l.Unit.Name, t.Scalar)
				continue
			}
			s.Margin, s.NoDivider = margins[i], false
		}
		period := quantity.Time(1e12 / s.Margin.Rate.Hz())
		s.Lead, s.Lag, s.Idle = period/2, period/2, period
		for key, to := range map[string]*quantity.Time{"lead": &s.Lead, "lag": &s.Lag, "idle": &s.Idle} {
			if m.Get(key) != nil {
				*to = doc.Of[quantity.Time](m, key)
			}
		}
		out.Devices = append(out.Devices, s)
		l.Ends = append(l.Ends, End{Name: s.Name, About: s.About, Source: s.Source, Settings: s.End.Settings, Toward: s.MCU, Part: d})
	}
	if len(n.Get("devices").All()) == 0 {
		x.noDevices(n)
	}
	if len(out.Devices) == 0 {
		return nil
	}
	out.Asks = x.asks(l, n.Get("mcu"), func(text string) error {
		_, _, err := spi.ParseWords(text, len(out.Devices), func(i int) int { return out.Devices[i].MCU.Word })
		return err
	})
	return out
}

// Compare lists the settings in which the MCU's unit and the device with the index differ.
func (l *SPI) Compare(dev int) []bus.Difference {
	d := l.Devices[dev]
	return spi.Compare(d.MCU, d.End.Settings, "MCU", d.Name)
}

// FromRegisters gives the settings and the divider that values of the control registers
// mean: the inverse of the words for the first device. It is false where the board does
// not describe them all, or where they mean none.
func (l *SPI) FromRegisters(value func(*register.Register) uint64) (s spi.Settings, divider int, ok bool) {
	u := l.Clocking
	if l.registers == nil || u.Register == "" || u.Field == "" {
		return s, 0, false
	}
	word := func(where string) (string, bool) {
		r, f, err := place(l.registers, where)
		if err != nil {
			return "", false
		}
		return f.Meaning(f.Of(value(r))), true
	}
	text, ok := word(u.Register + "." + u.Field)
	divider, err := strconv.Atoi(text)
	if !ok || err != nil || divider < 1 {
		return s, 0, false
	}
	s = l.Devices[0].MCU
	for name, set := range map[string]func(string){
		"clock-idle":  func(w string) { s.ClockIdleHigh = w == "high" },
		"sample-edge": func(w string) { s.SampleSecond = w == "second" },
		"order":       func(w string) { s.LSBFirst = w == "lsb" },
		"word": func(w string) {
			if n, err := strconv.Atoi(w); err == nil {
				s.Word = n
			}
		},
	} {
		if where := l.Unit.Control[name]; where != "" {
			if w, known := word(where); known {
				set(w)
			}
		}
	}
	return s, divider, s.Check() == nil
}

// Bit implements Model.
func (l *SPI) Bit() quantity.Time { return quantity.Time(1e12 / l.Devices[0].Margin.Rate.Hz()) }

// BitTo is a bit while the MCU talks to the device with the index.
func (l *SPI) BitTo(dev int) quantity.Time {
	return quantity.Time(1e12 / l.Devices[min(max(dev, 0), len(l.Devices)-1)].Margin.Rate.Hz())
}

// Short implements Model.
func (l *SPI) Short() string { return l.Devices[0].MCU.Describe() + " for " + l.Devices[0].Name }

// Tap implements Model: what a device sees and says is read as it does.
func (l *SPI) Tap() []bus.Settings {
	out := []bus.Settings{l.Devices[0].End.Settings}
	for _, d := range l.Devices {
		out = append(out, d.End.Settings)
	}
	return out
}

func (l *SPI) sourced() []Sourced {
	var out []Sourced
	for _, d := range l.Devices {
		out = append(out, Sourced{"links." + l.Name + ".devices: " + d.Name, "to " + d.End.Most.String() + ", " + d.End.Settings.Describe(), d.Source, IsCopied, 0})
		if !d.Chosen {
			out = append(out, Sourced{"links." + l.Name + ".devices: " + d.Name + " divider", fmt.Sprint(d.Margin.Divider), "", IsDerived, 0})
		}
	}
	return out
}

// wishes are the settings of the unit while it talks to a device.
func (l *SPI) wishes(dev int) []wish {
	d := l.Devices[min(dev, len(l.Devices)-1)]
	idle, edge, order := "low", "first", "msb"
	if d.MCU.ClockIdleHigh {
		idle = "high"
	}
	if d.MCU.SampleSecond {
		edge = "second"
	}
	if d.MCU.LSBFirst {
		order = "lsb"
	}
	var out []wish
	for _, c := range []struct{ name, word string }{{"clock-idle", idle}, {"sample-edge", edge}, {"order", order}, {"word", strconv.Itoa(d.MCU.Word)}} {
		if where := l.Unit.Control[c.name]; where != "" {
			out = append(out, wish{where, c.name, "frame", c.word, "chosen"})
		}
	}
	if u := l.Clocking; u.Register != "" && u.Field != "" {
		source := "derived"
		if d.Chosen {
			source = "chosen"
		}
		out = append(out, wish{u.Register + "." + u.Field, "rate", "rate", strconv.Itoa(d.Margin.Divider), source})
	}
	return out
}

func (l *SPI) lint() []finding.Finding {
	var out []finding.Finding
	for i, d := range l.Devices {
		path := func(keys ...string) []string { return append([]string{"links", l.Name, "devices", d.Name}, keys...) }
		at := l.node.Get("devices", d.Name)
		place := func(key string) finding.Place {
			if n := at.Get("mcu", key); n != nil {
				return n.Place()
			}
			return at.KeyPlace()
		}
		out = append(out, l.frames(i, path, place("mode"))...)
		if d.Margin.Refused != "" {
			f := finding.Finding{
				Severity: finding.Error, Code: "clock-too-fast-for-device", Where: place("divider"),
				Seen: fmt.Sprintf("%s at ÷%d (%s): %s", d.Name, d.Margin.Divider, d.Margin.Rate.Round(4), d.Margin.Refused),
				Why:  "bits are sampled before they stand, or the device misses edges", Change: "choose a larger divider",
			}
			if best, err := l.Clocking.Best(d.End.Part); err == nil && d.Chosen {
				f.Fixes = []finding.Fix{{Label: fmt.Sprintf("÷%d for %s, %s", best.Divider, d.Name, best.Rate.Round(4)), Edits: []finding.Edit{{Op: finding.Delete, Path: path("mcu", "divider")}}}}
			} else if d.NoDivider {
				f.Change = "no divider of the unit serves: take a slower clock, or another unit"
			}
			out = append(out, f)
		}
		out = append(out, l.releases(d, path, place("release"))...)
		for _, t := range []struct {
			key, what, why string
			has, wants     quantity.Time
		}{
			{"lead", "from select to the first edge", "the device is not listening yet and misses the first bit", d.Lead, d.End.Lead},
			{"lag", "from the last edge to release", "the last bit may be lost, or the transfer not taken over", d.Lag, d.End.Lag},
			{"idle", "between two transfers", "the device takes two transfers for one", d.Idle, d.End.Idle},
		} {
			if t.has >= t.wants {
				continue
			}
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "select-" + t.key + "-too-short", Where: place(t.key),
				Seen: fmt.Sprintf("%s: %s pass %s, it wants %s", d.Name, t.what, t.has.Round(3), t.wants), Why: t.why,
				Change: "give it that time",
				Fixes:  []finding.Fix{{Label: fmt.Sprintf("%s of %s for %s", t.key, t.wants, d.Name), Edits: []finding.Edit{{Path: path("mcu", t.key), Value: t.wants.String()}}}},
			})
		}
	}
	return out
}

// releases looks at when a select that is moved by hand is let go.
func (l *SPI) releases(d *SPIDevice, path func(...string) []string, at finding.Place) []finding.Finding {
	f := finding.Finding{
		Severity: finding.Error, Where: at, Change: "wait until the last bit is sent, then let select go",
		Fixes: []finding.Fix{{Label: "let " + d.Name + " go when the last bit is sent", Edits: []finding.Edit{{Path: path("mcu", "release"), Value: string(WhenSent)}}}},
	}
	switch d.Release {
	case WhenEmpty:
		f.Code, f.Seen = "select-let-go-early", d.Name+": the firmware lets select go when the register is empty"
		f.Why = "the last word is still on its way then, bit by bit: the device does not get it"
	case Never:
		f.Code, f.Seen = "select-never-let-go", d.Name+": the firmware never lets its select go"
		f.Why = "it takes all transfers for one, and listens and answers while others are meant"
	default:
		return nil
	}
	return []finding.Finding{f}
}

// frames compares both ends' frames.
func (l *SPI) frames(dev int, path func(...string) []string, at finding.Place) []finding.Finding {
	d := l.Devices[dev]
	diffs := l.Compare(dev)
	if len(diffs) == 0 {
		return nil
	}
	f := finding.Finding{Severity: finding.Error, Code: diffs[0].Code, Where: at, Change: "set the MCU as the device wants it"}
	var what, why []string
	for _, x := range diffs {
		what = append(what, x.What)
		why = append(why, x.Effects...)
	}
	f.Seen, f.Why = d.Name+": "+strings.Join(what, "; "), strings.Join(why, "; ")
	var edits []finding.Edit
	want := map[string]string{}
	if d.MCU.Mode() != d.End.Mode() {
		want["mode"] = strconv.Itoa(d.End.Mode())
	}
	if d.MCU.Word != d.End.Word {
		want["word"] = strconv.Itoa(d.End.Word)
	}
	if d.MCU.Shared != d.End.Shared {
		want["wires"] = map[bool]string{true: "1", false: "2"}[d.End.Shared]
	}
	if d.MCU.LSBFirst != d.End.LSBFirst {
		want["order"] = map[bool]string{true: "lsb", false: "msb"}[d.End.LSBFirst]
	}
	for _, key := range []string{"mode", "word", "order", "wires"} {
		if v := want[key]; v != "" {
			edits = append(edits, finding.Edit{Path: path("mcu", key), Value: v})
		}
	}
	if len(edits) > 0 {
		f.Fixes = []finding.Fix{{Label: "MCU to " + d.End.Settings.Describe() + " for " + d.Name, Edits: edits}}
	}
	return []finding.Finding{f}
}

// Derivations implements Model.
func (l *SPI) Derivations(dev int) []finding.Derivation {
	d := l.Devices[min(dev, len(l.Devices)-1)]
	half := quantity.Time(1e12 / d.Margin.Rate.Hz() / 2)
	return []finding.Derivation{{
		Name: "time left before the MCU samples", Formula: "half a period - valid - set-up of the MCU",
		Inputs: []finding.Input{
			{Symbol: "half", Name: "half a period at ÷" + strconv.Itoa(d.Margin.Divider), Value: half.Round(4)},
			{Symbol: "valid", Name: "until the output of " + d.Name + " stands", Value: d.End.Valid.String(), Source: d.Source},
			{Symbol: "set-up", Name: "of the MCU's input", Value: (half - d.End.Valid - d.Margin.Read).String()},
		},
		Worked: fmt.Sprintf("%s - %s - %s", half.Round(4), d.End.Valid, (half - d.End.Valid - d.Margin.Read).Round(4)), Result: d.Margin.Read.Round(4),
		Source: "docs/formulas.md, SPI dividers",
	}, l.Unit.Clock.Derivation()}
}

// spiStream: a word, both ways at once while a select is held.
func spiStream(l *Link, _ bool) transfer.Stream {
	d := l.Model.(*SPI).Devices[0]
	return transfer.Stream{Bits: d.MCU.Word, WordBits: float64(d.MCU.Word), Rate: quantity.FromBd(d.Margin.Rate.Hz()), Duplex: true, Selects: true}
}
