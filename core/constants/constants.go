// Package constants gives what a device file says of a part as plain named numbers, for
// firmware: register numbers, masks and places of fields, codes, expected identity.
package constants

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/operation"
)

// Constant is a named number.
type Constant struct {
	Name  string `json:"name"`
	Value uint64 `json:"value"`
	// Bits is the size of what it is about.
	Bits  int    `json:"bits"`
	About string `json:"about"`
}

// Of gives the constants of a part, register by register, each name once.
func Of(p *operation.Part) []Constant {
	x := &collector{seen: map[string]bool{}}
	m := p.Map
	part := Name(p.Name)
	for _, r := range m.Registers {
		reg := part + "_" + Name(r.Name)
		if r.Numbered {
			x.add(reg, r.Address, 32, fmt.Sprintf("register, %d bits, %s%s", r.Bits, r.Access, about(r.About)))
		}
		if r.Paged {
			x.add(reg+"_PAGE", r.Page, 32, "page on which it is")
		}
		for i := range r.Fields {
			f := &r.Fields[i]
			field := reg + "_" + Name(f.Name)
			x.add(field+"_MASK", f.Mask(), r.Bits, "bits "+f.Range()+about(f.About))
			x.add(field+"_SHIFT", uint64(f.Low), 8, "its lowest bit")
			if v := m.Value(r.Name + "." + f.Name); v != nil {
				x.codes(field, v, f.Low)
			}
		}
		if v := m.Value(r.Name); v != nil {
			x.codes(reg, v, 0)
		}
	}
	for _, t := range m.Texts {
		if t.Numbered {
			x.add(part+"_"+Name(t.Name), t.Number, 32, fmt.Sprintf("text of at most %d characters, %s%s", t.Most, t.Access, about(t.About)))
		}
	}
	if id := m.Identity; id != nil {
		x.add(part+"_IDENTITY", id.Expect, id.Value.Bits, "what "+id.Value.Name+" holds")
	}
	if mem := m.Memory; mem != nil {
		x.add(part+"_SIZE", uint64(mem.Size), 32, "bytes")
		x.add(part+"_PAGE_SIZE", uint64(mem.Page), 32, "bytes that one writing may reach")
	}
	return x.out
}

func about(text string) string {
	if text == "" {
		return ""
	}
	return "; " + text
}

type collector struct {
	out  []Constant
	seen map[string]bool
}

// add adds a constant; of one name only the first.
func (x *collector) add(name string, v uint64, bits int, about string) {
	if x.seen[name] {
		return
	}
	x.seen[name] = true
	x.out = append(x.out, Constant{name, v, bits, about})
}

// codes adds the codes of a value, in their place.
func (x *collector) codes(name string, v *device.Value, low int) {
	var raws []uint64
	for raw := range v.Codes {
		raws = append(raws, raw)
	}
	slices.Sort(raws)
	for _, raw := range raws {
		word := Name(v.Codes[raw])
		if word == "" || x.seen[name+"_"+word] {
			word = strings.TrimPrefix(fmt.Sprintf("%s_%d", word, raw), "_")
		}
		x.add(name+"_"+word, raw<<low, v.Bits+low, v.Codes[raw])
	}
}

// Name makes a name of a text that languages take: capitals, digits, underlines.
func Name(text string) string {
	var b strings.Builder
	gap := false
	for _, r := range text {
		switch {
		case r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r)):
			if gap && b.Len() > 0 {
				b.WriteByte('_')
			}
			gap = false
			b.WriteRune(unicode.ToUpper(r))
		default:
			gap = true
		}
	}
	return b.String()
}
