package setpoint

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/layout"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/record"
)

// senders put a value into a message and say how it is sent, by kind of bus.
var senders = map[string]func(p *Point, text string, m *Move, last *record.Record) error{
	"uart":  sendCharacters,
	"spi":   sendWords,
	"i2c":   sendBytes,
	"can":   sendFrame,
	"pulse": sendElements,
}

// framed sends a content in the part's frame.
func framed(p *Point, content []byte, m *Move) error {
	if p.part.Framing == nil {
		m.Intent = link.Send{Data: append(slices.Clone(content), '\n')}
		return nil
	}
	raw, err := p.part.Framing.Wrap(content)
	m.Intent = link.Send{Data: raw}
	return err
}

func sendCharacters(p *Point, text string, m *Move, _ *record.Record) error {
	words, err := p.encoded(text, p.layout.Begins)
	if err != nil {
		return err
	}
	return framed(p, p.layout.Bytes(words), m)
}

// sendFrame changes a message that the firmware sends again and again, or sends one.
func sendFrame(p *Point, text string, m *Move, last *record.Record) error {
	id := *p.layout.ID
	if c, ok := p.Link.Model.(*bench.CAN); ok {
		for _, x := range c.Nodes[0].Messages {
			if x.Frame.ID != id.ID || x.Frame.Extended != id.Extended {
				continue
			}
			words, err := p.encoded(text, layout.Words(x.Frame.Data))
			if err != nil {
				return err
			}
			m.Edit = &finding.Edit{Path: []string{"links", p.Link.Name, "mcu", "messages", x.Name, "data"}, Value: hexOf(p.layout.Bytes(words))}
			return nil
		}
	}
	var before []byte
	flexible := ""
	if last != nil {
		before = last.Data
		switch {
		case last.Attr&record.Switched != 0:
			flexible = "switch "
		case last.Attr&record.FD != 0:
			flexible = "fd "
		}
	}
	words, err := p.encoded(text, layout.Words(before))
	if err != nil {
		return err
	}
	form := "%03X %s%s"
	if id.Extended {
		form = "%08X %s%s"
	}
	m.Intent = link.Transact{Text: fmt.Sprintf(form, id.ID, flexible, hexOf(p.layout.Bytes(words)))}
	return nil
}

func sendBytes(p *Point, text string, m *Move, last *record.Record) error {
	before := p.layout.Begins
	if last != nil {
		for _, x := range i2c.Parts(last) {
			if !x.Read && len(x.Data) > 0 {
				before = layout.Words(x.Data)
			}
		}
	}
	words, err := p.encoded(text, before)
	if err != nil {
		return err
	}
	var out []string
	for _, b := range append(p.part.End.(i2c.End).Address.Wire(false), p.layout.Bytes(words)...) {
		out = append(out, fmt.Sprintf("%02X ack", b))
	}
	m.Intent = link.Transact{Text: "start " + strings.Join(out, " ") + " stop"}
	return nil
}

func sendWords(p *Point, text string, m *Move, last *record.Record) error {
	before := p.layout.Begins
	if last != nil {
		before = wide(last)
	}
	words, err := p.encoded(text, before)
	if err != nil {
		return err
	}
	out := []string{fmt.Sprintf("select %d out", p.part.Index+1)}
	for _, w := range words {
		out = append(out, fmt.Sprintf("%0*X", (p.layout.WordBits+3)/4, w))
	}
	m.Intent = link.Transact{Text: strings.Join(out, " ")}
	return nil
}

func sendElements(p *Point, text string, m *Move, last *record.Record) error {
	var before []uint64
	if last != nil {
		before = wide(last)
	}
	words, err := p.encoded(text, before)
	if err != nil {
		return err
	}
	var out []string
	for _, w := range words {
		out = append(out, fmt.Sprintf("%0*X", (p.layout.WordBits+3)/4, w))
	}
	m.Intent = link.Transact{Text: strings.Join(out, " ")}
	return nil
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
