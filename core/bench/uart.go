package bench

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/transfer"
)

// UART is a character link between the MCU and one device.
type UART struct {
	*Link

	// MCU holds the MCU's end at the rate that its divider really gives;
	// Wanted is the rate that was asked for.
	MCU     uart.Settings
	Wanted  quantity.Rate
	Setting clock.Setting
	Options []clock.Setting
	Chosen  bool // the divider was chosen by hand
	Service quantity.Time
	Ask     *Ask

	Device    *device.Device
	DeviceEnd uart.End
	ClockOff  quantity.PPM
	Delay     quantity.Time
	Biased    bool // a resistor pulls a wire high that nobody drives
	Wires     int  // 2: one each way; 4: with two ready lines; 1: for both ways
}

// Ask is what the firmware sends by itself.
type Ask struct {
	Every quantity.Time
	Text  []byte
}

var uartKind = kind{
	bus:   uart.Kind,
	depth: "1", twoRates: true,
	unit: clock.GeneratorKeys,
	controls: func() []doc.Key {
		var out []doc.Key
		for _, c := range controls {
			out = append(out, doc.Key{Name: c.name, Doc: c.doc, Type: fieldType})
		}
		return out
	},
	mcu: func() []doc.Key {
		return append(slices.Clone(uart.Schema.Keys()),
			doc.Key{Name: "divisor", Doc: "divider chosen by hand, as 87 or 21 + 22/32; absent: the best is taken", Type: doc.Scalar("a divisor, as 87 or 21 + 22/32", clock.ParseDivisor)},
			doc.Key{Name: "service", Doc: "time until the handler has emptied the receive register", Type: doc.TimeType, Default: "5 µs"},
			doc.Key{Name: "left-over", Doc: "a character, in hex, that waits in the unit from an earlier run", Type: hexType(false)},
			doc.Key{Name: "ask", Doc: "what the firmware sends by itself", Type: doc.Map(
				doc.Key{Name: "every", Doc: "time from one to the next", Type: doc.TimeType, Required: true},
				doc.Key{Name: "text", Doc: "the text, with its line end; \\xNN in double quotes is the byte NN", Type: doc.NameType},
				doc.Key{Name: "hex", Doc: "in place of text: the bytes, as A5 01 0D", Type: hexType(false)},
			)},
		)
	},
	link: func() []doc.Key {
		onOffLeave := doc.Enum("on", "off", "leave")
		frame := doc.Scalar("a frame, as 8N1", uart.ParseFrame)
		return []doc.Key{
			{Name: "device", Doc: "the device's end", Type: doc.Map(fileKeys(
				doc.Key{Name: "rate", Doc: "bit rate, where it differs from the device file", Type: doc.RateType},
				doc.Key{Name: "frame", Doc: "frame, where it differs from the device file", Type: frame},
				doc.Key{Name: "flow", Doc: "flow control, where it differs from the device file", Type: doc.Enum("none", "rts-cts", "xon-xoff")},
				doc.Key{Name: "turn-round", Doc: "on one wire: time until the part releases the line, where it differs from the device file", Type: doc.TimeType},
				doc.Key{Name: "clock-off", Doc: "how far this part's clock is off, as 0.4 %", Type: doc.PPMType, Default: "0 ppm"},
			)...), Required: true},
			{Name: "delay", Doc: "propagation delay of the wires", Type: doc.TimeType, Default: "0 ns"},
			{Name: "wires", Doc: "wires between the ends: 2, one each way; 4, with a ready line of each; 1 for both ways", Type: doc.OneOf(2, 4, 1), Default: "2"},
			{Name: "open", Doc: "what a wire does that nobody drives: a resistor biases it high, or it floats", Type: doc.Enum("biased", "floating"), Default: "floating"},
			{Name: "port", Doc: "a real port in the place of the simulation", Type: doc.Map(
				doc.Key{Name: "path", Doc: "path of the port", Type: doc.NameType, Required: true},
				doc.Key{Name: "flow", Doc: "flow control of the port, where it is not that of mcu", Type: doc.Enum("none", "rts-cts", "xon-xoff")},
				doc.Key{Name: "dtr", Doc: "modem line DTR on opening", Type: onOffLeave, Default: "leave"},
				doc.Key{Name: "rts", Doc: "modem line RTS on opening", Type: onOffLeave, Default: "leave"},
			)},
			characterChecks(),
		}
	},
	clocking: func(x *binder, u *Unit, n *doc.Node) any {
		g, fault := clock.ParseGenerator(n)
		if fault != nil {
			x.fault(fault.Code, fault.Where, fault.Change, "%s", fault.Seen)
			return clock.Generator(clock.Divider{Oversampling: []int{16}, Least: 1, Most: 1})
		}
		return g
	},
	model:  func(x *binder, l *Link, n *doc.Node) Model { return x.uart(l, n) },
	stream: uartStream,
	check:  (*binder).characterCheck,
}

// Generator is the unit's rate generator.
func (l *UART) Generator() clock.Generator { return l.Unit.Clocking.(clock.Generator) }

func (x *binder) uart(link *Link, n *doc.Node) Model {
	m := n.Get("mcu")
	l := &UART{Link: link, MCU: uart.Parse(m), Service: doc.Of[quantity.Time](m, "service"), Delay: doc.Of[quantity.Time](n, "delay"), Biased: doc.Of[string](n, "open") == "biased", Wires: doc.Of[int](n, "wires")}
	l.Wanted = l.MCU.Rate
	if a := m.Get("ask"); a != nil {
		l.Ask = &Ask{Text: a.Get("text").Bytes(), Every: doc.Of[quantity.Time](a, "every")}
		switch h := a.Get("hex"); {
		case h != nil && a.Get("text") != nil:
			x.fault("ask-twice", h.KeyPlace(), "keep text or hex", "what is asked is written as text and as bytes")
		case h != nil:
			l.Ask.Text = check.Bytes(doc.As[[]check.Cell](h))
		case len(l.Ask.Text) == 0:
			x.fault("ask-empty", a.KeyPlace(), "add `text:` or `hex:`", "nothing is asked")
		}
		if l.Ask.Every < quantity.Microsecond {
			x.fault("ask-too-fast", a.Get("every").Place(), "write at least 1 µs", "asking every %s", l.Ask.Every)
		}
	}
	x.rate(l, m)
	parts, nodes := x.devices(link, n)
	if len(parts) == 0 {
		return nil
	}
	d, c := parts[0], nodes[0]
	l.Device, l.DeviceEnd = d, d.End.(uart.End)
	if c.Get("rate") != nil {
		l.DeviceEnd.Rate = doc.Of[quantity.Rate](c, "rate")
	}
	if c.Get("frame") != nil {
		l.DeviceEnd.Frame = doc.Of[uart.Frame](c, "frame")
	}
	if c.Get("flow") != nil {
		l.DeviceEnd.Flow = uart.FlowNamed(doc.Of[string](c, "flow"))
	}
	if c.Get("turn-round") != nil {
		l.DeviceEnd.TurnRound = doc.Of[quantity.Time](c, "turn-round")
	}
	link.Talker = d.Talks
	l.ClockOff = doc.Of[quantity.PPM](c, "clock-off")
	if l.ClockOff <= -500_000 || l.ClockOff > 1_000_000 {
		x.fault("clock-off-range", c.Get("clock-off").Place(), "write -50 % to 100 %", "a clock that is off by %.0f %% is another clock", l.ClockOff.Percent())
	}
	link.Ends[0].Settings, link.Ends[0].Toward = l.MCU, l.MCU
	link.Ends = append(link.Ends, End{Name: d.Name, About: d.About, Source: d.Source, Settings: l.DeviceEnd.Settings, Toward: l.MCU, Off: float64(l.ClockOff) / 1e6, Part: d})
	return l
}

// rate sets the divider of the MCU's end.
func (x *binder) rate(l *UART, m *doc.Node) {
	g := l.Generator()
	if o := m.Get("oversampling"); o != nil {
		os := doc.As[int](o)
		if !slices.Contains(g.Samples(), os) {
			x.fault("oversampling-not-there", o.Place(), fmt.Sprintf("the unit can do %v", g.Samples()), "unit %s can't take %d samples per bit", l.Unit.Name, os)
			return
		}
		g = g.Only(os)
	}
	freq := l.Unit.Clock.Freq()
	opts, err := g.Solve(l.Unit.Clock.Meant(), l.Wanted)
	if err == nil {
		opts, err = clock.At(g, opts, freq)
	}
	if err != nil {
		return // the unit's own fault is reported already
	}
	l.Options = clock.Known(opts, l.Unit.Clock.PlusMinus())
	l.Setting = l.Options[0]
	if c := m.Get("divisor"); c != nil {
		l.Chosen = true
		if l.Setting, err = g.With(freq, l.Wanted, opts[0].Oversampling, doc.As[float64](c)); err != nil {
			l.Setting = l.Options[0]
			x.fault("divisor-out-of-range", c.Place(), "write one that unit "+l.Unit.Name+" has", "%v", err)
			return
		}
		l.Setting = clock.Known([]clock.Setting{l.Setting}, l.Unit.Clock.PlusMinus())[0]
	}
	l.MCU.Rate, l.MCU.Oversampling = l.Setting.Rate, l.Setting.Oversampling
}

// DeviceRate is the rate at which the device's end really runs.
func (l *UART) DeviceRate() quantity.Rate {
	return quantity.Rate(float64(l.DeviceEnd.Rate) * (1 + float64(l.ClockOff)/1e6))
}

// Far gives the settings of the device's end as it really runs: with the rate that its clock makes.
func (l *UART) Far() uart.Settings {
	s := l.DeviceEnd.Settings
	s.Rate = l.DeviceRate()
	return s
}

// Short implements Model.
func (l *UART) Short() string { return l.Wanted.String() + " " + l.MCU.Frame.String() }

// Tap implements Model.
func (l *UART) Tap() []bus.Settings {
	d, m := l.Far(), l.MCU
	d.Wanted, m.Wanted = l.DeviceEnd.Rate, l.Wanted
	return []bus.Settings{m, d}
}

// Bit implements Model.
func (l *UART) Bit() quantity.Time { return quantity.PeriodOf(l.MCU.Rate).Times(1) }

// Derivations implements Model: those of the way from the device, of 1 to it.
func (l *UART) Derivations(way int) []finding.Derivation {
	d := l.Directions()[1-min(way, 1)]
	return []finding.Derivation{d.Limits.Derivation(), l.Setting.Derivation(), l.Unit.Clock.Derivation()}
}

func (l *UART) sourced() []Sourced {
	out := []Sourced{{"links." + l.Name + ".device: " + l.Device.Name, l.DeviceEnd.Rate.String() + " " + l.DeviceEnd.Frame.String(), l.Device.Source, IsCopied, 0}}
	if !l.Chosen {
		out = append(out, Sourced{"links." + l.Name + ".mcu: divisor", l.Setting.Divisor(), "", IsDerived, 0})
	}
	if l.node.Get("mcu", "oversampling") == nil {
		out = append(out, Sourced{"links." + l.Name + ".mcu.oversampling", strconv.Itoa(l.MCU.Oversampling), "", IsDerived, 0})
	}
	return out
}

// control is a setting of a unit that goes into a register field.
type control struct {
	name, doc string
	role      string // of the step that writes it
	// word gives the setting in the words of a field's meanings, read is its
	// inverse.
	word func(s uart.Settings) string
	read func(s *uart.Settings, word string) error
}

var controls = []control{
	{"data", "data bits, as 8", "frame",
		func(s uart.Settings) string { return fmt.Sprint(s.Frame.Data) },
		func(s *uart.Settings, w string) (err error) { s.Frame.Data, err = strconv.Atoi(w); return err },
	},
	{"parity", "parity: none, even, odd, mark, space", "frame",
		func(s uart.Settings) string { return s.Frame.Parity.String() },
		func(s *uart.Settings, w string) error {
			for p := uart.None; p < uart.Rules; p++ {
				if p.String() == w {
					s.Frame.Parity = p
					return nil
				}
			}
			return fmt.Errorf("no parity rule")
		},
	},
	{"stop", "stop bits: 1, 1.5, 2", "frame",
		func(s uart.Settings) string {
			if s.Frame.Half {
				return fmt.Sprintf("%d.5", s.Frame.Stop)
			}
			return fmt.Sprint(s.Frame.Stop)
		},
		func(s *uart.Settings, w string) (err error) {
			w, s.Frame.Half = strings.CutSuffix(w, ".5")
			s.Frame.Stop, err = strconv.Atoi(w)
			return err
		},
	},
	{"oversampling", "receiver samples per bit: 16, 8, 4", "frame",
		func(s uart.Settings) string { return fmt.Sprint(s.Oversampling) },
		func(s *uart.Settings, w string) (err error) { s.Oversampling, err = strconv.Atoi(w); return err },
	},
	switches("order", "order of the data bits: lsb-first, msb-first", [2]string{"lsb-first", "msb-first"}, func(s *uart.Settings) *bool { return &s.Frame.MSBFirst }),
	switches("invert", "levels of the lines: plain, inverted", [2]string{"plain", "inverted"}, func(s *uart.Settings) *bool { return &s.Frame.Inverted }),
}

// usualFrame is what units do that have no field for it.
var usualFrame = uart.Frame{Data: 8, Stop: 1}

// unheld lists settings for which no register of a described unit has a field.
func (l *UART) unheld() []string {
	var out []string
	if l.registers == nil || len(l.Unit.Control) == 0 {
		return nil
	}
	for _, c := range controls {
		if word := c.word(l.MCU); l.Unit.Control[c.name] == "" && word != c.word(uart.Settings{Frame: usualFrame, Oversampling: l.MCU.Oversampling}) {
			what, _, _ := strings.Cut(c.doc, ":")
			what, _, _ = strings.Cut(what, ",")
			out = append(out, what+" "+word)
		}
	}
	return out
}

// switches are controls of two words, for settings that most units don't have.
func switches(name, doc string, words [2]string, at func(*uart.Settings) *bool) control {
	return control{name, doc, "frame",
		func(s uart.Settings) string {
			if *at(&s) {
				return words[1]
			}
			return words[0]
		},
		func(s *uart.Settings, w string) error {
			if *at(s) = w == words[1]; !*at(s) && w != words[0] {
				return fmt.Errorf("neither %s nor %s", words[0], words[1])
			}
			return nil
		},
	}
}

func (l *UART) wishes(int) []wish {
	var out []wish
	for _, c := range controls {
		if where := l.Unit.Control[c.name]; where != "" {
			out = append(out, wish{where, c.name, c.role, c.word(l.MCU), "chosen"})
		}
	}
	source := "derived"
	if l.Chosen {
		source = "chosen"
	}
	for i, v := range l.Setting.Values {
		if v.Register == "" || v.Field == "" {
			continue
		}
		role := "rate"
		if i > 0 && v.Register != l.Setting.Values[0].Register {
			role = "rate-fine"
		}
		out = append(out, wish{v.Register + "." + v.Field, "rate", role, fmt.Sprint(v.Value), source})
	}
	return out
}

// FromRegisters gives the settings that values of the control registers mean:
// the inverse of Words. What goes into no described field is as stated. The
// error says which value means nothing.
func (l *UART) FromRegisters(value func(*register.Register) uint64) (uart.Settings, error) {
	s := l.MCU
	if l.registers == nil {
		return s, nil
	}
	for _, c := range controls {
		where := l.Unit.Control[c.name]
		if where == "" {
			continue
		}
		r, f, err := place(l.registers, where)
		if err != nil {
			return s, err
		}
		word := f.Meaning(f.Of(value(r)))
		if err := c.read(&s, word); err != nil {
			return s, fmt.Errorf("%s.%s is %s: no %s", r.Name, f.Name, word, c.doc)
		}
	}
	var values []int
	for _, v := range l.Setting.Values {
		if v.Register == "" || v.Field == "" {
			values = append(values, v.Value)
			continue
		}
		r, f, err := place(l.registers, v.Register+"."+v.Field)
		if err != nil {
			return s, err
		}
		values = append(values, int(f.Of(value(r))))
	}
	got, err := l.Generator().Read(l.Unit.Clock.Freq(), l.Wanted, s.Oversampling, values...)
	if err != nil {
		return s, fmt.Errorf("the rate's registers hold %v: %w", values, err)
	}
	s.Rate, s.Oversampling = got.Rate, got.Oversampling
	return s, s.Frame.Check()
}

// uartStream: a word is a character.
func uartStream(l *Link, receive bool) transfer.Stream {
	u := l.Model.(*UART)
	s := u.MCU
	if receive {
		s = u.Far()
	}
	return transfer.Stream{Bits: u.MCU.Frame.Data, WordBits: s.Frame.Bits(), Rate: s.Rate}
}
