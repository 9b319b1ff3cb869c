package can

import "gavrix.org/gavrix/core/quantity"

// bitClock keeps the bits of one node apart: where the present one began, and
// where it is sampled. Times are femtoseconds behind base.
type bitClock struct {
	base          quantity.Time
	at            int64 // the present bit's start
	phase         *ticks
	nominal, fast ticks
}

// ticks are a Phase in femtoseconds.
type ticks struct {
	bit, sample, jump int64
	quantum           int64   // 0: edges are seen when they happen
	perHalf           float64 // 1/(2·bit)
}

func ticksOf(p Phase) ticks {
	bit := float64(p.Bit)
	t := ticks{bit: int64(p.Bit), sample: int64(p.Sample * bit), jump: int64(p.Jump * bit)}
	if p.Quanta > 0 {
		q := int64(p.Quanta)
		t.quantum = max(int64(p.Bit)/q, 1)
		t.bit = t.quantum * q
		t.sample = t.quantum * int64(p.Sample*float64(q)+0.5)
		t.jump = t.quantum * int64(p.Jump*float64(q)+0.5)
	}
	t.perHalf = 0.5 / float64(max(t.bit, 1))
	return t
}

func newBitClock(t Timing) bitClock {
	c := bitClock{nominal: ticksOf(t.Nominal), fast: ticksOf(t.Data)}
	return c
}

// restart begins a bit at the time t.
func (c *bitClock) restart(t quantity.Time) {
	c.base, c.at, c.phase = t, 0, &c.nominal
}

// time gives the time of a number of femtoseconds behind base.
func (c *bitClock) time(fs int64) quantity.Time { return c.base + quantity.Time(fs/1000) }

// start is the beginning of the present bit.
func (c *bitClock) start() quantity.Time { return c.time(c.at) }

// end is the end of the present bit.
func (c *bitClock) end() quantity.Time { return c.time(c.at + c.phase.bit) }

// next is the time of the next sample.
func (c *bitClock) next() quantity.Time { return c.time(c.at + c.phase.sample) }

// far is how far ahead of its base a clock looks. No frame is as long.
const far = quantity.Second

// samplesBefore counts the samples before the time t, those of the next
// second at most.
func (c *bitClock) samplesBefore(t quantity.Time) int {
	span := int64(min(t-c.base, far))*1000 - c.at - c.phase.sample
	if span <= 0 {
		return 0
	}
	return samples(span, c.phase.perHalf)
}

// samples counts the samples in a span of femtoseconds, a second at most, that
// begins at one. Twice the span less one is never as near to a multiple of a
// bit as the product can be wrong.
func samples(span int64, perHalf float64) int { return int(float64(2*span-1)*perHalf) + 1 }

// advance goes on by n bits.
func (c *bitClock) advance(n int) {
	c.at += int64(n) * c.phase.bit
	if c.at > 1e14 {
		// Keep the numbers small where the bus is quiet for long.
		c.base += quantity.Time(c.at / 1000)
		c.at %= 1000
	}
}

// cross goes on by one bit in which the rate changes at the sample point.
func (c *bitClock) cross(to *ticks) {
	c.at += c.phase.sample + to.bit - to.sample
	c.phase = to
}

// seen gives the place at which an edge at the time t is noticed: at once, or
// at the next quantum.
func (c *bitClock) seen(t quantity.Time) int64 {
	d := int64(t-c.base)*1000 - c.at
	if q := c.phase.quantum; q > 0 {
		return nextQuantum(d, q)
	}
	return d
}

// nextQuantum rounds up to a multiple of q.
func nextQuantum(d, q int64) int64 {
	rest := d % q
	if rest > 0 {
		return d + q - rest
	}
	return d - rest
}

// resync moves the present bit towards an edge at the time t, by at most the
// jump width, and gives the phase error in femtoseconds.
func (c *bitClock) resync(t quantity.Time) int64 {
	e := c.seen(t)
	c.at += min(max(e, -c.phase.jump), c.phase.jump)
	return e
}

// hardSync begins a bit with an edge at the time t.
func (c *bitClock) hardSync(t quantity.Time) {
	q := c.nominal.quantum
	c.phase = &c.nominal
	if q == 0 {
		c.base, c.at = t, 0
		return
	}
	// The quanta run on through a pause of any length. The remainder of the
	// time in femtoseconds follows from that in picoseconds.
	rest := (int64(t-c.base)%q*1000 - c.at) % q
	c.base, c.at = t, 0
	switch {
	case rest > 0:
		c.at = q - rest
	case rest < 0:
		c.at = -rest
	}
}
