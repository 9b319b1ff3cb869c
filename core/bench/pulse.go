package bench

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/transfer"
)

// PulseUnit is how a unit clocks bits out on the data line that carries the pulses.
type PulseUnit struct {
	Dividers        []int
	Register, Field string        // take the divider
	Pause           quantity.Time // that the unit makes between bytes
}

// Pulse is a line on which a bit is the width of a pulse, made by sending patterns
// over a clocked data line.
type Pulse struct {
	*Link
	Clocking *PulseUnit
	Patterns pulse.Patterns
	Choices  []pulse.Choice // all dividers, the smallest first
	Choice   pulse.Choice   // the one in use
	Chosen   bool           // by hand
	Takes    pulse.Settings // what the device takes
	Sends    pulse.Settings // what the MCU makes
	Latch    quantity.Time  // pause that the firmware leaves behind a frame
	Frames   []PulseFrame
}

// PulseFrame is what the firmware sends again and again.
type PulseFrame struct {
	Name     string
	Every    quantity.Time
	Elements []uint32
}

var pulseKind = kind{
	bus: pulse.Kind,
	unit: func() []doc.Key {
		return []doc.Key{
			{Name: "prescaler", Doc: "what the unit can divide its clock by", Type: doc.Map(
				doc.Key{Name: "values", Doc: "the dividers, as [2, 4, 8]", Type: doc.ListOf(doc.Int(1, 1<<20), 1), Required: true},
				doc.Key{Name: "register", Doc: "register that takes the choice", Type: doc.NameType},
				doc.Key{Name: "field", Doc: "its bit field; its meanings are the dividers", Type: doc.NameType},
			), Required: true},
			{Name: "pause", Doc: "time that the unit makes between bytes, its line resting low", Type: doc.TimeType, Default: "0 ns"},
		}
	},
	mcu: func() []doc.Key {
		pattern := doc.Checked("the bits of the data line, as 110", func(s string) error { _, _, err := pulse.ParsePattern(s); return err })
		return []doc.Key{
			{Name: "zero", Doc: "pattern of bits of the data line that makes a 0, as 100", Type: pattern, Required: true},
			{Name: "one", Doc: "pattern that makes a 1, as 110", Type: pattern, Required: true},
			{Name: "divider", Doc: "divider chosen by hand; absent: the one that leaves the pulses most room", Type: doc.Int(1, 1<<20)},
			{Name: "latch", Doc: "pause that the firmware leaves after each frame; absent: twice what the device wants", Type: doc.TimeType},
			{Name: "frames", Doc: "what the firmware sends again and again, by name", Type: doc.MapOf(doc.Map(
				doc.Key{Name: "every", Doc: "time from one to the next", Type: doc.TimeType, Required: true},
				doc.Key{Name: "elements", Doc: "the elements in hex, as 3C0 3C1", Type: doc.NameType, Required: true},
			))},
		}
	},
	link: func() []doc.Key {
		return []doc.Key{
			{Name: "device", Doc: "the device's end", Type: doc.Map(fileKeys()...), Required: true},
			transactionChecks(pulse.Kind),
		}
	},
	clocking: func(_ *binder, _ *Unit, n *doc.Node) any {
		p := n.Get("prescaler")
		return &PulseUnit{Dividers: slices.Sorted(slices.Values(doc.List[int](p, "values"))), Register: p.Text("register"), Field: p.Text("field"), Pause: doc.Of[quantity.Time](n, "pause")}
	},
	model:  func(x *binder, l *Link, n *doc.Node) Model { return x.pulse(l, n) },
	stream: pulseStream,
	check:  (*binder).transactionCheck,
}

func (x *binder) pulse(l *Link, n *doc.Node) Model {
	m := n.Get("mcu")
	out := &Pulse{Link: l, Clocking: l.Unit.Clocking.(*PulseUnit)}
	parts, _ := x.devices(l, n)
	if len(parts) == 0 {
		return nil
	}
	out.Takes = parts[0].End.(pulse.Settings)
	zero, zeroBits, _ := pulse.ParsePattern(m.Text("zero"))
	one, oneBits, _ := pulse.ParsePattern(m.Text("one"))
	out.Patterns = pulse.Patterns{Zero: zero, One: one, Bits: zeroBits}
	err := out.Patterns.Check()
	if zeroBits != oneBits {
		err = fmt.Errorf("the patterns %s and %s have different lengths", m.Text("zero"), m.Text("one"))
	}
	if err != nil {
		x.fault("bad-pattern", m.Get("one").Place(), "write two patterns of as many bits, as 100 and 110", "%v", err)
		return nil
	}
	out.Choices = pulse.Choices(l.Unit.Clock.Freq(), out.Clocking.Dividers, out.Takes, out.Patterns, out.Clocking.Pause)
	at := pulse.Best(pulse.Choices(l.Unit.Clock.Meant(), out.Clocking.Dividers, out.Takes, out.Patterns, out.Clocking.Pause))
	if d := m.Get("divider"); d != nil {
		out.Chosen = true
		if at = slices.IndexFunc(out.Choices, func(c pulse.Choice) bool { return c.Divider == doc.As[int](d) }); at < 0 {
			x.fault("divider-not-there", d.Place(), fmt.Sprintf("unit %s has %v", l.Unit.Name, out.Clocking.Dividers), "unit %s can't divide by %s", l.Unit.Name, d.Scalar)
			return nil
		}
	}
	out.Choice = out.Choices[at]
	out.Latch = 2 * out.Takes.Latch
	if m.Get("latch") != nil {
		out.Latch = doc.Of[quantity.Time](m, "latch")
	}
	out.Sends = out.Choice.Sent(out.Takes, out.Latch)
	for _, f := range m.Get("frames").All() {
		frame := PulseFrame{Name: f.Key, Every: doc.Of[quantity.Time](f, "every")}
		elements, err := pulse.ParseElements(out.Takes, f.Text("elements"), nil)
		if err != nil {
			x.fault("bad-elements", f.Get("elements").Place(), fmt.Sprintf("write elements of %d bits in hex", out.Takes.Element), "frame %s: %v", f.Key, err)
		}
		frame.Elements = elements
		if frame.Every < quantity.Millisecond {
			x.fault("frame-too-often", f.Get("every").Place(), "write at least 1 ms", "sending every %s", frame.Every)
		}
		out.Frames = append(out.Frames, frame)
	}
	l.Ends[0].Settings, l.Ends[0].Toward = out.Sends, out.Sends
	name := parts[0].Name
	l.Ends = append(l.Ends, End{Name: name, About: parts[0].About, Source: parts[0].Source, Settings: out.Takes, Toward: out.Sends, Part: parts[0]})
	return out
}

// Bit implements Model.
func (l *Pulse) Bit() quantity.Time { return l.Choice.Bit }

// Short implements Model.
func (l *Pulse) Short() string {
	return fmt.Sprintf("%s and %s at %s", l.Patterns.Text(false), l.Patterns.Text(true), l.Choice.Rate.Round(4))
}

// Tap implements Model: the line is read as the device reads it, and planned as the
// MCU sends.
func (l *Pulse) Tap() []bus.Settings { return []bus.Settings{l.Sends, l.Takes} }

// Derivations implements Model.
func (l *Pulse) Derivations(int) []finding.Derivation {
	return []finding.Derivation{l.Choice.Derivation(l.Unit.Clock.Freq(), l.Patterns), l.Unit.Clock.Derivation()}
}

func (l *Pulse) wishes(int) []wish {
	source := "derived"
	if l.Chosen {
		source = "chosen"
	}
	if u := l.Clocking; u.Register != "" && u.Field != "" {
		return []wish{{u.Register + "." + u.Field, "rate", "rate", strconv.Itoa(l.Choice.Divider), source}}
	}
	return nil
}

// FromRegisters gives the divider that values of the control registers mean: the
// inverse of Words. ok is false where it goes into no described field.
func (l *Pulse) FromRegisters(value func(*register.Register) uint64) (divider int, ok bool) {
	u := l.Clocking
	if l.registers == nil || u.Register == "" || u.Field == "" {
		return 0, false
	}
	r, f, err := place(l.registers, u.Register+"."+u.Field)
	if err != nil {
		return 0, false
	}
	divider, err = strconv.Atoi(f.Meaning(f.Of(value(r))))
	return divider, err == nil && divider > 0
}

func (l *Pulse) sourced() []Sourced {
	out := []Sourced{{"links." + l.Name + ".device: " + l.Ends[1].Name, l.Takes.Describe(), l.Ends[1].Source, IsCopied, 0}}
	if !l.Chosen {
		out = append(out, Sourced{"links." + l.Name + ".mcu: divider", strconv.Itoa(l.Choice.Divider), "", IsDerived, 0})
	}
	return out
}

func (l *Pulse) lint() []finding.Finding {
	var out []finding.Finding
	mcu := l.node.Get("mcu")
	at := func(key string) finding.Place {
		if n := mcu.Get(key); n != nil {
			return n.Place()
		}
		return mcu.KeyPlace()
	}
	add := func(code string, where finding.Place, seen, why, change string, fixes ...finding.Fix) {
		out = append(out, finding.Finding{Severity: finding.Error, Code: code, Where: where, Seen: seen, Why: why, Change: change, Fixes: fixes})
	}
	if !l.Choice.Fits {
		best := l.Choices[pulse.Best(l.Choices)]
		change := "choose another divider"
		var fixes []finding.Fix
		switch {
		case l.misclocked():
			change = correctClock
		case best.Fits && l.Chosen:
			fixes = []finding.Fix{{Label: fmt.Sprintf("÷%d, a bit of %s", best.Divider, best.Bit.Round(4)), Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("mcu", "divider")}}}}
		case !best.Fits:
			change = "no divider of the unit serves these patterns: take patterns of another length, or another clock"
		}
		add("pulse-outside-limits", at("divider"), fmt.Sprintf("%s: %s", l.Name, strings.Join(l.Choice.Wrong, "; ")), l.Ends[1].Name+" reads such a bit as the other one, or latches within a frame", change, fixes...)
	}
	if l.Latch < l.Takes.Latch {
		add("latch-too-short", at("latch"), fmt.Sprintf("%s: %s pass after a frame, %s latches after %s", l.Name, l.Latch, l.Ends[1].Name, l.Takes.Latch), "frames run into each other: the strip never shows them", "leave the line low for longer",
			finding.Fix{Label: "latch of " + (2 * l.Takes.Latch).String(), Edits: []finding.Edit{{Path: l.path("mcu", "latch"), Value: (2 * l.Takes.Latch).String()}}})
	}
	for _, f := range l.Frames {
		if long := l.Choice.Frame(l.Takes, len(f.Elements), l.Latch); long > f.Every {
			add("frame-longer-than-period", mcu.Get("frames", f.Name, "every").Place(), fmt.Sprintf("%s: %d elements with their latch take %s, the next is due after %s", f.Name, len(f.Elements), long.Round(4), f.Every),
				"frames queue up without end", "send less often, or fewer elements")
		}
	}
	return out
}

// pulseStream: a byte of the clocked bits of which pulses are made.
func pulseStream(l *Link, _ bool) transfer.Stream {
	return transfer.Stream{Bits: 8, WordBits: 8, Rate: quantity.FromBd(l.Model.(*Pulse).Choice.Rate.Hz())}
}
