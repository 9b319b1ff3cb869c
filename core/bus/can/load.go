package can

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"gavrix.org/gavrix/core/quantity"
)

// gap is the number of recessive bits between frames.
const gap = 3

// Message is a frame that is sent again and again.
type Message struct {
	Name   string
	Frame  Frame // the data count by their length only
	Period quantity.Time
	Jitter quantity.Time // by which a sending may be late
}

// MessageLoad is what a message takes, and how long it waits at worst.
type MessageLoad struct {
	Message
	LeastBits, MostBits int // with the gap behind, without stuffing and at most
	Least, Most         quantity.Time
	// Response is the longest time from the moment at which it is due to its
	// last bit; 0 where the bus has no rest for it.
	Response quantity.Time
	Late     bool // it may come later than the next one is due
}

// Load is how busy a bus is with messages.
type Load struct {
	Least, Most float64 // shares
	Messages    []MessageLoad
}

// frameTimes gives a frame's times with the gap, without stuffing and with as
// many stuff bits as its length can have, all of nominal length. The fixed stuff
// bits of the flexible format belong to both.
func frameTimes(f Frame, t Timing) (least, most quantity.Time, leastBits, mostBits int) {
	b := Build(f, true)
	plain := len(b.Bits) - b.Stuffed
	extra := MostStuffBits(f)
	fs := 0.0
	for _, x := range b.Bits {
		// Dynamic stuff bits depend on what is in the frame.
		if !x.Stuff || f.FD && x.Field >= StuffCount {
			fs += t.length(x, f.Switched)
		}
	}
	nominal := func(bits int) quantity.Time { return t.Nominal.Bit.Times(int64(bits)) }
	least = quantity.Time(math.Round(fs/1000)) + nominal(gap)
	return least, least + nominal(extra), plain + gap, plain + gap + extra
}

// LoadOf reckons the load of a bus and the worst waiting times: a message waits
// for one of lower priority that has begun, and for all of higher priority. It
// is the analysis of the busy period: instance by instance until the bus would
// rest.
func LoadOf(ms []Message, t Timing) (Load, error) {
	if err := t.Check(); err != nil {
		return Load{}, err
	}
	var out Load
	for _, m := range ms {
		if err := m.Frame.Check(); err != nil {
			return Load{}, fmt.Errorf("%s: %w", m.Name, err)
		}
		if m.Period <= 0 {
			return Load{}, fmt.Errorf("%s: its period must be above 0", m.Name)
		}
		l := MessageLoad{Message: m}
		l.Least, l.Most, l.LeastBits, l.MostBits = frameTimes(m.Frame, t)
		out.Least += float64(l.Least) / float64(m.Period)
		out.Most += float64(l.Most) / float64(m.Period)
		out.Messages = append(out.Messages, l)
	}
	if len(ms) == 0 {
		return Load{}, errors.New("no messages are given")
	}
	slices.SortStableFunc(out.Messages, func(a, b MessageLoad) int {
		return int(int64(priority(a.Frame)) - int64(priority(b.Frame)))
	})
	for i := range out.Messages {
		out.Messages[i].respond(out.Messages, i, t.Nominal.Bit.Times(1))
	}
	return out, nil
}

// priority orders frames as arbitration does: the identifier's first eleven
// bits, base before extended, the rest.
func priority(f Frame) uint64 {
	if !f.Extended {
		return uint64(f.ID) << 19
	}
	return uint64(f.ID>>18)<<19 | 1<<18 | uint64(f.ID&0x3ffff)
}

// mostPeriods is the number of its own periods for which the bus may be taken
// until a message counts as one for which there is no rest.
const mostPeriods = 10_000

// respond finds the worst response of the message with the index i.
func (m *MessageLoad) respond(all []MessageLoad, i int, bit quantity.Time) {
	blocking := quantity.Time(0)
	for _, l := range all[i+1:] {
		blocking = max(blocking, l.Most)
	}
	higher := func(w quantity.Time) (sum quantity.Time) {
		for _, h := range all[:i] {
			sum += (w + h.Jitter + bit + h.Period - 1) / h.Period * h.Most
		}
		return sum
	}
	used := 0.0
	for _, h := range all[:i+1] {
		used += float64(h.Most) / float64(h.Period)
	}
	if used >= 1 {
		m.Late = true
		return
	}
	// The busy period: how long the bus can be taken by this and higher ones.
	busy := blocking + m.Most
	for {
		next := blocking + (busy+m.Jitter+m.Period-1)/m.Period*m.Most + higher(busy)
		if next == busy {
			break
		}
		if busy = next; busy > mostPeriods*m.Period {
			m.Late = true
			return
		}
	}
	for q := quantity.Time(0); q*m.Period < busy+m.Jitter; q++ {
		w := blocking + q*m.Most
		for {
			next := blocking + q*m.Most + higher(w)
			if next == w {
				break
			}
			w = next
		}
		m.Response = max(m.Response, m.Jitter+w-q*m.Period+m.Most)
	}
	if m.Response > m.Period {
		m.Late = true
	}
}
