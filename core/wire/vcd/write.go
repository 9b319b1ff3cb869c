package vcd

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"

	"gavrix/core/quantity"
	"gavrix/core/wire"
)

// Writer writes levels with a timescale of 1 ps, so nothing is lost.
type Writer struct {
	w       *bufio.Writer
	n       int
	started bool
}

// NewWriter begins a file with lines of the given names. Blanks in names
// become underscores.
func NewWriter(out io.Writer, names []string) (*Writer, error) {
	w := &Writer{w: bufio.NewWriterSize(out, 1<<16), n: len(names)}
	fmt.Fprintf(w.w, "$version Gavrix $end\n$timescale 1 ps $end\n$scope module capture $end\n")
	for i, name := range names {
		name = strings.Map(func(r rune) rune {
			if r <= ' ' || r > '~' {
				return '_'
			}
			return r
		}, name)
		if name == "" {
			name = "_"
		}
		fmt.Fprintf(w.w, "$var wire 1 %s %s $end\n", code(i), name)
	}
	_, err := w.w.WriteString("$upscope $end\n$enddefinitions $end\n")
	return w, err
}

// code gives the nth identifier of printable characters.
func code(n int) string {
	var b []byte
	for {
		b = append(b, byte('!'+n%94))
		if n = n / 94; n == 0 {
			return string(b)
		}
		n--
	}
}

// Write adds the windows that follow the last ones, one for each line and all
// over the same stretch.
func (w *Writer) Write(windows []wire.Window) error {
	if len(windows) != w.n {
		return fmt.Errorf("%d windows for %d lines", len(windows), w.n)
	}
	if w.n == 0 {
		return nil
	}
	if !w.started {
		w.started = true
		fmt.Fprintf(w.w, "#%d\n$dumpvars\n", int64(windows[0].From))
		for i := range windows {
			fmt.Fprintf(w.w, "%c%s\n", w.symbol(&windows[i], windows[i].High, windows[i].From), code(i))
		}
		fmt.Fprintf(w.w, "$end\n")
	}
	return w.merge(windows)
}

func (w *Writer) symbol(win *wire.Window, high bool, t quantity.Time) byte {
	switch {
	case win.Floating(t):
		return 'x'
	case high:
		return '1'
	}
	return '0'
}

// merge writes the changes of all lines in order of time.
func (w *Writer) merge(windows []wire.Window) error {
	marks := make([][]quantity.Time, len(windows)) // toggles and borders of unknown stretches
	next := make([]int, len(windows))
	tog := make([]int, len(windows))
	high := make([]bool, len(windows))
	for i := range windows {
		win := &windows[i]
		high[i] = win.High
		marks[i] = win.Toggles
		if len(win.Unknown) > 0 {
			marks[i] = borders(win)
		}
	}
	for {
		at := quantity.Forever
		for i := range marks {
			if next[i] < len(marks[i]) {
				at = min(at, marks[i][next[i]])
			}
		}
		if at >= windows[0].To {
			return nil
		}
		fmt.Fprintf(w.w, "#%d\n", int64(at))
		for i := range marks {
			win := &windows[i]
			if next[i] >= len(marks[i]) || marks[i][next[i]] != at {
				continue
			}
			next[i]++
			for tog[i] < len(win.Toggles) && win.Toggles[tog[i]] <= at {
				high[i] = !high[i]
				tog[i]++
			}
			if _, err := fmt.Fprintf(w.w, "%c%s\n", w.symbol(win, high[i], at), code(i)); err != nil {
				return err
			}
		}
	}
}

// borders gives the times at which a window's level or knowledge changes.
func borders(win *wire.Window) []quantity.Time {
	out := append([]quantity.Time(nil), win.Toggles...)
	for _, s := range win.Unknown {
		for _, t := range []quantity.Time{s.From, s.To} {
			if t > win.From && t < win.To {
				out = append(out, t)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Close writes the end time and hands everything to the file.
func (w *Writer) Close(end quantity.Time) error {
	fmt.Fprintf(w.w, "#%d\n", int64(end))
	return w.w.Flush()
}
