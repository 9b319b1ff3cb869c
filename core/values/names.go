// Package values knows the values that the traffic of a bench carries: what their names
// are, what each record says of them, and what they were over time.
package values

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/safe"
)

// Name is a value that messages on a link carry.
type Name struct {
	Link uint16
	// Part is the device whose file describes it; "" of what a link itself does.
	Part string
	// Message is the layout that it stands in; "" of one that registers hold.
	Message string
	Value   string
	About   string
	// Format is what its bits mean; nil of values that are calculated.
	*coding.Format
	// FromMCU: it is in messages that the MCU sends alone.
	FromMCU bool
	// Does: it is what the link itself does, not what messages on it say.
	Does  bool
	place int
}

// String gives the whole name: `pump-drive.pump-status.pressure`. Blanks are dashes.
func (n *Name) String() string {
	parts := []string{n.Part, n.Message, n.Value}
	parts = slices.DeleteFunc(parts, func(s string) bool { return s == "" })
	return Dashed(strings.Join(parts, "."))
}

// Unit gives the unit in which it is a number; "" of none.
func (n *Name) UnitText() string {
	if n.Format == nil {
		return ""
	}
	return n.Format.Unit
}

// Dashed writes a name as one word.
func Dashed(s string) string { return strings.Join(strings.Fields(safe.Text(s)), "-") }

// Catalog are the names of a bench's values, on the links of a capture.
type Catalog struct {
	All []*Name
	of  map[key]*Name
}

type key struct {
	link          uint16
	part, message string
	value         string
}

// Of gives the values of a bench, on the links of a capture that have the names of its
// links; without a bench there are none but those of the links themselves.
func Of(b *bench.Bench, m *capture.Meta) *Catalog {
	c := &Catalog{of: map[key]*Name{}}
	links := map[string]uint16{}
	for i := range m.Links {
		links[m.Links[i].Name] = uint16(i)
	}
	if b != nil {
		for _, l := range b.Links {
			at, has := links[l.Name]
			if !has {
				continue
			}
			for _, p := range l.Parts() {
				c.part(at, p)
			}
			for _, t := range l.Transfers {
				if t.Plan.Receive {
					c.add(Name{Link: at, Part: l.Name, Message: t.Name, Value: fillName, Does: true, About: "bytes that nobody has taken when a record ends: in the unit and in the ring of the transfer", Format: &coding.Format{Bits: 64, Unit: "bytes"}})
				}
			}
		}
	}
	for i := range m.Links {
		for _, f := range figures {
			c.add(Name{Link: uint16(i), Part: m.Links[i].Name, Value: f.name, Does: true, About: f.about, Format: &coding.Format{Bits: 64, Unit: f.unit}})
		}
	}
	return c
}

func (c *Catalog) add(n Name) {
	k := key{n.Link, n.Part, n.Message, n.Value}
	if c.of[k] != nil {
		return
	}
	n.place = len(c.All)
	c.All = append(c.All, &n)
	c.of[k] = &n
}

func (c *Catalog) part(link uint16, p *operation.Part) {
	if p.Map != nil {
		for _, v := range p.Map.Values {
			n := Name{Link: link, Part: p.Name, Value: v.Name, About: v.About, Format: &v.Format}
			if v.From != nil {
				n.Format = &coding.Format{Bits: 64, Unit: v.Unit}
			}
			c.add(n)
		}
	}
	for _, l := range p.Layouts {
		for _, f := range l.Fields {
			c.add(Name{Link: link, Part: p.Name, Message: l.Name, Value: f.Name, About: f.About, Format: &f.Format, FromMCU: l.FromMCU})
		}
	}
}

// name finds the name of a value.
func (c *Catalog) name(link uint16, part, message, value string) *Name {
	return c.of[key{link, part, message, value}]
}

// Find gives the value with a name, however it is written in capitals and with dashes or
// blanks. The message, and the part too, may be left out where only one value is meant.
func (c *Catalog) Find(text string) (*Name, error) {
	return c.find(text, func(*Name) bool { return true })
}

// find is Find among the names that are wanted, where any of them is meant.
func (c *Catalog) find(text string, wanted func(*Name) bool) (*Name, error) {
	want := strings.Split(strings.ToLower(Dashed(text)), ".")
	var whole *Name
	var found []*Name
	for _, n := range c.All {
		have := strings.Split(strings.ToLower(n.String()), ".")
		if slices.Equal(have, want) {
			whole = n
		}
		if suits(have, want) {
			found = append(found, n)
		}
	}
	if some := slices.DeleteFunc(slices.Clone(found), func(n *Name) bool { return !wanted(n) }); len(some) > 0 {
		found = some
	}
	switch {
	case whole != nil && slices.Contains(found, whole):
		return whole, nil
	case len(found) == 1:
		return found[0], nil
	case len(found) == 0:
		if near := c.near(text); near != "" {
			return nil, fmt.Errorf("there is no value %s; did you mean %s?", safe.Text(text), near)
		}
		return nil, fmt.Errorf("there is no value %s", safe.Text(text))
	}
	var names []string
	for _, n := range found {
		names = append(names, n.String())
	}
	return nil, fmt.Errorf("%s can be %s", safe.Text(text), strings.Join(names, ", "))
}

// suits says whether a name is meant by some of its parts: the last one, and those in front of
// it in their order.
func suits(have, want []string) bool {
	if have[len(have)-1] != want[len(want)-1] {
		return false
	}
	at := len(have) - 2
	for i := len(want) - 2; i >= 0; i-- {
		for at >= 0 && have[at] != want[i] {
			at--
		}
		if at < 0 {
			return false
		}
		at--
	}
	return true
}

func (c *Catalog) near(text string) string {
	var names []string
	for _, n := range c.All {
		names = append(names, n.String(), n.Part+"."+Dashed(n.Value))
	}
	return doc.Nearest(Dashed(text), names)
}

// Short gives a name without what is not needed to tell it from the others.
func (c *Catalog) Short(n *Name) string {
	for _, s := range []string{n.Part + "." + n.Value, n.String()} {
		if found, err := c.Find(s); err == nil && found == n {
			return Dashed(s)
		}
	}
	return n.String()
}

// Sort puts names in the order of the bench.
func (c *Catalog) Sort(names []*Name) {
	slices.SortFunc(names, func(a, b *Name) int { return cmp.Compare(a.place, b.place) })
}

// register gives the name of a value of a part's registers.
func (c *Catalog) register(link uint16, part string, v *device.Value) *Name {
	return c.name(link, part, "", v.Name)
}
