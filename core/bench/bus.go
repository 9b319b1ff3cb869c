package bench

import (
	"io/fs"
	"strings"

	"gavrix/core/bus"
	"gavrix/core/bus/can"
	"gavrix/core/bus/i2c"
	"gavrix/core/bus/spi"
	"gavrix/core/device"
	"gavrix/core/doc"
	"gavrix/core/finding"
	"gavrix/core/quantity"
)

// Bus is a link that several devices share: spi, i2c or can. Just one of the
// three parts is there.
type Bus struct {
	Common
	Index uint16 // in captures: behind the character links, or NotSimulated
	SPI   *SPI
	I2C   *I2C
	CAN   *CAN
}

// NotSimulated is the index of a bus that the simulation does not run.
const NotSimulated = 0xffff

// busDevice is the key of a device on a bus in a bench.
func busDevice(more ...doc.Key) doc.Key {
	return doc.Key{Name: "devices", Doc: "the devices on the bus by name", Type: doc.MapOf(doc.Map(append([]doc.Key{
		{Name: "file", Doc: "its device file, beside the bench", Type: doc.Scalar("a file name below the bench's folder", checkFile), Required: true},
		{Name: "source", Doc: "document and page", Type: doc.AnyText},
	}, more...)...)), Required: true}
}

// bus reads a link that several devices share.
func (x *binder) bus(dir fs.FS, b *Bench, n *doc.Node) *Bus {
	l := &Bus{Common: x.common(b, n)}
	l.settings = func() []wish { return nil }
	if l.Unit == nil || l.Unit.Kind != l.Kind.Name || l.Unit.Clock == nil {
		return l // said already
	}
	switch l.Kind.Name {
	case spi.Kind.Name:
		l.SPI = x.spi(dir, l, n)
	case i2c.Kind.Name:
		l.I2C = x.i2c(dir, l, n)
	case can.Kind.Name:
		l.CAN = x.can(dir, l, n)
	}
	if len(n.Get("devices").All()) == 0 {
		x.fault("no-devices", n.Get("devices").KeyPlace(), "name at least one device file", "%s has no devices", n.Key)
	}
	x.control(&l.Common)
	return l
}

// busUnit reads what a unit of a bus says of its clocking.
func (x *binder) busUnit(u *Unit, n *doc.Node) {
	switch u.Kind {
	case spi.Kind.Name:
		u.SPI = x.spiUnit(u, n)
	case i2c.Kind.Name:
		u.I2C = x.i2cUnit(u, n)
	case can.Kind.Name:
		u.CAN = x.canUnit(u, n)
	}
}

// loadDevice loads the device file that a node of a link names; nil with a fault
// said.
func (x *binder) loadDevice(dir fs.FS, l *Common, n *doc.Node) *device.Device {
	d, faults := device.Load(dir, n.Text("file"))
	if d == nil {
		for i := range faults {
			if faults[i].Where.Line == 0 {
				faults[i].Where = n.Get("file").Place()
			}
		}
		x.faults = append(x.faults, faults...)
		return nil
	}
	if d.Kind != l.Kind.Name {
		x.fault("device-of-another-kind", n.Get("file").Place(), "name a device file of kind "+l.Kind.Name, "%s is a %s device, the link a %s", d.Name, d.Kind, l.Kind.Name)
		return nil
	}
	return d
}

// Tap gives the settings with which an ideal tap reads the bus; nil of spi, where
// each device has its own.
func (l *Bus) Tap() bus.Settings {
	switch {
	case l.CAN != nil:
		return l.CAN.Nodes[0].Timing()
	case l.I2C != nil:
		return i2c.Settings{Stuck: 25 * quantity.Millisecond}
	}
	return nil
}

// Settable lists the paths of a link's settings, as an edit names them.
func (l *Common) Settable() []string {
	var out []string
	for _, p := range linkSchema.Paths(l.node) {
		if p[0] != "kind" && p[0] != "checks" {
			out = append(out, "links."+l.Name+"."+strings.Join(p, "."))
		}
	}
	return out
}

// Named gives what the link with a name has in common with all others, or nil.
func (b *Bench) Named(name string) *Common {
	for _, l := range b.All() {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// Settings describes the MCU's frame settings in short.
func (l *Bus) Settings() string {
	switch {
	case l.SPI != nil && len(l.SPI.Devices) > 0:
		return l.SPI.Devices[0].MCU.Describe() + " for " + l.SPI.Devices[0].Name
	case l.I2C != nil:
		return l.I2C.Wanted.BitRate()
	case l.CAN != nil && len(l.CAN.Nodes) > 0:
		return l.CAN.Nodes[0].Nominal.Wanted.BitRate()
	}
	return ""
}

// Bus gives the bus with a name, or nil.
func (b *Bench) Bus(name string) *Bus {
	for _, l := range b.Buses {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// Lint gives everything that the description itself shows to be wrong or worth
// knowing, worst first.
func (l *Bus) Lint() []finding.Finding {
	out := l.lintCommon()
	switch {
	case l.SPI != nil:
		out = append(out, l.lintSPI()...)
	case l.I2C != nil:
		out = append(out, l.lintI2C()...)
	case l.CAN != nil:
		out = append(out, l.lintCAN()...)
	}
	for i := range out {
		out[i].Link = l.Name
	}
	finding.Sort(out)
	return out
}

// Derivations explain the numbers of a bus, those of the device with the index
// first.
func (l *Bus) Derivations(dev int) []finding.Derivation {
	var out []finding.Derivation
	switch {
	case l.SPI != nil:
		out = l.SPI.derivations(dev)
	case l.I2C != nil:
		out = l.I2C.derivations()
	case l.CAN != nil:
		out = l.CAN.derivations(dev)
	}
	return append(out, l.Unit.Clock.Derivation())
}

// Devices gives the names of the devices.
func (l *Bus) Devices() []string {
	var out []string
	for _, d := range l.node.Get("devices").All() {
		out = append(out, d.Key)
	}
	return out
}
