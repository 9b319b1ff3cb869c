package machine

import "gavrix.org/gavrix/core/quantity"

// Kind is a kind of thing that happens in a machine.
type Kind uint8

// What happens.
const (
	Arrived   Kind = iota // a word is complete at a port
	Lost                  // a word that found the port full, or one that it displaced
	Taken                 // a word was read from a port's data register
	Written               // a word was written to a port's data register
	Shifting              // a word is on its way out, from At to To
	Sent                  // the last bit of the last word is out
	Quiet                 // the line has been quiet for the stated time
	Requested             // a channel asks for the bus
	Beat                  // a channel moved an element
	Half                  // a channel is half through
	Full                  // a channel is through
	Failed                // a channel met a place that it can't reach
	Raised                // an interrupt's flag went up
	Handled               // a handler ran, from At to To
	Looked                // the main loop looked, from At to To
	Masked                // interrupts were held off, from At to To
	Hung                  // an interrupt without a handler stopped the processor
)

// Mark is one thing that happened.
type Mark struct {
	At, To quantity.Time
	Kind   Kind
	Who    int // number of the port, channel or interrupt
	N      int // words held by the port, or elements left of the channel, afterwards
	Serial int // of the word; -1 where there is none
}

// Log keeps the latest marks.
type Log struct {
	Keep  int // how many are kept; 0: none
	marks []Mark
	from  int // the place of the oldest, once the log is full
	Gone  int // marks that are no longer kept
	// Active is when something happened last, but for looks of the main loop.
	Active quantity.Time
}

func (l *Log) put(k Mark) {
	if k.Kind != Looked {
		l.Active = max(l.Active, k.To)
	}
	switch {
	case l.Keep == 0:
	case len(l.marks) < l.Keep:
		l.marks = append(l.marks, k)
	default:
		l.marks[l.from] = k
		l.from = (l.from + 1) % len(l.marks)
		l.Gone++
	}
}

// Marks gives what is kept, in the order in which it ended.
func (l *Log) Marks() []Mark {
	return append(append(make([]Mark, 0, len(l.marks)), l.marks[l.from:]...), l.marks[:l.from]...)
}

func (m *Machine) mark(k Kind, who, n, serial int) {
	if m.Log.Keep > 0 {
		m.Log.put(Mark{At: m.now, To: m.now, Kind: k, Who: who, N: n, Serial: serial})
	}
}
