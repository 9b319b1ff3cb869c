package vcd

import (
	"bufio"
	"fmt"
	"io"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// Writer writes levels with a timescale of 1 ps, so nothing is lost.
type Writer struct {
	w       *bufio.Writer
	n       int
	started bool
	symbols wire.Symbols
}

// NewWriter begins a file with lines of the given names. Blanks in names
// become underscores; a name that is then taken gets a number.
func NewWriter(out io.Writer, names []string) (*Writer, error) {
	w := &Writer{w: bufio.NewWriterSize(out, 1<<16), n: len(names)}
	fmt.Fprintf(w.w, "$version Gavrix $end\n$timescale 1 ps $end\n$scope module capture $end\n")
	taken := map[string]bool{}
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
		for base, k := name, 2; taken[name]; k++ {
			name = fmt.Sprintf("%s_%d", base, k)
		}
		taken[name] = true
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
	return w.symbols.Walk(windows, func(at quantity.Time, symbols []byte, changed []int) error {
		fmt.Fprintf(w.w, "#%d\n", int64(at))
		first := !w.started
		w.started = true
		if first {
			fmt.Fprintf(w.w, "$dumpvars\n")
		}
		for _, i := range changed {
			if _, err := fmt.Fprintf(w.w, "%c%s\n", symbols[i], code(i)); err != nil {
				return err
			}
		}
		if first {
			fmt.Fprintf(w.w, "$end\n")
		}
		return nil
	})
}

// Close writes the end time and hands everything to the file.
func (w *Writer) Close(end quantity.Time) error {
	fmt.Fprintf(w.w, "#%d\n", int64(end))
	return w.w.Flush()
}
