package sim

import (
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// canBooks is what is kept of one node's errors and of what it waits for.
type canBooks struct {
	counts  []count // since the last record, the newest last
	told    int64   // as the last record had them
	warned  bool
	offAt   quantity.Time
	waits   uint64 // identifier of a frame that lost an arbitration, as key gives it
	since   quantity.Time
	waiting bool
}

// count is what a node's counters were from a time on.
type count struct {
	at    quantity.Time
	value int64 // as a record.ErrorCounts
}

// loser is a frame that lost an arbitration.
type loser struct {
	at   quantity.Time
	node int
	id   uint64
	bit  int // from 1
}

// keep writes down what a node noticed, and tells of a state that changed.
func (b *canBus) keep(i int, ev can.Event) {
	k := &b.books[i]
	name := b.now.Ends[i].Name
	v := int64(ev.TEC)<<16 | int64(ev.REC)
	if n := len(k.counts); n == 0 && v != 0 || n > 0 && k.counts[n-1].value != v {
		k.counts = append(k.counts, count{ev.At, v})
	}
	if ev.What == can.Lost {
		b.losers = append(b.losers, loser{ev.At, i, key(ev.Frame), ev.Bit + 1})
	}
	was := b.states[i]
	b.states[i] = ev.State
	switch {
	case ev.State == was:
	case was == can.BusOff:
		b.note(ev.At, "%s is %s again, %s after it went bus off", name, ev.State, (ev.At - k.offAt).Round(4))
	case ev.State == can.BusOff:
		k.offAt = ev.At
		back := "it stays off until it is started again"
		if !b.now.Ends[i].StayOff {
			back = "back after 128 times 11 recessive bits, in " + quantity.PeriodOf(b.now.Ends[i].Nominal.Rate).Times(128*11).Round(4) + " at the earliest"
		}
		b.note(ev.At, "%s is bus off: transmit errors %d, receive errors %d; %s", name, ev.TEC, ev.REC, back)
	default:
		b.note(ev.At, "%s is %s: transmit errors %d, receive errors %d", name, ev.State, ev.TEC, ev.REC)
	}
	if high := max(ev.TEC, ev.REC) >= can.WarningLimit; high != k.warned {
		k.warned = high
		if high && ev.State == can.ErrorActive {
			b.note(ev.At, "%s has counted many errors: transmit errors %d, receive errors %d; error passive from 128 on", name, ev.TEC, ev.REC)
		}
	}
}

// told adds to a frame as the tap read it what the nodes know of it: who lost the
// arbitration, how long it was held back, and the error counters behind it.
func (b *canBus) told(r *record.Record, id uint64) {
	left := b.losers[:0]
	for _, l := range b.losers {
		switch k := &b.books[l.node]; {
		case l.at > r.End:
			left = append(left, l)
		case l.at >= r.Start:
			v := int64(l.id & (1<<29 - 1))
			if l.id>>32 != 0 {
				v |= 1 << 29
			}
			r.Facts = append(r.Facts, record.Fact{What: record.WonOver, Index: l.bit, Value: v})
			if !k.waiting || k.waits != l.id {
				k.waiting, k.waits, k.since = true, l.id, r.Start
			}
		}
	}
	b.losers = left
	slack := b.bit() * 3 // the intermission
	for i := range b.books {
		k := &b.books[i]
		end := record.MCU
		if i > 0 {
			end = record.Device + record.End(i-1)
		}
		if k.waiting && r.From == end && id == k.waits && r.AllFlags() == 0 {
			r.Facts = append(r.Facts, record.Fact{What: record.HeldBack, Value: int64(r.Start - k.since)})
			k.waiting = false
		}
		v := k.told
		for len(k.counts) > 0 && k.counts[0].at <= r.End+slack {
			v, k.counts = k.counts[0].value, k.counts[1:]
		}
		if v != 0 || v != k.told {
			r.Facts = append(r.Facts, record.Fact{What: record.ErrorCounts, Index: i, Value: v})
		}
		k.told = v
	}
}
