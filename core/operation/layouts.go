package operation

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/layout"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Laid is a message of a part that has a layout.
type Laid struct {
	Layout *device.Layout // nil of one that has none
	Values []layout.Value
	// Start and End are its times, From and To the words of the record that it stands in,
	// To behind the last one.
	Start, End quantity.Time
	From, To   int
	FromPart   bool
	Seen       record.End
	// Words is how many there are, Unexplained those that no row is about.
	Words       int
	Unexplained []int
	// Why says why a message of text is none of any layout.
	Why string
	// Again: another receiver's record showed the same message before.
	Again bool
}

// exchange is a message as a record of some kind of bus has it.
type exchange struct {
	words      []uint64
	begins     []uint64 // what the MCU sent in the same exchange
	fromPart   bool
	start, end quantity.Time
	from, to   int
	id         *device.Identifier
	dropped    string
}

// Laying takes the messages of a part that have layouts out of the records of its link.
type Laying struct {
	part  *Part
	take  func(r *record.Record) []exchange
	last  [2]Laid
	texts bool
}

// Laying gives what follows the part's messages; nil where its file has no layouts.
func (p *Part) Laying() *Laying {
	if len(p.Layouts) == 0 {
		return nil
	}
	l := &Laying{part: p}
	switch make, has := exchanges[p.Kind.Name]; {
	case has:
		l.take = make(p)
	default:
		return nil
	}
	l.texts = slices.ContainsFunc(p.Layouts, func(x *device.Layout) bool { return x.Text != nil })
	return l
}

// Part is the part whose messages are followed.
func (l *Laying) Part() *Part { return l.part }

// Take gives the messages that end in a record; records come in the order of their ends
// where messages go over several.
func (l *Laying) Take(r *record.Record) []*Meaning {
	var out []*Meaning
	for _, e := range l.take(r) {
		x, ok := l.laid(&e)
		if !ok {
			continue
		}
		x.Seen = r.Seen
		side := 0
		if x.FromPart {
			side = 1
		}
		old := &l.last[side]
		x.Again = old.Seen != x.Seen && old.Layout == x.Layout && old.End > x.Start && x.End > old.Start
		*old = x
		out = append(out, &Meaning{Part: l.part, Laid: &x})
	}
	return out
}

// laid finds the layout of a message.
func (l *Laying) laid(e *exchange) (Laid, bool) {
	x := Laid{Start: e.start, End: e.end, From: e.from, To: e.to, FromPart: e.fromPart, Words: len(e.words)}
	if e.dropped != "" {
		x.Why = e.dropped
		return x, true
	}
	why, tried := "", 0
	var others []string
	for _, k := range l.part.Layouts {
		if k.ID == nil && k.FromMCU == e.fromPart || k.ID != nil && (e.id == nil || *k.ID != *e.id) || !begins(e.begins, k.Begins) {
			continue
		}
		if k.Text != nil {
			tried++
			values, no := k.Read(bytesOf(e.words))
			if no == "" {
				x.Layout, x.Values = k, values
				return x, true
			}
			if why == "" || len(values) > len(x.Values) {
				why, x.Values = no, values
			}
			continue
		}
		if k.Length > 0 && k.Length != len(e.words) {
			if tried++; why == "" {
				why = fmt.Sprintf("%s has %s, and this one %d: nothing of it is used", k.Name, quantity.Count(k.Length, noun(k.Layout)), len(e.words))
			}
			continue
		}
		if other := k.Misfit(e.words); other != "" && k.ID != nil {
			if !slices.Contains(others, other) {
				others = append(others, other)
			}
		}
		if k.Fits(e.words) {
			x.Layout, x.Values, x.Unexplained = k, k.Decode(e.words), k.Unexplained(len(e.words))
			return x, true
		}
	}
	x.Values = nil
	switch x.Why = why; {
	case len(others) > 0 && why == "":
		x.Why = strings.Join(others, ", ") + ": no layout of this identifier is for that"
		return x, true
	case tried > 1 && l.texts:
		x.Why = "it is none of the texts that its file describes; nearest: " + why
	}
	return x, tried > 0
}

func begins(words, with []uint64) bool {
	return len(words) >= len(with) && slices.Equal(words[:len(with)], with)
}

func bytesOf(words []uint64) []byte {
	out := make([]byte, len(words))
	for i, w := range words {
		out[i] = byte(w)
	}
	return out
}

// Sentence says what the message holds: `pump-drive pump status: mode raise, pressure 118.2 bar`.
func (x *Laid) Sentence(part string) string {
	if x.Layout == nil {
		return part + ": " + x.Why
	}
	var parts []string
	for i := range x.Values {
		v := &x.Values[i]
		if v.Missing {
			parts = append(parts, v.Name+" is missing")
			continue
		}
		parts = append(parts, v.Field.Name+" "+v.Meaning())
	}
	text := fmt.Sprintf("%s.%s %s", part, x.Layout.Name, strings.Join(parts, ", "))
	if n := len(x.Unexplained); n > 0 {
		text += fmt.Sprintf(" (+%s without a meaning)", quantity.Count(n, x.noun()))
	}
	for _, w := range x.Warnings() {
		text += "; " + w
	}
	return text
}

// Warnings are what is to be known with the contents of its values.
func (x *Laid) Warnings() (out []string) {
	for i := range x.Values {
		v := &x.Values[i]
		if w := v.Field.Warns[v.Raw]; w != "" && !v.Missing {
			out = append(out, w)
		}
	}
	return out
}

// noun is what a word of the message is called.
func (x *Laid) noun() string { return noun(x.Layout.Layout) }

func noun(l *layout.Layout) string {
	if l.WordBits == 8 {
		return "byte"
	}
	return "word"
}

// Details lists the values, a line each.
func (x *Laid) Details() []string {
	if x.Layout == nil {
		return nil
	}
	var out []string
	for i := range x.Values {
		v := &x.Values[i]
		switch {
		case v.Missing:
			out = append(out, v.Field.Name+": the message ends before it")
			continue
		case x.Layout.Text != nil:
			out = append(out, fmt.Sprintf("%s = %s   characters %d to %d", v.Field.Name, v.Meaning(), v.From+1, v.To))
			continue
		}
		text := v.Field.Name + " = " + v.Meaning()
		if hex := v.Hex(); v.Meaning() != hex {
			text += "  (" + hex + ")"
		}
		if v.Fault != "" {
			text += "  ▲"
		}
		where := fmt.Sprintf("%s %d", x.noun(), v.From)
		if v.To > v.From+1 {
			where = fmt.Sprintf("%ss %d to %d", x.noun(), v.From, v.To-1)
		}
		out = append(out, text+"   "+where)
	}
	if len(x.Unexplained) > 0 {
		var words []string
		for _, w := range x.Unexplained {
			words = append(words, fmt.Sprint(w))
		}
		out = append(out, "no row for "+x.noun()+" "+strings.Join(words, ", "))
	}
	return out
}

func whole(r *record.Record, words []uint64) exchange {
	return exchange{words: words, begins: words, start: r.Start, end: r.End, to: r.Len()}
}

func wide(words []uint32) []uint64 {
	out := make([]uint64, len(words))
	for i, w := range words {
		out[i] = uint64(w)
	}
	return out
}
