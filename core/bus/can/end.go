package can

import (
	"encoding/hex"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// End is a node as its sheet and its firmware word it.
type End struct {
	Name      string
	Nominal   BitTiming
	Data      *BitTiming // nil without a data phase of its own
	Tolerance float64    // of its clock, a share without sign
	Off       float64    // by how much this part's clock is off, a share with its sign
	Delay     quantity.Time
	Messages  []Message // what it sends again and again
	// ListenOnly: it never drives the line, so it acknowledges nothing and harms
	// nobody.
	ListenOnly bool
	// OneShot: a frame that fails or loses arbitration is not sent again. StayOff:
	// once bus off, it waits to be started again.
	OneShot, StayOff bool
}

// Named is the end of a part with another name.
func (e End) Named(name string) any {
	e.Name = name
	return e
}

// Quanta are a timing without the clock: prescaler, segments and jump width.
type Quanta struct{ Prescaler, Seg1, Seg2, Jump int }

// split reads a timing: prescaler 6, 1+13+2, jump 1.
func split(text string) (q Quanta, err error) {
	bad := fmt.Errorf("%q is no bit timing: write prescaler, segments and jump width, as 6, 1+13+2, 1", text)
	f := strings.Split(text, ",")
	if len(f) != 3 {
		return q, bad
	}
	segs := strings.Split(f[1], "+")
	if len(segs) != 3 || strings.TrimSpace(segs[0]) != "1" {
		return q, bad
	}
	for i, s := range []string{f[0], segs[1], segs[2], f[2]} {
		n, err := strconv.Atoi(strings.TrimSpace(s))
		if err != nil || n < 1 || n > 65536 {
			return Quanta{}, bad
		}
		*[]*int{&q.Prescaler, &q.Seg1, &q.Seg2, &q.Jump}[i] = n
	}
	if q.Jump > q.Seg2 || q.Jump > q.Seg1 {
		return Quanta{}, fmt.Errorf("%q: the jump width is at most as long as each segment", text)
	}
	return q, nil
}

// ParseTiming reads a timing that somebody chose, for a clock and the rate that is
// wanted.
func ParseTiming(clock quantity.Freq, want quantity.Rate, text string) (BitTiming, error) {
	q, err := split(text)
	if err != nil {
		return BitTiming{}, err
	}
	return q.Of(clock, want), nil
}

// Of gives the timing that the quanta make with a clock, for the rate that is wanted.
func (q Quanta) Of(clock quantity.Freq, want quantity.Rate) BitTiming {
	return timingOf(clock, want, q.Prescaler, q.Seg1, q.Seg2, q.Jump)
}

// Text gives a timing as ParseTiming reads it.
func (b BitTiming) Text() string {
	return fmt.Sprintf("%d, 1+%d+%d, %d", b.Prescaler, b.Seg1, b.Seg2, b.Jump)
}

// TimingType is a bit timing in a file.
var TimingType = doc.Scalar("a bit timing, as 6, 1+13+2, 1", split)

// MessageType is a message in a list: what it is called stands before it.
var MessageType = doc.Map(
	doc.Key{Name: "identifier", Doc: "in hex, with more than three digits extended, as 0x2A5", Type: doc.Scalar("an identifier in hex", ParseID), Required: true},
	doc.Key{Name: "length", Doc: "bytes of data; absent: as many as `data` has, else 8", Type: doc.Int(0, 64)},
	doc.Key{Name: "data", Doc: "the data, in hex, as 1C 02; absent: all 00", Type: doc.Scalar("bytes in hex", parseData)},
	doc.Key{Name: "every", Doc: "time from one to the next", Type: doc.TimeType, Required: true},
	doc.Key{Name: "jitter", Doc: "by how much it may come late", Type: doc.TimeType, Default: "0 ms"},
	doc.Key{Name: "flexible", Doc: "in the flexible format", Type: doc.YesNo, Default: "no"},
)

// ID is an identifier with its form.
type ID struct {
	ID       uint32
	Extended bool
}

// ParseID reads an identifier in hex; with more than three digits it is extended.
func ParseID(s string) (ID, error) {
	digits := strings.TrimPrefix(strings.ToLower(s), "0x")
	n, err := strconv.ParseUint(digits, 16, 32)
	if err != nil || n >= 1<<29 {
		return ID{}, fmt.Errorf("%q is no identifier: write hex up to 7FF, or up to 1FFFFFFF with four digits and more", s)
	}
	if decimal, err := strconv.ParseUint(s, 10, 32); err == nil && len(s) == 4 && decimal <= 0x7ff {
		return ID{}, fmt.Errorf("%s may be decimal: did you mean %03X (%s in decimal), or the extended identifier %08X?", s, decimal, s, n)
	}
	return ID{uint32(n), len(digits) > 3 || n > 0x7ff}, nil
}

// EndSchema lists what a device file says of a can node.
var EndSchema = doc.Map(
	doc.Key{Name: "clock", Doc: "clock of its can unit", Type: doc.ClockType, Required: true},
	doc.Key{Name: "rate", Doc: "nominal bit rate", Type: doc.RateType, Required: true},
	doc.Key{Name: "timing", Doc: "prescaler, segments and jump width, as 6, 1+13+2, 1", Type: TimingType, Required: true},
	doc.Key{Name: "data-rate", Doc: "bit rate of the data phase", Type: doc.RateType},
	doc.Key{Name: "data-timing", Doc: "prescaler, segments and jump width of the data phase", Type: TimingType},
	doc.Key{Name: "tolerance", Doc: "how far its clock may be off, as 0.1 %", Type: doc.PPMType, Default: "0 ppm"},
	doc.Key{Name: "delay", Doc: "of its loop: out through its driver and in again", Type: doc.TimeType, Default: "0 ns"},
	doc.Key{Name: "messages", Doc: "what it sends again and again, by name", Type: doc.MapOf(MessageType)},
)

// ParseEnd reads a node that was validated with EndSchema.
func ParseEnd(n *doc.Node, name string) (End, error) {
	e := End{
		Name: name, Tolerance: math.Abs(float64(doc.Of[quantity.PPM](n, "tolerance"))) / 1e6, Delay: doc.Of[quantity.Time](n, "delay"),
	}
	clock := doc.Of[quantity.Freq](n, "clock")
	e.Nominal = doc.Of[Quanta](n, "timing").Of(clock, doc.Of[quantity.Rate](n, "rate"))
	if (n.Get("data-rate") == nil) != (n.Get("data-timing") == nil) {
		return e, fmt.Errorf("%s: data-rate and data-timing go together", name)
	}
	if n.Get("data-timing") != nil {
		d := doc.Of[Quanta](n, "data-timing").Of(clock, doc.Of[quantity.Rate](n, "data-rate"))
		e.Data = &d
	}
	var err error
	e.Messages, err = ParseMessages(n.Get("messages"))
	return e, err
}

func parseData(s string) ([]byte, error) {
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	if err != nil || len(b) > 64 {
		return nil, fmt.Errorf("%q: write up to 64 bytes in hex, as 1C 02", s)
	}
	return b, nil
}

// LeastPeriod is the shortest time from one message to the next: no frame is as
// short on any bus.
const LeastPeriod = 10 * quantity.Microsecond

// ParseMessages reads messages by name.
func ParseMessages(n *doc.Node) ([]Message, error) {
	var out []Message
	for _, m := range n.All() {
		x := Message{Name: m.Key, Period: doc.Of[quantity.Time](m, "every"), Jitter: doc.Of[quantity.Time](m, "jitter")}
		id := doc.Of[ID](m, "identifier")
		x.Frame.ID, x.Frame.Extended = id.ID, id.Extended
		data := doc.Of[[]byte](m, "data")
		length := 8
		switch {
		case m.Get("length") != nil:
			length = doc.Of[int](m, "length")
		case len(data) > 0:
			length = len(data)
		}
		if length < len(data) {
			return out, fmt.Errorf("message %s: length says %d bytes, data has %d", m.Key, length, len(data))
		}
		x.Frame.FD = doc.Of[bool](m, "flexible")
		x.Frame.Switched = x.Frame.FD
		x.Frame.Data = make([]byte, length)
		copy(x.Frame.Data, data)
		if err := x.Frame.Check(); err != nil {
			return out, fmt.Errorf("message %s: %w", m.Key, err)
		}
		if x.Period < LeastPeriod {
			return out, fmt.Errorf("message %s: the time from one to the next must be at least %s", m.Key, LeastPeriod)
		}
		out = append(out, x)
	}
	return out, nil
}

// Pair is the verdict on two nodes of a bus.
type Pair struct {
	A, B *End
	// RatesDiffer: their nominal rates, or their data rates, are not meant to be
	// the same.
	RatesDiffer bool
	// Apart is the distance of the sample points as a share of the bit, the
	// larger of both phases.
	Apart float64
	Tolerance
}

// FarApart is the distance of two sample points from which on they are worth a
// word.
func (p Pair) FarApart() bool { return p.Apart > farSamples+1e-9 }

// Timing gives the timing of both phases.
func (e *End) Timing() Timing {
	t := Timing{Nominal: e.Nominal.Phase(), Data: e.Nominal.Phase()}
	if e.Data != nil {
		t.Data = e.Data.Phase()
	}
	return t
}

// SendsFlexible says whether any of its messages is in the flexible format.
func (e *End) SendsFlexible() bool {
	return slices.ContainsFunc(e.Messages, func(m Message) bool { return m.Frame.FD })
}

// Classic says that the node knows nothing of the flexible format.
func (e *End) Classic() bool { return e.Data == nil && !e.SendsFlexible() }

// Limit gives the tightest condition on the node's clock error, with propagation
// segments as they are usual.
func (e *End) Limit() Condition { return Tightest(e.Conditions()) }

// Conditions gives all conditions on the node's clock error.
func (e *End) Conditions() []Condition {
	if e.Data == nil {
		return Tolerances(e.Nominal, e.Nominal.Propagation(), nil, 0)
	}
	return Tolerances(e.Nominal, e.Nominal.Propagation(), e.Data, e.Data.Propagation())
}

// Misses says that the node's timing gives another rate than is wanted, by more than
// any clock is off.
func (e *End) Misses() bool { return abs(e.Nominal.Error) > 0.005 }

// Mended gives a timing of the node's unit for the wanted rate; false where there is
// none. The segments are kept where another prescaler does it.
func (e *End) Mended() (BitTiming, bool) {
	n := e.Nominal
	if p := math.Round(n.Clock.Hz() / n.Wanted.Bd() / float64(n.Quanta())); p >= 1 {
		q := Quanta{Prescaler: int(p), Seg1: n.Seg1, Seg2: n.Seg2, Jump: n.Jump}
		if b := q.Of(n.Clock, n.Wanted); abs(b.Error) < 1e-4 {
			return b, true
		}
	}
	ts, err := SolveTiming(n.Clock, n.Wanted, n.Sample, UsualSegments, 0, 1)
	if err != nil || abs(ts[0].Error) > 1e-4 {
		return n, false
	}
	return ts[0], true
}

// Error is how far the node's rate may be off the rate that is wanted, at most:
// what its divider can't do, its clock's tolerance and its deviation.
func (e *End) Error() float64 {
	return max(abs(e.Nominal.Error+e.Off+e.Tolerance), abs(e.Nominal.Error+e.Off-e.Tolerance))
}

func abs(x float64) float64 { return max(x, -x) }

// sameRate says whether two wanted rates mean the same.
func sameRate(a, b quantity.Rate) bool { return abs(float64(a)/float64(b)-1) < 1e-4 }

// Pairs judges every two nodes of a bus.
func Pairs(nodes []*End) []Pair {
	var out []Pair
	for i, a := range nodes {
		for _, b := range nodes[i+1:] {
			p := Pair{A: a, B: b, Apart: abs(a.Nominal.Sample - b.Nominal.Sample)}
			p.RatesDiffer = !sameRate(a.Nominal.Wanted, b.Nominal.Wanted)
			if a.Data != nil && b.Data != nil {
				p.Apart = max(p.Apart, abs(a.Data.Sample-b.Data.Sample))
				p.RatesDiffer = p.RatesDiffer || !sameRate(a.Data.Wanted, b.Data.Wanted)
			}
			p.Tolerance = JudgeTolerance(min(a.Limit().Limit, b.Limit().Limit), a.Error(), b.Error())
			out = append(out, p)
		}
	}
	return out
}

// OddOneOut gives the node whose rate no other has while all others have one rate;
// nil where there is none, or only two nodes.
func OddOneOut(nodes []*End) *End {
	if len(nodes) < 3 {
		return nil
	}
	for i, odd := range nodes {
		rest := append(append([]*End{}, nodes[:i]...), nodes[i+1:]...)
		same := true
		for _, r := range rest {
			same = same && sameRate(r.Nominal.Wanted, rest[0].Nominal.Wanted)
		}
		if same && !sameRate(odd.Nominal.Wanted, rest[0].Nominal.Wanted) {
			return odd
		}
	}
	return nil
}

// MostLength gives the greatest length of a bus in metres that the node's
// propagation segment stands.
func (e *End) MostLength(perMetre quantity.Time) float64 {
	return MostLength(e.Nominal, e.Nominal.Propagation(), e.Delay, perMetre)
}
