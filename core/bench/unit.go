package bench

import (
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/startup"
	"gavrix.org/gavrix/core/transfer"
)

// MCU is the microcontroller.
type MCU struct {
	Name  string
	Units map[string]*Unit
	// Registers are the control registers; nil where none are described.
	Registers *register.Map
	options   []*option
}

// Unit is a bus unit of the MCU.
type Unit struct {
	Name  string
	Kind  *bus.Kind
	Clock clock.Path
	// Clocking is how the unit makes bits of its clock, of the type that its kind
	// has: a clock.Generator, *SPIUnit, *I2CUnit, *CANUnit.
	Clocking any
	Control  map[string]string // where settings go: REGISTER.FIELD by setting
	// Locked: rate and frame take no writes while the unit is on. Latched: the
	// second register of the rate takes effect when the first is written.
	Locked, Latched bool
	// Depth is how many received words the unit holds until somebody takes them.
	Depth int
	// SendDepth is how many words its send side holds beside the shifter, OnFull which word is
	// lost when it is full, Word the bits of its data register, 0 for as many as a word needs.
	SendDepth, Word int
	OnFull          machine.Policy
	Source          string
}

func (x *binder) mcu(n *doc.Node) MCU {
	m := MCU{Name: n.Text("name"), Units: map[string]*Unit{}}
	clocks := n.Get("clocks")
	for _, u := range n.Get("units").All() {
		unit := &Unit{
			Name: u.Key, Kind: all.ByName(u.Text("kind")), Clock: x.path(clocks, u.Get("clock")), Control: map[string]string{},
			Locked: doc.Of[bool](u, "locked"), Source: u.Text("source"),
		}
		k := kindNamed(unit.Kind.Name)
		if k.depth != "" {
			unit.Depth = doc.Of[int](u, "depth")
		}
		unit.SendDepth, unit.OnFull = doc.Of[int](u, "send-depth"), transfer.PolicyNamed(doc.Of[string](u, "on-full"))
		if w := u.Get("data-register"); w != nil {
			unit.Word = doc.As[int](w)
		}
		if k.twoRates {
			unit.Latched = doc.Of[bool](u, "latched")
		}
		unit.Clocking = k.clocking(x, unit, u)
		for _, c := range u.Get("control").All() {
			unit.Control[c.Key] = c.Scalar
		}
		m.Units[u.Key] = unit
	}
	return m
}

// unitSchema is what units of a kind say.
func unitSchema(k *kind) *doc.Type {
	var controls []doc.Key
	if k.controls != nil {
		controls = k.controls()
	}
	own := k.unit()
	if k.twoRates {
		own = append(own, doc.Key{Name: "latched", Doc: "the second register of the rate takes effect when the first is written", Type: doc.YesNo, Default: "no"})
	}
	if k.depth != "" {
		own = append(own, doc.Key{Name: "depth", Doc: "received words or frames that the unit holds until the handler takes them", Type: doc.Int(1, 65536), Default: k.depth})
	}
	return doc.Map(
		doc.Key{Name: "clock", Doc: "the clock that feeds it", Type: doc.NameType, Required: true},
		doc.Key{Name: "control", Doc: "where its settings go, each REGISTER.FIELD; the field's meanings are the settings' words", Type: doc.Map(append(controls, startKeys(k)...)...)},
		doc.Key{Name: "locked", Doc: "rate and frame take no writes while the unit is on", Type: doc.YesNo, Default: "no"},
		doc.Key{Name: "source", Doc: "document and page", Type: doc.AnyText},
		doc.Key{Name: "send-depth", Doc: "words that its send side holds beside the shifter", Type: doc.Int(1, 65536), Default: "1"},
		doc.Key{Name: "on-full", Doc: "which word is lost when one comes and it is full", Type: doc.Enum(machine.Policies...), Default: "keep-oldest"},
		doc.Key{Name: "data-register", Doc: "bits of its data register; absent: as many bytes as a word needs", Type: doc.OneOf(8, 16, 32)},
	).With(own...)
}

// startKeys are the start-up steps of a unit.
func startKeys(k *kind) []doc.Key {
	var out []doc.Key
	for _, r := range startup.Roles {
		switch {
		case r.Name == "rate", r.Name == "rate-fine", r.Name == "frame", r.Name == "join":
			continue // the rate generator and the settings above say these
		case !r.Has(k.bus.Steps):
			continue
		}
		out = append(out, doc.Key{Name: r.Name, Doc: "startup: " + r.Title + ", as REGISTER.FIELD, or REGISTER.FIELD = MEANING where that is not `on`", Type: wordFieldType})
	}
	return out
}
