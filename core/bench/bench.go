// Package bench puts a board's description together: the MCU with its clocks
// and units, the links with the settings of both ends, the devices and the
// checks. The text of the bench file is the truth; a Bench is what it means.
package bench

import (
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"

	"gavrix/core/bus"
	"gavrix/core/bus/all"
	"gavrix/core/bus/uart"
	"gavrix/core/check"
	"gavrix/core/clock"
	"gavrix/core/device"
	"gavrix/core/doc"
	"gavrix/core/finding"
	"gavrix/core/quantity"
	"gavrix/core/register"
)

// Bench is a loaded bench file.
type Bench struct {
	Name, About string
	Seed        uint64
	MCU         MCU
	Links       []*Link // character links
	Buses       []*Bus  // what several devices share
	Observed    []*Observed

	dir  fs.FS
	file *doc.File
	disk []byte // the bytes last read from or written to the file
}

// MCU is the microcontroller.
type MCU struct {
	Name  string
	Units map[string]*Unit
	// Registers are the control registers; nil where none are described.
	Registers *register.Map
}

// Unit is a bus unit of the MCU.
type Unit struct {
	Name    string
	Kind    string
	Clock   clock.Path
	Rate    clock.Generator // of a uart; nil else
	SPI     *SPIUnit
	I2C     *I2CUnit
	CAN     *CANUnit
	Control map[string]string // where settings go: REGISTER.FIELD by setting
	// Locked: rate and frame take no writes while the unit is on. Latched: the
	// second register of the rate takes effect when the first is written.
	Locked, Latched bool
	Source          string
}

// Common is what links of all kinds have: the MCU's unit, and how its firmware
// starts it.
type Common struct {
	Name string
	Kind *bus.Kind
	Unit *Unit
	// Receive is how received words leave the unit: interrupt, polled, dma.
	Receive string
	// Startup are the steps that the firmware does; nil: all that are needed.
	Startup []string
	// Handler is the unit whose interrupt handler serves the link.
	Handler  string
	LeftOver []byte // waits in the unit from an earlier run

	registers      *register.Map
	node, unitNode *doc.Node
	units          []*Unit       // all of the MCU
	settings       func() []wish // the settings of its kind that go into fields
}

// Link is a character link between the MCU and one device, with the settings of
// both ends.
type Link struct {
	Common
	Index uint16

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
	DeviceEnd uart.Settings
	ClockOff  quantity.PPM

	// Lines names the lines in captures by who drives them: mcu, device.
	Lines  map[string]string
	Delay  quantity.Time
	Port   *Port
	Checks []check.Check
}

// Observed is a bus that is known from captures only.
type Observed struct {
	Name     string
	Kind     *bus.Kind
	Settings bus.Settings
	Lines    map[string]string // by role, each a name or an expression
}

// Ask is what the firmware sends by itself.
type Ask struct {
	Every quantity.Time
	Text  []byte
}

// Port is a real port in the place of the simulation.
type Port struct {
	Path, Flow, DTR, RTS string
}

// Load reads the bench file with the name in dir; device files are looked for
// in the same folder tree. With an error among the findings there is no
// bench.
func Load(dir fs.FS, name string) (*Bench, []finding.Finding) {
	text, err := fs.ReadFile(dir, name)
	if err != nil {
		return nil, []finding.Finding{{
			Severity: finding.Error, Code: "bench-unreadable", Where: finding.Place{File: name},
			Seen: fmt.Sprintf("the bench can't be read: %v", err), Change: "check the name and the permissions",
		}}
	}
	return Parse(dir, name, text)
}

// Parse is Load for a text that is already read.
func Parse(dir fs.FS, name string, text []byte) (*Bench, []finding.Finding) {
	file, faults := doc.Parse(name, text)
	if file == nil {
		return nil, faults
	}
	b := &Bench{dir: dir, file: file, disk: text}
	if faults := b.bind(); len(faults) > 0 {
		return nil, faults
	}
	return b, nil
}

// binder collects the faults of one pass over the nodes.
type binder struct {
	faults  []finding.Finding
	options map[string]option
}

// option is a lasting option word.
type option struct {
	*register.Register
	programmed, wanted uint64
}

func (x *binder) fault(code string, where finding.Place, change, seen string, args ...any) {
	f := finding.Finding{Severity: finding.Error, Code: code, Where: where, Seen: fmt.Sprintf(seen, args...), Change: change}
	for _, old := range x.faults {
		if old.Where == f.Where && old.Seen == f.Seen {
			return // several units share the clock that is at fault
		}
	}
	x.faults = append(x.faults, f)
}

// bind gives the nodes their meaning. On faults b is left as it was.
func (b *Bench) bind() []finding.Finding {
	root := b.file.Root
	if faults := Schema.Validate(root); len(faults) > 0 {
		return faults
	}
	x := &binder{}
	n := &Bench{Name: root.Text("bench"), About: root.Text("about"), Seed: 1, dir: b.dir, file: b.file, disk: b.disk}
	if s, err := strconv.ParseUint(root.Text("seed"), 0, 32); err == nil {
		n.Seed = s
	}
	registers := x.registers(b.dir, root.Get("mcu", "registers"))
	x.readOptions(root.Get("mcu", "options"), registers)
	n.MCU = x.mcu(root.Get("mcu"))
	n.MCU.Registers = registers
	used := map[string]string{}
	for _, l := range root.Get("links").All() {
		if l.Text("kind") == uart.Kind.Name {
			link := x.link(b.dir, n, l)
			link.Index = uint16(len(n.Links))
			n.Links = append(n.Links, link)
		} else {
			n.Buses = append(n.Buses, x.bus(b.dir, n, l))
		}
		unit := l.Text("unit")
		if other, twice := used[unit]; twice {
			x.fault("unit-twice", l.Get("unit").Place(), "give each link a unit of its own", "unit %s is already used by link %s", unit, other)
		}
		used[unit] = l.Key
	}
	simulated := len(n.Links)
	for _, l := range n.Buses {
		l.Index = NotSimulated
		if l.CAN != nil || l.I2C != nil {
			l.Index = uint16(simulated)
			simulated++
		}
	}
	for _, o := range root.Get("observed").All() {
		n.Observed = append(n.Observed, x.observed(o))
	}
	if len(n.Links)+len(n.Buses) == 0 {
		x.fault("no-links", root.Get("links").Place(), "add a link below `links:`", "the bench has no links")
	}
	if len(x.faults) > 0 {
		return x.faults
	}
	*b = *n
	return nil
}

// observed reads a bus that is known from captures.
func (x *binder) observed(n *doc.Node) *Observed {
	o := &Observed{Name: n.Key, Kind: all.ByName(n.Text("kind")), Lines: map[string]string{}}
	settings := n.Get("settings")
	if settings == nil {
		settings = &doc.Node{Kind: doc.Mapping}
	}
	if faults := o.Kind.Schema.Validate(settings); len(faults) > 0 {
		for i := range faults {
			if faults[i].Where.Line == 0 {
				faults[i].Where = n.KeyPlace() // there are no settings at all
			}
		}
		x.faults = append(x.faults, faults...)
		return o
	}
	var err error
	if o.Settings, err = o.Kind.Parse(settings); err != nil {
		x.fault("bad-settings", n.KeyPlace(), "mend the settings", "%s: %v", n.Key, err)
	}
	var roles []string
	for _, r := range o.Kind.Lines {
		roles = append(roles, r.Name)
	}
	for _, l := range n.Get("lines").All() {
		if !slices.Contains(roles, l.Key) {
			change := "the lines of " + o.Kind.Name + " are " + strings.Join(roles, ", ")
			if m := doc.Nearest(l.Key, roles); m != "" {
				change = fmt.Sprintf("did you mean %s?", m)
			}
			x.fault("unknown-line", l.KeyPlace(), change, "%s has no line %q", o.Kind.Name, l.Key)
		}
		o.Lines[l.Key] = l.Scalar
	}
	for _, r := range o.Kind.Lines {
		if o.Lines[r.Name] == "" && !r.Optional {
			x.fault("line-missing", n.Get("lines").Place(), fmt.Sprintf("add `%s:` with the name of the line", r.Name), "%s: no line is the %s", n.Key, r.Name)
		}
	}
	return o
}

func (x *binder) mcu(n *doc.Node) MCU {
	m := MCU{Name: n.Text("name"), Units: map[string]*Unit{}}
	clocks := n.Get("clocks")
	for _, u := range n.Get("units").All() {
		unit := &Unit{Name: u.Key, Kind: u.Text("kind"), Source: u.Text("source")}
		unit.Clock = x.path(clocks, u.Get("clock"))
		if unit.Kind == uart.Kind.Name {
			unit.Rate = x.generator(u)
		}
		x.busUnit(unit, u)
		unit.Control = map[string]string{}
		unit.Locked, unit.Latched = u.Text("locked") == "yes", u.Text("latched") == "yes"
		for _, c := range u.Get("control").All() {
			unit.Control[c.Key] = c.Scalar
		}
		m.Units[u.Key] = unit
	}
	return m
}

// generator reads a unit's rate generator; exactly one kind must be given.
func (x *binder) generator(u *doc.Node) clock.Generator {
	var samples []int
	for _, o := range u.Get("oversampling").All() {
		samples = append(samples, number(o.Scalar, 16))
	}
	if len(samples) == 0 {
		samples = []int{16}
	}
	var g clock.Generator
	var at *doc.Node
	given := 0
	for _, kind := range generatorKinds {
		d := u.Get(kind)
		if d == nil {
			continue
		}
		given++
		at = d
		least, most := number(d.Text("least"), 1), number(d.Text("most"), 1)
		switch kind {
		case "divider":
			g = clock.Divider{Oversampling: samples, Least: least, Most: most, PlusOne: d.Text("plus-one") == "yes", Register: d.Text("register"), Field: d.Text("field")}
		case "fractional":
			g = clock.Fractional{
				Oversampling: samples, Least: least, Most: most, Bits: number(d.Text("bits"), 4), Packed: d.Text("fraction-register") == "" && d.Text("fraction-field") == "",
				Register: d.Text("register"), Field: d.Text("field"), FractionRegister: d.Text("fraction-register"), FractionField: d.Text("fraction-field"),
			}
		case "reload":
			g = clock.Reload{
				Width: number(d.Text("width"), 8), Before: number(d.Text("before"), 1), Factor: numbers(d.Get("factor")), Register: d.Text("register"), Field: d.Text("field"),
				DoubleRegister: d.Text("double-register"), DoubleField: d.Text("double-field"),
			}
		case "chain":
			g = clock.Chain{
				Factors: numbers(d.Get("factors")), Least: least, Most: most, Register: d.Text("register"), Field: d.Text("field"),
				FactorRegister: d.Text("factor-register"), FactorField: d.Text("factor-field"),
			}
		case "formula":
			var vs []clock.Variable
			for _, v := range d.Get("variables").All() {
				vs = append(vs, clock.Variable{Name: v.Key, Least: number(v.Text("least"), 0), Most: number(v.Text("most"), 0), Register: v.Text("register"), Field: v.Text("field")})
			}
			f, err := clock.NewFormula(d.Text("rate"), number(d.Text("samples"), 16), vs)
			if err != nil {
				x.fault("bad-formula", d.Place(), "mend the expression, or its variables", "unit %s: %v", u.Key, err)
				return clock.Divider{Oversampling: samples, Least: 1, Most: 1}
			}
			g = f
		}
	}
	if given != 1 {
		x.fault("rate-generator", u.KeyPlace(), "give one of "+strings.Join(generatorKinds, ", "), "unit %s has %d rate generators", u.Key, given)
		return clock.Divider{Oversampling: samples, Least: 1, Most: 1}
	}
	if err := g.Check(); err != nil {
		x.fault("bad-divider", at.Place(), "mend least and most, or the factors", "unit %s: %v", u.Key, err)
	}
	return g
}

// generatorKinds are the kinds of rate generators of a unit.
var generatorKinds = []string{"divider", "fractional", "reload", "chain", "formula"}

func numbers(n *doc.Node) []int {
	var out []int
	for _, e := range n.All() {
		out = append(out, number(e.Scalar, 0))
	}
	return out
}

func number(s string, def int) int {
	n, err := strconv.ParseInt(s, 0, 64)
	if err != nil {
		return def
	}
	return int(n)
}

// path follows a clock back to its source.
func (x *binder) path(clocks, ref *doc.Node) clock.Path {
	var back clock.Path
	name, at := ref.Scalar, ref
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
		h := clock.Hop{Name: name, Unproven: c.Text("unproven") == "yes"}
		h.Most, _ = quantity.ParseClock(c.Text("most"))
		if t := c.Text("measured"); t != "" {
			h.Measured, _ = quantity.ParseClock(t)
			if pm, err := quantity.ParseFreq(c.Text("plus-minus")); err == nil && h.Measured > 0 {
				h.PlusMinus = float64(pm) / float64(h.Measured)
			}
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
			h.Freq, _ = quantity.ParseClock(src.Scalar)
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
			h.Factor = number(divide.Scalar, 1)
		}
		if times != nil {
			if divide != nil {
				x.fault("clock-factor", c.KeyPlace(), "make two clocks, one behind the other", "clock %s both multiplies and divides", name)
			}
			h.Op, h.Factor = clock.Times, number(times.Scalar, 1)
		}
		x.hop(&h, c, from)
		back = append(back, h)
		name, at = from.Scalar, from
	}
	x.fault("clock-circle", clocks.Get(ref.Scalar).KeyPlace(), "let one of them be a source", "clock %s is made from itself", ref.Scalar)
	return nil
}

func (x *binder) link(dir fs.FS, b *Bench, n *doc.Node) *Link {
	l := &Link{Common: x.common(b, n), Service: 5 * quantity.Microsecond}
	l.settings = l.wanted
	m := n.Get("mcu")
	l.MCU = uart.Parse(m)
	l.Wanted = l.MCU.Rate
	if t := m.Text("service"); t != "" {
		l.Service, _ = quantity.ParseTime(t)
	}
	if a := m.Get("ask"); a != nil {
		l.Ask = &Ask{Text: []byte(a.Text("text"))}
		l.Ask.Every, _ = quantity.ParseTime(a.Text("every"))
		if l.Ask.Every < quantity.Microsecond {
			x.fault("ask-too-fast", a.Get("every").Place(), "write at least 1 µs", "asking every %s", l.Ask.Every)
		}
	}
	if l.Unit != nil && l.Unit.Rate != nil && l.Unit.Clock != nil {
		x.rate(l, m)
	}
	x.device(dir, l, n.Get("device"))
	l.Lines = map[string]string{"mcu": n.Key + ".mcu", "device": n.Key + ".device"}
	if lines := n.Get("lines"); lines != nil {
		l.Lines = map[string]string{"mcu": lines.Text("mcu"), "device": lines.Text("device")}
	}
	if t := n.Text("delay"); t != "" {
		l.Delay, _ = quantity.ParseTime(t)
	}
	if p := n.Get("port"); p != nil {
		l.Port = &Port{Path: p.Text("path"), Flow: p.Text("flow"), DTR: p.Text("dtr"), RTS: p.Text("rts")}
	}
	for _, c := range n.Get("checks").All() {
		x.check(l, c)
	}
	x.control(&l.Common)
	return l
}

// common reads what links of all kinds have.
func (x *binder) common(b *Bench, n *doc.Node) Common {
	c := Common{Name: n.Key, Kind: all.ByName(n.Text("kind")), node: n, registers: b.MCU.Registers}
	x.start(&c, b, n.Get("mcu"))
	c.Unit = b.MCU.Units[n.Text("unit")]
	c.unitNode = b.file.Root.Get("mcu", "units", n.Text("unit"))
	for _, name := range slices.Sorted(maps.Keys(b.MCU.Units)) {
		c.units = append(c.units, b.MCU.Units[name])
	}
	switch {
	case c.Unit == nil:
		change := "add it below mcu.units"
		if near := doc.Nearest(n.Text("unit"), slices.Sorted(maps.Keys(b.MCU.Units))); near != "" {
			change = fmt.Sprintf("did you mean %s?", near)
		}
		x.fault("unknown-unit", n.Get("unit").Place(), change, "the MCU has no unit %q", n.Text("unit"))
	case c.Unit.Kind != c.Kind.Name:
		x.fault("unit-of-another-kind", n.Get("unit").Place(), "name a unit of kind "+c.Kind.Name, "unit %s is a %s, the link a %s", c.Unit.Name, c.Unit.Kind, c.Kind.Name)
	}
	return c
}

// All gives what all links have in common, in the order in which they are listed.
func (b *Bench) All() []*Common {
	var out []*Common
	for _, l := range b.Links {
		out = append(out, &l.Common)
	}
	for _, l := range b.Buses {
		out = append(out, &l.Common)
	}
	return out
}

// rate sets the divider of the MCU's end.
func (x *binder) rate(l *Link, m *doc.Node) {
	g := l.Unit.Rate
	if o := m.Get("oversampling"); o != nil {
		os := number(o.Scalar, 16)
		if !slices.Contains(g.Samples(), os) {
			x.fault("oversampling-not-there", o.Place(), fmt.Sprintf("the unit can do %v", g.Samples()), "unit %s can't take %d samples a bit", l.Unit.Name, os)
			return
		}
		g = g.Only(os)
	}
	freq := l.Unit.Clock.Freq()
	opts, err := g.Solve(freq, l.Wanted)
	if err != nil {
		return // the unit's own fault is reported already
	}
	l.Options = clock.Known(opts, l.Unit.Clock.PlusMinus())
	l.Setting = l.Options[0]
	if c := m.Get("divisor"); c != nil {
		l.Chosen = true
		n, err := clock.ParseDivisor(c.Scalar)
		if err == nil {
			l.Setting, err = g.With(freq, l.Wanted, opts[0].Oversampling, n)
		}
		if err != nil {
			l.Setting = l.Options[0]
			x.fault("divisor-out-of-range", c.Place(), "write one that unit "+l.Unit.Name+" has", "%v", err)
			return
		}
		l.Setting = clock.Known([]clock.Setting{l.Setting}, l.Unit.Clock.PlusMinus())[0]
	}
	l.MCU.Rate, l.MCU.Oversampling = l.Setting.Rate, l.Setting.Oversampling
}

func (x *binder) device(dir fs.FS, l *Link, n *doc.Node) {
	d := x.loadDevice(dir, &l.Common, n)
	if d == nil {
		return
	}
	l.Device, l.DeviceEnd = d, d.End
	if t := n.Text("rate"); t != "" {
		l.DeviceEnd.Rate, _ = quantity.ParseRate(t)
	}
	if t := n.Text("frame"); t != "" {
		l.DeviceEnd.Frame, _ = uart.ParseFrame(t)
	}
	if t := n.Text("clock-off"); t != "" {
		l.ClockOff, _ = quantity.ParsePPM(t)
		if l.ClockOff <= -500_000 || l.ClockOff > 1_000_000 {
			x.fault("clock-off-range", n.Get("clock-off").Place(), "write -50 % to 100 %", "a clock that is off by %.0f %% is another clock", l.ClockOff.Percent())
		}
	}
}

func (x *binder) check(l *Link, n *doc.Node) {
	c := check.Check{Name: n.Key}
	c.Within, _ = quantity.ParseTime(n.Text("within"))
	two := func(a, b string) bool {
		if n.Get(a) != nil && n.Get(b) != nil {
			x.fault("check-twice", n.Get(b).KeyPlace(), fmt.Sprintf("keep %s or %s", a, b), "check %s has both %s and %s", n.Key, a, b)
			return true
		}
		return false
	}
	if two("send", "send-hex") || two("expect", "expect-hex") {
		return
	}
	if h := n.Text("send-hex"); h != "" {
		cells, _ := check.ParseHex(h, false)
		c.Send = check.Bytes(cells)
	} else {
		c.Send = []byte(n.Text("send"))
	}
	if h := n.Text("expect-hex"); h != "" {
		c.Expect, _ = check.ParseHex(h, true)
	} else {
		c.Expect = check.FromText(n.Text("expect"), n.Text("any"))
	}
	if len(c.Expect) == 0 {
		x.fault("check-empty", n.KeyPlace(), "add `expect:` or `expect-hex:`", "check %s expects nothing", n.Key)
		return
	}
	l.Checks = append(l.Checks, c)
}

// Link gives the link with a name, or nil.
func (b *Bench) Link(name string) *Link {
	for _, l := range b.Links {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// Text gives the bench file's bytes as they are now, edits included.
func (b *Bench) Text() []byte { return b.file.Text() }

// DeviceRate is the rate at which the device's end really runs.
func (l *Link) DeviceRate() quantity.Rate {
	return quantity.Rate(float64(l.DeviceEnd.Rate) * (1 + float64(l.ClockOff)/1e6))
}
