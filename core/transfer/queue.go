package transfer

import (
	"slices"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// Kept is what a receive queue gave.
type Kept struct {
	Read   []int // the frames that were read, in order; what waits at the end is read too
	Lost   []int // in the order in which they were lost
	Before int   // how many were read before the last frame was complete
	High   int
}

// QueueOf lets frames come into a queue at the times of their ends, and reads one at each
// of the times given, the rest at the end.
func QueueOf(ends, reads []quantity.Time, depth int, onFull machine.Policy) Kept {
	m := machine.New(quantity.FromHz(1e6))
	p := m.AddPort(&machine.Port{Name: "queue", Depth: depth, OnFull: onFull, Enabled: true})
	var k Kept
	take := func() {
		if w, ok := p.Take(); ok {
			k.Read = append(k.Read, w.Serial)
		}
	}
	for _, at := range reads {
		m.At(at, take)
	}
	for i, at := range ends {
		m.RunTo(at)
		if i == len(ends)-1 {
			k.Before = len(k.Read)
		}
		p.Receive(machine.Word{Serial: i})
	}
	for m.Next() != quantity.Forever {
		m.RunTo(m.Next())
	}
	for p.Level() > 0 {
		take()
	}
	k.Lost, k.High = slices.Clone(p.LostSerials), p.High
	return k
}

// Sending is a frame that waits for a CAN bus.
type Sending struct {
	Name             string
	ID               uint32
	Extended, Remote bool
	Bits             int // stuff bits and the space behind included
	Queued           quantity.Time
	Cancelled        quantity.Time // taken back then unless it has begun; 0: never
}

// before says whether the frame wins the bus: 11 bits, then data before remote, the short
// identifier before the long one with the same beginning, then the other 18 bits.
func (s Sending) before(o Sending) bool { return slices.Compare(s.field(), o.field()) < 0 }

// field is the arbitration field, bit by bit in the groups that decide: the first eleven bits
// of the identifier, then RTR of the short or SRR of the long one, IDE, the 18 bits, RTR.
func (s Sending) field() []uint32 {
	bit := func(b bool) uint32 {
		if b {
			return 1
		}
		return 0
	}
	if s.Extended {
		return []uint32{s.ID >> 18, 1, 1, s.ID & (1<<18 - 1), bit(s.Remote)}
	}
	return []uint32{s.ID, bit(s.Remote), 0}
}

// Started is a frame as it went out.
type Started struct {
	Frame   int  // its place among one's own, or among the others
	Foreign bool // it is another node's
	At      quantity.Time
}

// Sends are the frames in the order in which they went out.
type Sends struct {
	Order     []Started
	Longest   quantity.Time // the longest wait of one's own from queueing to the start
	Cancelled []int         // of one's own, taken back before they began
}

// SendsOf lets one node send its own frames, strictly in the order of their queueing or
// the most urgent of so many mailboxes first, 0 for as many as it needs, while others are
// sent by nodes of their own. A frame on the bus is never broken off.
func SendsOf(own, others []Sending, byPriority bool, mailboxes int, bit quantity.Period) Sends {
	order := make([]int, len(own))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return int(min(max(own[a].Queued-own[b].Queued, -1), 1)) })
	var waiting []int // in mailboxes, or the queue
	foreign := make([]int, len(others))
	for i := range foreign {
		foreign[i] = i
	}
	var out Sends
	var now quantity.Time
	for {
		gone := func(i int) bool { return own[i].Cancelled > 0 && own[i].Cancelled <= now }
		drop := func(list []int) []int {
			return slices.DeleteFunc(list, func(i int) bool {
				if gone(i) {
					out.Cancelled = append(out.Cancelled, i)
				}
				return gone(i)
			})
		}
		waiting = drop(waiting)
		for len(order) > 0 && own[order[0]].Queued <= now && (mailboxes == 0 || !byPriority || len(waiting) < mailboxes) {
			if gone(order[0]) {
				out.Cancelled = append(out.Cancelled, order[0])
			} else {
				waiting = append(waiting, order[0])
			}
			order = order[1:]
		}
		mine := -1
		for k, i := range waiting {
			if mine < 0 || byPriority && own[i].before(own[waiting[mine]]) {
				mine = k
			}
		}
		other := -1
		for k, i := range foreign {
			if f := others[i]; f.Queued <= now && (other < 0 || f.before(others[foreign[other]])) {
				other = k
			}
		}
		switch {
		case mine >= 0 && (other < 0 || own[waiting[mine]].before(others[foreign[other]])):
			i := waiting[mine]
			waiting = slices.Delete(waiting, mine, mine+1)
			out.Order = append(out.Order, Started{Frame: i, At: now})
			out.Longest = max(out.Longest, now-own[i].Queued)
			now += bit.Times(int64(own[i].Bits))
		case other >= 0:
			i := foreign[other]
			out.Order = append(out.Order, Started{Frame: i, Foreign: true, At: now})
			now += bit.Times(int64(others[i].Bits))
			foreign = slices.Delete(foreign, other, other+1)
		default:
			next := quantity.Forever
			if len(order) > 0 {
				next = own[order[0]].Queued
			}
			for _, i := range foreign {
				next = min(next, others[i].Queued)
			}
			if next == quantity.Forever {
				return out
			}
			now = next
		}
	}
}
