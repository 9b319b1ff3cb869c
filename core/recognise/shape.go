package recognise

import (
	"fmt"
	"math"
	"math/bits"
	"slices"

	"gavrix.org/gavrix/core/bus/uart"
)

// rule is what the last of the bits between start and stop does.
type rule uint8

const (
	free rule = iota // nothing that the others would tell
	even             // makes the ones even
	odd
	zero // is always 0
)

// shape is what a wire tells of a character frame, and all that it tells.
type shape struct {
	body int // bits between the start bit and the level of the stop bit
	rule rule
	// maybe is a parity that holds too, but of so few different characters that it may be by
	// chance; free: none.
	maybe rule
	// stop is how many bits the level of the stop bit lasts at least, bits that
	// are always 1 counted; 0 where no two characters stand close together.
	stop float64
	ones int // bits that are always 1, in front of the stop bit
}

// parities are the parities of the rules that are one.
var parities = [...]uart.ParityRule{even: uart.Even, odd: uart.Odd}

// leastEvidence are the bits that a parity must save to be named beside no parity.
const leastEvidence = 3

// ruleError is the share of characters that may break a rule that holds.
const ruleError = 1.0 / 64

// rulePrior are the bits that it takes to say which rule holds.
var rulePrior = [...]float64{free: 0, even: 5, odd: 6, zero: 0}

// word is what stands between start and stop: n bits, the first in bit 0.
type word = uint16

// shapeOf finds the rule of words of n bits, and the bits that it saves. Bits at
// the end that are always 1 are counted to the stop level: ones.
func shapeOf(words []word, n int) (s shape, ones int, saved float64) {
	distinct := map[word]int{}
	for _, w := range words {
		distinct[w]++
	}
	holds := func(n int, fits func(w word) bool) (share, evidence float64) {
		kept, seen, broken := 0, map[word]bool{}, map[word]bool{}
		for w, count := range distinct {
			if fits(w) {
				kept += count
				seen[w&(1<<n-1)] = true
			} else {
				broken[w&(1<<n-1)] = true
			}
		}
		// The same word again is no new evidence. A bit is saved for each, less what it
		// takes to say which of them break the rule.
		share = float64(kept) / float64(len(words))
		all, k := float64(len(seen)+len(broken)), float64(len(broken))
		if 4*k > all {
			return share, 0 // no rule that is broken so often
		}
		return share, all - choose(all, k) - 2*math.Log2(k+1)
	}
	for n > 5 {
		if share, _ := holds(n, func(w word) bool { return w>>(n-1)&1 == 1 }); share < 1-ruleError {
			break
		}
		n--
		ones++
		saved += float64(len(words))
	}
	s.body, s.ones = n, ones
	if share, _ := holds(n, func(w word) bool { return w>>(n-1)&1 == 0 }); share >= 1-ruleError {
		s.rule, saved = zero, saved+float64(len(words))
	}
	for r, parity := range parities {
		if parity == uart.None {
			continue
		}
		_, evidence := holds(n, func(w word) bool { return parity.Bit(w&(1<<(n-1)-1)) == w>>(n-1)&1 })
		// A bit that is always 0 and fits a parity too is more likely a bit of
		// few different characters.
		switch {
		case s.rule == zero:
		case evidence > rulePrior[r]:
			s.rule, saved = rule(r), saved+evidence-rulePrior[r]
		case (rule(r) == even || rule(r) == odd) && evidence >= leastEvidence:
			s.maybe = rule(r)
		}
	}
	if s.rule != free {
		s.maybe = free
	}
	return s, ones, saved
}

// choose gives the bits that it takes to say which k of n things are meant.
func choose(n, k float64) float64 {
	lg := func(x float64) float64 { v, _ := math.Lgamma(x + 1); return v }
	return (lg(n) - lg(k) - lg(n-k)) / math.Ln2
}

// frames lists the frames that give the shape, the usual one first, and how they
// could be told apart.
func (s shape) frames(inverted bool) (out []string, first uart.Frame, apart string) {
	var members []member
	stops := []float64{s.stop}
	if s.stop == 0 {
		stops = nil
		for ones := range s.ones + 1 {
			for _, stop := range []float64{1, 1.5, 2} {
				if at := stop + float64(ones); !slices.Contains(stops, at) {
					stops = append(stops, at)
				}
			}
		}
	}
	named := map[string]bool{}
	add := func(data int, p uart.ParityRule, stop float64, note string) {
		f := uart.Frame{Data: data, Parity: p, Stop: int(stop), Half: stop != math.Floor(stop), Inverted: inverted}
		if m := (member{f, note}); f.Check() == nil && !named[m.String()] {
			named[m.String()] = true
			members = append(members, m)
		}
	}
	for _, stop := range stops {
		switch s.rule {
		case even:
			add(s.body-1, uart.Even, stop, "")
		case odd:
			add(s.body-1, uart.Odd, stop, "")
		case zero:
			add(s.body, uart.None, stop, "whose top bit is never set")
			add(s.body-1, uart.Space, stop, "")
		default:
			add(s.body, uart.None, stop, "")
			if s.maybe != free { // so few characters may keep it by chance
				add(s.body-1, map[rule]uart.ParityRule{even: uart.Even, odd: uart.Odd}[s.maybe], stop, "")
			}
		}
		if s.rule == free || s.rule == zero {
			// A bit that is always 1 looks like a longer stop bit.
			add(s.body, uart.Mark, stop-1, "")
			add(s.body+1, uart.None, stop-1, "whose top bit is always set")
			add(s.body+1, uart.Mark, stop-2, "whose top bit is always set")
			add(s.body+2, uart.None, stop-2, "whose two top bits are always set")
		}
	}
	if len(members) == 0 {
		return nil, uart.Frame{}, ""
	}
	for _, m := range members {
		out = append(out, m.String())
	}
	switch {
	case len(members) == 1:
	case s.stop == 0:
		apart = "characters back to back would tell the stop bits"
	case s.maybe != free:
		apart = "more characters would tell whether their parity holds by chance"
	case s.rule == zero:
		apart = "a character with its top bit set would tell"
	default:
		apart = "no wire tells these apart: ask the sender's settings"
	}
	return out, members[0].frame, apart
}

// member is a frame of a class, with what must hold for it.
type member struct {
	frame uart.Frame
	note  string
}

func (m member) String() string {
	if m.note == "" {
		return m.frame.String()
	}
	return fmt.Sprintf("%s %s", m.frame, m.note)
}

// printable is the share of words whose low bits are printable characters.
func printable(words []word, n int, turned bool) float64 {
	if len(words) == 0 {
		return 0
	}
	k := 0
	for _, w := range words {
		if turned {
			w = bits.Reverse16(w) >> (16 - n)
		}
		if c := w & (1<<n - 1); c >= 32 && c < 127 || c == 10 || c == 13 || c == 9 {
			k++
		}
	}
	return float64(k) / float64(len(words))
}
