package bench

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/startup"
	"gavrix.org/gavrix/core/transfer"
)

// Link is one bus in use, of any kind: the MCU's unit at one end, devices at the
// others. What only its kind knows is its Model.
type Link struct {
	Name string
	// Index is the link's place in the bench file, and so its identity in captures
	// and in the simulated world.
	Index uint16
	Kind  *bus.Kind
	Unit  *Unit
	// Ends are the parties: the MCU first, then the devices in the order of the file.
	Ends []End
	// Receive is how received words leave the unit: interrupt, polled, dma.
	Receive string
	// Startup are the steps that the firmware does; nil: all that are needed.
	Startup []string
	// Handler is the unit whose interrupt handler serves the link.
	Handler  string
	LeftOver []byte // waits in the unit from an earlier run
	// Lines names the lines in captures by their role on the bus.
	Lines  map[string]string
	Port   *Port
	Checks []check.Check
	Model  Model
	// Talker is what the device on a character link says; nil on other links.
	Talker *device.Talker
	// Transfers are how its words get into memory, and out of it.
	Transfers []*Transfer
	wears     []wear
	said      []finding.Finding // of what its firmware asks
	setup     *transfer.Setup

	registers      *register.Map
	options        []*option // of the MCU
	node, unitNode *doc.Node
	units          []*Unit // all of the MCU
	peers          []*Link // all of the bench
}

// End is one party on a link.
type End struct {
	Name, About, Source string
	// Settings are those that it has; Toward those that the MCU's unit has while it
	// talks to it.
	Settings, Toward bus.Settings
	// Clock is the frequency from which it makes its bits; 0 where that is not
	// stated. Off is by how much the clock of this very part is off, as a share.
	Clock quantity.Freq
	Off   float64
	// Part is the device as its file describes it; nil of the MCU and on kinds of
	// links whose parts have no registers.
	Part *device.Device
}

// Model is what a kind of link makes of its description.
type Model interface {
	// Short describes the MCU's settings in short.
	Short() string
	// Tap gives the settings with which an ideal tap reads the link: those of each
	// end at the rate at which it really runs.
	Tap() []bus.Settings
	// Bit is a bit of the MCU's end.
	Bit() quantity.Time
	// Derivations explain the numbers, those about the device with the index first.
	Derivations(dev int) []finding.Derivation

	lint() []finding.Finding
	// wishes are the settings that go into register fields while the unit talks to
	// the device with the index.
	wishes(dev int) []wish
	// sourced gives what device files state and what was calculated.
	sourced() []Sourced
}

// Port is a real port in the place of the simulation.
type Port struct {
	Path, Flow, DTR, RTS string
}

// kind is what the bench must know of one kind of link. It stands in a file of its
// own and in one row of kinds; nothing else here asks which kind a link is.
type kind struct {
	bus *bus.Kind
	// depth is the default of the depth of a unit that holds what it received; "" of
	// kinds whose units do not.
	depth string
	// twoRates: rate generators may have a second register.
	twoRates bool
	// unit are the keys of a unit of the kind, controls those of its settings that
	// go into register fields.
	unit     func() []doc.Key
	controls func() []doc.Key
	// link are the keys of a link beyond those that all have, mcu those of the
	// MCU's end.
	link, mcu func() []doc.Key
	// clocking reads how a unit makes bits of its clock.
	clocking func(x *binder, u *Unit, n *doc.Node) any
	// model reads the rest of a link whose unit fits. Nil is returned with a fault.
	model func(x *binder, l *Link, n *doc.Node) Model
	// stream is what a transfer of a link carries, its unit left out.
	stream func(l *Link, receive bool) transfer.Stream
	// check reads an expectation.
	check func(x *binder, l *Link, n *doc.Node)
}

var kinds = []kind{uartKind, spiKind, i2cKind, canKind, pulseKind}

func kindNamed(name string) *kind {
	for i := range kinds {
		if kinds[i].bus.Name == name {
			return &kinds[i]
		}
	}
	return nil
}

// link reads a link of any kind.
func (x *binder) link(b *Bench, n *doc.Node) *Link {
	k := kindNamed(n.Text("kind"))
	l := &Link{Name: n.Key, Index: uint16(len(b.Links)), Kind: k.bus, node: n, registers: b.MCU.Registers, options: b.MCU.options, unitNode: b.file.Root.Get("mcu", "units", n.Text("unit"))}
	x.start(l, b, n.Get("mcu"))
	l.Unit = b.MCU.Units[n.Text("unit")]
	for _, name := range slices.Sorted(maps.Keys(b.MCU.Units)) {
		l.units = append(l.units, b.MCU.Units[name])
	}
	switch {
	case l.Unit == nil:
		change := "add it below mcu.units"
		if near := doc.Nearest(n.Text("unit"), slices.Sorted(maps.Keys(b.MCU.Units))); near != "" {
			change = fmt.Sprintf("did you mean %s?", near)
		}
		x.fault("unknown-unit", n.Get("unit").Place(), change, "the MCU has no unit %q", n.Text("unit"))
	case l.Unit.Kind != l.Kind:
		x.fault("unit-of-another-kind", n.Get("unit").Place(), "name a unit of kind "+l.Kind.Name, "unit %s is for %s, the link is %s", l.Unit.Name, l.Unit.Kind.Title, l.Kind.Title)
	}
	if l.Unit == nil || l.Unit.Kind != l.Kind || l.Unit.Clock == nil {
		x.devices(l, n) // their own faults are said all the same
		return l
	}
	l.Ends = []End{{Name: "MCU", Clock: l.Unit.Clock.Freq()}}
	if l.Model = k.model(x, l, n); l.Model == nil {
		return l
	}
	l.Lines = x.lines(l, n.Get("lines"))
	if p := n.Get("port"); p != nil {
		l.Port = &Port{Path: p.Text("path"), Flow: doc.Of[string](p, "flow"), DTR: doc.Of[string](p, "dtr"), RTS: doc.Of[string](p, "rts")}
	}
	for _, c := range n.Get("checks").All() {
		k.check(x, l, c)
	}
	x.control(l)
	return l
}

// BitWith is a bit of the MCU's end while it talks to the device with the index: on some
// kinds of links each has a rate of its own.
func (l *Link) BitWith(dev int) quantity.Time {
	if m, own := l.Model.(interface{ BitTo(dev int) quantity.Time }); own {
		return m.BitTo(dev)
	}
	return l.Model.Bit()
}

// Roles are the parts that lines play on the link.
func (l *Link) Roles() []bus.Role { return l.Kind.RolesFor(l.Devices()) }

// lines reads what the lines are called in captures; without a word LINK.ROLE.
func (x *binder) lines(l *Link, n *doc.Node) map[string]string {
	out := map[string]string{}
	var roles []string
	for _, r := range l.Roles() {
		roles = append(roles, r.Name)
		if n == nil {
			out[r.Name] = l.Name + "." + r.Name
		}
	}
	for _, e := range n.All() {
		if !slices.Contains(roles, e.Key) {
			x.unknownLine(l.Kind, e, roles)
			continue
		}
		out[e.Key] = e.Scalar
	}
	return out
}

func (x *binder) unknownLine(k *bus.Kind, n *doc.Node, roles []string) {
	change := "the lines are " + strings.Join(roles, ", ")
	if m := doc.Nearest(n.Key, roles); m != "" {
		change = fmt.Sprintf("did you mean %s?", m)
	}
	x.fault("unknown-line", n.KeyPlace(), change, "%s has no line %q", k.Name, n.Key)
}

// devices loads the device files of a link, in the order of the bench; one that has
// a fault is left out.
func (x *binder) devices(l *Link, n *doc.Node) (parts []*device.Device, nodes []*doc.Node) {
	all, one := n.Get("devices").All(), n.Get("device")
	if one != nil {
		all = []*doc.Node{one}
	}
	for _, c := range all {
		if d := x.loadDevice(l, c); d != nil {
			change, with := x.oddly(d, c)
			as := part{of: d, name: c.Key, with: with}
			if c == one {
				as.name = d.Name
			}
			d = x.kept.part(as, change)
			parts, nodes = append(parts, d), append(nodes, c)
		}
	}
	return parts, nodes
}

// loadDevice loads the device file that a node of a link names; nil with a fault
// said.
func (x *binder) loadDevice(l *Link, n *doc.Node) *device.Device {
	d, faults := x.kept.device(x.dir, n.Text("file"))
	if d == nil {
		for i := range faults {
			if faults[i].Where.Line == 0 {
				faults[i].Where = n.Get("file").Place()
			}
		}
		for _, f := range faults { // a file that several name has its faults once
			if !slices.ContainsFunc(x.faults, func(o finding.Finding) bool { return o.Code == f.Code && o.Where == f.Where && o.Seen == f.Seen }) {
				x.faults = append(x.faults, f)
			}
		}
		return nil
	}
	if d.Kind != l.Kind {
		x.fault("device-of-another-kind", n.Get("file").Place(), "name a device file of kind "+l.Kind.Name, "%s is for %s, the link is %s", d.Name, d.Kind.Title, l.Kind.Title)
		return nil
	}
	return d
}

// noDevices says that a bus has no devices.
func (x *binder) noDevices(n *doc.Node) {
	x.fault("no-devices", n.Get("devices").KeyPlace(), "name at least one device file", "%s has no devices", n.Key)
}

// Devices gives the names of the devices.
func (l *Link) Devices() []string {
	var out []string
	for _, e := range l.Ends[min(1, len(l.Ends)):] {
		out = append(out, e.Name)
	}
	return out
}

// Lint gives everything that the description itself shows to be wrong or worth
// knowing, worst first.
func (l *Link) Lint() []finding.Finding {
	out := append(l.Model.lint(), l.lintCommon()...)
	for i := range out {
		out[i].Link = l.Name
	}
	finding.Sort(out)
	return out
}

// Settable lists the paths of the link's settings, as an edit names them.
func (l *Link) Settable() []string {
	var out []string
	for _, p := range linkSchema.Paths(l.node) {
		if p[0] != "kind" && p[0] != "checks" {
			out = append(out, "links."+l.Name+"."+strings.Join(p, "."))
		}
	}
	return out
}

// Choices gives the words that may stand at one of the settable paths, and says what may.
func (l *Link) Choices(path string) (words []string, what string) {
	rest, below := strings.CutPrefix(path, "links."+l.Name+".")
	if !below {
		return nil, ""
	}
	return linkSchema.Choices(l.node, strings.Split(rest, ".")...)
}

// path gives the path of an edit below the link.
func (l *Link) path(keys ...string) []string {
	return append([]string{"links", l.Name}, keys...)
}

// start reads what the firmware does to start the MCU's end.
func (x *binder) start(l *Link, b *Bench, m *doc.Node) {
	l.Receive = doc.Of[string](m, "receive")
	if m.Get("startup") != nil {
		l.Startup = doc.Of[[]string](m, "startup")
	}
	if h := m.Get("handler"); h != nil {
		l.Handler = h.Scalar
		if b.MCU.Units[l.Handler] == nil {
			x.fault("unknown-unit", h.Place(), "write one of the MCU's units", "the MCU has no unit %q", l.Handler)
		}
	}
	if c := m.Get("left-over"); c != nil {
		l.LeftOver = check.Bytes(doc.As[[]check.Cell](c))
		if len(l.LeftOver) != 1 {
			x.fault("left-over-one", c.Place(), "write one character, as 5A", "the receive register holds one character, not %d", len(l.LeftOver))
		}
	}
}

// startedKeys are what the MCU's end of every kind says of its firmware.
func startedKeys() []doc.Key {
	return []doc.Key{
		{Name: "source", Doc: "document and page, or who chose it", Type: doc.AnyText},
		{Name: "receive", Doc: "how received words leave the unit", Type: doc.Enum(startup.Interrupt, startup.Polled, startup.DMA), Default: startup.Interrupt},
		{Name: "handler", Doc: "the unit whose interrupt handler the firmware has for this link; absent: its own", Type: doc.NameType},
		{Name: "startup", Doc: "the startup steps that the firmware does, in their order, separated by commas; absent: all that are needed, in an order that works", Type: doc.Scalar("names of steps, separated by commas", func(s string) ([]string, error) {
			steps, err := startup.Parse(s)
			if steps == nil {
				steps = []string{}
			}
			return steps, err
		})},
	}
}

// ModelOf gives the model of the link with a name; the zero value where there is no
// such link, or one of another kind.
func ModelOf[M Model](b *Bench, name string) M {
	var none M
	if l := b.Link(name); l != nil {
		if m, ok := l.Model.(M); ok {
			return m
		}
	}
	return none
}

// RateText prints a rate as the link's kind of bus has it: in baud on character links, else in bit/s.
func (l *Link) RateText(r quantity.Rate, digits int) string {
	if operation.Characters(l.Kind.Name) {
		return r.Round(digits)
	}
	return r.RoundBits(digits)
}
