package bench

import (
	"slices"
	"strings"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// Meanings says what went over the links of a bench, by its device files. A nil one
// knows nothing. It is not safe for use by several goroutines.
//
// What a part that is asked answers means something only behind what it was asked for.
// Within a capture that is looked for there; else records must come in order, each once.
type Meanings struct {
	parts  map[string][]*operation.Part
	talks  map[string][]*operation.Talk // of the parts that are asked and answer
	laying map[string][]*operation.Laying
	spans  map[string]*operation.Reader
	reader *records.Reader
	// kept are meanings of the latest records: asked again, they say the same.
	kept, older map[recordKey][]*operation.Meaning
	pages       map[string]uint64 // of parts, as what came in order tells
}

// recordKey names a record of a capture.
type recordKey struct {
	link       string
	from, seen record.End
	start, end quantity.Time
	size       int
}

// Meanings gives what the device files of the bench say of its traffic.
func (b *Bench) Meanings() *Meanings {
	if b == nil {
		return nil
	}
	m := &Meanings{parts: map[string][]*operation.Part{}, talks: map[string][]*operation.Talk{}, laying: map[string][]*operation.Laying{}, spans: map[string]*operation.Reader{}, kept: map[recordKey][]*operation.Meaning{}, older: map[recordKey][]*operation.Meaning{}, pages: map[string]uint64{}}
	for _, l := range b.Links {
		m.parts[l.Name] = l.Parts()
		m.begin(l.Name)
	}
	return m
}

// begin forgets what was asked on a link.
func (m *Meanings) begin(link string) {
	m.talks[link], m.laying[link], m.spans[link] = nil, nil, operation.NewReader(m.parts[link])
	for _, p := range m.parts[link] {
		delete(m.pages, link+"\x00"+p.Name)
		if t := p.Talk(); t != nil {
			m.talks[link] = append(m.talks[link], t)
		}
		if l := p.Laying(); l != nil {
			m.laying[link] = append(m.laying[link], l)
		}
	}
}

// Within lets the records be those of a capture, in any order.
func (m *Meanings) Within(r *records.Reader) *Meanings {
	if m != nil {
		m.reader = r
	}
	return m
}

// Looks back are bounded by a number of records and of meanings that are kept.
const (
	mostBack = 32
	mostKept = 4096
)

// Of gives what a record of the link with a name means, in the order of its bytes; none
// where it is none of the operations that a device file describes.
func (m *Meanings) Of(link string, r *record.Record) []*operation.Meaning {
	if m == nil || m.reader != nil && !r.Traffic() {
		return nil
	}
	key := recordKey{link, r.From, r.Seen, r.Start, r.End, len(r.Data)}
	out, has := m.kept[key]
	if !has {
		out, has = m.older[key]
	}
	if has {
		return out
	}
	switch {
	case m.reader == nil:
	case r.Kind == record.Transaction && m.spans[link] != nil && m.spans[link].Follows(), r.Kind != record.Transaction && (len(m.talks[link]) > 0 || r.Kind == record.Chars && len(m.laying[link]) > 0):
		m.lookBack(link, r)
	}
	out = m.read(link, r)
	if len(m.kept) >= mostKept {
		m.kept, m.older = m.older, m.kept
		clear(m.kept)
	}
	m.kept[key] = out
	return out
}

// read gives what a record means behind those that came before it.
func (m *Meanings) read(link string, r *record.Record) []*operation.Meaning {
	if r.Kind == record.Transaction && m.spans[link] != nil {
		if x, known := m.spans[link].Of(r, func(p *operation.Part) uint64 { return m.page(link, r, p) }); known {
			m.turned(link, x)
			return append([]*operation.Meaning{x}, m.laid(link, r)...)
		}
	}
	return m.take(link, r)
}

// lookBack lets all who follow a link take what came before a record.
func (m *Meanings) lookBack(link string, r *record.Record) {
	var back []*record.Record
	at := m.reader.IndexAt(r.End + 1)
	for i, h := range m.reader.Before(at, records.Query{Link: int(r.Link), Kinds: []record.Kind{r.Kind}}) {
		if len(back) == mostBack {
			break
		}
		if h.End <= r.End && !(h.Start == r.Start && h.From == r.From && h.Seen == r.Seen) && (r.Kind != record.Transaction || h.From == r.From && h.Seen == r.Seen) {
			back = append(back, m.reader.At(i))
		}
	}
	m.begin(link)
	for _, b := range slices.Backward(back) {
		if r.Kind == record.Transaction {
			m.spans[link].Of(b, nil)
			continue
		}
		m.take(link, b)
	}
}

// pageNow is the page that a part is on behind what came so far.
func (m *Meanings) pageNow(link string, p *operation.Part) uint64 {
	if at, known := m.pages[link+"\x00"+p.Name]; known {
		return at
	}
	return device.NoPage
}

// turned takes note of the page that a part is on.
func (m *Meanings) turned(link string, x *operation.Meaning) {
	if x.Part.Map.Pages == nil || x.Message != nil && x.Message.Answer == nil {
		return
	}
	if at := x.Part.Map.PageOf(func(r *device.Register) (uint64, bool) { v, has := x.Contents[r]; return v, has }); at != device.NoPage {
		m.pages[link+"\x00"+x.Part.Name] = at
	}
}

// mostTurns bounds how far back a page is looked for.
const mostTurns = 500

// page gives the page that a part was on when a transaction was done: within a capture the
// newest that was selected before.
func (m *Meanings) page(link string, r *record.Record, p *operation.Part) uint64 {
	if m.reader == nil {
		return m.pageNow(link, p)
	}
	n := 0
	for i, h := range m.reader.Before(m.reader.IndexAt(r.Start), records.Query{Link: int(r.Link), Kinds: []record.Kind{record.Transaction}}) {
		if n++; n > mostTurns {
			break
		}
		if h.End > r.Start {
			continue
		}
		x, known := operation.Of([]*operation.Part{p}, m.reader.At(i), nil)
		if !known {
			continue
		}
		if at := p.Map.PageOf(func(reg *device.Register) (uint64, bool) { v, has := x.Contents[reg]; return v, has }); at != device.NoPage {
			return at
		}
	}
	return device.NoPage
}

// take lets all who follow a link take a record.
func (m *Meanings) take(link string, r *record.Record) []*operation.Meaning {
	var out []*operation.Meaning
	for _, t := range m.talks[link] {
		for _, msg := range t.Take(r) {
			if x, known := t.Part().Meaning(&msg, m.pageNow(link, t.Part())); known {
				out = append(out, x)
				m.turned(link, x)
			}
		}
	}
	return append(out, m.laid(link, r)...)
}

// laid gives the messages with layouts that end in a record.
func (m *Meanings) laid(link string, r *record.Record) []*operation.Meaning {
	var out []*operation.Meaning
	for _, l := range m.laying[link] {
		out = append(out, l.Take(r)...)
	}
	return out
}

// Between gives what ends in some bytes of a record.
func Between(all []*operation.Meaning, from, to int) []*operation.Meaning {
	return slices.DeleteFunc(slices.Clone(all), func(x *operation.Meaning) bool {
		if x.Laid != nil {
			return x.Laid.To <= from || x.Laid.To > to
		}
		return x.Message != nil && (x.Message.To <= from || x.Message.To > to)
	})
}

// Sentences gives what meanings say as one line; "" of none.
func Sentences(all []*operation.Meaning) string {
	var out []string
	for _, x := range all {
		out = append(out, x.Sentence())
	}
	return strings.Join(out, "; ")
}

// Brief gives the same; on a link with one part its name is left out.
func (m *Meanings) Brief(link string, all []*operation.Meaning) string {
	text := Sentences(all)
	if m != nil && len(m.parts[link]) == 1 {
		return strings.ReplaceAll(text, m.parts[link][0].Name+".", "")
	}
	return text
}

// Text gives what a record means as a sentence; "" where that is not known.
func (m *Meanings) Text(link string, r *record.Record) string { return Sentences(m.Of(link, r)) }

// Sentence gives a record in the words of its bus, with its meaning in front where it
// has one, and says when they are what the MCU read in place of what was on the wire.
func (m *Meanings) Sentence(link, bus string, r *record.Record) string {
	if text := m.Text(link, r); text != "" {
		bus = text + "   " + bus
	}
	if r.Kind == record.Transaction {
		return Otherwise(bus, r.Seen)
	}
	return bus
}

// Otherwise marks the words of what the MCU's unit read in place of what was on the wire.
func Otherwise(words string, seen record.End) string {
	if seen == record.MCU {
		return "the MCU reads: " + words
	}
	return words
}
