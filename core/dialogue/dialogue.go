// Package dialogue turns the records of character links into lines: runs cut
// at their terminators, in order of time, both directions together.
package dialogue

import (
	"bytes"
	"fmt"
	"slices"
	"sort"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// Filter says which records to show.
type Filter struct {
	Link uint16
	All  bool // all links, not only Link
	// Tap shows what an ideal tap reads, in the place of what each receiver
	// saw.
	Tap bool
	// Sentence gives a transaction or frame of a link in words; nil leaves its text.
	Sentence func(r *record.Record) string
	// Meaning says what some bytes of a record mean beyond the words of its bus; "" or nil:
	// nothing.
	Meaning func(r *record.Record, from, to int) string
	// Details says what else there is to say of them, a line each; it is asked for the line
	// Open alone.
	Details func(r *record.Record, from, to int) []string
	Open    *Key
	// Only are the records to show, in order of their ends; nil: all.
	Only []records.ID
	// End gives the bytes that end a line on a link; nil ends none.
	End func(link uint16) []byte
}

// Key names a line of a capture. It stays the same while a run grows.
type Key struct {
	Link  uint16
	From  record.End
	Kind  record.Kind
	Start quantity.Time
	Piece int
}

// Mark is an error mark at a byte of a line.
type Mark struct {
	Index int
	Flags record.Flags
}

// Line is one line of the dialogue, or something that happened.
type Line struct {
	Key
	At, End quantity.Time
	// Gap is the silence on the link before the line; negative where the
	// directions overlap, and 0 for the first and where lines follow back to
	// back.
	Gap     quantity.Time
	each    quantity.Time // of a character
	Data    []byte
	Marks   []Mark
	Text    string // of what happened
	Meaning string
	Details []string
	Seen    record.End // whose receiver saw it
	Running bool       // not finished yet
	// Unheard says that the tap saw these bytes leave, but the receiver that
	// they were for saw nothing at that time.
	Unheard bool
	// Echo says that the device sent back what the MCU had sent last on the link.
	Echo   bool
	Origin record.Origin
	// Times is how often the same faulty frame or transaction came one after the other,
	// from At to End; 0 for once. Endless says that there were more before than were
	// looked at.
	Times   int
	Endless bool

	rec      *record.Record
	from, to int // its bytes of the record
	said     bool
}

// Repeats says in words how often a line's fault came; empty for once.
func (l *Line) Repeats() string {
	if l.Times == 0 {
		return ""
	}
	s := fmt.Sprintf("×%d in %s", l.Times, (l.End - l.At).Round(3))
	if l.Endless {
		s += " and more before"
	}
	return s
}

// Flags gives the marks of all bytes.
func (l *Line) Flags() record.Flags {
	var f record.Flags
	for _, m := range l.Marks {
		f |= m.Flags
	}
	return f
}

// FlagsAt gives the marks of one byte.
func (l *Line) FlagsAt(i int) record.Flags {
	var f record.Flags
	for _, m := range l.Marks {
		if m.Index == i {
			f |= m.Flags
		}
	}
	return f
}

func (f *Filter) wants(kind record.Kind, from, seen record.End) bool {
	if kind != record.Chars {
		return kind != record.Input
	}
	return seen == record.Nobody || (seen == record.Tap) == f.Tap || seen == record.Tap && from == record.MCU
}

// heard says whether another record is the receiver's own reading of what the
// tap saw leave: it overlaps in time, or nearly so.
func heard(tap *record.Record, others []*record.Record) bool {
	slack := 2 * tap.Each
	for _, o := range others {
		if o.Kind == record.Chars && o.Seen != record.Tap && o.Link == tap.Link && o.From == tap.From && o.Start <= tap.End+slack && o.End+slack >= tap.Start {
			return true
		}
	}
	return false
}

// cut adds the lines of a record.
func (f *Filter) cut(out []Line, r *record.Record, running bool) []Line {
	k := Key{Link: r.Link, From: r.From, Kind: r.Kind, Start: r.Start}
	if r.Kind != record.Chars {
		line := Line{Key: k, At: r.Start, End: r.End, Text: r.Text, Origin: r.Origin, Seen: r.Seen, rec: r}
		if f.Sentence != nil && (r.Kind == record.Transaction || r.Kind == record.Frame) {
			line.to = len(r.Data)
			if m := r.AllFlags(); m != 0 {
				line.Marks = []Mark{{Flags: m}}
			}
		}
		return append(out, line)
	}
	var end []byte
	if f.End != nil {
		end = f.End(r.Link)
	}
	if r.Wide {
		end = nil // two bytes a character
	}
	from := 0
	for from < len(r.Data) || from == 0 {
		to := len(r.Data)
		if i := bytes.Index(r.Data[from:], end); len(end) > 0 && i >= 0 {
			to = from + i + len(end)
		}
		l := Line{Key: k, Data: r.Data[from:to], At: r.Start, End: r.End, Running: running && to == len(r.Data), Origin: r.Origin, each: r.Each, rec: r, from: from, to: to}
		if len(r.Offsets) > 0 && !r.Wide && from < len(r.Offsets) {
			l.At = r.Start + r.Offsets[from]
			l.End = r.Start + r.Offsets[to-1] + r.Each
		}
		for _, m := range r.Marks {
			if m.Index >= from && (m.Index < to || to == len(r.Data)) {
				l.Marks = append(l.Marks, Mark{m.Index - from, m.Flags})
			}
		}
		out = append(out, l)
		k.Piece++
		from = to
		if from == 0 {
			break
		}
	}
	return out
}

// say puts a line in words.
func (f *Filter) say(l *Line) {
	r := l.rec
	whole := r.Kind == record.Transaction || r.Kind == record.Frame
	if whole && f.Sentence != nil {
		l.Text = f.Sentence(r)
	}
	if r.Kind != record.Chars && (!whole || f.Sentence == nil) || r.Kind == record.Chars && l.to == l.from {
		return
	}
	if f.Meaning != nil {
		l.Meaning = f.Meaning(r, l.from, l.to)
	}
	if f.Details != nil && f.Open != nil && *f.Open == l.Key {
		l.Details = f.Details(r, l.from, l.to)
	}
}

// Say puts lines in words that are not yet.
func (f *Filter) Say(lines []Line) {
	for k := range lines {
		if l := &lines[k]; !l.said {
			f.say(l)
			l.said = true
		}
	}
}

// Newest gives the last lines of a capture, n where there are as many; Say puts them in words.
func Newest(s *capture.Snapshot, f Filter, n int) []Line {
	lines := gather(s, f, s.Len(), n, 0)
	return lines[max(0, len(lines)-n):]
}

// Around gives lines around a time: at least before ones that lie before it
// and after ones from it on, where there are as many; Say puts them in words.
func Around(s *capture.Snapshot, f Filter, t quantity.Time, before, after int) []Line {
	return gather(s, f, s.IndexAt(t), before, after)
}

// slack is how far records may stand from the order of their beginnings.
const slack = 16

// scanLimit bounds the records that are looked at in one direction, so that a
// filter which excludes nearly everything does not hold up the screen.
const scanLimit = 200_000

// foldLimit bounds how many records are looked at for one fold.
const foldLimit = 20_000

// fold is a run of records that say the same, one after the other: the first, the last,
// and how many.
type fold struct {
	first, last *record.Record
	n           int
	endless     bool
}

// folds says whether b is the same fault as a once more. What is right is never folded.
func folds(a, b *record.Record) bool {
	return (a.Kind == record.Frame || a.Kind == record.Transaction) && a.AllFlags() != 0 && a.Alike(b)
}

func gather(s *capture.Snapshot, f Filter, at, before, after int) []Line {
	var buf, lines []Line
	var picked []fold
	running := map[*record.Record]bool{}
	count := 0
	add := func(r *record.Record) {
		picked = append(picked, fold{r, r, 1, false})
		buf = f.cut(buf[:0], r, false)
		count += len(buf)
	}
	q := records.Query{Link: int(f.Link)}
	if f.All {
		q.Link = records.Any
	}
	if f.Only != nil {
		f.only(s, at, before, after, &picked, &count, add)
		return f.lines(s, picked, running, nil)
	}
	// Of what leaves the MCU up to every second record is a tap's, and may be
	// left out below.
	for i, h := range s.Before(at, q) {
		if at-i > scanLimit || count >= 2*(before+slack) {
			break
		}
		if !f.wants(h.Kind, h.From, h.Seen) {
			continue
		}
		r := s.At(i)
		if n := len(picked); n > 0 && folds(picked[n-1].first, r) {
			x := &picked[n-1]
			x.first, x.n = r, x.n+1
			if x.endless = x.n >= foldLimit; x.endless {
				break
			}
			continue
		}
		add(r)
	}
	slices.Reverse(picked)
	count = 0
	whole := true
	for i, h := range s.After(at, q) {
		if whole = i-at < scanLimit && count < 2*(after+slack); !whole {
			break
		}
		if !f.wants(h.Kind, h.From, h.Seen) {
			continue
		}
		r := s.At(i)
		if n := len(picked); n > 0 && folds(picked[n-1].last, r) {
			picked[n-1].last, picked[n-1].n = r, picked[n-1].n+1
			continue
		}
		add(r)
	}
	if whole {
		for k := range s.Running {
			if r := &s.Running[k]; (f.All || r.Link == f.Link) && f.wants(r.Kind, r.From, r.Seen) {
				add(r)
				running[r] = true
			}
		}
	}
	return f.lines(s, picked, running, lines)
}

// only picks the records that are wanted alone.
func (f *Filter) only(s *capture.Snapshot, at, before, after int, picked *[]fold, count *int, add func(*record.Record)) {
	t := s.Now + 1
	if at < s.Len() {
		t = s.Head(at).End
	}
	k := sort.Search(len(f.Only), func(i int) bool { return f.Only[i].End >= t })
	take := func(i, most int) bool {
		id := f.Only[i]
		if f.All || id.Link == f.Link {
			if n, kept := s.Locate(id); kept && f.wants(id.Kind, id.From, id.Seen) {
				add(s.At(n))
			}
		}
		return *count < 2*(most+slack)
	}
	for i := k - 1; i >= 0 && take(i, before); i-- {
	}
	slices.Reverse(*picked)
	*count = 0
	for i := k; i < len(f.Only) && take(i, after); i++ {
	}
}

// lines cuts what was picked into lines.
func (f *Filter) lines(s *capture.Snapshot, picked []fold, running map[*record.Record]bool, lines []Line) []Line {
	var all []*record.Record
	for _, p := range picked {
		all = append(all, p.first)
	}
	for _, p := range picked {
		r := p.first
		unheard := !f.Tap && r.Kind == record.Chars && r.Seen == record.Tap
		if unheard && (heard(r, all) || s.Now < r.End+2*r.Each) {
			continue
		}
		n := len(lines)
		lines = f.cut(lines, r, running[r])
		for k := n; k < len(lines); k++ {
			lines[k].Unheard = unheard
		}
		if p.n > 1 {
			lines[n].Times, lines[n].End, lines[n].Endless = p.n, p.last.End, p.endless
		}
	}
	sort.SliceStable(lines, func(a, b int) bool { return lines[a].At < lines[b].At })
	last := map[uint16]quantity.Time{}
	asked := map[uint16]*Line{}
	for k := range lines {
		l := &lines[k]
		if l.Kind != record.Chars {
			continue
		}
		switch a := asked[l.Link]; {
		case l.From == record.MCU:
			asked[l.Link] = l
		case a != nil && l.From >= record.Device:
			l.Echo = len(l.Data) > 0 && bytes.Equal(bytes.TrimRight(a.Data, "\r\n"), bytes.TrimRight(l.Data, "\r\n"))
			if l.Echo {
				delete(asked, l.Link)
			}
		}
		if end, ok := last[l.Link]; ok {
			l.Gap = l.At - end
			// Less than a bit either way is back to back: the receiver's clock
			// is not the sender's.
			if l.Gap > -l.each/10 && l.Gap < l.each/10 {
				l.Gap = 0
			}
		}
		last[l.Link] = max(last[l.Link], l.End)
	}
	return lines
}
