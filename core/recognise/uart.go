package recognise

import (
	"fmt"
	"math"
	"strings"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// usualBauds are the rates that asynchronous links have as a rule.
var usualBauds = []float64{
	300, 600, 1200, 1800, 2400, 4800, 7200, 9600, 14400, 19200, 28800, 31250, 38400, 56000, 57600, 76800, 115200, 128000,
	153600, 230400, 250000, 256000, 460800, 500000, 576000, 921600, 1e6, 1.152e6, 1.5e6, 2e6, 2.5e6, 3e6, 3.5e6, 4e6,
}

const (
	mostBody = 10 // nine data bits and parity
	// together is how near the distance of two characters must come to that of
	// others, in bits, to count as back to back.
	together = 0.2
)

// reading is what one receiver made of a line.
type reading struct {
	frame  uart.Frame // with as many data bits as there are bits to the stop bit
	n      int
	period quantity.Period
	words  []word
	lead   int    // characters before the line was first at rest, not in words: a capture may begin inside one
	bad    int    // characters with an error, not in words
	broken []word // what they read
	spurs  int    // low pulses too short for a start bit
	starts []quantity.Time
	// extra are the bits from the end of the n bits to the next start; far
	// beyond any stop bit where there is a pause.
	extra []float64
}

// read decodes a line with frames of n bits between start and stop.
func read(w *wire.Window, period quantity.Period, n int, inverted bool) reading {
	r := reading{n: n, period: period, frame: uart.Frame{Data: min(n, 9), Stop: 1, Inverted: inverted}}
	if n > 9 {
		r.frame.Parity = uart.Space // its error mark is then the tenth bit
	}
	set := uart.Settings{Frame: r.frame}
	rec := uart.NewReceiver(set.Config(period))
	var out record.List
	rec.Feed(w, &out)
	rec.Flush(&out)
	last := quantity.Time(-1)
	rest := quantity.Time(int64(n+2) * int64(period) / 1000)
	synced := w.High != inverted && len(w.Toggles) > 0 && w.Toggles[0]-w.From >= rest
	for i := range out.Done {
		rec := &out.Done[i]
		for k := range rec.Len() {
			at, flags := rec.Start+rec.Offsets[k], rec.FlagsAt(k)
			if last >= 0 {
				r.extra = append(r.extra, float64(at-last)*1000/float64(period)-float64(1+n))
			}
			if !synced && last >= 0 && at-last >= rest+quantity.Time(int64(n)*int64(period)/1000) {
				synced = true
				r.lead, r.words, r.starts, r.extra = len(r.words)+r.bad, nil, nil, nil
				r.bad, r.broken, r.spurs = 0, nil, 0
			}
			last = at
			v := rec.Char(k)
			if flags&record.Parity != 0 {
				v |= 1 << 9
			}
			if flags&^record.Parity != 0 {
				r.bad++
				r.broken = append(r.broken, v)
				continue
			}
			r.words = append(r.words, v)
			r.starts = append(r.starts, at)
		}
		if rec.FlagsAt(rec.Len())&record.Glitch != 0 {
			r.spurs++
		}
	}
	return r
}

// spacing finds how many bits the level of the stop bit lasts in characters that
// stand close together, and how many do; 0 where there are none.
func (r *reading) spacing() (stop float64, n int) {
	least := math.Inf(1)
	for _, e := range r.extra {
		if e > 0.7 {
			least = min(least, e)
		}
	}
	for _, e := range r.extra {
		if math.Abs(e-least) < together {
			n++
		}
	}
	halves := math.Round(2 * least)
	if n < max(3, len(r.extra)/20) || math.Abs(2*least-halves) > 2*together || halves > 8 {
		return 0, n
	}
	return halves / 2, n
}

// cost tells the line with the reading, in bits.
func (r *reading) cost() (bits float64, s shape) {
	if len(r.words) == 0 {
		return math.Inf(1), s
	}
	s, ones, saved := shapeOf(r.words, r.n)
	stop, tight := r.spacing()
	if stop > 0 {
		s.stop = stop + float64(ones)
	}
	units := len(r.words) + r.bad
	bits = float64((len(r.words)+r.lead)*r.n) - saved + float64(r.lead)
	bits += float64(tight) + float64(units-tight)*startBits
	bits += float64(r.bad)*float64(errorBits+r.n) + float64(r.spurs)*errorBits
	return bits, s
}

// refine finds the period anew from the edges inside characters.
func (r *reading) refine(w *wire.Window) quantity.Period {
	if p, _, edges := uart.Slope(r.starts, w.Toggles, r.n+1, r.period); edges > 0 {
		return p
	}
	return r.period
}

// findUART reads a line as asynchronous characters.
func findUART(l *look, index int) []Proposal {
	var best, second reading
	bestCost, secondCost := math.Inf(1), math.Inf(1)
	var bestShape shape
	short := firstEdges(l.Window, trialEdges)
	for _, part := range []quantity.Period{1, 2, 3} {
		for _, inverted := range []bool{false, true} {
			for n := 5; n <= mostBody; n++ {
				period := quantity.Period(l.pulse) * 1000 / part
				if r := read(&short, period, n, inverted); len(r.words) < r.bad {
					continue
				}
				r := read(&l.Window, period, n, inverted)
				if len(r.words) > 2*r.bad {
					r = read(&l.Window, r.refine(&l.Window), n, inverted)
				}
				c, s := r.cost()
				if c < bestCost {
					if s.body != bestShape.body || s.rule != bestShape.rule {
						second, secondCost = best, bestCost
					}
					best, bestCost, bestShape = r, c, s
				} else if c < secondCost && (s.body != bestShape.body || s.rule != bestShape.rule) {
					second, secondCost = r, c
				}
			}
		}
	}
	var out []Proposal
	if p, ok := best.propose(l, index); ok {
		if bestShape.rule == even || bestShape.rule == odd {
			// The laxer format fits as well; it is second.
			_, _, saved := shapeOf(best.words, best.n)
			lax := p
			lax.Class, lax.Apart, lax.Reasons = nil, "", []string{fmt.Sprintf("fits as well, but leaves to chance that the last bit is %s parity each time", parities[bestShape.rule])}
			lax.Settings = settings(best.period, uart.Frame{Data: bestShape.body, Stop: 1, Inverted: best.frame.Inverted}, best.words)
			lax.Gain -= saved
			if bestShape.body <= 9 {
				out = append(out, lax)
			}
		}
		out = append([]Proposal{p}, out...)
	}
	if p, ok := second.propose(l, index); ok {
		out = append(out, p)
	}
	return out
}

// settings gives rate and frame in the words of a bench. Text tells the order of
// the bits; else the usual one is taken.
func settings(period quantity.Period, f uart.Frame, words []word) string {
	if msbFirst(f, words) {
		f.MSBFirst = true
	}
	frame := f.String()
	if f.MSBFirst || f.Inverted {
		frame = `"` + frame + `"`
	}
	return fmt.Sprintf("rate=%s frame=%s", rateSetting(period, usualBauds), frame)
}

// msbFirst says whether words are text only when their bits are turned round.
func msbFirst(f uart.Frame, words []word) bool {
	n := f.Data
	return n >= 7 && len(words) >= 16 && printable(words, n, false) < 0.6 && printable(words, n, true) > 0.97
}

// sameRate is up to how many per cent a measured rate is taken for a usual one: no
// crystal is bought for less.
const sameRate = 0.1

// rateSetting gives a measured rate with five digits, or the usual rate that it fits.
func rateSetting(p quantity.Period, usual []float64) string {
	if rate, off, ok := closeTo(p.Rate(), usual); ok && math.Abs(off) <= sameRate {
		return strings.ReplaceAll(rate.String(), " ", "")
	}
	bd := p.Rate().Bd()
	scale := math.Pow(10, 4-math.Floor(math.Log10(bd)))
	return strings.ReplaceAll(quantity.FromBd(math.Round(bd*scale)/scale).String(), " ", "")
}

const (
	// usualOff is how many per cent a sender is off its usual rate at most.
	usualOff = 1.5
	// aheadOfRare is what a rate or a frame that hardly any link has must be ahead to be sure.
	aheadOfRare = 100
)

// few says whether there are so few different characters that a clock beside its pauses, or a line
// that is sampled too slowly, reads as they do.
func few(words []word) bool {
	distinct := map[word]bool{}
	for _, w := range words {
		distinct[w] = true
	}
	return len(distinct) < 12
}

// fewWords is below how many characters their rate must speak for them too.
const fewWords = 6

func (r *reading) propose(l *look, index int) (Proposal, bool) {
	cost, s := r.cost()
	if len(r.words) < 3 || len(r.words) < 2*r.bad {
		return Proposal{}, false
	}
	class, first, apart := s.frames(r.frame.Inverted)
	if len(class) == 0 {
		return Proposal{}, false
	}
	if _, off, usual := closeTo(r.period.Rate(), usualBauds); len(r.words) < fewWords && (!usual || math.Abs(off) > 1.2) {
		return Proposal{}, false // any slow line is a few characters of some rate
	}
	p := Proposal{
		Kind: uart.Kind, Lines: []int{-1, -1, index, -1, -1}, Unit: "characters",
		Units: len(r.words) + r.bad, Bad: r.bad,
		Gain:     float64(len(l.Toggles)*edgeBits) - cost,
		Settings: settings(r.period, first, r.words),
		Apart:    apart,
	}
	if len(class) > 1 {
		p.Class = class
	}
	_, off, usual := closeTo(r.period.Rate(), usualBauds)
	if rare := first.Data != 7 && first.Data != 8 || first.Parity == uart.Mark || first.Parity == uart.Space; !usual || math.Abs(off) > usualOff {
		p.unusual = rare || few(r.words)
		p.needs = aheadOfRare
	} else if rare {
		p.unusual = few(r.words)
		p.needs = aheadOfRare
	}
	p.Reasons = append(p.Reasons, rateReason(r.period.Rate(), usualBauds, "Bd"))
	if s.rule == even || s.rule == odd {
		_, _, saved := shapeOf(r.words, r.n)
		p.Reasons = append(p.Reasons, fmt.Sprintf("%s parity holds throughout: by chance one in 2^%.0f", parities[s.rule], saved))
	}
	if share := printable(r.words, min(s.body, 7), false); share > 0.97 && s.body >= 7 {
		p.Reasons = append(p.Reasons, "readable as text")
	} else if msbFirst(first, r.words) {
		p.Reasons = append(p.Reasons, "readable as text with the most significant bit first")
	} else {
		p.Reasons = append(p.Reasons, "which bit comes first no wire tells: the least significant is usual")
	}
	if r.frame.Inverted {
		p.Reasons = append(p.Reasons, "the line rests low")
	}
	if r.lead > 0 {
		p.Reasons = append(p.Reasons, fmt.Sprintf("the capture begins without rest: %d characters before the first pause are not counted", r.lead))
	}
	return p, true
}
