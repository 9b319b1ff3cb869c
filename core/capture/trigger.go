package capture

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// Condition is what a Trigger waits for: one of its fields.
type Condition struct {
	Bytes    []byte       // in a row, in what one party sent
	Flags    record.Flags // any of these error marks
	Any      bool         // any error mark
	Unacked  bool         // a byte or frame that nobody acknowledged
	Gap      quantity.Time
	ID       uint32 // of a can frame
	HasID    bool
	Extended bool
	// Line is LINK.ROLE of which levels are looked at: for an edge, or for a pulse that is
	// shorter than Under or longer than Over, of the level High.
	Line        string
	Edge        bool
	High        bool // the edge rises, the pulse is high
	Under, Over quantity.Time
}

// ConditionHelp says how conditions are written.
const ConditionHelp = "error; the name of a mark, as parity; not acknowledged; gap 5 ms; id 2A0; rises hull.clock; falls LINE; high under 2 us on LINE; low over 5 ms on LINE; a text; or a filter"

// ParseCondition reads a condition; text reads what is none of the words.
func ParseCondition(s string, text func(string) ([]byte, error)) (Condition, error) {
	word, rest, _ := strings.Cut(s, " ")
	switch {
	case s == "error":
		return Condition{Any: true}, nil
	case s == "not acknowledged":
		return Condition{Unacked: true}, nil
	case word == "gap" && rest != "":
		t, err := quantity.ParseSpan(rest)
		if err == nil && t == 0 {
			err = fmt.Errorf("a gap is longer than 0")
		}
		return Condition{Gap: t}, err
	case word == "id" && rest != "":
		id, err := strconv.ParseUint(rest, 16, 32)
		if err != nil || id >= 1<<29 {
			return Condition{}, fmt.Errorf("%q is no identifier in hex", rest)
		}
		return Condition{ID: uint32(id), HasID: true, Extended: len(rest) > 3 || id > 0x7ff}, nil
	}
	if c, is, err := parseLevels(word, rest); is {
		return c, err
	}
	if f := record.ParseFlags(s); f != 0 {
		return Condition{Flags: f}, nil
	}
	b, err := text(s)
	if err == nil && len(b) == 0 {
		err = fmt.Errorf("there is nothing to wait for; write %s", ConditionHelp)
	}
	return Condition{Bytes: b}, err
}

// parseLevels reads a condition on the levels of a line; is: it is one.
func parseLevels(word, rest string) (c Condition, is bool, err error) {
	switch word {
	case "rises", "falls":
		if rest == "" || strings.Contains(rest, " ") {
			return c, false, nil
		}
		return Condition{Line: rest, Edge: true, High: word == "rises"}, true, nil
	case "high", "low":
		than, more, _ := strings.Cut(rest, " ")
		span, line, has := strings.Cut(more, " on ")
		if than != "under" && than != "over" {
			return c, false, nil
		}
		t, err := quantity.ParseSpan(span)
		switch {
		case !has || line == "":
			err = fmt.Errorf("name the line, as: %s %s 2 us on hull.clock", word, than)
		case err == nil && t == 0:
			err = fmt.Errorf("a pulse is longer than 0")
		}
		c = Condition{Line: line, High: word == "high", Under: t}
		if than == "over" {
			c.Under, c.Over = 0, t
		}
		return c, true, err
	}
	return c, false, nil
}

// Find says which link and role a line named LINK.ROLE is.
func (m *Meta) Find(line string) (link uint16, role int, err error) {
	name, wanted, _ := strings.Cut(line, ".")
	var links []string
	for i := range m.Links {
		l := &m.Links[i]
		links = append(links, l.Name)
		if l.Name != name {
			continue
		}
		var roles []string
		for k, r := range l.Roles {
			if k >= len(l.Lines) || l.Lines[k] < 0 {
				continue
			}
			if r == wanted {
				return uint16(i), k, nil
			}
			roles = append(roles, name+"."+r)
		}
		if roles == nil {
			return 0, 0, fmt.Errorf("%s has no lines whose levels are known", name)
		}
		return 0, 0, fmt.Errorf("there is no line %q; there are %s", line, strings.Join(roles, ", "))
	}
	return 0, 0, fmt.Errorf("%q is no line: write LINK.LINE; the links are %s", line, strings.Join(links, ", "))
}

// Trigger waits for something in a capture that grows. What is there when it is armed
// does not count.
type Trigger struct {
	want  Condition
	armed quantity.Time
	bad   map[Direction]uint64
	ended map[uint16]quantity.Time // the newest traffic of each link, for a gap
	mark  records.Mark             // what came after it was not looked at yet
	// Of a line: up to when its levels were looked at, and its last edge before that.
	looked quantity.Time
	edge   quantity.Time
	edged  bool
}

// NewTrigger arms a trigger.
func NewTrigger(s *Snapshot, want Condition) *Trigger {
	t := &Trigger{want: want, armed: s.Now, bad: map[Direction]uint64{}, ended: map[uint16]quantity.Time{}, mark: s.Mark(), looked: s.Now, edge: s.Now}
	for d, c := range s.counters {
		t.bad[d] = c.Bad
		t.ended[d.Link] = max(t.ended[d.Link], c.Last)
	}
	return t
}

// Fired says whether what is waited for is in the capture, on which link and at
// what time it was complete.
func (t *Trigger) Fired(s *Snapshot) (link uint16, at quantity.Time, ok bool) {
	if t.want.Line != "" {
		return t.levels(s)
	}
	if t.want.Any {
		for d, c := range s.counters {
			if c.Bad > t.bad[d] && (!ok || c.LastBad < at) {
				link, at, ok = d.Link, c.LastBad, true
			}
		}
		return link, at, ok
	}
	fresh := s.Since(t.mark)
	t.mark = s.Mark()
	for _, i := range fresh {
		if r := s.At(i); r.Traffic() {
			if at, ok := t.in(r); ok {
				return r.Link, at, true
			}
		}
	}
	for i := range s.Running {
		if at, ok := t.in(&s.Running[i]); ok {
			return s.Running[i].Link, at, true
		}
	}
	return 0, 0, false
}

// levels looks for an edge or a pulse on a line.
func (t *Trigger) levels(s *Snapshot) (link uint16, at quantity.Time, ok bool) {
	link, role, err := s.Meta().Find(t.want.Line)
	if err != nil {
		return 0, 0, false
	}
	kept, has := s.Kept(link, role)
	if !has || kept.To <= t.looked {
		return 0, 0, false
	}
	w, _ := s.Window(link, role, t.looked, kept.To)
	level := w.High
	for _, e := range w.Toggles {
		level = !level
		switch long := e - t.edge; {
		case t.want.Edge:
			ok = level == t.want.High
		case level == t.want.High || !t.edged: // a pulse of the other level ended, or one that began before
		case t.want.Under > 0:
			ok = long < t.want.Under
		default:
			ok = long > t.want.Over
		}
		t.edge, t.edged = e, true
		if ok {
			t.looked = e + 1
			return link, e, true
		}
	}
	t.looked = kept.To
	// One that goes on is long enough before it ends.
	if t.want.Over > 0 && t.edged && level == t.want.High && kept.To-t.edge > t.want.Over {
		t.edged = false
		return link, t.edge + t.want.Over, true
	}
	return 0, 0, false
}

// in looks for the condition in a record, beyond the time of arming.
func (t *Trigger) in(r *record.Record) (quantity.Time, bool) {
	w := &t.want
	switch {
	case !r.Traffic():
		return 0, false
	case w.Gap > 0:
		last, seen := t.ended[r.Link]
		t.ended[r.Link] = max(last, r.End)
		return r.Start, seen && r.Start-max(last, t.armed) >= w.Gap
	case w.HasID:
		return r.End, r.Kind == record.Frame && r.Attr&record.Incomplete == 0 && r.ID == w.ID && (r.Attr&record.Extended != 0) == w.Extended && r.End > t.armed
	case w.Flags != 0:
		return t.marked(r, w.Flags)
	case w.Unacked:
		if r.Kind == record.Frame {
			return t.marked(r, record.NotAcknowledged)
		}
		// On i2c the controller ends a read without acknowledging the last byte.
		for i, b := range r.Back {
			if r.Kind == record.Transaction && r.Bits == 0 && b&record.Acked == 0 && (b&record.Addressing != 0 || i+1 < len(r.Back) || !reads(r, i)) && r.End > t.armed {
				return t.end(r, i), true
			}
		}
		return 0, false
	}
	return t.bytes(r)
}

// reads says whether a byte of an i2c transaction went to the controller.
func reads(r *record.Record, i int) bool {
	for ; i >= 0; i-- {
		if r.Back[i]&record.Addressing != 0 {
			return r.Data[i]&1 == 1
		}
	}
	return false
}

// end is when a character was complete.
func (t *Trigger) end(r *record.Record, i int) quantity.Time {
	if i < len(r.Offsets) {
		return min(r.Start+r.Offsets[i]+r.Each, r.End)
	}
	return r.End
}

func (t *Trigger) marked(r *record.Record, f record.Flags) (quantity.Time, bool) {
	i := slices.IndexFunc(r.Marks, func(m record.Mark) bool { return m.Flags&f != 0 && t.end(r, m.Index) > t.armed })
	if i < 0 {
		return 0, false
	}
	return t.end(r, r.Marks[i].Index), true
}

func (t *Trigger) bytes(r *record.Record) (quantity.Time, bool) {
	if r.Wide {
		return 0, false
	}
	for from := 0; from+len(t.want.Bytes) <= len(r.Data); from++ {
		i := bytes.Index(r.Data[from:], t.want.Bytes)
		if i < 0 {
			return 0, false
		}
		from += i
		at := r.End
		if last := from + len(t.want.Bytes) - 1; last < len(r.Offsets) {
			at = r.Start + r.Offsets[last] + r.Each
		}
		if at > t.armed {
			return at, true
		}
	}
	return 0, false
}
