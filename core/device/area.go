package device

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/doc"
)

// Area is a stretch of a memory with a purpose of its own.
type Area struct {
	Name, About string
	At, Length  int
	// Mark are the bytes with which it begins once it holds something; Default what is
	// to be written once, nil where nothing is stated.
	Mark, Default []byte
}

// AreaState is what the bytes of an area say of it.
type AreaState uint8

// The states.
const (
	AreaValid AreaState = iota
	AreaNeverWritten
	AreaDamaged // neither erased nor begun as it should be
)

// State judges the bytes of the area.
func (a *Area) State(data []byte) AreaState {
	switch {
	case !slices.ContainsFunc(data, func(b byte) bool { return b != Erased }):
		return AreaNeverWritten
	case !slices.Equal(data[:min(len(a.Mark), len(data))], a.Mark):
		return AreaDamaged
	}
	return AreaValid
}

// Area gives the area with a name; nil where there is none.
func (m *Memory) Area(name string) *Area {
	if m == nil {
		return nil
	}
	for _, a := range m.Areas {
		if strings.EqualFold(a.Name, name) {
			return a
		}
	}
	return nil
}

var areasKey = doc.Key{Name: "areas", Doc: "stretches with a purpose of their own, by name", Type: doc.MapOf(doc.Map(
	doc.Key{Name: "at", Doc: "number of the first byte, as 0x40", Type: numberType, Required: true},
	doc.Key{Name: "length", Doc: "bytes", Type: doc.Int(1, 1<<24), Required: true},
	doc.Key{Name: "mark", Doc: "bytes with which it begins once it was written, in hex as 5A 01: what begins otherwise is damaged", Type: doc.AnyText},
	doc.Key{Name: "default", Doc: "what is to be written once, in hex; what is not stated of it stays as it is", Type: doc.AnyText},
	doc.Key{Name: "about", Doc: "what it holds", Type: doc.AnyText},
))}

func (x *mapper) areas(m *Memory, n *doc.Node) {
	for _, c := range n.All() {
		if !x.named(c) {
			continue
		}
		if x.m.Value(c.Key) != nil {
			x.fault("name-twice", c, "take another name", "%s is the name of something else", c.Key)
		}
		a := &Area{Name: c.Key, About: c.Text("about"), At: int(doc.Of[uint64](c, "at")), Length: doc.Of[int](c, "length")}
		if uint64(a.At)+uint64(a.Length) > uint64(m.Size) {
			x.fault("area-outside", c, "fix at or length", "%s reaches from 0x%X to 0x%X; the last byte is 0x%X", a.Name, a.At, a.At+a.Length-1, m.Size-1)
		}
		for _, o := range m.Areas {
			if a.At < o.At+o.Length && o.At < a.At+a.Length {
				x.fault("areas-overlap", c, "fix at or length", "%s and %s overlap at 0x%X", o.Name, a.Name, max(a.At, o.At))
			}
		}
		for key, to := range map[string]*[]byte{"mark": &a.Mark, "default": &a.Default} {
			text := c.Get(key)
			if text == nil {
				continue
			}
			data, err := hex.DecodeString(strings.Join(strings.Fields(text.Scalar), ""))
			switch {
			case err != nil || len(data) == 0:
				x.fault("bad-bytes", text, "write bytes in hex, as 5A 01", "%s of %s: %q is no row of bytes", key, a.Name, text.Scalar)
			case len(data) > a.Length:
				x.fault("bytes-too-many", text, fmt.Sprintf("at most %d", a.Length), "%s of %s has %d bytes", key, a.Name, len(data))
			}
			*to = data
		}
		if len(a.Default) > 0 && (len(a.Default) < len(a.Mark) || !slices.Equal(a.Default[:len(a.Mark)], a.Mark)) {
			x.fault("default-without-mark", c.Get("default"), "begin the default as the mark", "%s: its default would be taken for damaged", a.Name)
		}
		m.Areas = append(m.Areas, a)
	}
}
