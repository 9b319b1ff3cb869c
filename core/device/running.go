package device

import (
	"math"
	"math/rand/v2"
	"strconv"

	"gavrix.org/gavrix/core/quantity"
)

// Running is a device at work. It sees only the characters that its own
// receiver gives it, with their error marks, and sends characters; the rest
// of the simulated world is unknown to it.
type Running struct {
	dev     *Talker
	rng     *rand.Rand
	command []byte
	spoilt  bool // a character of the command had an error: wait for its end
	next    quantity.Time
	due     []reply
	asked   *askedPart // nil of a part without registers
	odd     Odd
	before  *reply // the answer before
}

type reply struct {
	at   quantity.Time
	text []piece
	raw  []byte // in place of text
}

// answer gives an answer, with what is wrong with those of this part.
func (r *Running) answer(a reply) {
	if r.odd.Answers == Silent {
		return
	}
	if r.odd.Answers == Repeated {
		if r.before != nil {
			r.due = append(r.due, reply{at: a.at, text: r.before.text, raw: r.before.raw})
		}
		r.before = &a
	}
	r.due = append(r.due, a)
}

// Start gives a part on a character link as it is after power-up at the time now, with
// the bytes of its memory. The random numbers decide only what the device file leaves
// open. The part is nil where its registers are not described.
func (dev *Device) Start(now quantity.Time, rng *rand.Rand, cells *Cells) (*Running, *Part) {
	d := dev.Talks
	r := &Running{dev: d, rng: rng, next: quantity.Forever}
	if dev.Odd != nil {
		r.odd = *dev.Odd
	}
	var part *Part
	if dev.Map != nil {
		part = dev.NewPart(cells)
		r.asked = newAsked(dev.Map, part, now+dev.Map.PowerUp)
	}
	if d.stream != nil {
		r.next = now + d.stream.every/4
	}
	return r, part
}

// Wake gives the time at which the device next does something by itself.
func (r *Running) Wake() quantity.Time {
	at := r.next
	for _, d := range r.due {
		at = min(at, d.at)
	}
	return at
}

// Step gives the characters that the device begins to send at the time now,
// which is the one that Wake gave.
func (r *Running) Step(now quantity.Time) []byte {
	var out []byte
	rest := r.due[:0]
	for _, d := range r.due {
		if d.at <= now {
			if out = append(out, d.raw...); d.raw == nil {
				out = append(out, r.render(d.text, now, r.odd.Answers == Damaged)...)
			}
		} else {
			rest = append(rest, d)
		}
	}
	r.due = rest
	if r.next <= now {
		s := r.dev.stream
		for range s.least + r.rng.IntN(s.most-s.least+1) {
			out = append(out, r.render(s.text, now, false)...)
		}
		r.next += s.every
	}
	return out
}

func (r *Running) render(text []piece, now quantity.Time, damaged bool) []byte {
	var out []byte
	for _, p := range text {
		if p.value == "" {
			out = append(out, p.text...)
			continue
		}
		out = strconv.AppendFloat(out, r.dev.Value(p.value, now), 'f', p.decimals, 64)
	}
	if f := r.dev.packet; f != nil {
		wrap := f.Wrap
		if damaged {
			wrap = f.Damage
		}
		if raw, err := wrap(out); err == nil {
			return raw
		}
	}
	return append(out, r.dev.LineEnd...)
}

// Value gives a value of the device at a time; NaN for an unknown name.
func (d *Talker) Value(name string, now quantity.Time) float64 {
	for _, v := range d.values {
		if v.name == name {
			return v.program.Value(now.Seconds())
		}
	}
	return math.NaN()
}
