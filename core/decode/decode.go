// Package decode takes the levels of a capture apart: it gives the lines of
// each described link to a decoder of its bus.
package decode

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Source gives the levels of a file, stretch by stretch.
type Source interface {
	Names() []string
	Select(lines ...int)
	// Next gives the selected lines' windows; io.EOF at the end. With another
	// error it may give windows too: what stood before the fault.
	Next() ([]wire.Window, error)
}

// Meta describes the capture that the links' records make. Lines of the source that
// several links use are one line.
func Meta(links []Link) capture.Meta {
	var m capture.Meta
	for _, l := range links {
		ends := l.Ends
		if len(ends) == 0 {
			ends = []string{"MCU", "device"}
		}
		var roles, lines []string
		for i, r := range l.Roles() {
			name := ""
			if k := &l.Lines[i]; k.derived != nil {
				name = l.Name + "." + r.Name
			} else if k.Present() {
				name = fmt.Sprintf("line %d", k.inputs[0])
			}
			roles, lines = append(roles, r.Name), append(lines, name)
		}
		m.Add(capture.Link{Name: l.Name, Kind: l.Kind.Name, Ends: ends, Decoded: true}, roles, lines)
	}
	return m
}

// Options bound what is decoded.
type Options struct {
	From, To quantity.Time // records that touch this stretch are put out; To 0: to the end
	// Levels, if set, is given the levels of each role of each link, derived
	// ones too.
	Levels func(link, role int, w *wire.Window)
	// Receivers puts out what the receivers of the ends read, too.
	Receivers bool
	// Progress, if set, is called after each stretch with the time reached.
	Progress func(quantity.Time)
}

// Run decodes a source in one pass; the records come in the order of their
// ends, within what the source gives at once. Levels before From are decoded
// too, so that what reaches into the stretch is whole. On a fault in the file
// the records before it have been put out.
func Run(ctx context.Context, src Source, links []Link, o Options, out record.Sink) error {
	within := &between{Sink: out, o: o}
	if o.To > 0 || o.From > 0 {
		out = within
	}
	flush := func() {}
	if len(links) > 1 || o.Receivers {
		o := &ordered{out: out}
		out, flush = o, o.flush
	}
	var wanted []int
	decoders := make([][]bus.Decoder, len(links))
	roles := make([][]bus.Role, len(links))
	filters := make([][]wire.SpikeFilter, len(links))
	for i, l := range links {
		roles[i] = l.Roles()
		for range l.Lines {
			if l.Filter > 0 {
				filters[i] = append(filters[i], wire.SpikeFilter{Width: l.Filter})
			}
		}
		if d := l.decoder(uint16(i)); d != nil {
			decoders[i] = append(decoders[i], d)
		}
		if d := l.receivers(uint16(i)); d != nil && o.Receivers {
			decoders[i] = append(decoders[i], d)
		}
		for _, k := range l.Lines {
			wanted = append(wanted, k.inputs...)
		}
	}
	src.Select(wanted...)
	// The capture ended with a change of a line of the link.
	changed := make([]bool, len(links))
	end := func(whole bool) {
		for i, all := range decoders {
			var held []wire.Window
			for k := range filters[i] {
				held = append(held, filters[i][k].Flush())
			}
			for _, d := range all {
				if held != nil {
					d.Feed(held, out)
				}
				if r, ok := d.(bus.Rester); ok && whole && changed[i] {
					r.Rest(out)
				}
				d.Flush(out)
			}
		}
		flush()
	}
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
					w := wire.Window{From: ws[0].From, To: ws[0].To, High: roles[i][k].High}
					if n := len(line.inputs); n > 0 {
						w = line.window(ws[at : at+n])
						at += n
					}
					buf = append(buf, w)
				}
				if o.Levels != nil {
					for k := range buf {
						if l.Lines[k].Present() {
							o.Levels(i, k, &buf[k])
						}
					}
				}
				changed[i] = slices.ContainsFunc(buf, func(w wire.Window) bool {
					n := len(w.Toggles)
					return n > 0 && w.Toggles[n-1] == w.To-1
				})
				for k := range filters[i] {
					buf[k] = filters[i][k].Feed(&buf[k])
				}
				for _, d := range decoders[i] {
					d.Feed(buf, out)
				}
			}
			flush()
			if o.Progress != nil {
				o.Progress(ws[0].To)
			}
			if o.To > 0 && ws[0].From >= o.To {
				within.stopped = true
				end(false)
				return nil
			}
		}
		if err != nil {
			end(false)
			return err
		}
	}
	end(true)
	return nil
}

// ordered puts the records of several links in the order of their ends, stretch
// by stretch.
type ordered struct {
	out   record.Sink
	kept  []record.Record // the first n; what is behind them is memory for more
	n     int
	order []int
}

// Put implements record.Sink.
func (o *ordered) Put(r *record.Record) {
	if o.n == len(o.kept) {
		o.kept = append(o.kept, record.Record{})
	}
	r.CloneTo(&o.kept[o.n])
	o.order = append(o.order, o.n)
	o.n++
}

// Open implements record.Sink.
func (o *ordered) Open(r *record.Record) { o.out.Open(r) }

func (o *ordered) flush() {
	slices.SortStableFunc(o.order, func(i, j int) int { return cmp.Compare(o.kept[i].End, o.kept[j].End) })
	for _, i := range o.order {
		o.out.Put(&o.kept[i])
	}
	o.n, o.order = 0, o.order[:0]
}

// Load decodes a source into a store, with what the receivers of the ends read, and keeps its levels
// there.
func Load(ctx context.Context, src Source, links []Link, store *capture.Store) error {
	return Run(ctx, src, links, Options{Levels: Keep(store), Receivers: true, Progress: store.Advance}, store)
}

// Keep gives an Options.Levels that keeps levels in a store: a line that several links
// use once.
func Keep(store *capture.Store) func(link, role int, w *wire.Window) {
	kept := map[int]quantity.Time{}
	return func(link, role int, w *wire.Window) {
		if line := store.Meta.Line(uint16(link), role); line >= 0 && kept[line] < w.To {
			kept[line] = w.To
			store.Levels(line, w)
		}
	}
}

// between lets records through that touch the stretch.
type between struct {
	record.Sink
	o       Options
	stopped bool // before the end of the capture
}

// Put implements record.Sink.
func (b *between) Put(r *record.Record) {
	if r.End < b.o.From || b.o.To != 0 && r.Start >= b.o.To {
		return
	}
	if b.stopped && r.AllFlags()&record.CutOff != 0 {
		return // the capture goes on, only the decoding does not
	}
	b.Sink.Put(r)
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
				_ = out.Close(end) // it fails for the same reason
				return e
			}
			end = ws[0].To - 1
		}
		if err != nil {
			return errors.Join(err, out.Close(end))
		}
	}
}
