// Package recognise proposes what unknown line levels are: which bus, which line
// plays which part, and with what settings.
//
// Every proposal is weighed by the same measure: how many bits it takes to tell
// the edges of its lines. An edge that nothing explains costs edgeBits. A bus
// explains its edges by characters, words or frames, which cost their free bits;
// so a stricter format that fits costs less than a laxer one that fits as well:
// a parity bit that always holds is a bit that need not be told. What is saved
// is the proposal's Gain. docs/recognition.md says how often it is right.
package recognise

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// Costs in bits.
const (
	edgeBits  = 10 // an edge at a time that nothing tells
	startBits = 14 // the moment at which a character, a span or a frame begins after a pause
	errorBits = 20 // something that the bus forbids
)

// MostEdges is how many edges of a line are enough to recognise it.
const MostEdges = 20_000

// Line is a line that nobody has described, with its levels over a stretch of
// time. The windows of lines that are looked at together begin together.
type Line struct {
	Name   string
	Levels wire.Window
}

// Seen is what a line does, before anything is decoded.
type Seen struct {
	Activity wire.Activity
	Edges    int
	// Pulse is the shortest width that many pulses have; 0 where there is none.
	Pulse quantity.Time
	// Spikes is the number of pulses too short to belong to the others.
	Spikes int
	// Filter is the width of the pulses that were left out since they are none of a bus; 0: no
	// such.
	Filter quantity.Time
	// Steady is the period of a line that does the same over and over; 0 of any other.
	Steady quantity.Time
	// Copy says that the line is another one under a second name: its number plus one; 0
	// where it is not.
	Copy int
}

// Proposal is one bus that lines may be.
type Proposal struct {
	Kind *bus.Kind
	// Lines are indexes of lines by the bus's roles; -1 where there is none.
	Lines []int
	// Settings is in the words of a bench, as rate=9600 frame=7E1.
	Settings string
	// Class lists, where there are several, what no wire can tell apart; the
	// first is what Settings says.
	Class []string
	// Apart says how the members of the class could be told apart.
	Apart string
	// Units is the number of characters, words, bytes or frames, and Unit what
	// they are called. Bad is how many of them had errors.
	Units, Bad int
	Unit       string
	Gain       float64 // in bits
	// Ahead is by how many bits the proposal is better than the next best for
	// the same lines.
	Ahead   float64
	Reasons []string
	// Raise says what would make the proposal surer.
	Raise []string
	// unusual: its settings are such as hardly any bus has.
	unusual bool
	// needs is what it must be ahead to be sure, where that is more than usual.
	needs float64
}

// Fit is the share of units without an error.
func (p *Proposal) Fit() float64 {
	if p.Units == 0 {
		return 0
	}
	return float64(p.Units-p.Bad) / float64(p.Units)
}

// Confidence says in a word how far a proposal can be trusted.
func (p *Proposal) Confidence() string {
	switch {
	case p.Fit() >= 0.97 && p.Ahead >= max(20, p.needs) && p.Units >= 16 && !p.unusual:
		return "sure"
	case p.Fit() >= 0.9 && p.Ahead >= 7:
		return "likely"
	}
	return "a guess"
}

// Text gives the proposal in the words in which a link is described, without
// its name in front.
func (p *Proposal) Text(lines []Line) string {
	words := []string{p.Kind.Name}
	for i, r := range p.Kind.Lines {
		if i < len(p.Lines) && p.Lines[i] >= 0 {
			words = append(words, r.Name+"="+quote(lines[p.Lines[i]].Name))
		}
	}
	if p.Settings != "" {
		words = append(words, p.Settings)
	}
	return strings.Join(words, " ")
}

func quote(s string) string {
	if strings.ContainsAny(s, " ") {
		return `"` + s + `"`
	}
	return s
}

// bundle are proposals that stand or fall together: the devices on one spi bus.
type bundle struct {
	proposals []Proposal
	lines     []int
	gain      float64
}

func single(p Proposal) bundle {
	b := bundle{proposals: []Proposal{p}, gain: p.Gain}
	for _, l := range p.Lines {
		if l >= 0 {
			b.lines = append(b.lines, l)
		}
	}
	return b
}

// shares says whether two bundles want a line both.
func (b *bundle) shares(other *bundle) bool {
	return slices.ContainsFunc(b.lines, func(l int) bool { return slices.Contains(other.lines, l) })
}

// Result is what was recognised.
type Result struct {
	Seen []Seen // of each line
	// Best are the proposals that together explain most.
	Best []Proposal
	// Others are further proposals for the same lines, best first.
	Others []Proposal
	// Left is how many lines were left out since there were too many: those with the
	// fewest edges.
	Left int
}

// MostLines is how many lines are weighed against each other.
const MostLines = 96

// look is a line as the recognisers take it: without spikes.
type look struct {
	wire.Window
	raw wire.Window // with them, but without disturbances
	// untouched is the line as it came.
	untouched wire.Window
	pulse     quantity.Time
	spikes    int
	steady    quantity.Time
}

// without gives the line without pulses that are short for another line's: a
// select line has few pulses of its own.
func (l *look) without(spike quantity.Time) wire.Window {
	w := l.raw
	w.Toggles = unspiked(&l.raw, quantity.Time(spikeShare*float64(spike)))
	return w
}

// Lines recognises lines. Progress, if given, is told how many of them have been
// weighed. It returns early with the context's error.
func Lines(ctx context.Context, lines []Line, progress func(done int)) (Result, error) {
	r := Result{Seen: make([]Seen, len(lines))}
	looks := make([]look, len(lines))
	for i := range lines {
		looks[i], r.Seen[i] = lookAt(&lines[i].Levels)
	}
	r.findCopies(looks)
	r.leaveOut(looks)
	var all []bundle
	for i := range looks {
		if err := ctx.Err(); err != nil {
			return r, err
		}
		if progress != nil {
			progress(i)
		}
		if looks[i].pulse == 0 {
			continue
		}
		for _, find := range []func(*look, int) []Proposal{findUART, findCAN, findPulse} {
			if err := ctx.Err(); err != nil {
				return r, err
			}
			for _, p := range find(&looks[i], i) {
				all = append(all, single(p))
			}
		}
		all = append(all, findSPI(looks, i)...)
		for k := range looks {
			if err := ctx.Err(); err != nil {
				return r, err
			}
			if k != i && looks[k].pulse > 0 {
				if p, ok := findI2C(&looks[i], &looks[k], i, k); ok {
					all = append(all, single(p))
				}
			}
		}
	}
	for i := range all {
		all[i].without(looks)
	}
	r.choose(all)
	return r, nil
}

// empty takes a line out of what is weighed.
func (l *look) empty() {
	*l = look{Window: wire.Window{From: l.From, To: l.To, High: l.High}}
	l.raw, l.untouched = l.Window, l.Window
}

// findCopies takes out lines that are others under a second name.
func (r *Result) findCopies(looks []look) {
	first := map[[3]quantity.Time][]int{}
	for i := range looks {
		n := len(looks[i].raw.Toggles)
		if n == 0 {
			continue
		}
		key := [3]quantity.Time{quantity.Time(n), looks[i].raw.Toggles[0], looks[i].raw.Toggles[n-1]}
		for _, k := range first[key] {
			if looks[k].High == looks[i].High && slices.Equal(looks[k].raw.Toggles, looks[i].raw.Toggles) {
				r.Seen[i].Copy = k + 1
				looks[i].empty()
				break
			}
		}
		if r.Seen[i].Copy == 0 {
			first[key] = append(first[key], i)
		}
	}
}

// leaveOut empties the lines with the fewest edges where there are too many.
func (r *Result) leaveOut(looks []look) {
	var order []int
	for i := range looks {
		if looks[i].pulse > 0 {
			order = append(order, i)
		}
	}
	if len(order) <= MostLines {
		return
	}
	sort.SliceStable(order, func(a, b int) bool { return r.Seen[order[a]].Edges > r.Seen[order[b]].Edges })
	for _, i := range order[MostLines:] {
		looks[i].empty()
		r.Left++
	}
}

const (
	leastFit  = 0.6 // of a second choice
	leastGain = 0.6 // of a second choice, as a share of the first one's
)

// gainOf gives the most that a chosen bundle saves which shares a line with b.
func gainOf(b *bundle, chosen []Proposal) float64 {
	most := 0.0
	for _, p := range chosen {
		for _, l := range p.Lines {
			if l >= 0 && slices.Contains(b.lines, l) {
				most = max(most, p.Gain)
			}
		}
	}
	return most
}

// choose takes the bundles that save most, none of whose lines is taken.
func (r *Result) choose(all []bundle) {
	sort.SliceStable(all, func(i, j int) bool { return all[i].gain > all[j].gain })
	taken := map[int]bool{}
	for i := range all {
		b := &all[i]
		if b.gain <= 0 {
			break
		}
		if slices.ContainsFunc(b.lines, func(l int) bool { return taken[l] }) {
			for _, p := range b.proposals {
				if p.Fit() >= leastFit && p.Gain > leastGain*gainOf(b, r.Best) {
					r.Others = append(r.Others, p)
				}
			}
			continue
		}
		next := 0.0
		for _, other := range all[i+1:] {
			if b.shares(&other) {
				next = other.gain
				break
			}
		}
		for _, l := range b.lines {
			taken[l] = true
		}
		for _, p := range b.proposals {
			p.Ahead = b.gain - next
			r.Best = append(r.Best, p)
		}
	}
	for _, ps := range [][]Proposal{r.Best, r.Others} {
		for i := range ps {
			r.filtered(&ps[i])
		}
	}
	for i := range r.Best {
		r.Best[i].advise()
	}
}

// filtered gives a proposal the filter without which its lines can't be read.
func (r *Result) filtered(p *Proposal) {
	width, pulse, edges := quantity.Time(0), quantity.Time(0), 0
	for _, l := range p.Lines {
		if l < 0 {
			continue
		}
		width = max(width, r.Seen[l].Filter)
		if r.Seen[l].Edges > edges { // a slow line may have spikes alone
			pulse, edges = r.Seen[l].Pulse, r.Seen[l].Edges
		}
	}
	if width > 0 && pulse > 0 {
		width = quantity.Time(spikeShare * float64(pulse)) // single spikes, too
	}
	if width == 0 || strings.Contains(p.Settings, "filter=") {
		return
	}
	p.Settings = strings.TrimSpace(p.Settings + " filter=" + plainTime(width))
	p.Reasons = append(p.Reasons, fmt.Sprintf("the lines ring or are noisy: pulses shorter than %s are left out", width.Round(2)))
}

// advise says what would make a proposal surer.
func (p *Proposal) advise() {
	if p.Units < 16 {
		p.Raise = append(p.Raise, fmt.Sprintf("a longer capture: there are %d %s only", p.Units, p.Unit))
	}
	if p.Fit() < 0.97 {
		p.Raise = append(p.Raise, fmt.Sprintf("a cleaner signal: %d of %d %s have errors", p.Bad, p.Units, p.Unit))
	}
	if p.Apart != "" {
		p.Raise = append(p.Raise, p.Apart)
	}
}

// closeTo names the usual rate that a measured one is close to, with how far it
// is off in per cent.
func closeTo(measured quantity.Rate, usual []float64) (nearest quantity.Rate, percent float64, ok bool) {
	for _, u := range usual {
		off := 100 * (measured.Bd()/u - 1)
		if off > -2.5 && off < 2.5 && (!ok || off*off < percent*percent) {
			nearest, percent, ok = quantity.FromBd(u), off, true
		}
	}
	return nearest, percent, ok
}

// plainTime gives a time with three digits as a setting.
func plainTime(t quantity.Time) string { return strings.ReplaceAll(t.Round(3), " ", "") }

// rateReason says how a measured rate stands to the usual ones.
func rateReason(measured quantity.Rate, usual []float64, unit string) string {
	rate, off, ok := closeTo(measured, usual)
	u := strings.ReplaceAll(rate.String(), "Bd", unit)
	switch {
	case ok && math.Abs(off) < 0.005:
		return fmt.Sprintf("measured %s %s, the usual %s", measured.Grouped(), unit, u)
	case ok:
		return fmt.Sprintf("measured %s %s, %+.2f %% from the usual %s", measured.Grouped(), unit, off, u)
	}
	return fmt.Sprintf("measured %s %s: none of the usual rates", measured.Grouped(), unit)
}
