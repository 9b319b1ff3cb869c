package bench

import (
	"slices"
	"strings"

	"gavrix.org/gavrix/core/doc"
)

// Sourced is a value of a bench with where it comes from.
type Sourced struct {
	Path   string // as links.upper-gauge.mcu.rate
	Value  string
	Source string // document and page, or own measurement; "" where none is given
	Origin string // default, chosen, copied, derived or measured
	Line   int    // in the bench file; 0 for what does not stand in it
}

// The origins of a value.
const (
	IsDefault  = "default"  // not written
	IsChosen   = "chosen"   // written, with no source
	IsCopied   = "copied"   // written, from a document
	IsDerived  = "derived"  // reckoned
	IsMeasured = "measured" // with its uncertainty beside it
)

// notValues are keys whose values need no source: names, texts, what is chosen
// for checks and ports.
var notValues = map[string]bool{
	"source": true, "sheet": true, "about": true, "name": true, "kind": true, "unit": true, "clock": true, "from": true, "file": true, "lines": true, "control": true,
	"checks": true, "ask": true, "port": true, "registers": true, "register": true, "field": true, "unproven": true,
	"startup": true, "receive": true, "handler": true, "messages": true,
}

// isValue says whether a key's value wants a source.
func isValue(key string) bool {
	return !notValues[key] && !strings.HasSuffix(key, "-register") && !strings.HasSuffix(key, "-field")
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
			case !isValue(e.Key) && !(clock && e.Key == "source"):
			case e.Kind == doc.Value:
				own := source
				if own == "" && e.Key == "measured" {
					own = "measured"
				}
				origin := IsChosen
				switch {
				case e.Key == "measured" || e.Key == "plus-minus":
					origin = IsMeasured
				case own != "":
					origin = IsCopied
				}
				out = append(out, Sourced{at, e.Scalar, own, origin, e.Place().Line})
			case e.Kind == doc.Mapping:
				walk(e, at, source)
			}
		}
	}
	walk(b.file.Root.Get("mcu"), "mcu", "")
	for _, l := range b.file.Root.Get("links").All() {
		walk(l, "links."+l.Key, "")
		if link := b.Link(l.Key); link != nil {
			out = append(out, link.Model.sourced()...)
		}
	}
	// What was derived is no default any more.
	return append(out, slices.DeleteFunc(b.defaults(), func(d Sourced) bool {
		return slices.ContainsFunc(out, func(s Sourced) bool { return s.Path == d.Path })
	})...)
}

// defaults lists the values of the MCU and of the links that nobody wrote.
func (b *Bench) defaults() []Sourced {
	var out []Sourced
	for _, d := range Schema.Defaults(b.file.Root) {
		last := d.Path[len(d.Path)-1]
		if (d.Path[0] == "mcu" || d.Path[0] == "links") && isValue(last) && !slices.Contains(d.Path, "control") {
			out = append(out, Sourced{strings.Join(d.Path, "."), d.Value, "", IsDefault, 0})
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
