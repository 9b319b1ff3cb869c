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

var units = map[string]float64{"s": 1e12, "ms": 1e9, "us": 1e6, "µs": 1e6, "ns": 1e3, "ps": 1}

// Reader streams a file.
type Reader struct {
	in     *csv.Reader
	names  []string
	timeAt bool // the first column holds times
	unit   float64
	rate   float64 // samples a second, without times

	row      int64
	now      quantity.Time
	from     quantity.Time
	level    []bool
	unknown  []byte // x, z, or 0
	since    []quantity.Time
	spans    [][]wire.Span
	known    bool
	wanted   []int
	selected []bool
	toggles  [][]quantity.Time
	out      []wire.Window
	ended    bool
}

// NewReader reads the header row. Its first column is the time if its name
// begins with `time`; a unit may stand behind it, as `time [ns]`, else it is
// seconds. Without such a column the samples come at the rate.
func NewReader(in io.Reader, rate quantity.Freq) (*Reader, error) {
	r := &Reader{in: csv.NewReader(in), rate: rate.Hz()}
	r.in.ReuseRecord = true
	r.in.TrimLeadingSpace = true
	head, err := r.in.Read()
	if err != nil {
		if errors.Is(err, io.EOF) {
			return nil, errors.New("line 1: the file is empty; its first line names the lines")
		}
		return nil, fault.CSV(err)
	}
	head = append([]string(nil), head...)
	first := strings.ToLower(strings.TrimSpace(head[0]))
	if strings.HasPrefix(first, "time") {
		if r.rate > 0 {
			return nil, errors.New("line 1: there is a column of times; a rate of samples has no effect")
		}
		r.timeAt, r.unit = true, 1e12
		if u := strings.Trim(strings.TrimPrefix(first, "time"), " []()_"); u != "" {
			if r.unit = units[u]; r.unit == 0 {
				return nil, fmt.Errorf("line 1: times in %q; write s, ms, us, ns or ps", u)
			}
		}
		head = head[1:]
	} else if r.rate <= 0 {
		return nil, errors.New("line 1: there is no column of times; give the rate of the samples")
	}
	for _, h := range head {
		if _, err := strconv.ParseFloat(strings.TrimSpace(h), 64); err == nil {
			return nil, fmt.Errorf("line 1: %q is a number; the first row must name the lines", h)
		}
		h = strings.TrimSpace(h)
		if slices.Contains(r.names, h) {
			return nil, fmt.Errorf("line 1: two columns are called %q; give each line its own name", h)
		}
		r.names = append(r.names, h)
	}
	if len(r.names) == 0 {
		return nil, errors.New("line 1: there are no lines beside the time")
	}
	n := len(r.names)
	r.level, r.selected, r.toggles = make([]bool, n), make([]bool, n), make([][]quantity.Time, n)
	r.unknown, r.since, r.spans = make([]byte, n), make([]quantity.Time, n), make([][]wire.Span, n)
	return r, nil
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

// read takes one row.
func (r *Reader) read(begin []bool) error {
	row, err := r.in.Read()
	if err != nil {
		return fault.CSV(err)
	}
	line, _ := r.in.FieldPos(0)
	t := quantity.Time(0)
	if r.timeAt {
		f, err := strconv.ParseFloat(strings.TrimSpace(row[0]), 64)
		if ps := f * r.unit; err != nil || !(ps >= 0 && ps < math.MaxInt64/2) {
			return fmt.Errorf("line %d: %q is no time that fits", line, row[0])
		}
		t = quantity.Time(math.Round(f * r.unit))
		row = row[1:]
	} else {
		t = quantity.Time(math.Round(float64(r.row) / r.rate * 1e12))
	}
	if r.row > 0 && t <= r.now {
		return fmt.Errorf("line %d: time %s after %s: times must rise", line, t, r.now)
	}
	r.row++
	for i, cell := range row {
		high, unknown := r.level[i], byte(0)
		switch strings.TrimSpace(cell) {
		case "0", "L", "l":
			high = false
		case "1", "H", "h":
			high = true
		case "x", "X":
			unknown = 'x'
		case "z", "Z":
			high, unknown = true, 'z'
		default:
			return fmt.Errorf("line %d: %q is no level; write 0, 1, x (unknown) or z (nobody drives)", line, cell)
		}
		if unknown != r.unknown[i] {
			if r.unknown[i] != 0 {
				r.spans[i] = append(r.spans[i], r.span(i, t))
			}
			r.unknown[i], r.since[i] = unknown, t
		}
		if !r.known {
			r.level[i], begin[i] = high, high
		} else if high != r.level[i] {
			r.level[i] = high
			if r.selected[i] {
				r.toggles[i] = append(r.toggles[i], t)
			}
		}
	}
	if !r.known {
		r.known = true
		r.from = t
	}
	r.now = t
	return nil
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
