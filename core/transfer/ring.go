package transfer

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/formula"
	"gavrix.org/gavrix/core/quantity"
)

// Events are those of a ring that stand when its handler runs.
type Events uint8

// The events.
const (
	HalfEvent Events = 1 << iota
	FullEvent
	IdleEvent
	AllEvents = HalfEvent | FullEvent | IdleEvent
)

var eventWords = []string{"half", "full", "idle"}

func (e Events) String() string {
	var out []string
	for i, w := range eventWords {
		if e&(1<<i) != 0 {
			out = append(out, w)
		}
	}
	return strings.Join(out, " ")
}

// ParseEvents reads events by their words, separated by spaces, commas or +.
func ParseEvents(text string) (Events, error) {
	var out Events
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' || r == '+' }) {
		i := slices.Index(eventWords, w)
		if i < 0 {
			return 0, fmt.Errorf("%q is no event of a ring: write half, full or idle", w)
		}
		out |= 1 << i
	}
	return out, nil
}

// Service is one run of a ring's handler: the events that stood, and the place that is
// written next.
type Service struct {
	At      quantity.Time
	Events  Events
	Pos     int
	Written int // bytes that were written since the beginning; less than 0: not known
}

// Piece is a stretch of places of a ring.
type Piece struct{ Start, Length int }

// Unknown is why a take is not certain.
type Unknown struct {
	Service int
	What    string
}

// Consumer is how the firmware turns positions into new bytes.
type Consumer struct {
	Name  string
	Title string
	// take gives the pieces that a run takes, and where the next begins.
	take func(size, last int, s Service) ([]Piece, int)
}

// Consumers are the right one, then the typical wrong ones.
var Consumers = []Consumer{
	{"by-position", "takes up to the place written next, across the wrap", byPosition},
	{"restart-at-zero", "begins again at place 0 after each idle event", restartAtZero},
	{"wrap-compare", "takes only where the position is greater than the last", wrapCompare},
	{"forget-full", "leaves the full event out", forgetFull},
	{"equal-is-nothing", "takes an equal position for nothing new, whatever events stand", equalIsNothing},
}

// ConsumerNamed finds a consumer; nil where there is none.
func ConsumerNamed(name string) *Consumer {
	for i := range Consumers {
		if Consumers[i].Name == name {
			return &Consumers[i]
		}
	}
	return nil
}

// between gives the pieces from one place up to another, across the wrap.
func between(size, from, to int) []Piece {
	switch {
	case to > from:
		return []Piece{{from, to - from}}
	case to < from && to > 0:
		return []Piece{{from, size - from}, {0, to}}
	case to < from:
		return []Piece{{from, size - from}}
	}
	return nil
}

// whole gives the pieces of a whole turn from a place.
func whole(size, from int) []Piece {
	if from == 0 {
		return []Piece{{0, size}}
	}
	return []Piece{{from, size - from}, {0, from}}
}

// explained says whether the way between two places, less than a turn, raises an event.
func explained(size, from, to int, e Events) bool {
	passes := func(mark int) bool { // the place is written next somewhere on the way
		d := (to - from + size) % size
		m := (mark - from + size) % size
		return m > 0 && m <= d
	}
	return (e&HalfEvent == 0 || passes(size/2)) && (e&FullEvent == 0 || passes(0))
}

func byPosition(size, last int, s Service) ([]Piece, int) {
	if !explained(size, last, s.Pos, s.Events) { // a turn went by: all places are new
		return whole(size, s.Pos), s.Pos
	}
	return between(size, last, s.Pos), s.Pos
}

func restartAtZero(size, last int, s Service) (take []Piece, next int) {
	switch {
	case s.Pos != last:
		take = between(size, last, s.Pos)
	case s.Events&(HalfEvent|FullEvent) != 0:
		take = whole(size, last)
	}
	if s.Events&IdleEvent != 0 {
		return take, 0
	}
	return take, s.Pos
}

func wrapCompare(_, last int, s Service) (take []Piece, next int) {
	if s.Pos > last {
		take = []Piece{{last, s.Pos - last}}
	}
	return take, s.Pos
}

func forgetFull(_, last int, s Service) (take []Piece, next int) {
	switch {
	case s.Events == FullEvent:
		return nil, last
	case s.Pos > last:
		take = []Piece{{last, s.Pos - last}}
	case s.Pos > 0 && (s.Pos < last || s.Events&HalfEvent != 0):
		take = []Piece{{0, s.Pos}}
	}
	return take, s.Pos
}

func equalIsNothing(size, last int, s Service) ([]Piece, int) {
	return between(size, last, s.Pos), s.Pos
}

// Extra is a stretch of bytes of the stream that were taken more than once.
type Extra struct {
	From, To int // [From, To)
	Times    int // beyond the first
}

// Stretch is a stretch of bytes of the stream, [From, To).
type Stretch struct{ From, To int }

// Account is what became of every byte of a ring.
type Account struct {
	Takes     [][]Piece // of each service
	Delivered int
	Lost      []Stretch
	Doubled   []Extra
	Overrun   int // bytes that were overwritten before any service
	Left      int // bytes after the last service
	Unknown   []Unknown
}

// LostBytes and DoubledBytes are the sums of the stretches.
func (a *Account) LostBytes() (n int) {
	for _, s := range a.Lost {
		n += s.To - s.From
	}
	return n
}

// DoubledBytes is the sum of what was taken beyond the first time.
func (a *Account) DoubledBytes() (n int) {
	for _, s := range a.Doubled {
		n += (s.To - s.From) * s.Times
	}
	return n
}

// AccountOf follows a consumer through the services of a ring. Where the services say how
// many bytes were written, each byte is accounted for by its number in the stream, and an
// overrun is known; total is the number of bytes that came altogether. Otherwise less than a
// turn is taken to lie between two services, but where their events say more. Enabled are the
// events that reach the handler: without half and full ones a whole turn shows in nothing.
func AccountOf(size int, c *Consumer, services []Service, total int, enabled Events) Account {
	var a Account
	services = slices.Clone(services)
	written := 0
	for i := range services {
		s := &services[i]
		s.Pos %= size
		if s.Written < 0 {
			d := (s.Pos - written%size + size) % size
			if !explained(size, written%size, s.Pos, s.Events) {
				d += size
			}
			if d == 0 && i > 0 && (s.Events&IdleEvent == 0 || enabled&(HalfEvent|FullEvent) == 0) {
				a.Unknown = append(a.Unknown, Unknown{i, fmt.Sprintf("position %d again without a half or full event: 0 or %d bytes", s.Pos, size)})
			}
			s.Written = written + d
		}
		written = s.Written
	}
	times := make([]int, written)
	last, before := 0, 0
	for _, s := range services {
		take, next := c.take(size, last, s)
		if over := s.Written - before - size; over > 0 {
			a.Overrun += over
			if c.Name == Consumers[0].Name && s.Events&(HalfEvent|FullEvent) != 0 { // it knows by the events that a turn was lost, and takes what stands
				take = whole(size, s.Pos)
			}
		}
		for _, p := range take {
			for place := p.Start; place < p.Start+p.Length; place++ {
				// What the place holds: the youngest byte that was written to it.
				n := s.Written - 1 - (s.Written-1-place%size+size)%size
				if s.Written > 0 && n >= 0 {
					times[n]++
				}
				a.Delivered++
			}
		}
		a.Takes = append(a.Takes, take)
		last, before = next, s.Written
	}
	for from := 0; from < len(times); {
		to := from + 1
		for to < len(times) && times[to] == times[from] {
			to++
		}
		switch n := times[from]; {
		case n == 0:
			a.Lost = append(a.Lost, Stretch{from, to})
		case n > 1:
			a.Doubled = append(a.Doubled, Extra{from, to, n - 1})
		}
		from = to
	}
	a.Left = max(0, total-written)
	return a
}

// Burst are bytes that follow each other without a pause.
type Burst struct {
	Start quantity.Time // of the first one's first bit
	Bytes int
}

// Window is a time in which nobody serves, [From, To).
type Window struct{ From, To quantity.Time }

// Ring is a ring that DMA fills from a line, and how its events are served.
type Ring struct {
	Size      int
	Bit       quantity.Period
	ByteBits  int
	IdleChars float64 // silence that raises the idle event, in characters; 0: none
	ByTimer   bool    // a timer measures it, from one complete byte to the next; else the next byte's first bit ends it
	Events    Events  // those that are enabled
	Latency   quantity.Time
	Blocked   []Window
}

// Ends gives the times at which the bytes of bursts are complete.
func Ends(bursts []Burst, bit quantity.Period, byteBits int) []quantity.Time {
	var out []quantity.Time
	for _, b := range bursts {
		for k := range b.Bytes {
			out = append(out, b.Start+bit.Times(int64((k+1)*byteBits)))
		}
	}
	return out
}

// Services works out when the handler of a ring runs, and what it finds.
func (r Ring) Services(bursts []Burst) []Service {
	ends := Ends(bursts, r.Bit, r.ByteBits)
	slices.Sort(ends)
	var out []Service
	type flag struct {
		at quantity.Time
		e  Events
	}
	var flags []flag
	idle := quantity.Time(r.IdleChars * float64(r.Bit.Times(int64(r.ByteBits))))
	for i, at := range ends {
		switch n := (i + 1) % r.Size; {
		case n == 0:
			flags = append(flags, flag{at, FullEvent})
		case n == r.Size/2:
			flags = append(flags, flag{at, HalfEvent})
		}
		next := quantity.Forever
		if i+1 < len(ends) {
			if next = ends[i+1] - r.Bit.Times(1)/2; !r.ByTimer { // bytes without a pause are no silence
				next = ends[i+1] - r.Bit.Times(int64(r.ByteBits))
			}
		}
		if idle > 0 && next >= at+idle {
			flags = append(flags, flag{at + idle, IdleEvent})
		}
	}
	slices.SortStableFunc(flags, func(a, b flag) int { return int(min(max(a.at-b.at, -1), 1)) })
	for i := 0; i < len(flags); {
		if flags[i].e&r.Events == 0 {
			i++
			continue
		}
		at := r.free(flags[i].at + r.Latency)
		s := Service{At: at}
		for i < len(flags) && flags[i].at <= at {
			s.Events |= flags[i].e & r.Events
			i++
		}
		n, _ := slices.BinarySearch(ends, at+1)
		s.Written, s.Pos = n, n%r.Size
		out = append(out, s)
	}
	return out
}

// free gives the first time from t on that is in no blocked window.
func (r Ring) free(t quantity.Time) quantity.Time {
	for _, w := range r.Blocked {
		if t >= w.From && t < w.To {
			t = w.To
		}
	}
	return t
}

// RuleConsumer makes a consumer of an expression for the number of new bytes, over last,
// pos, size, and half, full and idle, each 1 while its event stands. Bad is told of each
// service for which it gives what can't be: less than nothing, or more than a turn.
func RuleConsumer(text string, bad func(Service, float64)) (*Consumer, error) {
	f, err := formula.New(text, "last", "pos", "size", "half", "full", "idle")
	if err != nil {
		return nil, err
	}
	flag := func(s Service, e Events) float64 {
		if s.Events&e != 0 {
			return 1
		}
		return 0
	}
	return &Consumer{Name: "rule", Title: text, take: func(size, last int, s Service) ([]Piece, int) {
		n := f.Value(float64(last), float64(s.Pos), float64(size), flag(s, HalfEvent), flag(s, FullEvent), flag(s, IdleEvent))
		if !(n >= 0) || n > float64(size) {
			bad(s, n)
			return nil, s.Pos
		}
		to := (last + int(n)) % size
		if int(n) == size {
			return whole(size, last), to
		}
		return between(size, last, to), to
	}}, nil
}
