// Package transfer works out how bytes move between memory and a bus unit: polled, by
// interrupts or by DMA. It calculates costs and limits, derives and checks plans, runs
// them on core/machine against traffic, and accounts for every byte.
package transfer

import (
	"fmt"
	"math"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Way is how words leave a unit, or get into it.
type Way uint8

// The ways.
const (
	Spin     Way = iota // the processor does nothing else
	Wait                // it waits from the first bit of a burst to the last
	Look                // the main loop looks every so often
	EachWord            // an interrupt for each word
	AtLevel             // an interrupt when a number of words wait
	HalfFull            // DMA into a ring, interrupts when it is half and full
)

// Ways are the words for the ways, in their order.
var Ways = []string{"spin", "wait", "look", "each-word", "at-level", "dma"}

func (w Way) String() string { return Ways[w] }

// Cycles are costs in cycles of the core's clock.
type Cycles struct {
	Entry   int // from the flag to the handler's first instruction
	Read    int // from there to the read of the data register
	Next    int // from one read to the next look
	Handler int // the whole handler, Read included, without what each word costs
	Each    int // more for each word
	Exit    int // from the last instruction to the return
	Look    int // a look of the main loop
	Call    int // a call that waits, for each burst
}

// Line is what comes over the line.
type Line struct {
	WordBits float64 // bits of a word on the line, from its first to the first of the next
	Bytes    int     // of a word
	Rate     quantity.Rate
	// PerSecond are words in a second, evenly spaced; or Burst words without a pause,
	// Bursts times a second.
	PerSecond float64
	Burst     int
	Bursts    float64
}

// Word is the time of a word on the line, in seconds.
func (l Line) Word() float64 { return l.WordBits / l.Rate.Bd() }

// Words is the number of words in a second.
func (l Line) Words() float64 {
	if l.Burst > 0 {
		return float64(l.Burst) * l.Bursts
	}
	return l.PerSecond
}

// Method is one way with its numbers.
type Method struct {
	Way     Way
	Core    quantity.Freq
	Cycles  Cycles
	Depth   int           // words that the unit holds
	Level   int           // AtLevel: words that raise the interrupt
	Timeout bool          // AtLevel: one more for what a burst leaves below the level
	Ring    int           // HalfFull: words
	Idle    bool          // HalfFull: one more when the line goes quiet
	Period  quantity.Time // Look
	Blocked quantity.Time // longest time that interrupts are held off
}

// Cost is what a method costs on a line, and whether it keeps up. Times are seconds,
// shares are of 1. A share above 1 can't be carried. Deadline and Response are NaN where
// the way has none.
type Cost struct {
	WordTime   float64
	LineBytes  float64 // bytes a second that the line carries at most
	Load       float64 // share of the line
	Interrupts float64 // a second
	Share      float64 // of the processor
	Deadline   float64 // from the flag until the first word is lost
	Response   float64 // from the flag until it is read, at worst
	Why        []finding.Derivation
}

// Keeps says whether the response is within the deadline.
func (c Cost) Keeps() bool {
	return c.Share <= 1 && (math.IsNaN(c.Deadline) || c.Response < c.Deadline)
}

// CostOf calculates what a method costs. Held says that the line waits for a late reader,
// as an I2C controller does by holding the clock: then there is no deadline.
func CostOf(l Line, m Method, held bool) Cost {
	t := l.Word()
	c := Cost{WordTime: t, LineBytes: float64(l.Bytes) / t, Load: l.Words() * t, Deadline: math.NaN(), Response: math.NaN()}
	hz := m.Core.Hz()
	sec := func(cycles float64) float64 { return cycles / hz }
	k, words := m.Cycles, l.Words()
	depth := max(m.Depth, 1)
	handler := float64(k.Entry + k.Handler + k.Exit)
	blocked := m.Blocked.Seconds()
	c.why("word", "bits / rate", fmt.Sprintf("%g / %g", l.WordBits, l.Rate.Bd()), seconds(t))
	switch m.Way {
	case Spin:
		c.Share = 1
		c.why("processor", "1", "the processor does nothing else", "100 %")
	case Wait:
		switch {
		case l.Burst == 0:
			c.Share = 1
			c.why("processor", "1", "the wait never ends on a line without pauses", "100 %")
		default:
			c.Share = l.Bursts * (float64(l.Burst)*t + sec(float64(k.Call)))
			c.why("processor", "bursts/s × (words × word + call)", fmt.Sprintf("%g × (%d × %s + %s)", l.Bursts, l.Burst, seconds(t), seconds(sec(float64(k.Call)))), percent(c.Share))
		}
	case Look:
		period := m.Period.Seconds()
		c.Share = sec(float64(k.Look))/period + words*sec(float64(k.Read))
		c.why("processor", "look / period + words/s × read", fmt.Sprintf("%s / %s + %g × %s", seconds(sec(float64(k.Look))), seconds(period), words, seconds(sec(float64(k.Read)))), percent(c.Share))
		c.Deadline, c.Response = float64(depth)*t, period
		c.why("deadline", "depth × word", fmt.Sprintf("%d × %s", depth, seconds(t)), seconds(c.Deadline))
		c.why("response", "period", seconds(period), seconds(period))
	case EachWord:
		c.Interrupts = words
		c.Share = words * sec(handler)
		c.why("interrupts", "words/s", fmt.Sprintf("%g", words), fmt.Sprintf("%.6g /s", words))
		c.why("processor", "interrupts/s × (entry + handler + exit) / core", fmt.Sprintf("%g × %g / %g", words, handler, hz), percent(c.Share))
		c.within(depth, 1, t, blocked, sec(float64(k.Entry+k.Read)))
	case AtLevel:
		level := max(m.Level, 1)
		c.Interrupts = words / float64(level)
		formula, worked := "words/s / level", fmt.Sprintf("%g / %d", words, level)
		if m.Timeout && l.Burst > 0 {
			each := l.Burst / level
			if l.Burst%level > 0 {
				each++
			}
			c.Interrupts = l.Bursts * float64(each)
			formula, worked = "bursts/s × ⌈words / level⌉", fmt.Sprintf("%g × %d", l.Bursts, each)
		}
		c.Share = c.Interrupts*sec(handler) + words*sec(float64(k.Each))
		c.why("interrupts", formula, worked, fmt.Sprintf("%.6g /s", c.Interrupts))
		c.why("processor", "(interrupts/s × (entry + handler + exit) + words/s × each) / core", fmt.Sprintf("(%g × %g + %g × %d) / %g", c.Interrupts, handler, words, k.Each, hz), percent(c.Share))
		c.within(depth, level, t, blocked, sec(float64(k.Entry+k.Read)))
	case HalfFull:
		half := m.Ring / 2
		c.Interrupts = words / float64(max(half, 1))
		formula, worked := "words/s / (ring / 2)", fmt.Sprintf("%g / %d", words, half)
		if m.Idle && l.Burst > 0 {
			c.Interrupts += l.Bursts
			formula, worked = formula+" + bursts/s", worked+fmt.Sprintf(" + %g", l.Bursts)
		}
		c.Share = c.Interrupts*sec(handler) + words*sec(float64(k.Each))
		c.why("interrupts", formula, worked, fmt.Sprintf("%.6g /s", c.Interrupts))
		c.why("processor", "(interrupts/s × (entry + handler + exit) + words/s × each) / core", fmt.Sprintf("(%g × %g + %g × %d) / %g", c.Interrupts, handler, words, k.Each, hz), percent(c.Share))
		c.Deadline = float64(half+1) * t
		c.why("deadline", "(ring / 2 + 1) × word", fmt.Sprintf("%d × %s", half+1, seconds(t)), seconds(c.Deadline))
		c.Response = blocked + sec(float64(k.Entry+k.Handler+half*k.Each))
		c.why("response", "blocked + (entry + handler + ring / 2 × each) / core", fmt.Sprintf("%s + %d / %g", seconds(blocked), k.Entry+k.Handler+half*k.Each, hz), seconds(c.Response))
	}
	if held {
		c.Deadline, c.Response = math.NaN(), math.NaN()
	}
	return c
}

// within adds deadline and response of an interrupt that comes when a number of words
// wait.
func (c *Cost) within(depth, level int, word, blocked, read float64) {
	c.Deadline = float64(depth+1-level) * word
	c.Response = blocked + read
	c.why("deadline", "(depth + 1 - level) × word", fmt.Sprintf("(%d + 1 - %d) × %s", depth, level, seconds(word)), seconds(c.Deadline))
	c.why("response", "blocked + (entry + read) / core", fmt.Sprintf("%s + %s", seconds(blocked), seconds(read)), seconds(c.Response))
}

func (c *Cost) why(name, formula, worked, result string) {
	c.Why = append(c.Why, finding.Derivation{Name: name, Formula: formula, Worked: worked, Result: result, Source: "docs/formulas.md, transfers"})
}

// seconds and percent are numbers as derivations show them.
func seconds(s float64) string { return quantity.Time(math.Round(s * 1e12)).Round(6) }

func percent(share float64) string { return fmt.Sprintf("%.4g %%", 100*share) }
