package bench

import (
	"strings"

	"gavrix/core/doc"
)

// Sourced is a value of a bench with where it comes from.
type Sourced struct {
	Path   string // as links.upper-gauge.mcu.rate
	Value  string
	Source string // document and page, or own measurement; "" where none is given
	Line   int    // in the bench file; 0 for what a device file states
}

// notValues are keys whose values need no source: names, texts, what is chosen
// for checks and ports.
var notValues = map[string]bool{
	"source": true, "sheet": true, "about": true, "name": true, "kind": true, "unit": true, "clock": true, "from": true, "file": true, "lines": true, "control": true,
	"checks": true, "ask": true, "port": true, "registers": true, "register": true, "field": true, "unproven": true,
}

// Sources lists the values of the MCU and of the links in the order of the file,
// each with the source that stands beside it or above it.
func (b *Bench) Sources() []Sourced {
	var out []Sourced
	var walk func(n *doc.Node, path, source string)
	walk = func(n *doc.Node, path, source string) {
		// The source of a clock is its crystal; its papers are its sheet.
		clock := strings.HasPrefix(path, "mcu.clocks.")
		if s := n.Text("source"); s != "" && !clock {
			source = s
		}
		if s := n.Text("sheet"); s != "" && clock {
			source = s
		}
		for _, e := range n.All() {
			at := path + "." + e.Key
			switch {
			case notValues[e.Key] && !(clock && e.Key == "source"):
			case e.Kind == doc.Value:
				own := source
				if own == "" && e.Key == "measured" {
					own = "measured"
				}
				out = append(out, Sourced{at, e.Scalar, own, e.Place().Line})
			case e.Kind == doc.Mapping:
				walk(e, at, source)
			}
		}
	}
	walk(b.file.Root.Get("mcu"), "mcu", "")
	for _, l := range b.file.Root.Get("links").All() {
		walk(l, "links."+l.Key, "")
		if link := b.Link(l.Key); link != nil && link.Device != nil {
			end := link.Device.End
			out = append(out, Sourced{"links." + l.Key + ".device: " + link.Device.Name, end.Rate.String() + " " + end.Frame.String(), link.Device.Source, 0})
		}
	}
	return out
}

// Find gives those whose path, value or source hold a text, in any case.
func Find(all []Sourced, text string) []Sourced {
	text = strings.ToLower(text)
	var out []Sourced
	for _, s := range all {
		if strings.Contains(strings.ToLower(s.Path+"\x00"+s.Value+"\x00"+s.Source), text) {
			out = append(out, s)
		}
	}
	return out
}
