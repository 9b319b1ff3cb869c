// Package csv reads and writes line levels as comma-separated values: a column
// of times and one of 0 and 1 for each line, or samples at a fixed rate
// without times.
package csv

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/fault"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// stretch is the number of rows after which a window is handed out.
const stretch = 1 << 14

var units = map[string]float64{"s": 1e12, "sec": 1e12, "seconds": 1e12, "ms": 1e9, "us": 1e6, "µs": 1e6, "μs": 1e6, "ns": 1e3, "ps": 1}

// Reader streams a file.
type Reader struct {
	in     *csv.Reader
	text   *text
	names  []string
	index  bool // the first column counts the rows
	timeAt bool // the next one holds times
	comma  bool // decimals are written with a comma
	unit   float64
	rate   float64 // samples a second, without times

	row      int64
	shift    quantity.Time // added to all times, so that the first is not below 0
	now      quantity.Time
	from     quantity.Time
	level    []bool
	unknown  []byte // x, z, or 0
	since    []quantity.Time
	spans    [][]wire.Span
	opening  []wire.Opening
	first    bool // the first stretch is behind
	seen     []bool
	wanted   []int
	selected []bool
	toggles  [][]quantity.Time
	out      []wire.Window
	ended    bool
	cut      bool
}

// NewReader reads the row that names the columns. Columns are parted by commas, semicolons
// or tabs; lines that begin with # are remarks, and in front of the names those with %, //
// or ; too. A column that counts the rows is passed over. The next is the time where its
// name is `time`, `timestamp` or `t`; a unit may stand behind it, as `time [ns]` or
// `Time/us`, else it is seconds. Without such a column the samples come at the rate. Times
// may begin below 0: the first is 0 then. Rows at one time follow each other as they stand;
// an empty cell leaves the line as it is.
func NewReader(in io.Reader, rate quantity.Freq) (*Reader, error) {
	t, err := newText(in)
	if err != nil {
		return nil, err
	}
	r := &Reader{in: csv.NewReader(t), text: t, rate: rate.Hz()}
	r.in.ReuseRecord, r.in.TrimLeadingSpace = true, t.comma != '\t'
	r.in.Comma, r.in.Comment = t.comma, '#'
	r.comma = t.comma == ';'
	head, err := r.in.Read()
	if err != nil {
		if errors.Is(err, io.EOF) {
			return nil, errors.New("line 1: the file is empty; its first line names the lines")
		}
		return nil, r.fault(err)
	}
	line := r.line()
	head = append([]string(nil), head...)
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
	}
	if slices.Contains([]string{"index", "sample", "samples", "sample number", "no", "no.", "nr", "row", "n"}, strings.ToLower(head[0])) && len(head) > 1 {
		r.index = true
		head = head[1:]
	}
	switch u, timed := timeUnit(head[0]); {
	case timed && r.rate > 0:
		return nil, fmt.Errorf("line %d: there is a column of times; a rate of samples has no effect", line)
	case timed:
		if r.timeAt, r.unit = true, units[u]; r.unit == 0 {
			return nil, fmt.Errorf("line %d: times in %q; write s, ms, us, ns or ps", line, u)
		}
		head = head[1:]
	case r.rate <= 0:
		return nil, fmt.Errorf("line %d: there is no column of times; give the rate of the samples", line)
	}
	// A separator behind the last name makes an empty column.
	for len(head) > 0 && head[len(head)-1] == "" {
		head = head[:len(head)-1]
	}
	for _, h := range head {
		if _, err := strconv.ParseFloat(h, 64); err == nil {
			return nil, fmt.Errorf("line %d: %q is a number; the first row must name the lines", line, h)
		}
		if slices.Contains(r.names, h) {
			return nil, fmt.Errorf("line %d: two columns are called %q; give each line its own name", line, h)
		}
		r.names = append(r.names, h)
	}
	if len(r.names) == 0 {
		return nil, fmt.Errorf("line %d: there are no lines beside the time", line)
	}
	n := len(r.names)
	r.level, r.selected, r.toggles, r.seen = make([]bool, n), make([]bool, n), make([][]quantity.Time, n), make([]bool, n)
	r.unknown, r.since, r.spans, r.opening = make([]byte, n), make([]quantity.Time, n), make([][]wire.Span, n), make([]wire.Opening, n)
	return r, nil
}

// timeUnit says whether a name is that of a column of times, and gives its unit.
func timeUnit(name string) (unit string, timed bool) {
	low := strings.ToLower(name)
	for _, word := range []string{"timestamp", "time", "t"} {
		rest, is := strings.CutPrefix(low, word)
		if !is || rest != "" && !strings.ContainsAny(rest[:1], " []()_/:-,") {
			continue
		}
		if rest = strings.Trim(rest, " []()_/:-,"); rest == "" {
			rest = "s"
		}
		return rest, true
	}
	return "", false
}

// line is that of the row that was read last.
func (r *Reader) line() int {
	n, _ := r.in.FieldPos(0)
	return n + r.text.lines
}

// tableError is what is wrong with the table, in our words.
type tableError struct {
	error
	of error
}

func (e tableError) Unwrap() error { return e.of }

// fault says what is wrong with the table, in the line of the file.
func (r *Reader) fault(err error) error {
	if errors.Is(err, io.EOF) {
		return err
	}
	if at := (*csv.ParseError)(nil); errors.As(err, &at) {
		moved := *at
		moved.StartLine += r.text.lines
		moved.Line += r.text.lines
		return tableError{fault.CSV(&moved), err}
	}
	return fault.CSV(err)
}

// Notes says what was passed over so far.
func (r *Reader) Notes() []string {
	var out []string
	if r.shift > 0 {
		out = append(out, fmt.Sprintf("times begin at -%s; here the first is 0", r.shift))
	}
	if r.cut {
		out = append(out, "the file is cut off inside its last line: what stands before it was read")
	}
	return out
}

// Names lists the lines.
func (r *Reader) Names() []string { return r.names }

// Select names the lines that Next gives.
func (r *Reader) Select(lines ...int) {
	r.wanted = append([]int(nil), lines...)
	clear(r.selected)
	for _, i := range lines {
		r.selected[i] = true
	}
	r.out = make([]wire.Window, len(lines))
}

// Next gives the windows of the selected lines over the next stretch; io.EOF
// at the end.
func (r *Reader) Next() ([]wire.Window, error) {
	if r.ended {
		return nil, io.EOF
	}
	begin := append([]bool(nil), r.level...)
	for i := range r.toggles {
		r.toggles[i], r.spans[i] = r.toggles[i][:0], r.spans[i][:0]
	}
	var err error
	for range stretch {
		if err = r.read(begin); err != nil {
			break
		}
	}
	if (errors.Is(err, csv.ErrFieldCount) || errors.Is(err, csv.ErrQuote)) && r.text.cutAt(r.in.InputOffset()) {
		r.cut, err = true, io.EOF
	}
	for i := range r.toggles {
		if !r.first && r.opening[i].Drops(begin[i], len(r.toggles[i])) {
			begin[i], r.toggles[i] = !begin[i], r.toggles[i][1:]
		}
	}
	r.first = true
	// Times rise, so the next row lies behind this border.
	to := r.now + 1
	r.ended = err != nil
	for k, i := range r.wanted {
		r.out[k] = wire.Window{From: r.from, To: to, High: begin[i], Toggles: r.toggles[i], Unknown: r.spans[i]}
		if r.unknown[i] != 0 {
			r.out[k].Unknown = append(r.out[k].Unknown, r.span(i, to))
		}
	}
	r.from = to
	if err != nil && !errors.Is(err, io.EOF) {
		return r.out, err
	}
	return r.out, nil
}

// time reads the time of a row.
func (r *Reader) time(cell string, line int) (quantity.Time, error) {
	cell = strings.TrimSpace(cell)
	if r.comma {
		cell = strings.Replace(cell, ",", ".", 1)
	}
	f, err := strconv.ParseFloat(cell, 64)
	if ps := f * r.unit; err != nil || !(math.Abs(ps) < math.MaxInt64/4) {
		return 0, fmt.Errorf("line %d: %q is no time that fits", line, cell)
	}
	t := quantity.Time(math.Round(f * r.unit))
	if r.row == 0 && t < 0 {
		r.shift = -t
	}
	switch t += r.shift; {
	case r.row > 0 && t < r.now && t > r.now-2 && r.now == r.from:
		return r.now, nil // a row at the time of the one before it, in the next stretch
	case r.row > 0 && t < r.now:
		return 0, fmt.Errorf("line %d: time %s after %s: times must not go back", line, t, r.now)
	}
	return t, nil
}

// symbol gives that of a cell: 0, 1, x or z; 0 leaves the line as it is.
func (r *Reader) symbol(cell string, line int) (byte, error) {
	switch cell = strings.TrimSpace(cell); cell {
	case "0":
		return '0', nil
	case "1":
		return '1', nil
	case "":
		return 0, nil
	}
	switch strings.ToLower(cell) {
	case "l", "low", "lo", "false", "off":
		return '0', nil
	case "h", "high", "hi", "true", "on":
		return '1', nil
	case "x", "u", "w", "-", "?":
		return 'x', nil
	case "z":
		return 'z', nil
	}
	number := cell
	if r.comma {
		number = strings.Replace(cell, ",", ".", 1)
	}
	switch f, err := strconv.ParseFloat(number, 64); {
	case err == nil && f == 0:
		return '0', nil
	case err == nil && f == 1:
		return '1', nil
	case err == nil && strings.ContainsAny(number, ".eE"):
		return 0, fmt.Errorf("line %d: %q is a voltage, as it seems; make levels of it with a threshold first: 0, 1, x (unknown) or z (nobody drives)", line, cell)
	}
	return 0, fmt.Errorf("line %d: %q is no level; write 0, 1, x (unknown) or z (nobody drives)", line, cell)
}

// read takes one row. Nothing of a row that is broken is taken.
func (r *Reader) read(begin []bool) error {
	row, err := r.in.Read()
	if err != nil {
		return r.fault(err)
	}
	line := r.line()
	if r.index {
		row = row[1:]
	}
	t := quantity.Time(0)
	if r.timeAt {
		if t, err = r.time(row[0], line); err != nil {
			return err
		}
		row = row[1:]
	} else {
		t = quantity.Time(math.Round(float64(r.row) / r.rate * 1e12))
	}
	symbols := make([]byte, 0, 64)
	for _, cell := range row[:len(r.names)] {
		s, err := r.symbol(cell, line)
		if err != nil {
			return err
		}
		symbols = append(symbols, s)
	}
	if r.row == 0 {
		r.from = t
	}
	r.row++
	for i, s := range symbols {
		r.take(i, s, t, begin)
	}
	r.now = t
	return nil
}

// take gives a line its symbol at a time.
func (r *Reader) take(i int, s byte, t quantity.Time, begin []bool) {
	if s == 0 && r.seen[i] {
		return
	}
	high, unknown := r.level[i], byte(0)
	switch s {
	case '0':
		high = false
	case '1':
		high = true
	case 'z':
		high, unknown = true, 'z'
	default:
		s, unknown = 'x', 'x'
	}
	if !r.seen[i] {
		r.seen[i], r.level[i], begin[i] = true, high, high
		r.opening[i].Begin(s)
	} else if !r.first {
		r.opening[i].Take(s, r.unknown[i], high != r.level[i], len(r.toggles[i]) == 0)
	}
	if unknown != r.unknown[i] {
		if r.unknown[i] != 0 && t > r.since[i] {
			r.spans[i] = append(r.spans[i], r.span(i, t))
		}
		r.unknown[i], r.since[i] = unknown, t
	}
	if high == r.level[i] {
		return
	}
	r.level[i] = high
	if !r.selected[i] {
		return
	}
	if n := len(r.toggles[i]); n > 0 && r.toggles[i][n-1] == t {
		if r.toggles[i] = r.toggles[i][:n-1]; n == 1 {
			r.opening[i].Undo()
		}
		return // there and back at one time is no change
	}
	r.toggles[i] = append(r.toggles[i], t)
}

// span is the unknown stretch of a line up to a time, cut to the window.
func (r *Reader) span(i int, to quantity.Time) wire.Span {
	return wire.Span{From: max(r.since[i], r.from), To: to, Open: r.unknown[i] == 'z'}
}

// Writer writes windows as rows with times in picoseconds: one row for the
// start and one for each time at which a line changes.
type Writer struct {
	w       *csv.Writer
	started bool
	row     []string
	last    quantity.Time // of the newest row
	symbols wire.Symbols
}

// NewWriter begins a file with lines of the given names.
func NewWriter(out io.Writer, names []string) (*Writer, error) {
	w := &Writer{w: csv.NewWriter(out), row: make([]string, len(names)+1)}
	return w, w.w.Write(append([]string{"time [ps]"}, names...))
}

// Write adds the windows that follow the last ones, one for each line and all
// over the same stretch.
func (w *Writer) Write(windows []wire.Window) error {
	if len(windows) != len(w.row)-1 || len(windows) == 0 {
		return fmt.Errorf("%d windows for %d lines", len(windows), len(w.row)-1)
	}
	w.started = true
	return w.symbols.Walk(windows, func(at quantity.Time, symbols []byte, _ []int) error {
		for i, s := range symbols {
			w.row[i+1] = string(s)
		}
		return w.put(at)
	})
}

// put writes the row.
func (w *Writer) put(at quantity.Time) error {
	w.last = at
	w.row[0] = strconv.FormatInt(int64(at), 10)
	return w.w.Write(w.row)
}

// Close writes the levels once more at the end, so that it is known how long
// they held, and hands everything to the file.
func (w *Writer) Close(end quantity.Time) error {
	if w.started && end > w.last {
		w.row[0] = strconv.FormatInt(int64(end), 10)
		if err := w.w.Write(w.row); err != nil {
			return err
		}
	}
	w.w.Flush()
	return w.w.Error()
}
