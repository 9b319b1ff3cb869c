package stats

import (
	"cmp"
	"fmt"
	"math/bits"
	"slices"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Key is what makes records of a link alike: an identifier, an address, a device or a sender.
type Key struct {
	Link     uint16
	ID       uint32
	Extended bool
	Frame    bool // it has an identifier
	// Addressed: ID is the address on an I2C bus.
	Addressed bool
	From      record.End // of a frame nobody: an identifier may have several senders
	Kind      record.Kind
}

// Text gives the identifier or address that the records have in common; "" where they have none.
func (k Key) Text() string {
	switch {
	case k.Frame && k.Extended:
		return fmt.Sprintf("%08X", k.ID)
	case k.Frame:
		return fmt.Sprintf("%03X", k.ID)
	case k.Addressed:
		return fmt.Sprintf("at %02X", k.ID)
	}
	return ""
}

// KeyOf gives the key of a record; ok is false for what is no traffic.
func KeyOf(r *record.Record) (k Key, ok bool) {
	if !r.Traffic() || r.Kind == record.Flow {
		return Key{}, false
	}
	k = Key{Link: r.Link, From: r.From, Kind: r.Kind}
	switch {
	case r.Kind == record.Frame && r.Attr&record.Incomplete == 0:
		k.Frame, k.ID, k.Extended, k.From = true, r.ID, r.Attr&record.Extended != 0, record.Nobody
	case r.Kind == record.Transaction && len(r.Back) > 0 && len(r.Data) > 0 && r.Bits == 0 && r.Back[0]&record.Addressing != 0:
		k.Addressed, k.ID = true, uint32(r.Data[0]>>1)
		if r.Data[0]&0xf8 == 0xf0 && len(r.Data) > 1 {
			k.ID = uint32(r.Data[0]>>1&3)<<8 | uint32(r.Data[1])
		}
	}
	return k, true
}

// Group are figures of records of one key; From is who sent the first of them.
type Group struct {
	Key
	Count int
	Bytes int
	Bad   int
	// Flags counts error marks, by their number.
	Flags [32]int
	// Period is from the begin of one to the begin of the next.
	Period wire.Times
	// Busy is how long they lasted together, and First and Last when the first began and the
	// last ended.
	Busy        quantity.Time
	First, Last quantity.Time
	// Missing is how often one did not come for three periods, and the longest such silence.
	Missing int
	Longest quantity.Time
	starts  []quantity.Time
}

// Jitter is the greatest distance of a period from their mean.
func (g *Group) Jitter() quantity.Time {
	return max(g.Period.Most-g.Period.Mean, g.Period.Mean-g.Period.Least)
}

// Usual gives the usual one of periods, their median; 0 where there are fewer than two, or none
// is usual: where more than a quarter are half as long again, or shorter than half.
func Usual(periods []quantity.Time) quantity.Time {
	if len(periods) < 2 {
		return 0
	}
	sorted := slices.Clone(periods)
	slices.Sort(sorted)
	usual := sorted[len(sorted)/2]
	others := 0
	for _, p := range periods {
		if 2*p >= 3*usual || 2*p < usual {
			others++
		}
	}
	if 4*others > len(periods) {
		return 0
	}
	return usual
}

// MissingAfter is how many periods without a record make one missing.
const MissingAfter = 3

// Groups gives the figures of records of a stretch, by link and then by what they are: a frame's
// identifier, else who sent it, or the device of a transaction.
func (c *Collector) Groups() []*Group {
	for _, g := range c.groups {
		slices.Sort(g.starts)
		var periods []quantity.Time
		for i := 1; i < len(g.starts); i++ {
			periods = append(periods, g.starts[i]-g.starts[i-1])
		}
		g.Period = wire.TimesOf(periods)
		g.Missing, g.Longest = 0, 0
		if usual := Usual(periods); usual > 0 {
			for _, p := range periods {
				if p > MissingAfter*usual {
					g.Missing++
					g.Longest = max(g.Longest, p)
				}
			}
		}
	}
	slices.SortStableFunc(c.groups, func(a, b *Group) int {
		return cmp.Or(cmp.Compare(a.Link, b.Link), cmp.Compare(a.ID, b.ID), cmp.Compare(a.From, b.From))
	})
	return c.groups
}

func (g *Group) take(r *record.Record) {
	g.Count++
	g.Bytes += r.Len()
	g.Busy += r.End - r.Start
	g.Last = max(g.Last, r.End)
	g.First = min(g.First, r.Start)
	g.starts = append(g.starts, r.Start)
	if r.AllFlags() != 0 {
		g.Bad++
	}
	for _, m := range r.Marks {
		for f := uint32(m.Flags); f != 0; f &= f - 1 {
			g.Flags[bits.TrailingZeros32(f)]++
		}
	}
}

// Errors lists the error marks with their counts; "" of none.
func (g *Group) Errors() string {
	text := ""
	for i, n := range g.Flags {
		if n > 0 {
			if text != "" {
				text += ", "
			}
			text += fmt.Sprintf("%d %s", n, record.Flags(1)<<i)
		}
	}
	return text
}

// Class is a class of a histogram of times.
type Class struct {
	From, To quantity.Time
	N        int
}

// Classes counts times in so many equal classes from the least to the longest.
func Classes(ts []quantity.Time, n int) []Class {
	if len(ts) == 0 || n < 1 {
		return nil
	}
	least, most := slices.Min(ts), slices.Max(ts)
	if least == most {
		n = 1
	}
	each := (most-least)/quantity.Time(n) + 1
	out := make([]Class, n)
	for i := range out {
		out[i].From, out[i].To = least+each*quantity.Time(i), least+each*quantity.Time(i+1)
	}
	for _, t := range ts {
		out[min(int((t-least)/each), n-1)].N++
	}
	return out
}
