// Package filter is the language in which records are picked out, in the nouns of a bench:
//
//	lower-gauge answers later than 5 ms
//	leaf-tilt.tilt changes, then pump errors within 20 ms
//	identifier 1A0 to 1AF and not from pump-drive
//	pump-drive.pressure > 120 bar or errors
//
// Clauses that follow each other must all hold; and, or, not and parentheses join them
// otherwise. `then` asks for a record behind another one. One language serves filters,
// search, triggers and figures.
package filter

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/values"
)

// Filter is what was asked for. It never changes; a Matcher runs it.
type Filter struct {
	Text    string
	Clauses []Clause // in the order of the text
	steps   []step
	values  bool // some clause is about values
}

// Clause is a part of a filter that holds or not by itself.
type Clause struct {
	Text     string
	From, To int // in the filter's text, in bytes
	test     test
	may      may
}

// may says, without looking at records that stand together, whether a clause holds for none of
// them; nil: nobody knows.
type may func(s *records.Summary) bool

// step is what a record must be; those behind the first one come later than the one before.
type step struct {
	of     node
	within quantity.Time // 0: any time
}

// node is an expression over clauses.
type node interface {
	holds(clauses []bool) bool
	// may says whether it can hold for any of the records of which a summary tells.
	may(clauses []Clause, s *records.Summary) bool
}

type (
	clauseNode int
	notNode    struct{ of node }
	allNode    []node
	anyNode    []node
)

func (n clauseNode) may(c []Clause, s *records.Summary) bool {
	return c[n].may == nil || c[n].may(s)
}
func (n notNode) may([]Clause, *records.Summary) bool { return true }
func (n allNode) may(c []Clause, s *records.Summary) bool {
	for _, x := range n {
		if !x.may(c, s) {
			return false
		}
	}
	return true
}
func (n anyNode) may(c []Clause, s *records.Summary) bool {
	for _, x := range n {
		if x.may(c, s) {
			return true
		}
	}
	return false
}

func (n clauseNode) holds(c []bool) bool { return c[n] }
func (n notNode) holds(c []bool) bool    { return !n.of.holds(c) }
func (n allNode) holds(c []bool) bool {
	for _, x := range n {
		if !x.holds(c) {
			return false
		}
	}
	return true
}
func (n anyNode) holds(c []bool) bool {
	for _, x := range n {
		if x.holds(c) {
			return true
		}
	}
	return false
}

// test says whether a clause holds for a record; it may keep something in its cell.
type test func(x *look, c *cell) bool

// cell is what one clause keeps from record to record.
type cell struct {
	last map[*values.Name]values.Sample
}

// look is a record, as clauses see it.
type look struct {
	*record.Record
	link    *capture.Link
	samples []values.Sample
	// gap is the silence before it, delay the time from the end of what the MCU sent to its
	// begin; less than 0: it has none.
	gap, delay quantity.Time
}

// Matcher runs a filter over records that come in the order of their ends, each once. It is not
// safe for use by several goroutines.
type Matcher struct {
	f      *Filter
	meta   *capture.Meta
	reader *values.Reader
	cells  []cell
	hold   []bool
	// Hits counts, by clause, the records for which it held; Matches those for which all did.
	Hits    []int
	Matches int
	Seen    int
	links   map[uint16]*linkState
	chain   []Hit // the newest record of each step but the last
	has     []bool
	Cause   Hit // of the record that matched last, where the filter has several steps
}

// Hit is a record that a step took.
type Hit struct{ Start, End quantity.Time }

type linkState struct {
	end    quantity.Time
	begun  bool
	asked  quantity.Time
	asking bool
	latest reading
}

// Matcher gives a runner of the filter for the records of a capture, with the bench that says what
// they mean; nil: nothing is known of them.
func (f *Filter) Matcher(b *bench.Bench, m *capture.Meta) *Matcher {
	x := &Matcher{f: f, meta: m, cells: make([]cell, len(f.Clauses)), hold: make([]bool, len(f.Clauses)), Hits: make([]int, len(f.Clauses)), links: map[uint16]*linkState{}, chain: make([]Hit, len(f.steps)), has: make([]bool, len(f.steps))}
	if f.values {
		x.reader = values.NewReader(b, m)
	}
	return x
}

// Clauses are those of the filter, in the order of Hits.
func (m *Matcher) Clauses() []Clause { return m.f.Clauses }

// Take says whether a record is one that was asked for.
func (m *Matcher) Take(r *record.Record) bool {
	x := look{Record: r, gap: -1, delay: -1}
	once := true
	if int(r.Link) < len(m.meta.Links) {
		x.link = &m.meta.Links[r.Link]
		once = values.Once(x.link, r)
	}
	m.times(&x, once)
	if m.reader != nil {
		x.samples = m.reader.Take(r)
	}
	if once {
		m.Seen++
	}
	for i := range m.f.Clauses {
		m.hold[i] = m.f.Clauses[i].test(&x, &m.cells[i])
		if m.hold[i] && once {
			m.Hits[i]++
		}
	}
	n := len(m.f.steps)
	match := false
	for k := n - 1; k >= 0; k-- {
		s := &m.f.steps[k]
		ok := s.of.holds(m.hold)
		if k > 0 {
			before := m.chain[k-1]
			ok = ok && m.has[k-1] && r.Start >= before.End && (s.within == 0 || r.Start-before.End <= s.within)
			if ok && k == n-1 {
				m.Cause = before
			}
		}
		if k == n-1 {
			match = ok
		} else if ok {
			m.chain[k], m.has[k] = Hit{r.Start, r.End}, true
		}
	}
	if match && once {
		m.Matches++
	}
	return match
}

// times gives the times before a record, and takes note of it.
func (m *Matcher) times(x *look, once bool) {
	if !x.Traffic() || x.Kind == record.Flow {
		return
	}
	s := m.links[x.Link]
	if s == nil {
		s = &linkState{}
		m.links[x.Link] = s
	}
	if again := s.latest; !once && again.End > x.Start && x.End > again.Start && again.from == x.From {
		x.gap, x.delay = again.gap, again.delay
		return
	}
	if s.begun && x.Start >= s.end {
		x.gap = x.Start - s.end
	}
	if x.From >= record.Device && x.Kind == record.Chars && s.asking && x.Start >= s.asked {
		x.delay = x.Start - s.asked
	}
	if !once {
		return
	}
	switch {
	case x.From == record.MCU:
		s.asked, s.asking = x.End, true
	case x.Kind == record.Chars:
		s.asking = false
	}
	s.begun, s.end = true, max(s.end, x.End)
	s.latest = reading{Hit{x.Start, x.End}, x.From, x.gap, x.delay}
}

// reading is what was said of a record, for another receiver's reading of the same.
type reading struct {
	Hit
	from       record.End
	gap, delay quantity.Time
}

// Error is what is wrong with the text of a filter.
type Error struct {
	Text    string
	At      int // where, in bytes
	Message string
	Change  string
}

func (e *Error) Error() string {
	out := fmt.Sprintf("at character %d of the filter: %s", len([]rune(e.Text[:e.At]))+1, e.Message)
	if e.Change != "" {
		out += "; " + e.Change
	}
	return out
}

// around is how much of a long text is shown on each side of the place.
const around = 60

// Lines gives the text, of a long one what stands around the place, and a line that stands below it
// and points to the place.
func (e *Error) Lines() (text, caret string) {
	r, at := []rune(e.Text), len([]rune(e.Text[:e.At]))
	from, to := 0, len(r)
	lead, rest := "", ""
	if at > 2*around {
		from, lead = at-around, "…"
	}
	if to-at > 2*around {
		to, rest = at+around, "…"
	}
	return lead + string(r[from:to]) + rest, strings.Repeat(" ", len([]rune(lead))+at-from) + "^"
}
