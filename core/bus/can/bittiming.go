package can

import (
	"errors"
	"fmt"
	"math"
	"sort"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Segments are the limits of a unit's bit timing registers.
type Segments struct {
	Prescaler int // most; the least is 1
	Seg1      int // most quanta of propagation and first phase segment together
	Seg2      int // most quanta of the second phase segment
	Jump      int // most quanta of the synchronisation jump width
}

// The largest limits that are reckoned with; units have less.
const (
	mostPrescaler = 1 << 16
	mostSegment   = 1 << 12
)

// UsualSegments are the limits that the oldest units have.
var UsualSegments = Segments{Prescaler: 1024, Seg1: 16, Seg2: 8, Jump: 4}

// Check says what is wrong with the limits.
func (s Segments) Check() error {
	if s.Prescaler < 1 || s.Seg1 < 1 || s.Seg2 < 1 || s.Jump < 1 {
		return errors.New("prescaler, segments and jump width are at least 1")
	}
	if s.Prescaler > mostPrescaler || max(s.Seg1, s.Seg2, s.Jump) > mostSegment {
		return fmt.Errorf("prescalers up to %d and segments up to %d quanta are calculated", mostPrescaler, mostSegment)
	}
	return nil
}

// BitTiming is the timing of one phase as a unit has it: a bit is one quantum of
// synchronisation, Seg1 quanta up to the sample point, Seg2 behind it.
type BitTiming struct {
	Clock                       quantity.Freq
	Wanted                      quantity.Rate
	Prescaler, Seg1, Seg2, Jump int
	Rate                        quantity.Rate
	Error                       float64 // Rate / Wanted - 1
	Sample                      float64 // share of the bit
}

// Quanta is the number of time quanta a bit.
func (b BitTiming) Quanta() int { return 1 + b.Seg1 + b.Seg2 }

// Quantum is the time of a quantum.
func (b BitTiming) Quantum() quantity.Period {
	return quantity.Period(math.Round(1e15 * float64(b.Prescaler) / b.Clock.Hz()))
}

// Split gives the segments as they are written: 1+13+2.
func (b BitTiming) Split() string { return fmt.Sprintf("1+%d+%d", b.Seg1, b.Seg2) }

// Division gives prescaler and segments, as 6, 1+13+2.
func (b BitTiming) Division() string { return fmt.Sprintf("%d, %s", b.Prescaler, b.Split()) }

// Phase gives the timing as that of a node.
func (b BitTiming) Phase() Phase {
	n := float64(b.Quanta())
	return Phase{Bit: quantity.PeriodOf(b.Rate), Sample: b.Sample, Jump: float64(b.Jump) / n, Quanta: b.Quanta()}
}

// timingOf fills in what follows from the segments.
func timingOf(clock quantity.Freq, want quantity.Rate, prescaler, seg1, seg2, jump int) BitTiming {
	b := BitTiming{Clock: clock, Wanted: want, Prescaler: prescaler, Seg1: seg1, Seg2: seg2, Jump: jump}
	bd := clock.Hz() / float64(prescaler) / float64(b.Quanta())
	b.Rate = quantity.FromBd(bd)
	b.Error = bd/want.Bd() - 1
	b.Sample = float64(1+seg1) / float64(b.Quanta())
	return b
}

// SolveTiming lists timings for a rate and a sample point (a share of the bit),
// best first: the smallest rate error, then the sample point nearest to the
// wanted one, then most quanta. Jump 0 takes the largest that the unit and the
// second segment allow. At most the given number is listed.
func SolveTiming(clock quantity.Freq, want quantity.Rate, sample float64, limits Segments, jump, most int) ([]BitTiming, error) {
	if err := limits.Check(); err != nil {
		return nil, err
	}
	switch {
	case clock <= 0 || want <= 0:
		return nil, errors.New("clock and rate must be above 0")
	case !(sample > 0 && sample < 1):
		return nil, fmt.Errorf("sample point %.1f %%: expected between 0 and 100 %%", 100*sample)
	case jump < 0 || jump > limits.Jump:
		return nil, fmt.Errorf("jump width %d: at most %d, and no more than the shorter phase segment", jump, limits.Jump)
	}
	var out []BitTiming
	// Of the first segment one quantum at least is for the propagation, where it has two.
	seg1Least := 1
	if jump > 1 {
		seg1Least = jump + 1
	}
	least, longest := 1+seg1Least+max(jump, 1), 1+limits.Seg1+limits.Seg2
	for p := 1; p <= limits.Prescaler; p++ {
		exact := clock.Hz() / float64(p) / want.Bd()
		low := int(min(max(math.Floor(exact), float64(least)), float64(longest)))
		high := int(min(max(math.Ceil(exact), float64(least)), float64(longest)))
		for q := low; q <= high; q++ {
			// The segments on both sides of the wanted sample point.
			at := sample*float64(q) - 1
			for seg1 := int(math.Floor(at)); seg1 <= int(math.Ceil(at)); seg1++ {
				s1 := min(max(seg1, seg1Least, q-1-limits.Seg2), limits.Seg1, q-1-max(jump, 1))
				s2 := q - 1 - s1
				if s1 < 1 || s2 < max(jump, 1) || s2 > limits.Seg2 {
					continue
				}
				b := timingOf(clock, want, p, s1, s2, jump)
				switch most := b.JumpMost(); {
				case jump > most:
					continue // it would reach beyond a phase segment
				case jump == 0:
					b.Jump = min(limits.Jump, most)
				}
				out = append(out, b)
			}
		}
	}
	if len(out) == 0 && jump > 1 {
		return nil, fmt.Errorf("no segments satisfy these limits with a jump width of %d: neither phase segment may be shorter", jump)
	}
	if len(out) == 0 {
		return nil, errors.New("no segments satisfy these limits")
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].better(&out[j], sample) })
	unique := out[:1]
	for _, b := range out[1:] {
		if b != unique[len(unique)-1] {
			unique = append(unique, b)
		}
	}
	return unique[:min(len(unique), max(most, 1))], nil
}

// better says whether a timing comes before another one.
func (b *BitTiming) better(than *BitTiming, sample float64) bool {
	if x, y := math.Abs(b.Error), math.Abs(than.Error); math.Abs(x-y) > 1e-9 {
		return x < y
	}
	if x, y := math.Abs(b.Sample-sample), math.Abs(than.Sample-sample); math.Abs(x-y) > 1e-9 {
		return x < y
	}
	return b.Quanta() > than.Quanta()
}

// Condition is one bound on a node's clock error.
type Condition struct {
	Name  string
	Limit float64 // share
}

// Propagation is how many quanta of Seg1 the propagation segment takes when
// nothing else is known: what the first phase segment leaves that is as long as
// the second, at least 1. A single quantum is all phase segment.
func (b BitTiming) Propagation() int {
	if b.Seg1 < 2 {
		return 0
	}
	return max(b.Seg1-b.Seg2, 1)
}

// JumpMost is the widest jump width that the phase segments leave.
func (b BitTiming) JumpMost() int { return min(max(b.Seg1-b.Propagation(), 1), b.Seg2) }

// Tolerances gives the conditions that a node's clock error must satisfy, by the
// propagation segment in quanta; with a data phase at another rate also the
// three that it brings. The derivation is in docs/formulas.md.
func Tolerances(n BitTiming, prop int, d *BitTiming, dataProp int) []Condition {
	nbt, phase1 := float64(n.Quanta()), float64(max(n.Seg1-prop, 1))
	phase2, jump := float64(n.Seg2), float64(n.Jump)
	least := min(phase1, phase2)
	out := []Condition{
		{"resynchronisation: a jump makes up for ten bits", jump / (20 * nbt)},
		{"error flag: thirteen bits without synchronisation", least / (2 * (13*nbt - phase2))},
	}
	if d == nil {
		return out
	}
	dbt, ratio := float64(d.Quanta()), float64(d.Prescaler)/float64(n.Prescaler)
	dataPhase2, dataJump := float64(d.Seg2), float64(d.Jump)
	return append(out,
		Condition{"resynchronisation in the data phase", dataJump / (20 * dbt)},
		Condition{"error flag out of the data phase", least / (2 * ((6*dbt-dataPhase2)*ratio + 7*nbt))},
		Condition{"change to the data rate", (dataJump - max(0, 1/ratio-1)) / (2 * ((2*nbt-phase2)/ratio + dataPhase2 + 4*dbt))},
	)
}

// Tightest gives the smallest of the conditions.
func Tightest(cs []Condition) Condition {
	out := cs[0]
	for _, c := range cs[1:] {
		if c.Limit < out.Limit {
			out = c
		}
	}
	return out
}

// Tolerance is the verdict on two nodes' clock errors, both shares without sign.
type Tolerance struct {
	Limit    float64 // of one node
	Conforms [2]bool // each node by itself, as the standard asks
	Sum      float64 // of both errors
	Pair     float64 // what the sum may be: twice the limit
	Decodes  bool
}

// JudgeTolerance compares the errors of two nodes with a limit.
func JudgeTolerance(limit, a, b float64) Tolerance {
	a, b = math.Abs(a), math.Abs(b)
	return Tolerance{
		Limit: limit, Conforms: [2]bool{a <= limit, b <= limit}, Sum: a + b, Pair: 2 * limit, Decodes: a+b <= 2*limit,
	}
}

// MostLength is the greatest length of a bus in metres for which a bit comes
// back within the propagation segment: twice the cable and the delays of both
// nodes. PerMetre is the delay of the cable, usually 5 ns.
func MostLength(b BitTiming, prop int, nodes, perMetre quantity.Time) float64 {
	left := b.Quantum().Times(int64(prop)) - 2*nodes
	return max(0, float64(left)/float64(2*perMetre))
}

// Compensation is what a transmitter needs in the data phase, whose own bits come
// back late: where it samples them a second time.
type Compensation struct {
	Needed bool // the delay is longer than up to the sample point
	Offset int  // periods of the clock from a bit's measured delay to the sample
	Sample quantity.Time
}

// Compensate gives the transmitter delay compensation for the delay of a node's
// own loop.
func Compensate(d BitTiming, loop quantity.Time) Compensation {
	offset := (1 + d.Seg1) * d.Prescaler
	clock := quantity.Period(math.Round(1e15 / d.Clock.Hz()))
	at := clock.Times(int64(offset))
	return Compensation{Needed: loop >= at, Offset: offset, Sample: loop + at}
}

// Derivation explains rate and sample point.
func (b BitTiming) Derivation() finding.Derivation {
	return finding.Derivation{
		Name: "bit timing", Formula: "clock / (prescaler · (1 + seg1 + seg2)); sample point (1 + seg1) / quanta",
		Inputs: []finding.Input{
			{Symbol: "clock", Name: "at the unit", Value: b.Clock.String()},
			{Symbol: "prescaler", Name: "periods of the clock a quantum", Value: fmt.Sprint(b.Prescaler)},
			{Symbol: "seg1", Name: "quanta before the sample point, the first not counted", Value: fmt.Sprint(b.Seg1)},
			{Symbol: "seg2", Name: "quanta after it", Value: fmt.Sprint(b.Seg2)},
		},
		Worked: fmt.Sprintf("%s / (%d · %d); %d / %d", b.Clock, b.Prescaler, b.Quanta(), 1+b.Seg1, b.Quanta()),
		Result: fmt.Sprintf("%.1f bit/s, %+.3f %%; %.2f %%", b.Rate.Bd(), 100*b.Error, 100*b.Sample),
		Source: "docs/formulas.md, CAN bit timing",
	}
}

// ToleranceDerivation explains the conditions on a node's clock error.
func ToleranceDerivation(cs []Condition) finding.Derivation {
	d := finding.Derivation{Name: "clock tolerance of a node", Formula: "the smallest of the conditions", Source: "docs/formulas.md, can clock tolerance"}
	for _, c := range cs {
		d.Inputs = append(d.Inputs, finding.Input{Symbol: "≤", Name: c.Name, Value: fmt.Sprintf("%.3f %%", 100*c.Limit)})
	}
	t := Tightest(cs)
	d.Worked, d.Result = t.Name, fmt.Sprintf("%.3f %%", 100*t.Limit)
	return d
}
