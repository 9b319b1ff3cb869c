package bench

import (
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"gavrix/core/bus/spi"
	"gavrix/core/doc"
	"gavrix/core/finding"
	"gavrix/core/quantity"
)

// SPIUnit is how a unit makes the clock of an spi bus.
type SPIUnit struct {
	spi.Unit
	Register, Field string // take the divider
}

// SPI is an spi bus with its devices.
type SPI struct{ Devices []*SPIDevice }

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
	NoDivider       bool // no divider serves; Margin is the slowest
}

// WordTime is the time of a word at the divider in use.
func (d *SPIDevice) WordTime() quantity.Time {
	return quantity.Time(float64(d.MCU.Word) * 1e12 / d.Margin.Rate.Hz())
}

var spiUnit = doc.Map(
	doc.Key{Name: "prescaler", Doc: "what the unit can divide its clock by", Type: doc.Map(
		doc.Key{Name: "values", Doc: "the dividers, as [2, 4, 8]", Type: doc.ListOf(doc.Int(1, 1<<20), 1), Required: true},
		doc.Key{Name: "register", Doc: "register that takes the choice", Type: doc.NameType},
		doc.Key{Name: "field", Doc: "its bit field; its meanings are the dividers", Type: doc.NameType},
	), Required: true},
	doc.Key{Name: "set-up", Doc: "time that the unit's input stands still before it is sampled", Type: doc.TimeType, Default: "0 ns"},
	doc.Key{Name: "hold", Doc: "time that it stands still behind", Type: doc.TimeType, Default: "0 ns"},
)

var spiControls = []doc.Key{
	{Name: "clock-idle", Doc: "level at which the clock rests: low, high", Type: fieldType},
	{Name: "sample-edge", Doc: "edge of each clock period that samples: first, second", Type: fieldType},
	{Name: "order", Doc: "which bit comes first: msb, lsb", Type: fieldType},
	{Name: "word", Doc: "bits a word, as 8", Type: fieldType},
}

var spiBus = doc.Map(
	unitKey,
	doc.Key{Name: "mcu", Doc: "what the firmware does about the bus as a whole", Type: doc.Map(startedKeys...), Required: true},
	busDevice(
		doc.Key{Name: "mcu", Doc: "the MCU's settings for this device; absent: those that the device wants", Type: doc.Map(
			doc.Key{Name: "mode", Doc: "clock idle level and sampling edge, 0 to 3", Type: doc.Enum("0", "1", "2", "3")},
			doc.Key{Name: "word", Doc: "bits a word, 4 to 32", Type: doc.Int(4, 32)},
			doc.Key{Name: "order", Doc: "which bit comes first", Type: doc.Enum("msb", "lsb")},
			doc.Key{Name: "divider", Doc: "divider chosen by hand; absent: the fastest that the device stands", Type: doc.Int(1, 1<<20)},
			doc.Key{Name: "lead", Doc: "time from select to the first edge; absent: half a period", Type: doc.TimeType},
			doc.Key{Name: "lag", Doc: "time from the last edge to release; absent: half a period", Type: doc.TimeType},
			doc.Key{Name: "idle", Doc: "time between two transfers; absent: a period", Type: doc.TimeType},
			doc.Key{Name: "source", Doc: "document and page, or who chose it", Type: doc.AnyText},
		)},
	),
)

func (x *binder) spiUnit(u *Unit, n *doc.Node) *SPIUnit {
	p := n.Get("prescaler")
	out := &SPIUnit{Register: p.Text("register"), Field: p.Text("field")}
	out.Dividers = numbers(p.Get("values"))
	slices.Sort(out.Dividers)
	for key, to := range map[string]*quantity.Time{"set-up": &out.SetUp, "hold": &out.Hold} {
		if t := n.Text(key); t != "" {
			*to, _ = quantity.ParseTime(t)
		}
	}
	if u.Clock != nil {
		out.Clock = u.Clock.Freq()
	}
	return out
}

func (x *binder) spi(dir fs.FS, l *Bus, n *doc.Node) *SPI {
	out := &SPI{}
	for _, c := range n.Get("devices").All() {
		d := x.loadDevice(dir, &l.Common, c)
		if d == nil {
			continue
		}
		s := &SPIDevice{Name: c.Key, About: d.About, Source: d.Source, MCU: d.SPI.Settings, End: *d.SPI}
		m := c.Get("mcu")
		if t := m.Text("mode"); t != "" {
			mode, _ := strconv.Atoi(t)
			s.MCU = s.MCU.WithMode(mode)
		}
		s.MCU.Word = number(m.Text("word"), s.MCU.Word)
		if t := m.Text("order"); t != "" {
			s.MCU.LSBFirst = t == "lsb"
		}
		margins, err := l.Unit.SPI.Margins(s.End.Part)
		if err != nil {
			x.fault("bad-prescaler", l.unitNode.Get("prescaler").Place(), "mend the dividers", "unit %s: %v", l.Unit.Name, err)
			continue
		}
		s.Margins = margins
		s.Margin, s.NoDivider = margins[len(margins)-1], true
		for _, mg := range margins {
			if mg.Refused == "" {
				s.Margin, s.NoDivider = mg, false
				break
			}
		}
		if t := m.Get("divider"); t != nil {
			s.Chosen = true
			i := slices.IndexFunc(margins, func(mg spi.Margin) bool { return mg.Divider == number(t.Scalar, 0) })
			if i < 0 {
				x.fault("divider-not-there", t.Place(), fmt.Sprintf("unit %s has %v", l.Unit.Name, l.Unit.SPI.Dividers), "unit %s can't divide by %s", l.Unit.Name, t.Scalar)
				continue
			}
			s.Margin, s.NoDivider = margins[i], false
		}
		period := quantity.Time(1e12 / s.Margin.Rate.Hz())
		s.Lead, s.Lag, s.Idle = period/2, period/2, period
		for key, to := range map[string]*quantity.Time{"lead": &s.Lead, "lag": &s.Lag, "idle": &s.Idle} {
			if t := m.Text(key); t != "" {
				*to, _ = quantity.ParseTime(t)
			}
		}
		out.Devices = append(out.Devices, s)
	}
	l.settings = func() []wish {
		if len(out.Devices) == 0 {
			return nil
		}
		return l.spiWishes(out.Devices[0])
	}
	return out
}

// spiWishes are the settings of the unit while it talks to a device.
func (l *Bus) spiWishes(d *SPIDevice) []wish {
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
	if u := l.Unit.SPI; u.Register != "" && u.Field != "" {
		source := "derived"
		if d.Chosen {
			source = "chosen"
		}
		out = append(out, wish{u.Register + "." + u.Field, "rate", "rate", strconv.Itoa(d.Margin.Divider), source})
	}
	return out
}

// WordsFor gives the registers as the unit has them while it talks to a device.
func (l *Bus) WordsFor(dev int) ([]Word, error) {
	if l.SPI == nil || dev >= len(l.SPI.Devices) {
		return l.Words()
	}
	other := l.Common
	other.settings = func() []wish { return l.spiWishes(l.SPI.Devices[dev]) }
	return other.Words()
}

func (l *Bus) lintSPI() []finding.Finding {
	var out []finding.Finding
	for _, d := range l.SPI.Devices {
		path := func(keys ...string) []string { return append([]string{"links", l.Name, "devices", d.Name}, keys...) }
		at := l.node.Get("devices", d.Name)
		place := func(key string) finding.Place {
			if n := at.Get("mcu", key); n != nil {
				return n.Place()
			}
			return at.KeyPlace()
		}
		out = append(out, spiFrames(d, path, place("mode"))...)
		if d.Margin.Refused != "" {
			f := finding.Finding{
				Severity: finding.Error, Code: "clock-too-fast-for-device", Where: place("divider"),
				Seen: fmt.Sprintf("%s at ÷%d (%s): %s", d.Name, d.Margin.Divider, d.Margin.Rate.Round(4), d.Margin.Refused),
				Why:  "bits are sampled before they stand, or the device misses edges", Change: "choose a larger divider",
			}
			if best, err := l.Unit.SPI.Best(d.End.Part); err == nil && d.Chosen {
				f.Fixes = []finding.Fix{{Label: fmt.Sprintf("÷%d for %s, %s", best.Divider, d.Name, best.Rate.Round(4)), Edits: []finding.Edit{{Op: finding.Delete, Path: path("mcu", "divider")}}}}
			} else if d.NoDivider {
				f.Change = "no divider of the unit serves: take a slower clock, or another unit"
			}
			out = append(out, f)
		}
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

// spiFrames compares both ends' frames.
func spiFrames(d *SPIDevice, path func(...string) []string, at finding.Place) []finding.Finding {
	diffs := spi.Compare(d.MCU, d.End.Settings, "MCU", d.Name)
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
	if d.MCU.LSBFirst != d.End.LSBFirst {
		want["order"] = map[bool]string{true: "lsb", false: "msb"}[d.End.LSBFirst]
	}
	for _, key := range []string{"mode", "word", "order"} {
		if v := want[key]; v != "" {
			edits = append(edits, finding.Edit{Path: path("mcu", key), Value: v})
		}
	}
	if len(edits) > 0 {
		f.Fixes = []finding.Fix{{Label: "MCU to " + d.End.Settings.Describe() + " for " + d.Name, Edits: edits}}
	}
	return []finding.Finding{f}
}

func (s *SPI) derivations(dev int) []finding.Derivation {
	if dev >= len(s.Devices) {
		return nil
	}
	d := s.Devices[dev]
	half := quantity.Time(1e12 / d.Margin.Rate.Hz() / 2)
	return []finding.Derivation{{
		Name: "time left before the MCU samples", Formula: "half a period - valid - set-up of the MCU",
		Inputs: []finding.Input{
			{Symbol: "half", Name: "half a period at ÷" + strconv.Itoa(d.Margin.Divider), Value: half.Round(4)},
			{Symbol: "valid", Name: "until the output of " + d.Name + " stands", Value: d.End.Valid.String(), Source: d.Source},
			{Symbol: "set-up", Name: "of the MCU's input", Value: (half - d.End.Valid - d.Margin.Read).String()},
		},
		Worked: fmt.Sprintf("%s - %s - %s", half.Round(4), d.End.Valid, (half - d.End.Valid - d.Margin.Read).Round(4)), Result: d.Margin.Read.Round(4),
		Source: "docs/formulas.md, spi dividers",
	}}
}
