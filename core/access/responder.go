package access

import "fmt"

// Reason says why a part refuses what it is asked for.
type Reason string

// The reasons.
const (
	Granted    Reason = ""
	NotKnown   Reason = "unknown"    // it knows no such request
	BadLength  Reason = "length"     // the request has another length
	NoSuch     Reason = "number"     // there is no such register
	Unreadable Reason = "write-only" // it can't be read
	Unwritable Reason = "read-only"  // it can't be written
	OutOfRange Reason = "range"      // the content is out of range
	NotNow     Reason = "busy"       // not in the present state
)

// Reasons lists the reasons as files write them.
func Reasons() []string {
	var out []string
	for _, r := range []Reason{NotKnown, BadLength, NoSuch, Unreadable, Unwritable, OutOfRange, NotNow} {
		out = append(out, string(r))
	}
	return out
}

// Asked are the registers and texts of a part that is asked.
type Asked interface {
	Registers
	// Text gives a text, by its name or, where that is "", its number; WriteText writes it.
	Text(name string, number uint64) []byte
	WriteText(name string, number uint64, chars []byte)
	// Fits says whether an operation is one for the register or text with a number.
	Fits(p *Pattern, number uint64) bool
	// Grants says why an operation is refused.
	Grants(p *Pattern, u *Use) Reason
}

// Responder is a part that is asked and answers.
type Responder struct {
	Patterns []*Pattern
	// Refusal is what it answers to what it can't do, When with which number. Without
	// one it is silent then.
	Refusal *Refusal
	When    map[Reason]uint64
	Part    Asked
	// Unturned: all answers carry the sequence number of the first.
	Unturned bool
	first    uint64
	counting bool
	// Why is why the last request was refused.
	Why Reason
	// The last request with a sequence number, and what was answered: who asks with the same one
	// again has not heard the answer.
	numbered *Pattern
	sequence uint64
	answered []byte
}

// Respond gives the answer to a request, and which operation that was; answers is false
// where there is none.
func (r *Responder) Respond(content []byte) (answer []byte, p *Pattern, answers bool) {
	bits := Bits(content)
	why := NotKnown
	for _, p := range r.Patterns {
		u, ok := p.requested(bits)
		if !ok {
			if why == NotKnown && p.begun(bits) {
				why = BadLength
			}
			continue
		}
		if p.NumberBits > 0 && !r.Part.Fits(p, u.Number) {
			if why == NotKnown || why == BadLength {
				why = NoSuch
			}
			continue
		}
		if why = r.Part.Grants(p, &u); why != Granted {
			break
		}
		r.Why = Granted
		if p.SequenceBits == 0 {
			return r.does(p, &u, bits)
		}
		if r.numbered != p || r.sequence != u.Sequence {
			r.numbered, r.sequence = p, u.Sequence
			if !r.counting {
				r.first, r.counting = u.Sequence, true
			}
			if r.Unturned {
				u.Sequence = r.first
			}
			r.answered, _, _ = r.does(p, &u, bits)
		}
		return r.answered, p, p.Answers()
	}
	r.Why = why
	code, known := r.When[why]
	if r.Refusal == nil || !known && r.Refusal.WhyBits > 0 {
		return nil, nil, false
	}
	out, _ := r.Refusal.Span.compose(In, 1, &given{asked: bits, why: code})
	return Bytes(out), nil, true
}

// begun says whether a request begins with the constants of the pattern's.
func (p *Pattern) begun(bits []Bit) bool {
	some := false
	for i, b := range p.Spans[0].start() {
		if b == Unknown {
			continue
		}
		if i >= len(bits) || bits[i] != b {
			return false
		}
		some = true
	}
	return some
}

// does carries an operation out.
func (r *Responder) does(p *Pattern, u *Use, bits []Bit) ([]byte, *Pattern, bool) {
	for name, v := range u.Held {
		if n, known := r.Part.Named(name); known {
			r.Part.Write(n, v)
		}
	}
	number := u.Number
	for i, v := range u.Values {
		if i > 0 {
			number = r.Part.Next(number, true)
		}
		r.Part.Write(number, v)
	}
	switch {
	case p.Text != nil && p.Text.Writes:
		r.Part.WriteText(p.Text.Name, u.Number, u.Chars)
	case p.NumberBits == 0 && len(p.HeldIn)+len(p.HeldOut) == 0 && p.Text == nil:
		r.Part.Command(p.Name)
	}
	if !p.Answers() {
		return nil, p, false
	}
	g := &given{part: r.Part, asked: bits, number: u.Number, about: u.Number, sequence: u.Sequence, held: map[string]uint64{}}
	out, _ := p.Spans[1].compose(In, u.Units, g)
	return Bytes(out), p, true
}

// given is what a part puts into its answer: each register is read once.
type given struct {
	part     Asked
	asked    []Bit
	number   uint64 // of the register that comes next
	values   []uint64
	held     map[string]uint64
	about    uint64 // the number that was asked for
	sequence uint64
	why      uint64
}

func (g *given) bits(it *Item) uint64 {
	whole := uint64(0)
	switch it.What {
	case Fixed:
		return it.Fixed
	case Why:
		whole = g.why
	case Sequence:
		whole = g.sequence
	case Held:
		v, read := g.held[it.Name]
		if !read {
			n, _ := g.part.Named(it.Name)
			v = g.part.Read(n)
			g.held[it.Name] = v
		}
		whole = v
	case Value:
		for it.Unit >= len(g.values) {
			if len(g.values) > 0 {
				g.number = g.part.Next(g.number, false)
			}
			g.values = append(g.values, g.part.Read(g.number))
		}
		whole = g.values[it.Unit]
	}
	if it.Form != Plain {
		return whole
	}
	return whole >> it.Low & ones(it.Bits)
}

func (g *given) chars(name string) []byte {
	if g.part == nil {
		return nil
	}
	return g.part.Text(name, g.about)
}

func (g *given) echoed(at int) bool { return at < len(g.asked) && g.asked[at] == One }

// Because says in words why a part refused.
func (r *Refusal) Because(why uint64) string {
	if text := r.Codes[why]; text != "" {
		return text
	}
	if r.WhyBits == 0 {
		return "it gives no reason"
	}
	return fmt.Sprintf("reason 0x%0*X, which its file does not describe", (r.WhyBits+3)/4, why)
}
