// Package vcd reads and writes line levels as value change dumps (IEEE 1364).
//
// A Reader streams: it holds one stretch of the file at a time, whatever the
// size. Scalars and the bits of vectors are lines; real and string variables
// are passed over. A level of x keeps the one before, z reads as high; both
// are marked as unknown. What a line is before its first level is that level: that it
// comes is no edge. Values of std_logic are read too: H and L as 1 and 0, U, W and - as x.
package vcd

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// Limits of what a Reader takes.
const (
	maxWidth  = 1024    // bits of a vector that become lines
	maxLines  = 200_000 // lines in all
	maxToken  = 1 << 16 // bytes of one word
	maxHeader = 1 << 26 // bytes before $enddefinitions
	chunk     = 1 << 18 // bytes read at a time
	// stretch is the number of toggles after which a window is handed out.
	stretch = 1 << 16
)

// Error is a fault in a file, with its line.
type Error struct {
	Line   int
	Reason string
	cut    bool // the file may end there because it is cut off
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Reason) }

// Line is a line of a file.
type Line struct {
	Name   string // with its scopes, as top.bus.sck; bits of vectors as data[3]
	signal int    // several names may stand for one
}

// variable is what a code stands for.
type variable struct {
	first int // index of its first line, most significant bit first; -1: passed over
	width int
}

// Reader streams a file.
type Reader struct {
	in    io.Reader
	buf   []byte
	at    int // next byte in buf
	eof   bool
	err   error // of the underlying reader
	line  int
	total int64

	mul, div int64 // picoseconds of a time unit
	lines    []Line
	signals  int
	short    []int32 // variable by code, for codes of up to 3 characters
	long     map[string]int32
	vars     []variable

	now, from quantity.Time
	started   bool
	ended     bool
	states    []state
	wanted    []int
	toggles   int // in the current stretch
	out       []wire.Window
	first     bool // the first stretch is behind
	skipped   map[string]int
	cut       bool // the last line is
}

type state struct {
	selected bool
	known    bool
	high     bool         // now
	begin    bool         // at the start of the stretch
	unknown  byte         // x, z, or 0: now
	opening  wire.Opening // of the first stretch
	since    quantity.Time
	toggles  []quantity.Time
	spans    []wire.Span
}

// NewReader reads the header of a file.
func NewReader(in io.Reader) (*Reader, error) {
	r := &Reader{in: in, line: 1, mul: 1000, div: 1, long: map[string]int32{}, skipped: map[string]int{}}
	if err := r.mark(); err != nil {
		return nil, err
	}
	if err := r.header(); err != nil {
		return nil, err
	}
	r.states = make([]state, r.signals)
	return r, nil
}

// mark passes over a byte order mark.
func (r *Reader) mark() error {
	for len(r.buf) < 3 && r.fill() {
	}
	switch b := r.buf; {
	case bytes.HasPrefix(b, []byte("\xef\xbb\xbf")):
		r.at = 3
	case bytes.HasPrefix(b, []byte("\xff\xfe")), bytes.HasPrefix(b, []byte("\xfe\xff")):
		return r.fault("the file is in UTF-16; save it as plain text (ASCII or UTF-8)")
	}
	return nil
}

// Notes says what was passed over so far.
func (r *Reader) Notes() []string {
	var out []string
	if n := len(r.skipped); n > 0 {
		codes := slices.Sorted(maps.Keys(r.skipped))
		all := 0
		for _, k := range r.skipped {
			all += k
		}
		out = append(out, fmt.Sprintf("%s of codes that stand for no variable were skipped: %s", quantity.Count(all, "value"), strings.Join(codes[:min(n, 8)], " ")))
	}
	if r.cut {
		out = append(out, "the file is cut off inside its last line: what stands before it was read")
	}
	return out
}

// Lines lists the lines of the file.
func (r *Reader) Lines() []Line { return r.lines }

// Select names the lines that Next gives, by their index, in order.
func (r *Reader) Select(lines ...int) {
	r.wanted = r.wanted[:0]
	for i := range r.states {
		r.states[i].selected = false
	}
	for _, i := range lines {
		r.wanted = append(r.wanted, r.lines[i].signal)
		r.states[r.lines[i].signal].selected = true
	}
	r.out = make([]wire.Window, len(lines))
}

// Read is the number of bytes taken from the file so far.
func (r *Reader) Read() int64 { return r.total }

func (r *Reader) fault(format string, args ...any) error {
	return &Error{Line: r.line, Reason: fmt.Sprintf(format, args...)}
}

// end is fault where the file ends too early, or, if last, where its last word may be the
// begin of a longer one.
func (r *Reader) end(last bool, format string, args ...any) error {
	return &Error{r.line, fmt.Sprintf(format, args...), !last || r.inLastWord()}
}

// fill gets more bytes behind those not used yet; false at the end.
func (r *Reader) fill() bool {
	if r.eof {
		return false
	}
	rest := len(r.buf) - r.at
	if cap(r.buf) < rest+chunk {
		grown := make([]byte, rest, max(2*cap(r.buf), rest+chunk))
		copy(grown, r.buf[r.at:])
		r.buf = grown
	} else {
		copy(r.buf[:rest], r.buf[r.at:])
		r.buf = r.buf[:rest]
	}
	r.at = 0
	n, err := r.in.Read(r.buf[rest : rest+chunk])
	r.buf = r.buf[:rest+n]
	r.total += int64(n)
	if err != nil {
		r.eof = true
		if !errors.Is(err, io.EOF) {
			r.err = err
		}
	}
	return n > 0 || !r.eof
}

// word gives the next word; it is valid until the next call. At the end it is
// nil.
func (r *Reader) word() ([]byte, error) {
	for {
		i := r.at
		for i < len(r.buf) && r.buf[i] <= ' ' {
			if r.buf[i] == '\n' {
				r.line++
			}
			i++
		}
		r.at = i
		for i < len(r.buf) && r.buf[i] > ' ' {
			i++
		}
		if i < len(r.buf) || r.eof {
			w := r.buf[r.at:i]
			r.at = i
			if len(w) == 0 {
				if r.err != nil {
					return nil, r.err
				}
				return nil, nil
			}
			return w, nil
		}
		if len(r.buf)-r.at > maxToken {
			return nil, r.fault("a word of more than %d bytes; this is no value change dump", maxToken)
		}
		r.fill()
	}
}

// skip passes over a section up to $end.
func (r *Reader) skip() error {
	for {
		w, err := r.word()
		if err != nil {
			return err
		}
		if w == nil {
			return r.fault("the file ends inside a section; $end is missing")
		}
		if string(w) == "$end" {
			return nil
		}
	}
}

// section gives the words up to $end.
func (r *Reader) section(most int) ([]string, error) {
	var out []string
	for {
		w, err := r.word()
		switch {
		case err != nil:
			return nil, err
		case w == nil:
			return nil, r.fault("the file ends inside a section; $end is missing")
		case string(w) == "$end":
			return out, nil
		case len(out) == most:
			return nil, r.fault("a section with more than %d words", most)
		}
		out = append(out, string(w))
	}
}

// Next gives the windows of the selected lines over the next stretch; they
// are valid until the next call. At the end it gives io.EOF. After an Error,
// what stood before it has been given.
func (r *Reader) Next() ([]wire.Window, error) {
	if r.ended {
		return nil, io.EOF
	}
	for i := range r.states {
		s := &r.states[i]
		s.begin, s.toggles, s.spans = s.high, s.toggles[:0], s.spans[:0]
	}
	r.toggles = 0
	err := r.read()
	if broken := (*Error)(nil); errors.As(err, &broken) && broken.cut {
		r.cut, err = true, io.EOF
	}
	r.opening()
	to := r.now
	if errors.Is(err, io.EOF) || err != nil {
		r.ended = true
		to++ // the last levels hold at the last time
	}
	for k, i := range r.wanted {
		s := &r.states[i]
		w := wire.Window{From: r.from, To: to, High: s.begin, Toggles: s.toggles, Unknown: s.spans}
		if s.unknown != 0 {
			w.Unknown = append(w.Unknown, wire.Span{From: max(s.since, r.from), To: to, Open: s.unknown == 'z'})
		}
		r.out[k] = w
	}
	r.from = to
	if err != nil && !errors.Is(err, io.EOF) {
		return r.out, err
	}
	return r.out, nil
}

// inLastWord reports whether the word that was taken last is the file's end, without the
// line break that would show it whole.
func (r *Reader) inLastWord() bool {
	for len(r.buf)-r.at < 2 && r.fill() {
	}
	return r.eof && r.at == len(r.buf) && r.at > 0 && r.buf[r.at-1] > ' '
}

// opening takes back, at the end of the first stretch, edges that are none.
func (r *Reader) opening() {
	if r.first {
		return
	}
	r.first = true
	for i := range r.states {
		if s := &r.states[i]; s.opening.Drops(s.begin, len(s.toggles)) {
			s.begin, s.toggles = !s.begin, s.toggles[1:]
		}
	}
}

// sections are those that may stand among the values.
var sections = []string{"$comment", "$vcdclose", "$dumpvars", "$dumpon", "$dumpall", "$dumpoff", "$end"}

// read takes words until a stretch is full at a time, or the end.
func (r *Reader) read() error {
	for {
		if full, err := r.plain(); full || err != nil {
			return err
		}
		w, err := r.word()
		if err != nil {
			return err
		}
		if w == nil {
			return io.EOF
		}
		switch w[0] {
		case '#':
			t, err := r.time(w[1:])
			if err != nil {
				return err
			}
			if r.started && t < r.now {
				return r.end(true, "time %s after %s: times must not go back", t, r.now)
			}
			if r.moveTo(t) {
				return nil
			}
		case '0', '1', 'x', 'X', 'z', 'Z', 'h', 'H', 'l', 'L', 'u', 'U', 'w', 'W', '-':
			v, ok := r.find(w[1:])
			if !ok {
				r.unknownCode(w[1:])
				continue
			}
			if first := r.vars[v].first; first >= 0 {
				if err := r.set(first, w[0]); err != nil {
					return err
				}
			}
		case 'b', 'B':
			if err := r.vector(w[1:]); err != nil {
				return err
			}
		case 'r', 'R', 's', 'S':
			if c, err := r.word(); err != nil {
				return err
			} else if c == nil {
				return r.end(false, "the file ends inside a value")
			}
		case '$':
			switch string(w) {
			case "$comment", "$vcdclose":
				if err := r.skip(); err != nil {
					return r.end(false, "the file ends inside %s", clip(w))
				}
			case "$dumpvars", "$dumpon", "$dumpall", "$dumpoff", "$end":
				// The values inside say all there is to know.
			default:
				if slices.ContainsFunc(sections, func(k string) bool { return strings.HasPrefix(k, string(w)) }) {
					return r.end(true, "%q among the values", clip(w))
				}
				return r.fault("%q among the values", clip(w))
			}
		default:
			return r.fault("%q is neither a time nor a value", clip(w))
		}
	}
}

// moveTo goes to a time, and says whether the stretch is full.
func (r *Reader) moveTo(t quantity.Time) bool {
	if !r.started {
		r.started, r.from = true, t
	}
	r.now = t
	return r.toggles >= stretch && t > r.from
}

// margin is more than any word that plain takes.
const margin = 32

// plain takes what nearly all of a file consists of, times and changes of
// single lines to 0 or 1, straight from the buffer. Whatever else comes, and
// the buffer's end, it leaves to the caller. It gives true when the stretch is
// full.
func (r *Reader) plain() (bool, error) {
	buf := r.buf
	i, line := r.at, r.line
	most := (math.MaxInt64 / 2) / r.mul
	defer func() { r.at, r.line = i, line }()
	// The line that changed last, if its code has one character: nearly always
	// it is the next to change, too.
	var hot *state
	var hotCode byte
	var last times
	for len(buf)-i >= margin {
		c := buf[i]
		switch {
		case c == '#':
			n, j, ok := last.like(buf[i+1 : i+margin])
			if !ok {
				n, j = last.read(buf[i+1 : i+margin])
			}
			j += i + 1
			if j == i+1 || buf[j] > ' ' || n > most {
				return false, nil
			}
			t := quantity.Time(n * r.mul)
			if r.div > 1 {
				t /= quantity.Time(r.div)
			}
			if t < r.now {
				return false, nil
			}
			i = j
			if buf[i] == '\n' {
				i++
				line++
			}
			if v := buf[i : i+3]; hot != nil && t > r.now && v[1] == hotCode && v[0]&^1 == '0' && v[2] == '\n' && r.toggles < stretch {
				r.now = t
				if high := v[0] == '1'; high != hot.high {
					hot.high = high
					hot.toggles = append(hot.toggles, t)
					r.toggles++
				}
				i += 3
				line++
				continue
			}
			if r.moveTo(t) {
				return true, nil
			}
		case c == '0' || c == '1':
			n, j := int(buf[i+1]-'!')+1, i+2
			if buf[j] > ' ' || n > 94 || n <= 0 {
				n, j = 0, i+1
				for buf[j] > ' ' && buf[j] <= '~' && j < i+4 {
					n = n*95 + int(buf[j]-'!') + 1
					j++
				}
			}
			if buf[j] > ' ' || n >= len(r.short) || r.short[n] == 0 {
				return false, nil
			}
			if first := r.vars[r.short[n]-1].first; first >= 0 {
				s := &r.states[first]
				if s.selected {
					high := c == '1'
					k := len(s.toggles)
					if !s.known || s.unknown != 0 || k > 0 && s.toggles[k-1] == r.now {
						return false, nil
					}
					if high != s.high {
						s.high = high
						s.toggles = append(s.toggles, r.now)
						r.toggles++
					}
					if j == i+2 && r.started {
						hot, hotCode = s, buf[i+1]
					}
				}
			}
			i = j
			if buf[i] == '\n' {
				i++
				line++
			}
		case c <= ' ':
			if c == '\n' {
				line++
			}
			i++
		default:
			return false, nil
		}
	}
	return false, nil
}

// mostSkipped bounds the codes of which it is said that they stand for nothing.
const mostSkipped = 1000

// unknownCode counts a value whose code was not declared.
func (r *Reader) unknownCode(c []byte) {
	name := clip(c)
	if _, has := r.skipped[name]; has || len(r.skipped) < mostSkipped {
		r.skipped[name]++
	}
}

func (r *Reader) time(w []byte) (quantity.Time, error) {
	var n int64
	for _, c := range w {
		if c < '0' || c > '9' || n > (math.MaxInt64-9)/10 {
			return 0, r.fault("%q is no time that fits", clip(w))
		}
		n = n*10 + int64(c-'0')
	}
	if len(w) == 0 {
		return 0, r.end(true, "a # without a time")
	}
	if n > (math.MaxInt64/2)/r.mul {
		return 0, r.fault("time %d does not fit: captures last at most 53 days", n)
	}
	return quantity.Time(n * r.mul / r.div), nil
}

// vector takes the value of a vector; a value shorter than the vector is
// filled up on the left.
func (r *Reader) vector(value []byte) error {
	var local [64]byte
	levels := append(local[:0], value...)
	c, err := r.word()
	if err != nil {
		return err
	}
	if c == nil {
		return r.end(false, "the file ends inside a value")
	}
	i, ok := r.find(c)
	if !ok {
		r.unknownCode(c)
		return nil
	}
	v := r.vars[i]
	if v.first < 0 {
		return nil
	}
	if len(levels) > v.width || len(levels) == 0 {
		return r.fault("a value of %d bits for a vector of %d", len(levels), v.width)
	}
	pad := byte('0')
	if levels[0] != '1' && levels[0]|0x20 != 'h' {
		pad = levels[0]
	}
	for k := range v.width {
		b := pad
		if k >= v.width-len(levels) {
			b = levels[k-(v.width-len(levels))]
		}
		switch b {
		case '0', '1', 'x', 'X', 'z', 'Z', 'h', 'H', 'l', 'L', 'u', 'U', 'w', 'W', '-':
		default:
			return r.fault("%q is no vector of 0, 1, x and z", clip(levels))
		}
		if err := r.set(v.first+k, b); err != nil {
			return err
		}
	}
	return nil
}

// set gives a line a level at the present time.
func (r *Reader) set(signal int, level byte) error {
	s := &r.states[signal]
	if !s.selected {
		return nil
	}
	high, unknown, symbol := s.high, byte(0), byte('x')
	switch level {
	case '0', 'l', 'L':
		high, symbol = false, '0'
	case '1', 'h', 'H':
		high, symbol = true, '1'
	case 'z', 'Z':
		high, unknown, symbol = true, 'z', 'z'
	default:
		unknown = 'x'
	}
	if !s.known {
		s.known = true
		s.opening.Begin(symbol)
		if !r.started || r.now == r.from && len(s.toggles) == 0 {
			s.high, s.begin = high, high
		}
	} else if !r.first {
		s.opening.Take(symbol, s.unknown, high != s.high, len(s.toggles) == 0)
	}
	if unknown != s.unknown {
		if s.unknown != 0 && r.now > s.since {
			s.spans = append(s.spans, wire.Span{From: max(s.since, r.from), To: r.now, Open: s.unknown == 'z'})
		}
		s.since, s.unknown = r.now, unknown
	}
	if high == s.high {
		return nil
	}
	if n := len(s.toggles); n > 0 && s.toggles[n-1] == r.now {
		if r.div > 1 {
			return r.fault("two changes of %s within a picosecond: finer than captures are kept", r.name(signal))
		}
		// A change back at the same time is no change.
		if s.toggles = s.toggles[:n-1]; n == 1 {
			s.opening.Undo()
		}
		s.high = high
		return nil
	}
	s.high = high
	s.toggles = append(s.toggles, r.now)
	r.toggles++
	return nil
}

// name gives the first name of a signal.
func (r *Reader) name(signal int) string {
	return r.lines[slices.IndexFunc(r.lines, func(l Line) bool { return l.signal == signal })].Name
}
