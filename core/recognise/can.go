package recognise

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// usualCAN are the bit rates that can buses have as a rule, of both phases.
var usualCAN = []float64{10e3, 20e3, 33.333e3, 50e3, 62.5e3, 83.333e3, 100e3, 125e3, 250e3, 500e3, 800e3, 1e6, 2e6, 2.5e6, 4e6, 5e6, 6.66667e6, 8e6, 10e6}

// mostPerGood is how many frames there may be for each whose check sequence fits.
const mostPerGood = 8

// findCAN reads a line as a can bus, recessive high.
func findCAN(l *look, index int) []Proposal {
	short := quantity.Period(l.pulse) * 1000
	type pair struct{ nominal, data quantity.Period }
	tries := []pair{{short, short}, {short / 2, short / 2}}
	var tried []quantity.Period
	for _, rest := range []quantity.Time{10, 40, 120} {
		n := arbitration(l, rest)
		if n <= 0 || math.Abs(float64(n)/float64(short)-1) < 0.1 || slices.ContainsFunc(tried, func(o quantity.Period) bool { return math.Abs(float64(n)/float64(o)-1) < 0.02 }) {
			continue
		}
		tried = append(tried, n)
		// The pulse after which a frame's rate changed may be of two bits.
		tries = append(tries, pair{n, n}, pair{n, short}, pair{n, short / 2}, pair{n / 2, short})
	}
	best, bestCost := Proposal{}, math.Inf(1)
	for _, t := range tries {
		for range 2 {
			p, cost := readCAN(l, index, t.nominal, t.data)
			if cost <= bestCost {
				best, bestCost = p, cost
			}
			if p.Units == p.Bad {
				break
			}
			// What was read tells the rates more finely.
			t.nominal, t.data = refineCAN(l, t.nominal, t.data)
		}
	}
	// A check sequence that fits is worth more than many a frame that errors broke off.
	if math.IsInf(bestCost, 1) || best.Units > mostPerGood*(best.Units-best.Bad) {
		return nil
	}
	return []Proposal{best}
}

// arbitration finds the bit time in which frames begin: the shortest usual width
// among the first pulses behind a long pause, of so many of the shortest pulses: where the data
// phase is fast, many of these are a bit of the arbitration.
func arbitration(l *look, pause quantity.Time) quantity.Period {
	var first []quantity.Time
	level := l.High
	for i := 0; i+4 < len(l.Toggles); i++ {
		before := l.From // a capture may begin inside a frame
		if i > 0 {
			before = l.Toggles[i-1]
		}
		rest := l.Toggles[i]-before >= pause*l.pulse
		if level && rest {
			for k := i + 1; k < i+4; k++ {
				first = append(first, l.Toggles[k]-l.Toggles[k-1])
			}
		}
		level = !level
	}
	if len(first) == 3 {
		return quantity.Period(slices.Min(first)) * 1000
	}
	return quantity.Period(shortest(first)) * 1000
}

func timing(nominal, data quantity.Period) can.Timing {
	t := can.UsualTiming(nominal.Rate(), data.Rate())
	t.Nominal.Bit, t.Data.Bit = nominal, data
	return t
}

const spoiled = record.Stuff | record.Form | record.CheckSequence | record.ErrorFlag | record.Overload

func decodeCAN(l *look, t can.Timing) []record.Record {
	if t.Check() != nil {
		return nil
	}
	d := can.NewDecoder(t, 0)
	var out record.List
	d.Feed([]wire.Window{l.Window}, &out)
	d.Flush(&out)
	return out.Done
}

func readCAN(l *look, index int, nominal, data quantity.Period) (Proposal, float64) {
	p := Proposal{Kind: can.Kind, Lines: []int{index}, Unit: "frames"}
	cost := 0.0
	ids, fd, switched := map[uint32]bool{}, 0, 0
	explained := 0
	for _, r := range decodeCAN(l, timing(nominal, data)) {
		if r.AllFlags()&record.CutOff != 0 {
			from, _ := slices.BinarySearch(l.Toggles, r.Start)
			explained += len(l.Toggles) - from
			cost += startBits + 16 + 8*float64(len(r.Data))
			continue // whether it is good is not known
		}
		p.Units++
		if r.AllFlags()&spoiled != 0 {
			p.Bad++
			continue
		}
		ids[r.ID] = true
		cost += startBits + 16 + 8*float64(len(r.Data))
		if r.Attr&record.Extended != 0 {
			cost += 18
		}
		if r.Attr&record.FD != 0 {
			fd++
		}
		if r.Attr&record.Switched != 0 {
			switched++
		}
		w := l.Window
		from, _ := slices.BinarySearch(w.Toggles, r.Start)
		to, _ := slices.BinarySearch(w.Toggles, r.End)
		explained += to - from
	}
	if p.Units == p.Bad {
		return p, math.Inf(1)
	}
	cost += float64(len(l.Toggles)-explained) * edgeBits
	cost += float64(p.Bad) * errorBits
	p.Gain = float64(len(l.Toggles)*edgeBits) - cost
	p.Settings = "rate=" + bitRate(nominal)
	p.Reasons = append(p.Reasons, rateReason(nominal.Rate(), usualCAN, "bit/s"))
	if switched > 0 {
		p.Settings += " data-rate=" + bitRate(data)
		p.Reasons = append(p.Reasons, "data phase "+rateReason(data.Rate(), usualCAN, "bit/s"))
	}
	p.Reasons = append(p.Reasons, fmt.Sprintf("the check sequences of %d frames fit, with %d identifiers", p.Units-p.Bad, len(ids)))
	if fd > 0 {
		p.Reasons = append(p.Reasons, fmt.Sprintf("%d frames with flexible data rate, %d of them change the rate", fd, switched))
	}
	p.Raise = append(p.Raise, "the sample point no wire tells: take it from the nodes' settings")
	return p, cost
}

func bitRate(p quantity.Period) string {
	return strings.ReplaceAll(rateSetting(p, usualCAN), "Bd", "bit/s")
}

// refineCAN finds the bit times from the edges of frames that were read: the
// line through the edges of the bits from the start of each frame, the nominal
// ones up to the change of the rate.
func refineCAN(l *look, nominal, data quantity.Period) (quantity.Period, quantity.Period) {
	t := timing(nominal, data)
	var nom, dat slope
	for _, r := range decodeCAN(l, t) {
		if r.AllFlags()&spoiled != 0 {
			continue
		}
		fast := r.Attr&record.Switched != 0
		n, _ := slices.BinarySearch(l.Toggles, r.Start)
		// Up to the identifier's end all bits are nominal, whatever the format.
		for k := n + 1; k < len(l.Toggles) && l.Toggles[k] < r.End; k++ {
			d := float64(l.Toggles[k] - r.Start)
			bit := math.Round(d * 1000 / float64(nominal))
			if fast && bit > 13 {
				break
			}
			nom.add(bit, d)
		}
		if !fast {
			continue
		}
		// Widths of one data bit and a few.
		for k := n + 1; k < len(l.Toggles) && l.Toggles[k] < r.End; k++ {
			d := float64(l.Toggles[k]-l.Toggles[k-1]) * 1000
			bit := math.Round(d / float64(data))
			if off := math.Abs(d/float64(data) - bit); bit >= 1 && bit <= 5 && off < 0.1*bit && d < 0.7*float64(nominal) {
				dat.add(bit, d/1000)
			}
		}
	}
	return nom.period(nominal), dat.period(data)
}

// slope is a straight line through the origin by least squares.
type slope struct{ xy, xx float64 }

func (s *slope) add(x, y float64) { s.xy += x * y; s.xx += x * x }

// period is the slope, in picoseconds, as a period; the given one where there
// are no points.
func (s *slope) period(without quantity.Period) quantity.Period {
	if s.xx == 0 {
		return without
	}
	return quantity.Period(1000 * s.xy / s.xx)
}
