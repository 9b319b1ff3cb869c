// Package ledger keeps what registers of parts held when they were last read or
// written, as the traffic of a capture tells it.
package ledger

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// Entry is what is known of a register.
type Entry struct {
	Content uint64
	At      quantity.Time // when it was read or written last
	// Wrote: the newest was a writing; what the register holds since then is not read yet.
	Wrote         bool
	Reads, Writes int
	// Cleared are the bits that were 1 when it was read last, and that reading has cleared.
	Cleared uint64
	// Was is the content before the last change, Changed when that was seen.
	Was        uint64
	Changed    quantity.Time
	HasChanged bool
}

// Presence is how a part has shown itself.
type Presence uint8

// The states, as the newest traffic has them.
const (
	NotAsked Presence = iota
	Silent            // it was asked, and did not answer
	Answered
	Proved // its identity is right
	Other  // its identity is that of another part
	Mute   // it was asked, and never says anything
)

func (p Presence) String() string {
	return [...]string{"not asked", "silent", "answered", "identity proved", "another identity", "says nothing back"}[p]
}

// Part is what is known of a part.
type Part struct {
	Entries map[*device.Register]*Entry
	// Pending are the pieces that were written of registers that go in several, where not
	// all of them were.
	Pending map[*device.Register]Pieces
	taken   map[*device.Register]Pieces // that were read
	// Texts are what was read or written of texts.
	Texts map[*device.Text]TextEntry
	// Sequence is the number of the newest request, where Numbered.
	Sequence uint64
	Numbered bool
	// Cells are the bytes of a memory as they were read or written last, Pages how often
	// each page was written.
	Cells map[uint64]Cell
	Pages map[uint64]int
	// Asked and Heard are when it was last addressed, and when it last answered.
	Asked, Heard quantity.Time
	asked, heard bool
	waits        bool     // it was asked, and its time for the answer is not over
	identity     Presence // Proved or Other, once it was read
	mute         bool
}

// Pieces are those of a register that went so far.
type Pieces struct {
	N       int
	Content uint64
}

// piece takes a piece, and gives the content when it was the last one.
func (p *Pieces) piece(x operation.Piece) (content uint64, whole bool) {
	p.Content |= x.Value << x.Shift(p.N)
	p.N++
	return p.Content, p.N == x.Turns()
}

// TextEntry is what is known of a text.
type TextEntry struct {
	Chars string
	At    quantity.Time
	Wrote bool // the newest was a writing
}

// Cell is what is known of a byte of a memory.
type Cell struct {
	Byte  byte
	At    quantity.Time
	Wrote bool // the newest was a writing
}

// Ledger is kept for one bench. It is not safe for use by several goroutines.
type Ledger struct {
	links []links
	mark  records.Mark
	begun bool
	// Skipped: traffic was too fast to be counted; contents are the newest all the same.
	Skipped bool
	// Most bounds the records that one update looks at: of more the newest.
	Most int
}

type links struct {
	parts []*operation.Part
	known []*Part
	reads []*operation.Reader
	talks []*operation.Talk // of the parts that are asked and answer; nil of others
	some  bool              // there are such
}

// New gives an empty ledger for the parts of a bench; nil has none.
func New(b *bench.Bench) *Ledger {
	l := &Ledger{Most: mostAtOnce}
	if b == nil {
		return l
	}
	for _, link := range b.Links {
		x := links{parts: link.Parts()}
		for _, p := range x.parts {
			k := &Part{Entries: map[*device.Register]*Entry{}, Cells: map[uint64]Cell{}, Pages: map[uint64]int{}, Texts: map[*device.Text]TextEntry{}, Pending: map[*device.Register]Pieces{}, taken: map[*device.Register]Pieces{}}
			k.mute = p.Map != nil && !p.Asked() && operation.Known(p.Kind.Name) && p.Mute()
			x.known = append(x.known, k)
			x.reads = append(x.reads, operation.NewReader([]*operation.Part{p}))
			t := p.Talk()
			x.talks, x.some = append(x.talks, t), x.some || t != nil
		}
		l.links = append(l.links, x)
	}
	return l
}

// Fits says whether the ledger is one for the parts of a bench, which may have been
// edited since.
func (l *Ledger) Fits(b *bench.Bench) bool {
	if b == nil || len(b.Links) != len(l.links) {
		return b == nil && len(l.links) == 0
	}
	for i, link := range b.Links {
		parts := l.links[i].parts
		n := 0
		for _, e := range link.Ends {
			if e.Part == nil {
				continue
			}
			if n >= len(parts) || parts[n].Device != e.Part || parts[n].Name != e.Name {
				return false
			}
			n++
		}
		if n != len(parts) {
			return false
		}
	}
	return true
}

// mostAtOnce is what Most is at first.
const mostAtOnce = 1000

// Update takes what is new in a capture of the bench's links.
func (l *Ledger) Update(snap *capture.Snapshot) {
	var fresh []int
	if l.begun {
		fresh = snap.Since(l.mark)
	} else {
		for i := max(snap.First(), snap.Len()-l.Most); i < snap.Len(); i++ {
			fresh = append(fresh, i)
		}
	}
	l.Skipped = l.Skipped || l.begun && len(fresh) > l.Most
	l.mark, l.begun = snap.Mark(), true
	for _, i := range fresh[max(len(fresh)-l.Most, 0):] {
		l.record(snap, i)
	}
	l.wait(snap.Now)
}

// Until takes the records that ended up to a time, so many of the newest of them at most.
func (l *Ledger) Until(snap *capture.Snapshot, at quantity.Time, most int) {
	to := snap.IndexAt(at + 1)
	from := max(snap.First(), to-most)
	l.Skipped = from > snap.First()
	for i := from; i < to; i++ {
		l.record(snap, i)
	}
	l.wait(at)
}

// record takes the record with a number.
func (l *Ledger) record(snap *capture.Snapshot, i int) {
	h := snap.Head(i)
	if int(h.Link) >= len(l.links) {
		return
	}
	switch x := l.links[h.Link]; {
	case h.Kind == record.Transaction && len(x.parts) > 0:
		l.take(snap.At(i))
	case h.Kind == record.Changed:
		// What was proven with other settings is to be proven again.
		for _, k := range x.known {
			k.identity = NotAsked
		}
	}
	if l.links[h.Link].some {
		l.talk(snap.At(i))
	}
}

// wait says which parts have yet to answer at a time.
func (l *Ledger) wait(now quantity.Time) {
	for i := range l.links {
		for k, p := range l.links[i].parts {
			if known := l.links[i].known[k]; p.Asked() {
				known.waits = now < known.Asked+p.Map.Dialogue.Within
			}
		}
	}
}

// talk takes what a record says of the parts that are asked and answer.
func (l *Ledger) talk(r *record.Record) {
	x := &l.links[r.Link]
	for i, t := range x.talks {
		if t == nil {
			continue
		}
		k := x.known[i]
		for _, msg := range t.Take(r) {
			switch {
			case msg.Dropped != "" || msg.Again:
				continue
			case msg.FromPart:
				k.Heard, k.heard = msg.End, true
			case msg.Plan != nil && msg.Plan.Pattern.Answers():
				k.Asked, k.asked = msg.End, true
			}
			m, known := t.Part().Meaning(&msg, k.Page(t.Part()))
			// What is asked for counts when it was answered, where an answer comes.
			if !known || msg.Partly || m.Plan == nil || m.Plan.Pattern.Answers() == (msg.Answer == nil) || msg.Answer != nil && msg.Answer.Refused {
				continue
			}
			k.hold(t.Part(), m, msg.End)
		}
	}
}

func (l *Ledger) take(r *record.Record) {
	x := &l.links[r.Link]
	for i, p := range x.parts {
		if p.Map == nil || p.Asked() || !operation.Known(p.Kind.Name) {
			continue
		}
		spans, with := p.Seen(r)
		if !with {
			continue
		}
		k := x.known[i]
		k.Asked, k.asked = r.End, true
		if p.Answers(r, spans) {
			k.Heard, k.heard = r.End, true
		}
		m, found := x.reads[i].Of(r, func(*operation.Part) uint64 { return k.Page(p) })
		if found && !m.Begins {
			k.hold(p, m, r.End)
		}
		return
	}
}

// Page is the page that the part is on, as far as the traffic tells.
func (k *Part) Page(p *operation.Part) uint64 {
	return p.Map.PageOf(func(r *device.Register) (uint64, bool) {
		e := k.Entries[r]
		if e == nil {
			return 0, false
		}
		return e.Content, true
	})
}

// hold takes what an operation says of a part.
func (k *Part) hold(p *operation.Part, m *operation.Meaning, at quantity.Time) {
	if mem := p.Map.Memory; mem != nil && m.Bytes != nil {
		cell := m.At
		for _, b := range m.Bytes {
			k.Cells[cell] = Cell{b, at, m.Wrote}
			cell = mem.Next(cell, m.Wrote)
		}
		if m.Wrote {
			k.Pages[m.At/uint64(mem.Page)]++
		}
	}
	if m.Plan != nil && m.Plan.Pattern.SequenceBits > 0 {
		k.Sequence, k.Numbered = m.Plan.Sequence, true
	}
	if m.Text != nil {
		k.Texts[m.Text] = TextEntry{m.Chars, at, m.Wrote}
	}
	for _, t := range m.Beside {
		k.Texts[t.Text] = TextEntry{t.Chars, at, m.Wrote}
	}
	if m.Moved != "" {
		// What else stands in the chain is not known any more.
		for _, name := range p.Map.Patterns[0].HeldOut {
			if r := p.Map.Named(name); r != nil {
				if _, has := m.Contents[r]; !has {
					delete(k.Entries, r)
				}
			}
		}
	}
	for _, x := range m.Pieces {
		all := k.taken
		if x.Wrote {
			all = k.Pending
		}
		so := all[x.Register]
		content, whole := so.piece(x)
		if all[x.Register] = so; whole {
			delete(all, x.Register)
			k.entry(x.Register, content, at, x.Wrote)
		}
	}
	for reg, content := range m.Contents {
		wrote := m.Wrote && !m.CameBack(reg)
		k.entry(reg, content, at, wrote)
	}
	if id := p.Map.Identity; id != nil && !m.Wrote {
		all := true
		for _, reg := range id.Value.Registers() {
			_, has := m.Contents[reg]
			all = all && has
		}
		if all {
			k.identity = Other
			if id.Value.Of(func(reg *device.Register) uint64 { return m.Contents[reg] }) == id.Expect {
				k.identity = Proved
			}
		}
	}
}

func (k *Part) entry(reg *device.Register, content uint64, at quantity.Time, wrote bool) {
	e := k.Entries[reg]
	switch {
	case e == nil:
		e = &Entry{Content: content}
		k.Entries[reg] = e
	case e.Content != content:
		e.Was, e.Changed, e.HasChanged = e.Content, at, true
	}
	e.Content, e.At, e.Wrote = content, at, wrote
	e.Cleared = 0
	if !wrote {
		e.Cleared = reg.Cleared(content)
	}
	if wrote {
		e.Writes++
	} else {
		e.Reads++
	}
}

// Part gives what is known of the part with the index on a link; nil where there is no such
// part.
func (l *Ledger) Part(link uint16, part int) *Part {
	if int(link) >= len(l.links) || part < 0 || part >= len(l.links[link].known) {
		return nil
	}
	return l.links[link].known[part]
}

// Presence is how the part has shown itself: a part that is silent now is so whatever it
// was before.
func (k *Part) Presence() Presence {
	switch {
	case k == nil || !k.asked:
		return NotAsked
	case k.mute:
		return Mute
	case (!k.heard || k.Heard < k.Asked) && !k.waits:
		return Silent
	case !k.heard:
		return NotAsked
	case k.identity != NotAsked:
		return k.identity
	}
	return Answered
}
