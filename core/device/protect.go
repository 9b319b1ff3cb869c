package device

import (
	"fmt"

	"gavrix.org/gavrix/core/doc"
)

// Protection keeps a stretch of a memory from being written.
type Protection struct {
	Name       string
	At, Length int
	// While is the condition under which it does; nil: always.
	While *Condition
}

// Covers reports whether a byte is in the stretch.
func (a *Protection) Covers(n uint64) bool {
	return n >= uint64(a.At) && n < uint64(a.At)+uint64(a.Length)
}

var protectKey = doc.Key{Name: "protect", Doc: "stretches that take no writing, by name", Type: doc.MapOf(doc.Map(
	doc.Key{Name: "at", Doc: "number of the first byte, as 0x40", Type: numberType, Required: true},
	doc.Key{Name: "length", Doc: "bytes", Type: doc.Int(1, 1<<24), Required: true},
	doc.Key{Name: "while", Doc: "of what values that depends: STATUS.BP == 3; absent: always", Type: doc.AnyText},
))}

func (x *mapper) protections(m *Memory, n *doc.Node) {
	for _, c := range n.All() {
		a := &Protection{Name: c.Key, At: int(doc.Of[uint64](c, "at")), Length: doc.Of[int](c, "length")}
		if uint64(a.At)+uint64(a.Length) > uint64(m.Size) {
			x.fault("area-outside", c, "fix at or length", "%s reaches from 0x%X to 0x%X; the last byte is 0x%X", a.Name, a.At, a.At+a.Length-1, m.Size-1)
		}
		if at := c.Get("while"); at != nil {
			a.While = x.condition(a.Name, at)
		}
		m.Protected = append(m.Protected, a)
	}
}

// Protects says what keeps bytes from being written for certain, and what may; "" where nothing
// does.
func (m *Memory) Protects(from, count int) (always, perhaps string) {
	for _, a := range m.Protected {
		switch {
		case a.At >= from+count || from >= a.At+a.Length:
		case a.While == nil:
			always = fmt.Sprintf("%s, 0x%X to 0x%X, takes no writing", a.Name, a.At, a.At+a.Length-1)
		default:
			perhaps = fmt.Sprintf("%s, 0x%X to 0x%X, takes no writing while %s", a.Name, a.At, a.At+a.Length-1, a.While.Text)
		}
	}
	return always, perhaps
}

// takes reports whether the memory takes a byte with a number now.
func (p *Part) takes(n uint64) bool {
	if p.odd.Bad[n] {
		return false
	}
	for _, a := range p.m.Memory.Protected {
		if a.Covers(n) && (a.While == nil || a.While.value(p.number) != 0) {
			return false
		}
	}
	return true
}
