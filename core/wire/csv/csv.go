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
	"strconv"
	"strings"

	"gavrix/core/quantity"
	"gavrix/core/wire"
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
		return nil, fmt.Errorf("line 1: no header with the names of the lines: %w", err)
	}
	head = append([]string(nil), head...)
	first := strings.ToLower(strings.TrimSpace(head[0]))
	if strings.HasPrefix(first, "time") {
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
		r.names = append(r.names, strings.TrimSpace(h))
	}
	if len(r.names) == 0 {
		return nil, errors.New("line 1: there are no lines beside the time")
	}
	n := len(r.names)
	r.level, r.selected, r.toggles = make([]bool, n), make([]bool, n), make([][]quantity.Time, n)
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
		r.toggles[i] = r.toggles[i][:0]
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
		r.out[k] = wire.Window{From: r.from, To: to, High: begin[i], Toggles: r.toggles[i]}
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
		var pe *csv.ParseError
		if errors.As(err, &pe) {
			return fmt.Errorf("line %d: %w", pe.Line, pe.Err)
		}
		return err
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
		high := false
		switch strings.TrimSpace(cell) {
		case "0", "L", "l":
		case "1", "H", "h":
			high = true
		default:
			return fmt.Errorf("line %d: %q is no level; write 0 or 1", line, cell)
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

// Writer writes windows as rows with times in picoseconds: one row for the
// start and one for each time at which a line changes.
type Writer struct {
	w       *csv.Writer
	started bool
	row     []string
	last    quantity.Time // of the newest row
}

// NewWriter begins a file with lines of the given names.
func NewWriter(out io.Writer, names []string) (*Writer, error) {
	w := &Writer{w: csv.NewWriter(out), row: make([]string, len(names)+1)}
	return w, w.w.Write(append([]string{"time [ps]"}, names...))
}

// Write adds the windows that follow the last ones, one for each line and all
// over the same stretch. Levels that nobody drove are written as they read.
func (w *Writer) Write(windows []wire.Window) error {
	if len(windows) != len(w.row)-1 || len(windows) == 0 {
		return fmt.Errorf("%d windows for %d lines", len(windows), len(w.row)-1)
	}
	next := make([]int, len(windows))
	level := make([]bool, len(windows))
	for i := range windows {
		level[i] = windows[i].High
	}
	if !w.started {
		w.started = true
		if err := w.put(windows[0].From, level); err != nil {
			return err
		}
	}
	for {
		at := quantity.Forever
		for i := range windows {
			if next[i] < len(windows[i].Toggles) {
				at = min(at, windows[i].Toggles[next[i]])
			}
		}
		if at == quantity.Forever {
			return nil
		}
		for i := range windows {
			if next[i] < len(windows[i].Toggles) && windows[i].Toggles[next[i]] == at {
				level[i] = !level[i]
				next[i]++
			}
		}
		if err := w.put(at, level); err != nil {
			return err
		}
	}
}

func (w *Writer) put(at quantity.Time, level []bool) error {
	w.last = at
	w.row[0] = strconv.FormatInt(int64(at), 10)
	for i, high := range level {
		w.row[i+1] = "0"
		if high {
			w.row[i+1] = "1"
		}
	}
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
