// Package setpoint changes values by hand while a bench runs: from a quantity, or a step, to
// what is to be done on the link.
package setpoint

import (
	"encoding/hex"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/layout"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/values"
)

// Point is a value that can be set.
type Point struct {
	*values.Name
	Link *bench.Link
	// Roll: beyond one end follows the other; else it stops there.
	Roll   bool
	part   *operation.Part
	layout *device.Layout // of a message that the MCU sends; nil of a register's value
	field  *layout.Field
}

// Of gives a value as something to set. The error says why it can't be.
func Of(b *bench.Bench, n *values.Name, linkName string) (*Point, error) {
	if b == nil {
		return nil, fmt.Errorf("a capture is shown: nothing can be set")
	}
	l := b.Link(linkName)
	if l == nil {
		return nil, fmt.Errorf("the bench has no link %s", linkName)
	}
	if n.Does {
		return nil, fmt.Errorf("%s is what the link does: it can't be set", n)
	}
	p := &Point{Name: n, Link: l}
	for _, x := range l.Parts() {
		if x.Name == n.Part {
			p.part = x
		}
	}
	var v *device.Value
	if p.part != nil && p.part.Map != nil {
		v = p.part.Map.Value(n.Value)
	}
	if p.part == nil || n.Message == "" && v == nil {
		return nil, fmt.Errorf("%s has no part with a value %s", linkName, n)
	}
	if n.Message == "" {
		switch {
		case v.From != nil:
			return nil, fmt.Errorf("%s is calculated of other values: set those", n)
		case !slices.ContainsFunc(v.Registers(), func(r *device.Register) bool { return r.Writable() }):
			return nil, fmt.Errorf("%s can only be read", n)
		}
		return p, nil
	}
	for _, x := range p.part.Layouts {
		if x.Name == n.Message {
			p.layout, p.field = x, x.Named(n.Value)
		}
	}
	if p.layout == nil {
		return nil, fmt.Errorf("%s is in no message that is described", n)
	}
	if !sends(p.part, p.layout) {
		return nil, fmt.Errorf("%s is in a message that %s sends: the MCU can't set it", n, p.part.Name)
	}
	return p, nil
}

// Move is what a set-point is to become, and how.
type Move struct {
	Text    string // in words
	Number  float64
	Clamped bool // it was asked for beyond an end, and stopped there
	Rolled  bool // it went on at the other end
	// Same: it is that already, so that there is nothing to do.
	Same bool
	// One of these is to be done: a change of what the firmware sends again and again, an
	// intent, or an operation in words.
	Edit      *finding.Edit
	Intent    link.Intent
	Operation string
}

// bounds are the ends of the value.
func (p *Point) bounds() (least, most *big.Rat) {
	least, most = p.Format.Range()
	if p.Format.Least != nil {
		least = p.Format.Least
	}
	if p.Format.Most != nil {
		most = p.Format.Most
	}
	return least, most
}

// step is what one count is.
func (p *Point) step() *big.Rat {
	if p.Format.Scale != nil {
		return new(big.Rat).Abs(p.Format.Scale)
	}
	return big.NewRat(1, 1)
}

// To gives the move to a quantity or word; last is the newest message that the value stood in,
// nil where none was seen. Beyond an end it stops there.
func (p *Point) To(text string, last *record.Record) (*Move, error) {
	for _, word := range p.Format.Codes {
		if strings.EqualFold(word, strings.TrimSpace(text)) {
			return p.move(word, &Move{}, last)
		}
	}
	if len(p.Format.Codes) > 0 && !p.Format.Scaled() {
		if _, err := p.Format.Encode(text); err != nil {
			return nil, err
		}
		return p.move(text, &Move{}, last)
	}
	r, err := p.Format.Amount(text)
	if err != nil {
		if w, err := p.Format.Encode(text); err == nil && w.Number != nil { // bits, as 0x1F
			return p.number(w.Number, &Move{}, last)
		}
		return nil, err
	}
	m := &Move{}
	least, most := p.bounds()
	switch {
	case r.Cmp(least) < 0:
		r, m.Clamped = least, true
	case r.Cmp(most) > 0:
		r, m.Clamped = most, true
	}
	return p.number(r, m, last)
}

// Step gives the move by some counts from what the value is now, as its newest sample has it.
func (p *Point) Step(now float64, by int, last *record.Record) (*Move, error) {
	r := new(big.Rat).SetFloat64(now)
	if r == nil {
		return nil, fmt.Errorf("%s is no number now", p.Name)
	}
	if codes := p.codes(); codes != nil && !p.Format.Scaled() {
		return p.stepCode(codes, uint64(now), by, last)
	}
	least, most := p.bounds()
	r.Add(r, new(big.Rat).Mul(p.step(), big.NewRat(int64(by), 1)))
	m := &Move{}
	end, other := most, least
	if by < 0 {
		end, other = least, most
	}
	if beyond := r.Cmp(most) > 0 || r.Cmp(least) < 0; beyond {
		was := new(big.Rat).SetFloat64(now)
		switch {
		case p.Roll:
			r, m.Rolled = other, true
		case was.Cmp(end) == 0:
			m.Same, m.Clamped = true, true
			m.Text = p.Format.Quantity(end)
			m.Number, _ = end.Float64()
			return m, nil
		default:
			r, m.Clamped = end, true
		}
	}
	return p.number(r, m, last)
}

// codes are the numbers that have a word, in order.
func (p *Point) codes() []uint64 {
	var out []uint64
	for raw := range p.Format.Codes {
		out = append(out, raw)
	}
	slices.Sort(out)
	return out
}

// stepCode goes to another word of the table.
func (p *Point) stepCode(codes []uint64, now uint64, by int, last *record.Record) (*Move, error) {
	i := slices.Index(codes, now) + by
	m := &Move{}
	switch {
	case i >= 0 && i < len(codes):
	case p.Roll:
		i, m.Rolled = (i+len(codes))%len(codes), true
	default:
		m.Same, m.Clamped, m.Text, m.Number = true, true, p.Format.Codes[now], float64(now)
		return m, nil
	}
	return p.move(p.Format.Codes[codes[i]], m, last)
}

func (p *Point) number(r *big.Rat, m *Move, last *record.Record) (*Move, error) {
	text := r.RatString()
	if p.Format.Unit != "" {
		text += " " + p.Format.Unit
	}
	return p.move(text, m, last)
}

// move says what is to be done.
func (p *Point) move(text string, m *Move, last *record.Record) (*Move, error) {
	w, err := p.Format.Encode(text)
	if err != nil {
		return nil, err
	}
	m.Text = w.Meaning()
	m.Number = float64(w.Raw)
	if w.Number != nil {
		m.Number, _ = w.Number.Float64()
	}
	if p.layout == nil {
		m.Operation = fmt.Sprintf("write %s.%s %s", p.part.Name, p.Value, m.written(&w))
		return m, nil
	}
	return m, p.message(text, m, last)
}

// written is a value as operations read it.
func (m *Move) written(w *coding.Written) string {
	if w.Code != "" {
		return w.Code
	}
	return fmt.Sprintf("0x%X", w.Raw)
}

// message puts the value into its message: one that the firmware sends again and again is
// changed.
func (p *Point) message(text string, m *Move, last *record.Record) error {
	values := map[string]string{p.field.Name: text}
	if name, frame := sentAgain(p.Link, p.layout); frame != nil {
		words, err := p.layout.Encode(layout.Words(frame.Data), values)
		if err != nil {
			return err
		}
		m.Edit = &finding.Edit{Path: []string{"links", p.Link.Name, "mcu", "messages", name, "data"}, Value: hexOf(p.layout.Bytes(words))}
		return nil
	}
	if p.layout.Text != nil && len(p.layout.Fields) > 1 {
		return fmt.Errorf("%s has other values too: the command message sends all of them", p.layout.Name)
	}
	var err error
	m.Intent, err = carry(p.part, p.layout, values, last)
	return err
}

// carry makes a message, and says what sends it.
func carry(part *operation.Part, l *device.Layout, values map[string]string, last *record.Record) (link.Intent, error) {
	if l.Text != nil {
		content, err := l.Say(values)
		if err != nil {
			return nil, err
		}
		return framed(part, content)
	}
	kind := carriers[part.Kind.Name]
	words, err := l.Encode(kind.before(l, last), values)
	if err != nil {
		return nil, err
	}
	return kind.intent(part, l, words, last)
}

// sends says whether the MCU sends the messages of a layout.
func sends(part *operation.Part, l *device.Layout) bool {
	if l.ID == nil {
		return l.FromMCU
	}
	return !part.SendsFrame(*l.ID)
}

func hexOf(data []byte) string {
	return strings.ToUpper(strings.TrimSpace(strings.Join(pairs(hex.EncodeToString(data)), " ")))
}

func pairs(s string) []string {
	var out []string
	for i := 0; i+2 <= len(s); i += 2 {
		out = append(out, s[i:i+2])
	}
	return out
}
