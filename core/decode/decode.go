// Package decode takes the levels of a capture apart: it gives the lines of
// each described link to a decoder of its bus.
package decode

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"gavrix/core/bus"
	"gavrix/core/bus/all"
	"gavrix/core/capture"
	"gavrix/core/doc"
	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/wire"
)

// Source gives the levels of a file, stretch by stretch.
type Source interface {
	Names() []string
	Select(lines ...int)
	// Next gives the selected lines' windows; io.EOF at the end. With another
	// error it may give windows too: what stood before the fault.
	Next() ([]wire.Window, error)
}

// Link says which lines are which bus.
type Link struct {
	Name     string
	Kind     *bus.Kind
	Settings bus.Settings
	Lines    []int // index into the source's names by role; -1: absent
}

// ParseLink reads a link in the words of a bench: a name, the kind of bus, and
// roles and settings as key=value, as
//
//	gauge uart device=top.rx rate=28.8kBd frame=7E1
//
// A value with blanks stands in double quotes.
func ParseLink(text string, names []string) (Link, error) {
	words, err := split(text)
	if err != nil {
		return Link{}, fmt.Errorf("%q: %w", text, err)
	}
	if len(words) < 2 {
		return Link{}, fmt.Errorf("%q: write a name, a kind of bus, and key=value pairs", text)
	}
	l := Link{Name: words[0], Kind: all.ByName(words[1])}
	if l.Kind == nil {
		var kinds []string
		for _, k := range all.Kinds {
			kinds = append(kinds, k.Name)
		}
		return Link{}, fmt.Errorf("%q: there is no bus %q; known are %s", text, words[1], strings.Join(kinds, ", "))
	}
	l.Lines = make([]int, len(l.Kind.Lines))
	for i := range l.Lines {
		l.Lines[i] = -1
	}
	settings := "{"
	for _, w := range words[2:] {
		key, value, ok := strings.Cut(w, "=")
		if !ok {
			return Link{}, fmt.Errorf("%q: %q is no key=value", text, w)
		}
		role := -1
		for i, r := range l.Kind.Lines {
			if r.Name == key {
				role = i
			}
		}
		if role < 0 {
			settings += fmt.Sprintf("%q: %q, ", key, value)
			continue
		}
		if l.Lines[role], err = index(names, value); err != nil {
			return Link{}, fmt.Errorf("%q: %w", text, err)
		}
	}
	file, faults := doc.Parse("link "+l.Name, []byte(settings+"}"))
	if file == nil {
		return Link{}, fmt.Errorf("%q: %s", text, faults[0].Seen)
	}
	if faults := l.Kind.Schema.Validate(file.Root); len(faults) > 0 {
		f := faults[0]
		return Link{}, fmt.Errorf("%q: %s; %s", text, f.Seen, f.Change)
	}
	if l.Settings, err = l.Kind.Parse(file.Root); err != nil {
		return Link{}, fmt.Errorf("%q: %w", text, err)
	}
	return l, l.complete(text, file.Root)
}

// complete checks that the lines which the bus needs are given.
func (l *Link) complete(text string, settings *doc.Node) error {
	given := 0
	for i, r := range l.Kind.Lines {
		if l.Lines[i] >= 0 {
			given++
		} else if !r.Optional {
			return fmt.Errorf("%q: which line is the %s? add %s=LINE", text, r.Name, r.Name)
		}
	}
	if given == 0 {
		return fmt.Errorf("%q: which line is it? add %s=LINE or %s=LINE", text, l.Kind.Lines[0].Name, l.Kind.Lines[1].Name)
	}
	if l.Kind.Name == "spi" && l.Lines[3] < 0 && settings.Text("active") != "none" {
		return fmt.Errorf("%q: add select=LINE, or active=none with a gap", text)
	}
	return nil
}

func split(text string) ([]string, error) {
	var out []string
	var word strings.Builder
	quoted, any := false, false
	for _, r := range text {
		switch {
		case r == '"':
			quoted, any = !quoted, true
		case r == ' ' && !quoted:
			if any {
				out = append(out, word.String())
				word.Reset()
				any = false
			}
		default:
			word.WriteRune(r)
			any = true
		}
	}
	if quoted {
		return nil, errors.New("a quote is not closed")
	}
	if any {
		out = append(out, word.String())
	}
	return out, nil
}

// index finds a line by its name, or by its last part where only one has it.
func index(names []string, want string) (int, error) {
	found := -1
	for i, n := range names {
		if n == want {
			return i, nil
		}
		if j := strings.LastIndexByte(n, '.'); n[j+1:] == want {
			if found >= 0 {
				return -1, fmt.Errorf("several lines are called %q; give the name with its scopes", want)
			}
			found = i
		}
	}
	if found < 0 {
		known := append([]string(nil), names...)
		for _, n := range names {
			known = append(known, n[strings.LastIndexByte(n, '.')+1:])
		}
		if m := doc.Nearest(want, known); m != "" {
			return -1, fmt.Errorf("there is no line %q; did you mean %s?", want, m)
		}
		return -1, fmt.Errorf("there is no line %q; the file has %s", want, list(names))
	}
	return found, nil
}

func list(names []string) string {
	if len(names) > 12 {
		return strings.Join(names[:12], ", ") + fmt.Sprintf(" and %d more", len(names)-12)
	}
	return strings.Join(names, ", ")
}

// Meta describes the capture that the links' records make.
func Meta(links []Link) capture.Meta {
	var m capture.Meta
	for _, l := range links {
		c := capture.Link{Name: l.Name, Kind: l.Kind.Name, MCU: "MCU", Device: "device"}
		for _, r := range l.Kind.Lines {
			c.Lines = append(c.Lines, r.Name)
		}
		m.Links = append(m.Links, c)
	}
	return m
}

// Options bound what is decoded.
type Options struct {
	From, To quantity.Time // records that touch this stretch are put out; To 0: to the end
	// Progress, if set, is called after each stretch with the time reached.
	Progress func(quantity.Time)
}

// Run decodes a source in one pass. Levels before From are decoded too, so
// that what reaches into the stretch is whole. On a fault in the file the
// records before it have been put out.
func Run(ctx context.Context, src Source, links []Link, o Options, out record.Sink) error {
	if o.To > 0 || o.From > 0 {
		out = &between{out, o}
	}
	var wanted []int
	var decoders []bus.Decoder
	for i, l := range links {
		decoders = append(decoders, l.Kind.Decoder(uint16(i), l.Settings))
		for _, k := range l.Lines {
			if k >= 0 {
				wanted = append(wanted, k)
			}
		}
	}
	src.Select(wanted...)
	var buf []wire.Window
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		ws, err := src.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if len(ws) > 0 {
			at := 0
			for i, l := range links {
				buf = buf[:0]
				for k, line := range l.Lines {
					w := wire.Window{From: ws[0].From, To: ws[0].To, High: l.Kind.Lines[k].High}
					if line >= 0 {
						w = ws[at]
						at++
					}
					buf = append(buf, w)
				}
				decoders[i].Feed(buf, out)
			}
			if o.Progress != nil {
				o.Progress(ws[0].To)
			}
			if o.To > 0 && ws[0].From >= o.To {
				break
			}
		}
		if err != nil {
			for _, d := range decoders {
				d.Flush(out)
			}
			return err
		}
	}
	for _, d := range decoders {
		d.Flush(out)
	}
	return nil
}

// between lets records through that touch the stretch.
type between struct {
	record.Sink
	o Options
}

// Put implements record.Sink.
func (b *between) Put(r *record.Record) {
	if r.End >= b.o.From && (b.o.To == 0 || r.Start < b.o.To) {
		b.Sink.Put(r)
	}
}

// Sink takes levels, stretch by stretch.
type Sink interface {
	Write([]wire.Window) error
	Close(end quantity.Time) error
}

// Copy gives all lines of a source to a sink. On a fault in the source what
// stood before it has been written.
func Copy(src Source, out Sink) error {
	var all []int
	for i := range src.Names() {
		all = append(all, i)
	}
	src.Select(all...)
	end := quantity.Time(0)
	for {
		ws, err := src.Next()
		if errors.Is(err, io.EOF) {
			return out.Close(end)
		}
		if len(ws) > 0 {
			if e := out.Write(ws); e != nil {
				return errors.Join(e, out.Close(end))
			}
			end = ws[0].To - 1
		}
		if err != nil {
			return errors.Join(err, out.Close(end))
		}
	}
}
