package follow

import "gavrix.org/gavrix/core/quantity"

// silentAfter is how many usual pauses between bursts make a source silent.
const silentAfter = 2

// Since gives the time from which on bytes in memory are of the latest transfer; those written
// before are left over. Where the MCU asks it is that of its latest request. Where the other
// end sends by itself it is the start of its latest burst, and quantity.Forever once it has
// been silent for two of its usual pauses. -1: nothing is known yet.
func (x *Followed) Since(now quantity.Time) quantity.Time {
	c := &x.Cadence
	switch {
	case !x.Transfer.Plan.Receive:
		return -1
	case x.asks:
		return x.requested
	case c.words == 0 && c.Bursts == 0:
		return -1
	case c.Mean() > 0 && now-c.end > silentAfter*c.Mean():
		return quantity.Forever
	}
	return c.begun
}

// Fresh counts the bytes of the transfer's buffer: those of the latest transfer, those left
// over from earlier ones, and those that nobody has written.
func (x *Followed) Fresh(now quantity.Time) (fresh, left, never int) {
	since := x.Since(now)
	b := x.Live.Run().Buffer
	for _, c := range b.Cells[:b.Bytes] {
		switch {
		case c.Written < 0:
			never++
		case c.Written < since:
			left++
		default:
			fresh++
		}
	}
	return fresh, left, never
}
