package recognise

import (
	"fmt"
	"math"
	"sort"
	"sync"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Char is a character as a receiver read it, with its error marks.
type Char struct {
	Value uint16
	Flags record.Flags
}

// Guess is what the sender of characters may send with, judged from what a
// receiver made of them.
type Guess struct {
	// Class are the frames that give just these characters and marks, the usual
	// one first.
	Class []string
	Frame uart.Frame // the first of Class
	// Faster is how many times the receiver's rate is above the sender's; 1
	// where nothing says so.
	Faster float64
	// Framing says that framing errors alone speak for it: a wrong rate gives such, too.
	Framing bool
	Apart   string
	Gain    float64 // in bits, above that of the receiver's own frame
	Reasons []string
}

// fasters are the rates, against the sender's, at which a receiver gives itself
// away: few values can come out.
var fasters = []float64{1.5, 2, 3, 4, 6, 8}

// Bytes ranks the frames that a sender may have, from what a receiver with a
// frame of its own read of it. Rates are found only where the receiver is too
// fast: then few values can come. It gives nothing with fewer than 4 characters.
func Bytes(own uart.Frame, chars []Char) []Guess {
	// A word holds what the receiver sampled: data, parity, the stop bit.
	var words []word
	n, framing := own.Data, 0
	if own.Parity != uart.None {
		n++
	}
	for _, c := range chars {
		if c.Flags&(record.Break|record.ParityOrFraming|record.Glitch) != 0 {
			continue
		}
		w := c.Value & own.Mask()
		if own.MSBFirst {
			w = own.Turned(w)
		}
		if own.Parity != uart.None {
			bit := own.ParityBit(c.Value)
			if c.Flags&record.Parity != 0 {
				bit ^= 1
			}
			w |= bit << own.Data
		}
		if c.Flags&record.Framing == 0 {
			w |= 1 << n
		} else {
			framing++
		}
		words = append(words, w)
	}
	if len(words) < 4 {
		return nil
	}
	var out []Guess
	within, _, saved := shapeOf(low(words, n), n)
	base := float64(len(words)*n) + float64(framing)*errorBits
	g := Guess{Faster: 1, Gain: saved}
	g.Class, g.Frame, g.Apart = within.frames(own.Inverted)
	g.reason(within, saved, framing)
	out = append(out, g)
	if framing > 0 {
		// The receiver's stop bit may be one of the sender's data or parity bits.
		s, _, saved := shapeOf(words, n+1)
		g := Guess{Faster: 1, Gain: base - float64(len(words)*(n+1)) + saved}
		g.Class, g.Frame, g.Apart = s.frames(own.Inverted)
		g.reason(s, saved, 0)
		g.Framing = s.rule != even && s.rule != odd
		g.Reasons = append(g.Reasons, fmt.Sprintf("the %d framing errors are then bits that are 0", framing))
		out = append(out, g)
	}
	if within.rule == even || within.rule == odd {
		if f := (uart.Frame{Data: n, Stop: 1, Inverted: own.Inverted}); f.Check() == nil {
			out = append(out, Guess{Class: []string{f.String()}, Frame: f, Faster: 1, Reasons: []string{"fits as well, but leaves the parity to chance"}})
		}
	}
	for _, faster := range fasters {
		if g, ok := tooFast(own, words, n, faster); ok {
			g.Gain += base - float64(len(words)*n)
			out = append(out, g)
		}
	}
	out = frameable(out)
	sort.SliceStable(out, func(i, j int) bool { return out[i].Gain > out[j].Gain })
	return out
}

// frameable leaves out guesses that no frame gives.
func frameable(gs []Guess) []Guess {
	keep := gs[:0]
	for _, g := range gs {
		if len(g.Class) > 0 {
			keep = append(keep, g)
		}
	}
	return keep
}

func low(words []word, n int) []word {
	out := make([]word, len(words))
	for i, w := range words {
		out[i] = w & (1<<n - 1)
	}
	return out
}

func (g *Guess) reason(s shape, saved float64, framing int) {
	switch s.rule {
	case even, odd:
		g.Reasons = append(g.Reasons, fmt.Sprintf("%s parity holds throughout: by chance one in 2^%.0f", parities[s.rule], saved))
	case zero:
		g.Reasons = append(g.Reasons, "the last bit is 0 each time")
	}
	if framing > 0 {
		g.Reasons = append(g.Reasons, fmt.Sprintf("leaves %d framing errors unexplained", framing))
	}
}

// tooFast says whether the words are those that a receiver at so many times the
// sender's rate can make. Words hold n bits and the stop bit.
func tooFast(own uart.Frame, words []word, n int, faster float64) (Guess, bool) {
	can := reachable(own, n, faster)
	distinct := map[word]bool{}
	for _, w := range words {
		if !can[w] {
			return Guess{}, false
		}
		distinct[w] = true
	}
	// Each different word could have been any.
	saved := float64(len(distinct)) * (float64(n+1) - math.Log2(float64(len(can))))
	if len(distinct) < 3 || saved < 8 {
		return Guess{}, false
	}
	f := uart.Frame{Data: 8, Stop: 1, Inverted: own.Inverted}
	return Guess{
		Class: []string{f.String()}, Frame: f, Faster: faster, Gain: saved,
		Apart:   "the frame shows only at the right rate",
		Reasons: []string{fmt.Sprintf("only %d of %d values can come when the receiver is %g times too fast, and only these came", len(can), 1<<(n+1), faster)},
	}, true
}

// reached keeps what reachable found, by frame and rate: it is the same each time.
var reached sync.Map

type reachedKey struct {
	own    uart.Frame
	faster float64
}

// reachable are the words that a receiver reads from 8N1 characters when it is
// too fast: from every pair of characters back to back, the second one of all
// that begin differently.
func reachable(own uart.Frame, n int, faster float64) map[word]bool {
	key := reachedKey{own, faster}
	if known, ok := reached.Load(key); ok {
		return known.(map[word]bool)
	}
	const sent = quantity.Period(1_000_000_000)
	period := quantity.Period(float64(sent) / faster)
	out := map[word]bool{}
	truth := uart.Frame{Data: 8, Stop: 1}
	for v := range uint16(256) {
		for _, next := range []uint16{0x00, 0x55, 0xAA, 0xFF} {
			tog, end := uart.Encode(nil, truth, sent, quantity.Time(sent/1000), v, next)
			w := wire.Window{To: end + sent.Times(40), High: !own.Inverted, Toggles: tog}
			r := read(&w, period, n, own.Inverted)
			for _, x := range r.words {
				out[x|1<<n] = true
			}
			for _, x := range r.broken {
				out[x] = true
			}
		}
	}
	reached.Store(key, out)
	return out
}
