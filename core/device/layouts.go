package device

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/layout"
)

// Layout is how values stand in messages from a part, or to it.
type Layout struct {
	*layout.Layout
	// FromMCU: it is of what the MCU sends; else of what the part sends.
	FromMCU bool
	// ID is the identifier of frames; nil on buses without.
	ID *Identifier
	// Begins are the first words of what the MCU sends in the exchange, or of the message
	// itself on buses where there are no exchanges; none: any.
	Begins []uint64
	// Holds is what a simulated part puts into its values.
	Holds []Holding
	// Sets is what a simulated part does with values of messages that it receives.
	Sets []Setting
}

var wordsType = doc.Scalar("words in hex, as 5D 00, or a text", func(s string) ([]uint64, error) {
	var out []uint64
	for _, w := range strings.Fields(s) {
		v, err := strconv.ParseUint(w, 16, 64)
		if err != nil {
			return layout.Words([]byte(s)), nil
		}
		out = append(out, v)
	}
	if out == nil {
		return nil, fmt.Errorf("write the first words, in hex or as text")
	}
	return out, nil
})

// layoutKeys describe messages of a kind of bus.
func layoutKeys(k laid) []doc.Key {
	legend := append([]doc.Key{
		{Name: "name", Doc: "of the value; in a text the row's own name is that", Type: doc.NameType},
		{Name: "first", Doc: "which of its words comes first, the most or the least significant", Type: doc.Enum("high", "low"), Default: "high"},
		{Name: "form", Doc: "how it stands in a text", Type: doc.Enum(layout.Forms...), Default: "number"},
		{Name: "list", Doc: "it is repeated, at most this many times, as far as the message goes: its values are called NAME-1, NAME-2 and so on", Type: doc.Int(1, 64)},
		{Name: "between", Doc: "what stands between the members of a list in a text", Type: doc.AnyText, Default: ","},
	}, meaning()...)
	if k.identified {
		legend = append(legend, doc.Key{Name: "holds", Doc: "what a simulated part puts there: an expression of t, the time in seconds, and of its registers' values", Type: doc.AnyText},
			doc.Key{Name: "sets", Doc: "the value of the part's registers that a simulated part sets to it when the message comes", Type: doc.NameType})
	}
	keys := []doc.Key{
		{Name: "about", Doc: "what the message is", Type: doc.AnyText},
		{Name: "rows", Doc: "the drawing: below the number of a word, as 0, or a range, as 1-2, a letter for each bit, the most significant left, and . for none", Type: doc.MapOf(doc.AnyText)},
		{Name: "legend", Doc: "what the bits of each letter mean", Type: doc.MapOf(doc.Map(legend...)), Required: true},
		{Name: "length", Doc: "how many words it has: of one with another number nothing is used; absent: any number that fits", Type: doc.Int(1, layout.MostWords)},
		{Name: "when", Doc: "values that tell the message from others: names, and the words or numbers that they have then, with commas between several", Type: doc.MapOf(doc.AnyText)},
	}
	if k.identified {
		return append(keys, doc.Key{Name: "identifier", Doc: "of the frames", Type: identifierType, Required: true})
	}
	keys = append(keys,
		doc.Key{Name: "from", Doc: "who sends it", Type: doc.Enum("part", "mcu"), Default: "part"},
		doc.Key{Name: "begins", Doc: "first words of what the MCU sends with it; of a message of characters its own first ones", Type: wordsType},
	)
	if k.characters {
		keys = append(keys, doc.Key{Name: "text", Doc: "in place of rows: the line, with names of the legend in braces, as \"{level} m\"", Type: doc.AnyText})
	}
	return keys
}

// layoutsKey is the key of a device file on a kind of bus.
func layoutsKey(kind string) doc.Key {
	return doc.Key{Name: "layouts", Doc: "how values stand in messages, by name", Type: doc.MapOf(doc.Map(layoutKeys(laids[kind])...))}
}

// bindLayouts reads the layouts of a device file that was validated.
func bindLayouts(d *Device, root *doc.Node) []finding.Finding {
	x := &mapper{}
	for _, n := range root.Get("layouts").All() {
		if l := x.layout(d, n); l != nil {
			x.apart(d, l, n)
			d.Layouts = append(d.Layouts, l)
		}
	}
	if p := root.Get("packet"); len(d.Layouts) > 0 && d.Map == nil {
		y := &mapper{m: &Map{}}
		if framing := laids[d.Kind.Name].framing; framing != nil {
			framing(y, d, root)
			d.Framing = y.m.Dialogue.Packet
		}
		x.faults = append(x.faults, y.faults...)
	} else if d.Map != nil && d.Map.Dialogue != nil {
		d.Framing = d.Map.Dialogue.Packet
	} else if p != nil && d.Map == nil {
		x.fault("no-messages", p, "add `registers:` and `access:`, or `layouts:`", "packet without registers and layouts")
	}
	return x.faults
}

// layout reads one.
func (x *mapper) layout(d *Device, n *doc.Node) *Layout {
	kind := laids[d.Kind.Name]
	before := len(x.faults)
	out := &Layout{}
	if id := n.Get("identifier"); id != nil {
		i := doc.As[Identifier](id)
		out.ID = &i
	}
	if !kind.identified {
		out.FromMCU = doc.Of[string](n, "from") == "mcu"
		out.Begins = doc.Of[[]uint64](n, "begins")
	}
	rows, text := n.Get("rows"), n.Get("text")
	if (rows == nil) == (text == nil) {
		change := "add `rows:`"
		if kind.characters {
			change = "write `rows:` or `text:`, not both"
		}
		x.faultOf("layout-of-nothing", n, change, "layout %s has nothing that says where its values stand", n.Key)
		return nil
	}
	var drawn []layout.Row
	var rowNodes []*doc.Node
	for _, r := range rows.All() {
		from, to, ok := wordRange(r.Key)
		if !ok {
			x.fault("bad-row", r, "write the number of a word, as 0, or a range, as 1-2", "layout %s: %q is no number of a word", n.Key, r.Key)
			return nil
		}
		drawn, rowNodes = append(drawn, layout.Row{From: from, To: to, Letters: strings.ReplaceAll(r.Scalar, " ", "")}), append(rowNodes, r)
	}
	fields, nodes := x.legend(n, text != nil)
	if fields == nil {
		return nil
	}
	bits := kind.bits(d.End)
	var fault *layout.Fault
	if text != nil {
		out.Layout, fault = layout.Write(text.Scalar, fields)
	} else {
		out.Layout, fault = layout.Draw(bits, drawn, fields)
	}
	if fault != nil {
		at, change := n.Get("legend"), "draw it, or take it out of the legend"
		switch {
		case fault.Row >= 0 && text != nil:
			at, change = text, "correct the text"
		case fault.Row >= 0:
			at, change = rowNodes[fault.Row], "correct the row"
		}
		x.faultOf("bad-layout", at, change, "layout %s: %s", n.Key, fault.Text)
		return nil
	}
	out.Name, out.About = n.Key, n.Text("about")
	if at := n.Get("length"); at != nil {
		out.Length = doc.As[int](at)
		switch {
		case text != nil:
			x.fault("bad-layout", at, "leave it out", "layout %s: a text is as long as it is", n.Key)
		case slices.ContainsFunc(fields, func(f *layout.Field) bool { return f.List > 0 }):
			x.fault("bad-layout", at, "leave it out", "layout %s: a message with a list is as long as that", n.Key)
		case out.Length < len(out.Drawn):
			x.fault("bad-layout", at, "correct the length, or the rows", "layout %s: its rows reach to word %d, it has %d", n.Key, len(out.Drawn)-1, out.Length)
		}
	}
	for i, f := range fields {
		v := &Value{Name: f.Name, About: nodes[i].Text("about")}
		width := f.Bits
		if text != nil {
			width = 64
		}
		x.means(v, nodes[i], width)
		f.Format, f.About, f.Warns = v.Format, v.About, v.Warns
		if text != nil && len(f.Warns) > 0 && len(f.Codes) == 0 {
			x.fault("bad-layout", nodes[i].Get("warn"), "give it codes too", "layout %s: numbers of a text are no contents", n.Key)
		}
	}
	out.Mean()
	if len(x.faults) == before {
		x.when(out, n)
		if kind.identified {
			x.holds(d, out, n, fields, nodes)
			x.sets(d, out, n, fields, nodes)
		}
	}
	if len(x.faults) > before {
		return nil
	}
	return out
}

func wordRange(s string) (from, to int, ok bool) {
	a, b, ranged := strings.Cut(s, "-")
	from, err := strconv.Atoi(strings.TrimSpace(a))
	to = from
	if err == nil && ranged {
		to, err = strconv.Atoi(strings.TrimSpace(b))
	}
	return from, to, err == nil && from >= 0 && to >= from && to < layout.MostWords
}

// legend reads the fields of a layout; nil with a fault.
func (x *mapper) legend(n *doc.Node, text bool) (fields []*layout.Field, nodes []*doc.Node) {
	names := map[string]bool{}
	for _, c := range n.Get("legend").All() {
		f := &layout.Field{Name: c.Key, LowFirst: doc.Of[string](c, "first") == "low", List: doc.Of[int](c, "list"), Between: doc.Of[string](c, "between"), Form: layout.Form(slices.Index(layout.Forms, doc.Of[string](c, "form")))}
		name := c.Get("name")
		switch {
		case text && name != nil:
			x.fault("bad-legend", name, "leave it out", "layout %s: in a text the row's own name is the value's", n.Key)
			return nil, nil
		case text && c.Get("first") != nil:
			x.fault("bad-legend", c.Get("first"), "leave it out", "layout %s: a text has no order of bytes", n.Key)
			return nil, nil
		case c.Get("between") != nil && (!text || f.List == 0 || f.Between == ""):
			x.fault("bad-legend", c.Get("between"), "leave it out, or write what separates", "layout %s: between separates the members of a list in a text", n.Key)
			return nil, nil
		case f.List > 0 && (c.Get("holds") != nil || c.Get("sets") != nil):
			x.fault("bad-legend", c.Get("list"), "write its members out", "layout %s: a simulated part neither puts in nor takes a list", n.Key)
			return nil, nil
		case !text && c.Get("form") != nil:
			x.fault("bad-legend", c.Get("form"), "leave it out", "layout %s: a form is that of a text", n.Key)
			return nil, nil
		case !text && (len([]rune(c.Key)) != 1 || !unicode.IsLetter([]rune(c.Key)[0])):
			x.fault("bad-legend", c, "write one letter", "layout %s: %q is no letter of the drawing", n.Key, c.Key)
			return nil, nil
		case !text && name == nil:
			x.fault("bad-legend", c, "add `name:`", "layout %s: the letter %s has no name", n.Key, c.Key)
			return nil, nil
		case !text:
			f.Letter, f.Name = []rune(c.Key)[0], name.Scalar
		}
		if names[f.Name] {
			x.fault("name-twice", c, "take another name", "layout %s has two values %s", n.Key, f.Name)
			return nil, nil
		}
		names[f.Name] = true
		fields, nodes = append(fields, f), append(nodes, c)
	}
	if fields == nil {
		x.faultOf("bad-legend", n, "say what its letters mean", "layout %s has an empty legend", n.Key)
	}
	return fields, nodes
}

// when reads the conditions of a layout.
func (x *mapper) when(l *Layout, n *doc.Node) {
	for _, c := range n.Get("when").All() {
		f := l.Named(c.Key)
		if f == nil || l.Text != nil {
			x.fault("bad-condition", c, "name a value of the drawing: "+strings.Join(l.Names(), ", "), "layout %s: %q is no value of it", n.Key, c.Key)
			continue
		}
		cond := layout.Condition{Field: f}
		for _, w := range strings.Split(c.Scalar, ",") {
			v, err := f.Encode(w)
			if err != nil {
				x.fault("bad-condition", c, "write a word or number that it can have", "layout %s: %s: %v", n.Key, c.Key, err)
				break
			}
			cond.Raw = append(cond.Raw, v.Raw)
		}
		l.When = append(l.When, cond)
	}
}

// apart says where a message could be one of two layouts.
func (x *mapper) apart(d *Device, l *Layout, n *doc.Node) {
	for _, o := range d.Layouts {
		same := o.FromMCU == l.FromMCU && (l.ID == nil) == (o.ID == nil) && (l.ID == nil || *l.ID == *o.ID)
		k := min(len(l.Begins), len(o.Begins))
		if !same || !slices.Equal(l.Begins[:k], o.Begins[:k]) || l.Apart(o.Layout) || (l.Text == nil) != (o.Text == nil) || l.Text != nil {
			continue
		}
		x.faultOf("layouts-overlap", n, "tell them apart with `when:`", "a message can be %s and %s", o.Name, l.Name)
	}
}
