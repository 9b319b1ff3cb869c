// Package device reads device files: the settings of an external part's end and how
// it behaves, and runs that behaviour for the simulation.
package device

import (
	"fmt"
	"gavrix.org/gavrix/core/bus/pulse"
	"io/fs"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/packet"
)

// Device is a described part.
type Device struct {
	Name, About, Source string
	File                string
	Kind                *bus.Kind
	// End is the part's end of its link, of the type that its kind of bus has.
	End any
	// Talks is what a part on a character link says; nil for other parts.
	Talks *Talker
	// Map is what a part with registers holds; nil where the file describes none.
	Map *Map
	// Layouts are how values stand in its messages.
	Layouts []*Layout
	// Framing is how messages stand in its characters; nil on other kinds of bus.
	Framing *packet.Format
	// Acts is what a simulated part with registers does by itself.
	Acts *Acts
	// Odd is what this very part does otherwise; nil: nothing.
	Odd *Odd
}

// Named is the part as one bench calls it: the same file may describe several.
func (d *Device) Named(name string) *Device {
	if name == d.Name {
		return d
	}
	n := *d
	n.Name = name
	if e, can := d.End.(interface{ Named(name string) any }); can {
		n.End = e.Named(name)
	}
	return &n
}

// Schema of a device file.
var Schema = schema()

// schema is what all device files say, with the end and the behaviour of each kind.
func schema() *doc.Type {
	var kinds []doc.Kind
	for _, k := range all.Kinds {
		if k.EndSchema == nil {
			continue
		}
		t := doc.Map(
			doc.Key{Name: "device", Doc: "name of the part", Type: doc.NameType, Required: true},
			doc.Key{Name: "about", Doc: "what it is", Type: doc.AnyText},
			doc.Key{Name: "source", Doc: "document and page that the facts come from", Type: doc.AnyText},
			doc.Key{Name: "end", Doc: "the part's end of the link, as its sheet words it", Type: k.EndSchema, Required: true},
		)
		if _, has := laids[k.Name]; has {
			t = t.With(layoutsKey(k.Name))
		}
		if r, has := reaches[k.Name]; has {
			t = t.With(mapKeys(r.messages)...)
			if r.keys != nil {
				t = t.With(r.keys()...)
			}
		}
		if b, has := behaviours[k.Name]; has {
			t = t.With(doc.Key{Name: "behaviour", Doc: "what the simulated part does", Type: b.schema})
		}
		kinds = append(kinds, doc.Kind{Name: k.Name, Type: t})
	}
	return doc.ByKey("kind", "kind of bus", kinds...)
}

// behaviour is what parts on one kind of bus do beyond what their end says. A new
// one is a file and a row in behaviours.
type behaviour struct {
	schema *doc.Type
	bind   func(d *Device, n *doc.Node) []finding.Finding
}

var behaviours = map[string]behaviour{
	"uart": {talkerSchema, bindTalker},
	"spi":  {actsSchema, bindActs},
	"i2c":  {actsSchema, bindActs},
	"can":  {actsSchema, bindActs},
}

// reach is how the registers of parts on one kind of bus are reached. Parts on other
// kinds have none.
type reach struct {
	// rules are what the bus demands of access patterns, by the part's end.
	rules func(end any) access.Rules
	// messages: the part is asked and answers; keys are those that say how, bind reads them.
	messages bool
	keys     func() []doc.Key
	bind     func(x *mapper, d *Device, root *doc.Node)
	// address gives what comes in front of a span; nil: nothing.
	address func(end any, reads bool) []byte
}

var reaches = map[string]reach{
	"spi": {rules: func(end any) access.Rules {
		return access.Rules{Duplex: true, Break: "release", Word: end.(spi.End).Word}
	}, keys: func() []doc.Key {
		return append(checkKeys("word", "line")(), doc.Key{Name: "chain", Doc: "number of parts in a row through which the bits of the only pattern move: each takes over what it holds at the release", Type: doc.Int(1, 64)},
			doc.Key{Name: "latch", Doc: "a chain takes over what it holds only when the clocks of the select are a multiple of this, and not 0; absent: always", Type: doc.Int(1, 4096)})
	}},
	"i2c": {rules: func(any) access.Rules { return access.Rules{Break: "restart", Word: 8} }, keys: checkKeys("all", "word", "line"),
		address: func(end any, reads bool) []byte {
			return end.(i2c.End).Address.Wire(reads)
		}},
	"uart": {rules: func(any) access.Rules { return access.Rules{} }, messages: true, keys: packetKeys, bind: packets},
	"can":  {rules: func(any) access.Rules { return access.Rules{} }, messages: true, keys: canKeys, bind: frames},
}

// Load reads the device file with the name below dir.
func Load(dir fs.FS, name string) (*Device, []finding.Finding) {
	text, err := doc.ReadFile(dir, name)
	if err != nil {
		return nil, []finding.Finding{{
			Severity: finding.Error, Code: "device-file-unreadable", Where: finding.Place{File: name},
			Seen: fmt.Sprintf("the device file can't be read: %v", err), Change: "put the file there or correct the name in the bench",
		}}
	}
	return Read(dir, name, text)
}

// Parse reads the text of a device file that refers to no other.
func Parse(name string, text []byte) (*Device, []finding.Finding) { return Read(nil, name, text) }

// Read reads the text of a device file below dir.
func Read(dir fs.FS, name string, text []byte) (*Device, []finding.Finding) {
	file, faults := doc.Parse(name, text)
	if file == nil {
		return nil, faults
	}
	root := file.Root
	if faults := Schema.Validate(root); len(faults) > 0 {
		return nil, faults
	}
	d := &Device{Name: root.Text("device"), About: root.Text("about"), Source: root.Text("source"), File: name, Kind: all.ByName(root.Text("kind"))}
	var err error
	if d.End, err = d.Kind.ParseEnd(root.Get("end"), d.Name); err != nil {
		return nil, []finding.Finding{{
			Severity: finding.Error, Code: "bad-end", Where: root.Get("end").KeyPlace(), Seen: err.Error(), Change: "correct the end",
		}}
	}
	if _, has := reaches[d.Kind.Name]; has {
		if faults := bindMap(dir, d, root); len(faults) > 0 {
			return nil, faults
		}
	}
	if faults := bindLayouts(d, root); len(faults) > 0 {
		return nil, faults
	}
	if b, has := behaviours[d.Kind.Name]; has {
		if faults := b.bind(d, root.Map("behaviour")); len(faults) > 0 {
			return nil, faults
		}
	}
	if root.Get("packet") != nil && d.Talks != nil {
		if d.Talks.packet = d.Framing; d.Map != nil {
			d.Talks.packet = d.Map.Dialogue.Packet
		}
	}
	return d, nil
}

// laid is what layouts must know of the messages on one kind of bus.
type laid struct {
	// bits is the width of a word, by the part's end.
	bits func(end any) int
	// identified: frames have identifiers. characters: messages may be text.
	identified, characters bool
	// framing reads how messages stand in characters; nil of others.
	framing func(x *mapper, d *Device, root *doc.Node)
}

var byteWords = func(any) int { return 8 }

var laids = map[string]laid{
	"uart":  {bits: byteWords, characters: true, framing: packets},
	"spi":   {bits: func(end any) int { return end.(spi.End).Word }},
	"i2c":   {bits: byteWords},
	"can":   {bits: byteWords, identified: true},
	"pulse": {bits: func(end any) int { return end.(pulse.Settings).Element }},
}
