package transfer

import (
	"fmt"
	"math"
	"math/bits"

	"gavrix.org/gavrix/core/finding"
)

// Sizes says which sizes a buffer may have.
type Sizes uint8

// The rules.
const (
	AnySize Sizes = iota
	EvenSize
	PowerOfTwo
)

// SizeWords are the words for the rules, in their order.
var SizeWords = []string{"any", "even", "power-of-two"}

// Fit gives the smallest allowed size that is no less than n.
func (s Sizes) Fit(n int) int {
	switch {
	case n < 1:
		return s.Fit(1)
	case s == EvenSize:
		return n + n&1
	case s == PowerOfTwo:
		return 1 << bits.Len(uint(n-1))
	}
	return n
}

// Size is the smallest safe size of a buffer, in words, with its reason.
type Size struct {
	Least int // as the rule of sizes allows
	Why   finding.Derivation
}

func sized(least int, s Sizes, name, formula, worked string) Size {
	fit := s.Fit(least)
	result := fmt.Sprintf("%d", least)
	if fit != least {
		result += fmt.Sprintf(", %s: %d", SizeWords[s], fit)
	}
	return Size{fit, finding.Derivation{Name: name, Formula: formula, Worked: worked, Result: result, Source: "docs/formulas.md, transfers"}}
}

// wholes is the number of whole words in a time; a multiple is one, whatever the rounding of
// the division.
func wholes(words float64) float64 { return math.Floor(words + 1e-9) }

// RingSize is the smallest ring whose halves are each done with at most done seconds
// after they are full, with a word every word seconds: the first place of a half is
// written again ring/2 + 1 words after the half's event.
func RingSize(word, done float64, s Sizes) Size {
	half := max(int(wholes(done/word)), 1)
	return sized(2*half, s, "ring", "2 × ⌊done / word⌋", fmt.Sprintf("2 × ⌊%s / %s⌋", seconds(done), seconds(word)))
}

// DrainSize is the smallest buffer that is emptied every period, at most late seconds
// late. Spare: one place can't be used, because full would look like empty.
func DrainSize(word, period, late float64, spare bool, s Sizes) Size {
	n := int(wholes((period+late)/word)) + 1
	formula := "⌊(period + late) / word⌋ + 1"
	worked := fmt.Sprintf("⌊(%s + %s) / %s⌋ + 1", seconds(period), seconds(late), seconds(word))
	if spare {
		n++
		formula, worked = formula+" + 1 spare", worked+" + 1"
	}
	return sized(n, s, "buffer", formula, worked)
}

// BurstSize is the smallest buffer for a burst of n words whose consumer takes the first
// late seconds after it is complete and then one every work seconds.
func BurstSize(word float64, n int, late, work float64, spare bool, s Sizes) Size {
	most, removed, next := 0, 0, late
	for k := range n {
		at := float64(k) * word
		for removed < k && next <= at {
			removed++
			next = math.Max(next+work, float64(removed)*word)
		}
		most = max(most, k+1-removed)
	}
	worked := fmt.Sprintf("%d words of %s, the first taken after %s, then one every %s", n, seconds(word), seconds(late), seconds(work))
	if spare {
		most++
		worked += ", one place spare"
	}
	return sized(most, s, "buffer", "the most that wait at once", worked)
}

// DepthFor is the smallest queue that is read within response seconds after a number of
// words wait.
func DepthFor(word float64, level int, response float64, s Sizes) Size {
	n := int(wholes(response/word)) + level
	return sized(max(n, level), s, "queue", "⌊response / word⌋ + level", fmt.Sprintf("⌊%s / %s⌋ + %d", seconds(response), seconds(word), level))
}

// Limit is the greatest rate that a method carries.
type Limit struct {
	Word  float64 // seconds: the shortest time of a word
	Rate  float64 // bit/s
	By    string  // what limits it: throughput, deadline, dma
	Terms []Term
	Why   []finding.Derivation
}

// Term is one bound on the time of a word.
type Term struct {
	By     string
	Word   float64 // seconds at least
	Strict bool    // it must be longer than that
}

func limit(bitsOfWord float64, terms ...Term) Limit {
	l := Limit{Terms: terms}
	for _, t := range terms {
		if t.Word > l.Word {
			l.Word, l.By = t.Word, t.By
		}
	}
	l.Rate = bitsOfWord / l.Word
	return l
}

// Carries says whether a bit rate is within the limit.
func (l Limit) Carries(bitsOfWord, rate float64) bool {
	word := bitsOfWord / rate
	for _, t := range l.Terms {
		if word < t.Word || t.Strict && word == t.Word {
			return false
		}
	}
	return true
}

func (l *Limit) why(formula, worked, result string) {
	l.Why = append(l.Why, finding.Derivation{Name: "word at least", Formula: formula, Worked: worked, Result: result, Source: "docs/formulas.md, transfers"})
}

// LimitOf gives the greatest rate at which words of so many bits are carried by
// interrupts or by looks. Of Look, all says that a look reads all that wait.
func LimitOf(wordBits float64, m Method, all bool) Limit {
	hz := m.Core.Hz()
	k, depth := m.Cycles, max(m.Depth, 1)
	blocked := m.Blocked.Seconds()
	var l Limit
	switch m.Way {
	case EachWord, AtLevel:
		level := 1
		if m.Way == AtLevel {
			level = max(m.Level, 1)
		}
		call := float64(k.Entry+k.Read+(level-1)*k.Next+k.Exit) / hz / float64(level)
		late := (blocked + float64(k.Entry+k.Read)/hz) / float64(depth+1-level)
		l = limit(wordBits, Term{By: "throughput", Word: call}, Term{By: "deadline", Word: late})
		l.why("(entry + read + (level - 1) × next + exit) / core / level", fmt.Sprintf("(%d + %d + %d × %d + %d) / %g / %d", k.Entry, k.Read, level-1, k.Next, k.Exit, hz, level), seconds(call))
		l.why("(blocked + (entry + read) / core) / (depth + 1 - level)", fmt.Sprintf("(%s + %d / %g) / %d", seconds(blocked), k.Entry+k.Read, hz, depth+1-level), seconds(late))
	case Look:
		loop := m.Period.Seconds()
		if all {
			l = limit(wordBits, Term{By: "throughput", Word: loop / float64(depth), Strict: true})
			l.why("loop / depth", fmt.Sprintf("%s / %d", seconds(loop), depth), seconds(l.Word))
			break
		}
		l = limit(wordBits, Term{By: "throughput", Word: loop})
		l.why("loop", seconds(loop), seconds(loop))
	}
	return l
}

// RingLimit gives the greatest rate that a ring of words carries by DMA: busy is the
// processor's time for each half, done the time after its event when a half is done,
// beat the time of the engine's bus for each word.
func RingLimit(wordBits float64, ring int, busy, done, beat float64) Limit {
	half := float64(ring / 2)
	l := limit(wordBits, Term{By: "throughput", Word: busy / half}, Term{By: "deadline", Word: done / (half + 1), Strict: true}, Term{By: "dma", Word: beat})
	l.why("busy / (ring / 2)", fmt.Sprintf("%s / %g", seconds(busy), half), seconds(busy/half))
	l.why("done / (ring / 2 + 1)", fmt.Sprintf("%s / %g", seconds(done), half+1), seconds(done/(half+1)))
	l.why("cycles of a beat / bus", seconds(beat), seconds(beat))
	return l
}

// Limit is the greatest rate of the line that a plan carries on a part.
func (p *Plan) Limit(part *Part) Limit {
	bits := p.Stream.WordBits
	hz := part.Core.Hz()
	before := part.Before(p.Urgency)
	once := func(cycles int, what string) Limit {
		l := limit(bits, Term{By: "throughput", Word: float64(max(cycles, 1)) / hz})
		l.why(what+" / core", fmt.Sprintf("%d / %g", max(cycles, 1), hz), seconds(l.Word))
		return l
	}
	switch p.Means {
	case Polled:
		if p.Tells == ByWaiting {
			return once(max(p.Cycles.Look, 8)+max(p.Cycles.Read, 4), "(look + read)")
		}
		return LimitOf(bits, Method{Way: Look, Core: part.Core, Depth: p.Stream.Depth, Period: p.Every}, true)
	case DMA:
		if !p.Goal.Rings() || p.Count < 2 {
			l := limit(bits, Term{By: "dma", Word: float64(max(part.BeatCycles, 1)) / hz})
			l.why("cycles of a beat / core", fmt.Sprintf("%d / %g", max(part.BeatCycles, 1), hz), seconds(l.Word))
			return l
		}
		handler := float64(p.Cycles.Entry+p.Cycles.Handler+p.Cycles.Exit) / hz
		return RingLimit(bits, p.Count, handler+p.Work.Seconds(), before.Seconds()+handler+p.Work.Seconds(), float64(part.BeatCycles)/hz)
	}
	if !p.Receive || p.Stream.Held { // nothing is lost by being late
		return once(p.Cycles.Entry+p.Cycles.Handler+p.Cycles.Each+p.Cycles.Exit, "(entry + handler + each + exit)")
	}
	k := p.Cycles
	k.Exit = max(p.Cycles.Handler-p.Cycles.Read, 0) + p.Cycles.Each + p.Cycles.Exit
	return LimitOf(bits, Method{Way: EachWord, Core: part.Core, Cycles: k, Depth: p.Stream.Depth, Blocked: before}, false)
}

// Cost is what a plan costs on a part while its line is full.
func (p *Plan) Cost(part *Part) Cost {
	line := Line{WordBits: p.Stream.WordBits, Bytes: p.Stream.Bytes(), Rate: p.Stream.Rate}
	line.PerSecond = 1 / line.Word()
	m := Method{Way: EachWord, Core: part.Core, Cycles: p.Cycles, Depth: p.Stream.Depth, Ring: p.Count, Period: p.Every, Blocked: part.Before(p.Urgency)}
	m.Cycles.Handler += m.Cycles.Each
	switch {
	case p.Means == DMA:
		m.Way, m.Ring = HalfFull, max(p.Count, 2)
	case p.Means == Polled && p.Tells == ByWaiting:
		m.Way = Wait
	case p.Means == Polled:
		m.Way = Look
	}
	return CostOf(line, m, p.Stream.Held || !p.Receive)
}
