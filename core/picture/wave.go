package picture

import (
	"fmt"
	"math"
	"sort"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/wire"
)

// Band is one link in a picture of line levels.
type Band struct {
	Link uint16
	Kind *bus.Kind
	Name string
	// Settings are those of the ends, the MCU's first; none where they are not
	// known.
	Settings []bus.Settings
	// LineNames says what the lines are called; where it has none, the role.
	LineNames []string
	// Shown are the lines that are drawn, in their order; nil for all as they
	// stand.
	Shown []int
	// Derived are further lines, made from those of the capture.
	Derived []Derived
	// Meaning says what a record means beyond the words of its bus; nil, or "": nothing.
	Meaning func(r *record.Record) string
	// Plan is what a transaction should be; records that are meant as it are
	// compared with it.
	Plan *intent.Plan
}

// Derived is a line made from others by a boolean expression.
type Derived struct {
	Name   string
	Expr   *wire.Derived
	Inputs [][2]int // link and line of each of the expression's names
}

// mostDerived bounds the edges from which a derived line is drawn.
const mostDerived = 200_000

// Window gives the line's levels; too many edges give false.
func (d *Derived) Window(snap *capture.Snapshot, from, to quantity.Time) (wire.Window, bool) {
	var ws []wire.Window
	edges := 0
	for _, in := range d.Inputs {
		for _, c := range snap.Columns(uint16(in[0]), in[1], from, to, 1) {
			if edges += c.Edges; edges > mostDerived {
				return wire.Window{}, false
			}
		}
		w, ok := snap.Window(uint16(in[0]), in[1], from, to)
		if !ok {
			return wire.Window{}, false
		}
		ws = append(ws, w)
	}
	return d.Expr.Window(ws), true
}

// Wave is what a picture of line levels is made from.
type Wave struct {
	Snap  *capture.Snapshot
	Bands []Band

	From, To quantity.Time
	// Columns is how many edges side by side can be told apart.
	Columns int
	Cursors []scene.Mark
}

const (
	// mostRecords is the number of records in a picture from which on they
	// are only counted.
	mostRecords = 200
	// mostTickColumns is the width for which the time axis is made, however
	// finely the levels are drawn.
	mostTickColumns = 140
)

// Records gives those of a capture that touch a stretch and are wanted, in order of
// their start: at most the number given, and how many there are.
func Records(snap *capture.Snapshot, from, to quantity.Time, most int, q records.Query) (out []*record.Record, n int) {
	for _, h := range snap.Touching(from, to, q) {
		if n++; n <= most {
			out = append(out, snap.Of(h))
		}
	}
	for i := range snap.Running {
		r := &snap.Running[i]
		if q.WantsRecord(r) && r.End > from && r.Start < to {
			if n++; n <= most {
				out = append(out, r)
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Start < out[j].Start })
	return out, n
}

// tapped are the records of a link that an ideal tap saw.
func tapped(link uint16) records.Query {
	return records.Query{Link: int(link), Traffic: true, Seen: []record.End{record.Tap}}
}

// Scene builds the picture: for each line what was sent, the levels, and on a
// character link what the receiver made of them.
func (w *Wave) Scene() *scene.Scene {
	s := &scene.Scene{From: w.From, To: w.To, Cursors: w.Cursors}
	s.Title = fmt.Sprintf("levels from %s to %s", w.From.Round(6), w.To.Round(6))
	if len(w.Bands) == 1 {
		s.Title = w.Bands[0].Name + ", " + s.Title
	}
	s.Lanes = append(s.Lanes, scene.Lane{Name: "time", Ticks: ticks(w.From, w.To, min(w.Columns, mostTickColumns))})
	for i := range w.Bands {
		b := band{w, &w.Bands[i]}
		b.add(s)
	}
	return s
}

// band is one Band of a Wave.
type band struct {
	*Wave
	*Band
}

func (w band) add(s *scene.Scene) {
	// Records that others than the tap saw are readings of what it saw.
	taps, n := Records(w.Snap, w.From, w.To, mostRecords, tapped(w.Link))
	whole := w.Kind.LineOf == nil
	head := scene.Lane{Name: w.Name, Letter: w.Kind.Mark, Hue: w.Kind.Hue}
	if whole {
		head.Cells = w.cells(taps, n)
	}
	s.Lanes = append(s.Lanes, head)
	shown := w.Shown
	if shown == nil {
		for role := range w.Kind.Lines {
			shown = append(shown, role)
		}
	}
	for _, line := range shown {
		if _, ok := w.Snap.Kept(w.Link, line); !ok {
			continue
		}
		name := w.Kind.Lines[line].Name
		if line < len(w.LineNames) && w.LineNames[line] != "" {
			name = w.LineNames[line]
		}
		mine, count := taps, n
		if !whole {
			mine = w.ofLine(taps, line)
			if count = len(mine); n > len(taps) {
				count = n
			}
		}
		w.line(s, line, name, mine, count, whole)
	}
	for i := range w.Derived {
		s.Lanes = append(s.Lanes, w.derived(&w.Derived[i]))
	}
}

// derived draws a line made from others.
func (w band) derived(d *Derived) scene.Lane {
	lane := scene.Lane{Detail: d.Name, Levels: &scene.Levels{}}
	x, ok := d.Window(w.Snap, w.From, w.To)
	if !ok {
		lane.Levels = nil
		lane.Cells = []scene.Cell{{From: w.From, To: w.To, Label: fmt.Sprintf("more than %d edges: zoom in", mostDerived), Tone: scene.Quiet}}
		return lane
	}
	lane.Levels = levelsOf(w.From, w.To, columnsOf(&x, w.Columns))
	return lane
}

// columnsOf tells what a window does in n equal stretches.
func columnsOf(x *wire.Window, n int) []wire.Column {
	t := wire.NewTrace(x.High, math.MaxInt)
	t.Append(x)
	return t.Columns(x.From, x.To, n)
}

// ofLine gives the records of a character link that went over a line.
func (w band) ofLine(rs []*record.Record, line int) []*record.Record {
	var out []*record.Record
	for _, r := range rs {
		if w.Kind.LineOf(r) == line {
			out = append(out, r)
		}
	}
	return out
}

// line adds the lanes of one line.
func (w band) line(s *scene.Scene, line int, name string, rs []*record.Record, n int, whole bool) {
	fields, bits, samples := w.labels(rs, n, line)
	sent := scene.Lane{Detail: name + " sent", Cells: fields}
	if !whole && len(fields) == 0 {
		sent.Cells = w.cells(rs, n)
	}
	if len(sent.Cells) > 0 || !whole {
		s.Lanes = append(s.Lanes, sent)
	}
	if len(bits) > 0 {
		s.Lanes = append(s.Lanes, scene.Lane{Detail: name + " bits", Cells: bits})
	}
	if w.Plan != nil {
		if lane, ok := w.planned(rs, line, name); ok {
			s.Lanes = append(s.Lanes, lane)
		}
	}
	lane := scene.Lane{Detail: name, Levels: w.levels(line)}
	if w.Kind.Decoder == nil {
		lane.Detail += "  " + activity(lane.Levels, w.To-w.From)
	}
	s.Lanes = append(s.Lanes, lane)
	if len(samples) > 0 {
		s.Lanes = append(s.Lanes, scene.Lane{Detail: name + " samples", Marks: samples})
	}
	if whole || w.Kind.Driver(line) < 0 {
		return
	}
	if read, ok := w.reading(line, rs); ok {
		s.Lanes = append(s.Lanes, read)
	}
}

// wide says whether a stretch of time takes at least so many columns.
func (w *Wave) wide(t quantity.Time, columns float64) bool {
	return float64(t)*float64(w.Columns) >= columns*float64(w.To-w.From)
}

// label says what a record is: its meaning where that is known, and where there is room for it.
func (w band) label(r *record.Record) string {
	if w.Meaning != nil && w.wide(r.End-r.Start, 2) {
		if text := w.Meaning(r); text != "" {
			return safe.Text(text)
		}
	}
	return safe.Text(w.Kind.Sentence(r))
}

// cells shows records as a whole.
func (w band) cells(rs []*record.Record, n int) []scene.Cell {
	if n > len(rs) {
		return []scene.Cell{{From: w.From, To: w.To, Label: fmt.Sprintf("%d records", n)}}
	}
	var out []scene.Cell
	for _, r := range rs {
		c := scene.Cell{From: r.Start, To: r.End, Label: w.label(r)}
		if r.AllFlags() != 0 {
			c.Tone = scene.Doubt
		}
		out = append(out, c)
	}
	return out
}

// labels gives the fields, bits and samples of a line where there is room for
// them.
func (w band) labels(rs []*record.Record, n, line int) (fields, bits []scene.Cell, samples []scene.Mark) {
	if n > len(rs) || len(rs) > 40 || len(w.Settings) == 0 || w.Settings[0] == nil {
		return nil, nil, nil
	}
	for _, r := range rs {
		// A byte in less than two columns can't be labelled.
		if !w.wide((r.End-r.Start)/quantity.Time(max(r.Len(), 1)), 2) {
			return nil, nil, nil
		}
		for _, l := range w.Kind.Labels(w.Settings, r, w.windows(r)) {
			if l.Line != line || l.To < w.From || l.From > w.To {
				continue
			}
			switch l.Kind {
			case bus.FieldLabel, bus.EventLabel:
				fields = append(fields, scene.Cell{From: l.From, To: l.To, Label: l.Text})
			case bus.BitLabel:
				bits = append(bits, scene.Cell{From: l.From, To: l.To, Label: l.Text})
			case bus.StuffLabel:
				bits = append(bits, scene.Cell{From: l.From, To: l.To, Label: l.Text, Tone: scene.Quiet})
			case bus.SampleLabel:
				samples = append(samples, scene.Mark{At: l.From, Label: "sample of " + l.Text})
			}
		}
	}
	if len(fields)+len(bits) == 0 && len(samples) > 0 && w.wide((w.To-w.From)/quantity.Time(len(samples)), 3) {
		return nil, nil, samples // a clock that says when others are sampled
	}
	if !fit(w, fields, 2.5) {
		return nil, nil, nil
	}
	if !fit(w, bits, 3) {
		bits, samples = nil, nil
	}
	return fields, bits, samples
}

// fit says whether cells have on the whole the given number of columns.
func fit(w band, cs []scene.Cell, columns float64) bool {
	if len(cs) == 0 {
		return false
	}
	sum := quantity.Time(0)
	for _, c := range cs {
		sum += c.To - c.From
	}
	return w.wide(sum/quantity.Time(len(cs)), columns)
}

// windows gives all lines under a record.
func (w band) windows(r *record.Record) []wire.Window {
	out := make([]wire.Window, len(w.Kind.Lines))
	for i, role := range w.Kind.Lines {
		out[i] = wire.Window{From: r.Start, To: r.End, High: role.High}
		// A bit to spare in front: the first edge is the record's start.
		if x, ok := w.Snap.Window(w.Link, i, r.Start-quantity.Nanosecond, r.End+1); ok {
			out[i] = x
		}
	}
	return out
}

// levels draws a line at the cost of the picture's width.
func (w band) levels(line int) *scene.Levels {
	return levelsOf(w.From, w.To, w.Snap.Columns(w.Link, line, w.From, w.To, w.Columns))
}

func levelsOf(from, to quantity.Time, cols []wire.Column) *scene.Levels {
	out := &scene.Levels{}
	if len(cols) == 0 {
		return out
	}
	out.High = cols[0].High
	edge := func(i int) quantity.Time {
		return from + quantity.Time(math.Floor(float64(to-from)*float64(i)/float64(len(cols))))
	}
	for i, c := range cols {
		behind := c.High != (c.Edges%2 == 1)
		if i+1 < len(cols) {
			behind = cols[i+1].High
		}
		switch {
		case c.Edges == 0:
		case c.Edges == 1:
			out.Toggles = append(out.Toggles, c.First)
		default:
			b := scene.Busy{From: edge(i), To: edge(i + 1), Edges: c.Edges, High: behind}
			if k := len(out.Busy) - 1; k >= 0 && out.Busy[k].To == b.From {
				out.Busy[k].To, out.Busy[k].High = b.To, b.High
				out.Busy[k].Edges += b.Edges
			} else {
				out.Busy = append(out.Busy, b)
			}
		}
	}
	return out
}

// activity says what a line does in the picture: its level, or its edges a
// second.
func activity(l *scene.Levels, span quantity.Time) string {
	n := len(l.Toggles)
	for _, b := range l.Busy {
		n += b.Edges
	}
	switch {
	case n > 0:
		return strings.ReplaceAll(strings.TrimSuffix(quantity.FromHz(float64(n)/span.Seconds()).Round(2), "Hz"), " ", "") + " edge/s"
	case l.High:
		return "idle high"
	}
	return "idle low"
}

// reading shows what the receiver at the other end made of a character line,
// character by character where there is room; what differs from what was sent
// is marked.
func (w band) reading(line int, sent []*record.Record) (scene.Lane, bool) {
	link := capture.Link{}
	if links := w.Snap.Meta().Links; int(w.Link) < len(links) {
		link = links[w.Link]
	}
	from, receiver, by := record.MCU, record.Device, link.Device()
	if w.Kind.Driver(line) == 1 {
		from, receiver, by = record.Device, record.MCU, link.MCU()
	}
	read, n := Records(w.Snap, w.From, w.To, mostRecords, records.Query{Link: int(w.Link), Kinds: []record.Kind{record.Chars}, From: []record.End{from}, Seen: []record.End{receiver}})
	if n == 0 && w.Snap.Counters(capture.Direction{Link: w.Link, From: from, Seen: receiver}).Runs == 0 {
		return scene.Lane{}, false // nobody's receiver is known here
	}
	lane := scene.Lane{Detail: by + " read"}
	if n > len(read) {
		lane.Cells = w.cells(read, n)
		return lane, true
	}
	was := sentChars(sent)
	for _, r := range read {
		if !w.wide(r.Each, 2.5) || len(r.Offsets) == 0 {
			lane.Cells = append(lane.Cells, w.judged(r, was))
			continue
		}
		for i := range r.Len() {
			at := r.Start + r.Offsets[i]
			if at+r.Each < w.From || at > w.To {
				continue
			}
			c := scene.Cell{From: at, To: at + r.Each, Label: fmt.Sprintf("%02X", r.Char(i))}
			if f := r.FlagsAt(i); f != 0 {
				c.Label += " " + f.String()
			}
			if v, ok := was.near(at, r.Each/2); !ok || v != r.Char(i) || r.FlagsAt(i) != 0 {
				c.Tone = scene.Differ
			}
			lane.Cells = append(lane.Cells, c)
		}
	}
	return lane, true
}

// judged shows a whole run; it differs if one of its characters does.
func (w band) judged(r *record.Record, was sentAt) scene.Cell {
	c := scene.Cell{From: r.Start, To: r.End, Label: w.label(r)}
	if was.misread(r) {
		c.Tone = scene.Differ
	}
	return c
}

// Misread says whether a receiver read something else than what was sent, as an
// ideal tap saw it, or marked an error.
func Misread(snap *capture.Snapshot, r *record.Record) bool {
	if r.Kind != record.Chars {
		return false
	}
	q := tapped(r.Link)
	q.Kinds, q.From = []record.Kind{record.Chars}, []record.End{r.From}
	sent, _ := Records(snap, r.Start-r.Each, r.End, mostRecords, q)
	return sentChars(sent).misread(r)
}

// sentAt are characters with their times, in order.
type sentAt []struct {
	at    quantity.Time
	value uint16
}

func sentChars(rs []*record.Record) sentAt {
	var out sentAt
	for _, r := range rs {
		for i := range min(r.Len(), len(r.Offsets)) {
			out = append(out, struct {
				at    quantity.Time
				value uint16
			}{r.Start + r.Offsets[i], r.Char(i)})
		}
	}
	return out
}

// misread says whether a run that was read has an error or a character that was
// not sent so.
func (s sentAt) misread(r *record.Record) bool {
	if r.AllFlags() != 0 {
		return true
	}
	for i := range min(r.Len(), len(r.Offsets)) {
		if v, ok := s.near(r.Start+r.Offsets[i], r.Each/2); !ok || v != r.Char(i) {
			return true
		}
	}
	return false
}

// near finds what was sent at about a time: the wire delays it.
func (s sentAt) near(at, within quantity.Time) (uint16, bool) {
	i := sort.Search(len(s), func(i int) bool { return s[i].at > at+within })
	if i == 0 || at-s[i-1].at > within {
		return 0, false
	}
	return s[i-1].value, true
}

// ticks gives round moments of the stretch, about one for each twelve columns.
func ticks(from, to quantity.Time, columns int) []scene.Mark {
	span := float64(to - from)
	step := math.Pow(10, math.Floor(math.Log10(span/float64(max(columns/12, 1)))))
	for _, m := range []float64{1, 2, 5, 10} {
		if span/(step*m)*14 <= float64(columns) || m == 10 {
			step *= m
			break
		}
	}
	d := quantity.Time(max(step, 1))
	var out []scene.Mark
	first := from / d * d
	if first < from {
		first += d
	}
	for t := first; t < to && len(out) < 1000; t += d {
		out = append(out, scene.Mark{At: t, Label: TimeLabel(t, d)})
	}
	return out
}

// TimeLabel gives a time with the digits that steps of the given size need, in
// groups of three.
func TimeLabel(t, step quantity.Time) string {
	units := []struct {
		name string
		size quantity.Time
	}{{"s", quantity.Second}, {"ms", quantity.Millisecond}, {"µs", quantity.Microsecond}, {"ns", quantity.Nanosecond}, {"ps", 1}}
	for _, u := range units {
		if t < u.size && step*1000 <= u.size && u.size > 1 {
			continue
		}
		decimals := 0
		for s := u.size; s > step && s > 1; s /= 10 {
			decimals++
		}
		whole, part := fmt.Sprint(int64(t/u.size)), fmt.Sprintf("%0*d", len(fmt.Sprint(int64(u.size)))-1, int64(t%u.size))
		if u.size == 1 || decimals == 0 {
			return whole + " " + u.name
		}
		part = part[:decimals]
		var groups []string
		for ; len(part) > 3; part = part[3:] {
			groups = append(groups, part[:3])
		}
		return whole + "." + strings.Join(append(groups, part), " ") + " " + u.name
	}
	return t.String()
}
