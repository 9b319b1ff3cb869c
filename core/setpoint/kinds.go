package setpoint

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/layout"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/record"
)

// carrier is how the MCU sends messages on a kind of bus.
type carrier struct {
	// before gives the words that a message is made of where its values are not named: those of
	// the newest one, or, where last is nil, what such messages begin with.
	before func(l *device.Layout, last *record.Record) []uint64
	// intent sends the words.
	intent func(part *operation.Part, l *device.Layout, words []uint64, last *record.Record) (link.Intent, error)
}

var carriers = map[string]carrier{
	"uart": {begins, func(part *operation.Part, l *device.Layout, words []uint64, _ *record.Record) (link.Intent, error) {
		return framed(part, l.Bytes(words))
	}},
	"spi": {newest, func(part *operation.Part, l *device.Layout, words []uint64, _ *record.Record) (link.Intent, error) {
		return link.Transact{Text: fmt.Sprintf("select %d out %s", part.Index+1, inHex(l, words))}, nil
	}},
	"i2c": {writtenBefore, func(part *operation.Part, l *device.Layout, words []uint64, _ *record.Record) (link.Intent, error) {
		var out []string
		for _, b := range append(part.End.(i2c.End).Address.Wire(false), l.Bytes(words)...) {
			out = append(out, fmt.Sprintf("%02X ack", b))
		}
		return link.Transact{Text: "start " + strings.Join(out, " ") + " stop"}, nil
	}},
	"can": {inFrame, sendFrame},
	"pulse": {newest, func(_ *operation.Part, l *device.Layout, words []uint64, _ *record.Record) (link.Intent, error) {
		return link.Transact{Text: inHex(l, words)}, nil
	}},
}

func begins(l *device.Layout, _ *record.Record) []uint64 { return l.Begins }

func newest(l *device.Layout, last *record.Record) []uint64 {
	if last == nil {
		return l.Begins
	}
	return wide(last)
}

func writtenBefore(l *device.Layout, last *record.Record) []uint64 {
	before := l.Begins
	if last != nil {
		for _, x := range i2c.Parts(last) {
			if !x.Read && len(x.Data) > 0 {
				before = layout.Words(x.Data)
			}
		}
	}
	return before
}

func inFrame(_ *device.Layout, last *record.Record) []uint64 {
	if last == nil {
		return nil
	}
	return layout.Words(last.Data)
}

// framed sends a content in the part's frame.
func framed(part *operation.Part, content []byte) (link.Intent, error) {
	if part.Framing == nil {
		return link.Send{Data: append(slices.Clone(content), '\n')}, nil
	}
	raw, err := part.Framing.Wrap(content)
	return link.Send{Data: raw}, err
}

// inHex writes words with as many digits as each needs.
func inHex(l *device.Layout, words []uint64) string {
	var out []string
	for _, w := range words {
		out = append(out, fmt.Sprintf("%0*X", (l.WordBits+3)/4, w))
	}
	return strings.Join(out, " ")
}

// sendFrame sends a frame like the newest one; without one, a classical frame where that is
// long enough.
func sendFrame(_ *operation.Part, l *device.Layout, words []uint64, last *record.Record) (link.Intent, error) {
	data := l.Bytes(words)
	flexible := ""
	switch {
	case last != nil && last.Attr&record.Switched != 0:
		flexible = "switch "
	case last != nil && last.Attr&record.FD != 0 || len(data) > 8:
		flexible = "fd "
	}
	form := "%03X %s%s"
	if l.ID.Extended {
		form = "%08X %s%s"
	}
	return link.Transact{Text: fmt.Sprintf(form, l.ID.ID, flexible, hexOf(data))}, nil
}

// sentAgain gives the message of a layout that the firmware sends again and again, and the frame
// with its attributes as one that was seen; nil where it sends none.
func sentAgain(b *bench.Link, l *device.Layout) (name string, frame *record.Record) {
	c, ok := b.Model.(*bench.CAN)
	if !ok || l.ID == nil {
		return "", nil
	}
	for _, x := range c.Nodes[0].Messages {
		if x.Frame.ID != l.ID.ID || x.Frame.Extended != l.ID.Extended {
			continue
		}
		r := &record.Record{Kind: record.Frame, ID: x.Frame.ID, Data: x.Frame.Data}
		if x.Frame.FD {
			r.Attr |= record.FD
		}
		if x.Frame.Switched {
			r.Attr |= record.Switched
		}
		return x.Name, r
	}
	return "", nil
}

func wide(r *record.Record) []uint64 {
	var out []uint64
	for _, w := range r.Words(r.Data) {
		out = append(out, uint64(w))
	}
	return out
}

// Last finds the newest of some records, the newest first, that holds the set-point's message.
func (p *Point) Last(records func(yield func(*record.Record) bool)) *record.Record {
	if p.layout == nil {
		return nil
	}
	for r := range records {
		l := p.part.Laying()
		for _, x := range l.Take(r) {
			if x.Laid.Layout == p.layout {
				return r
			}
		}
	}
	return nil
}
