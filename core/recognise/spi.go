package recognise

import (
	"fmt"
	"slices"
	"sort"

	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

const (
	// leastLater is behind how many edges one data line must change later than the other to be the
	// part's; leastWhole how many whole bursts tell the length of words for sure.
	leastLater, leastWhole = 4, 3
	// pause is how many periods of the clock an edge must be behind the last one
	// to begin another burst.
	pause = 1.1
	// noSelectBits is what it takes to say that there is no select line.
	noSelectBits = 25
)

// burst is a stretch of clock pulses without a pause; from and to are its first
// and its last edge.
type burst struct {
	from, to quantity.Time
	edges    int
}

func (b burst) pulses() int { return b.edges / 2 }

// bursts takes a clock apart at its pauses. Irregular counts the edges inside
// that stand where a regular clock has none.
func bursts(toggles []quantity.Time) (out []burst, period quantity.Time, irregular int) {
	period = median(periods(toggles))
	if period == 0 {
		return nil, 0, 0
	}
	for i, t := range toggles {
		if i == 0 || float64(t-toggles[i-1]) > pause*float64(period) {
			out = append(out, burst{from: t})
		} else if k := out[len(out)-1].edges; k >= 2 {
			if off := float64(t-toggles[i-2]) / float64(period); off < 0.6 || off > 1.6 {
				irregular++
			}
		}
		b := &out[len(out)-1]
		b.to = t
		b.edges++
	}
	return out, period, irregular
}

// clocked is how a line behaves against a clock.
type clocked struct {
	index   int
	after   [2]int // changes inside bursts behind a falling, a rising edge
	outside int
	delay   quantity.Time         // median distance from the edge behind which it changes
	at      map[int]quantity.Time // distances, by the number of that edge
}

// behind counts the edges behind which two lines change, one later than the other.
func (c *clocked) behind(other *clocked) (later, earlier int) {
	for k, t := range c.at {
		switch o, both := other.at[k]; {
		case !both:
		case t > o:
			later++
		case t < o:
			earlier++
		}
	}
	return later, earlier
}

// rising says behind which edge the line changes.
func (c *clocked) rising() bool { return c.after[1] > c.after[0] }

func (c *clocked) wrong() int { return min(c.after[0], c.after[1]) }

// spans are the stretches in which a select line is active.
type spans struct {
	index  int
	high   bool
	spans  [][2]quantity.Time
	bursts []burst
	upTo   []int // how many bursts there are up to the end of each span
}

// alongside gives the lines for the stretch that is known of a clock: slower lines may
// be known for much longer.
func alongside(looks []look, clock int) []look {
	end := looks[clock].To
	out := slices.Clone(looks)
	for i := range out {
		if out[i].To > end {
			out[i].Window, out[i].raw = upTo(out[i].Window, end), upTo(out[i].raw, end)
		}
	}
	return out
}

// findSPI reads a line as the clock of an spi bus, and finds the other lines.
func findSPI(looks []look, clock int) []bundle {
	looks = alongside(looks, clock)
	c := &looks[clock]
	all, period, irregular := bursts(c.Toggles)
	if len(all) == 0 || len(c.Toggles) < 16 || irregular > len(c.Toggles)/20 {
		return nil
	}
	idle, odd := restOf(c, all)
	if odd > len(all)/10 {
		return nil
	}
	cost := float64(len(all))*startBits + float64(len(c.Toggles))*0.25 + float64(irregular+odd)*errorBits
	edges := len(c.Toggles)
	var selects []spans
	var data []clocked
	for i := range looks {
		if i == clock || len(looks[i].Toggles) == 0 {
			continue
		}
		l := looks[i].without(c.pulse)
		if s, ok := selecting(&l, i, all, period/8); ok {
			selects = append(selects, s)
			continue
		}
		if d, ok := follows(&l, i, c, all); ok {
			data = append(data, d)
		}
	}
	selects = covering(selects, all)
	sort.SliceStable(data, func(i, j int) bool {
		return data[i].after[0]+data[i].after[1] > data[j].after[0]+data[j].after[1]
	})
	data = agreeing(data)
	if len(data) == 0 {
		return nil
	}
	b := bundle{lines: []int{clock}}
	for _, d := range data {
		b.lines = append(b.lines, d.index)
		n := len(looks[d.index].Toggles)
		edges += n
		cost += float64(len(c.Toggles)/2) + float64(d.wrong())*errorBits + float64(d.outside)*4
	}
	for _, s := range selects {
		b.lines = append(b.lines, s.index)
		edges += 2 * len(s.spans)
		cost += float64(len(s.spans)) * 3 // near the clock's bursts, whose moments are told
	}
	if len(selects) == 0 {
		cost += noSelectBits
		selects = []spans{{index: -1, bursts: all}}
	}
	b.gain = float64(edges*edgeBits) - cost
	for _, s := range selects {
		p := propose(clock, idle, data, s, period)
		if s.index < 0 && p.Units < 3 {
			continue // a line that changes evenly for a while is no bus
		}
		p.Gain = b.gain
		p.unusual = p.unusual || s.index < 0 && mayselect(looks, b.lines, len(all), period)
		p.Bad = min(p.Units, irregular+odd+wrongs(data))
		b.proposals = append(b.proposals, p)
	}
	if b.proposals == nil {
		return nil
	}
	return []bundle{b}
}

// mayselect says whether a line that is none of a bundle's is idle often enough to select, but for
// what disturbs it.
func mayselect(looks []look, lines []int, bursts int, period quantity.Time) bool {
	for i := range looks {
		if looks[i].steady != 0 || slices.Contains(lines, i) {
			continue
		}
		// What is shorter than half a clock's period selects nothing, and what is longer may have
		// been taken for a spike.
		if n := len(unspiked(&looks[i].untouched, period/2)); n > 0 && n <= 2*bursts+8 {
			return true
		}
	}
	return false
}

func wrongs(data []clocked) int {
	n := 0
	for _, d := range data {
		n += d.wrong()
	}
	return n
}

// restOf gives the level of the clock before most bursts, and the number of
// bursts that begin at the other one or do not come back.
func restOf(c *look, all []burst) (high bool, odd int) {
	level, highs, n := c.High, 0, 0
	for i, b := range all {
		// A capture may begin and end inside of a burst.
		whole := i > 0 && i < len(all)-1
		if i > 0 || len(all) == 1 {
			n++
			if level {
				highs++
			}
		}
		if b.edges%2 == 1 {
			if whole {
				odd++
			}
			level = !level
		}
	}
	return highs*2 > n, odd + min(highs, n-highs)
}

// selecting says whether a line is a select line: it changes only in the clock's
// pauses, or within a slack of the edges beside them, and is active around whole bursts.
func selecting(l *wire.Window, index int, all []burst, slack quantity.Time) (spans, bool) {
	var best spans
	for _, high := range []bool{false, true} {
		s := spans{index: index, high: high}
		from, level := l.From, l.High
		clean := true
		for i := 0; i <= len(l.Toggles); i++ {
			to := l.To
			if i < len(l.Toggles) {
				to = l.Toggles[i]
			}
			if level == high && (i > 0 || len(inside(all, from-slack, to+slack)) > 0) {
				in := inside(all, from-slack, to+slack)
				// Active without a burst is no selecting, but a capture may end.
				if len(in) == 0 && i < len(l.Toggles) || cut(all, from, to, slack) {
					clean = false
					break
				}
				if len(in) > 0 {
					s.spans = append(s.spans, [2]quantity.Time{from, to})
					s.bursts = append(s.bursts, in...)
					s.upTo = append(s.upTo, len(s.bursts))
				}
			}
			from, level = to, !level
		}
		if clean && len(s.spans) > 0 && s.tighter(&best) {
			best = s
		}
	}
	return best, len(best.spans) > 0 && len(l.Toggles) <= 2*len(all)+2
}

// tighter says whether the spans keep closer to their bursts than others do.
func (s *spans) tighter(than *spans) bool {
	return len(than.spans) == 0 || s.slack() < than.slack()
}

// slack is the mean time that a span lasts beyond its bursts.
func (s *spans) slack() quantity.Time {
	sum, first := quantity.Time(0), 0
	for i, x := range s.spans {
		k := s.upTo[i]
		sum += x[1] - x[0] - (s.bursts[k-1].to - s.bursts[first].from)
		first = k
	}
	return sum / quantity.Time(len(s.spans))
}

func inside(all []burst, from, to quantity.Time) []burst {
	i, _ := slices.BinarySearchFunc(all, from, func(b burst, t quantity.Time) int { return int(b.from - t) })
	k := i
	for k < len(all) && all[k].to < to {
		k++
	}
	return all[i:k]
}

// cut says whether one of the ends of a stretch lies in a burst.
func cut(all []burst, from, to, slack quantity.Time) bool {
	for _, t := range []quantity.Time{from, to} {
		i, _ := slices.BinarySearchFunc(all, t, func(b burst, t quantity.Time) int { return int(b.to - t) })
		if i < len(all) && all[i].from+slack < t && t < all[i].to-slack {
			return true
		}
	}
	return false
}

// covering takes select lines so that each burst belongs to one of them: those
// that keep closest to their bursts first, none whose bursts another has.
func covering(all []spans, bs []burst) []spans {
	sort.SliceStable(all, func(i, j int) bool { return all[i].slack() < all[j].slack() })
	taken := map[quantity.Time]bool{}
	var out []spans
	for _, s := range all {
		fresh := true
		for _, b := range s.bursts {
			fresh = fresh && !taken[b.from]
		}
		if !fresh {
			continue
		}
		for _, b := range s.bursts {
			taken[b.from] = true
		}
		out = append(out, s)
	}
	if len(taken) < len(bs)-1 {
		return nil // some bursts nobody is selected for
	}
	return out
}

// follows says whether a line changes only behind one edge of the clock.
func follows(l *wire.Window, index int, c *look, all []burst) (clocked, bool) {
	d := clocked{index: index, at: map[int]quantity.Time{}}
	var delays [2][]quantity.Time
	k := 0
	early := c.pulse / 12 // edges that ring, and samples, may put the change before its edge
	for _, t := range l.Toggles {
		for k < len(c.Toggles) && c.Toggles[k] <= t+early {
			k++
		}
		// In the pauses data may do anything.
		in, _ := slices.BinarySearchFunc(all, t, func(b burst, t quantity.Time) int { return int(b.to - t - 1) })
		if k == 0 || in >= len(all) || all[in].from > t {
			d.outside++
			continue
		}
		side := 0
		if c.High == (k%2 == 0) {
			side = 1 // the clock is high: the edge before was rising
		}
		d.after[side]++
		delays[side] = append(delays[side], max(t-c.Toggles[k-1], 0))
		d.at[k-1] = t - c.Toggles[k-1]
	}
	side := 0
	if d.rising() {
		side = 1
	}
	d.delay = median(delays[side])
	n := d.after[0] + d.after[1]
	// What changes as often outside is no data.
	return d, n >= 4 && d.wrong() <= n/20 && d.outside <= n
}

// agreeing takes those lines that change behind the same edge as the first, two
// at the most.
func agreeing(all []clocked) []clocked {
	var out []clocked
	for _, d := range all {
		if len(out) < 2 && (len(out) == 0 || d.rising() == out[0].rising()) {
			out = append(out, d)
		}
	}
	return out
}

// propose makes the proposal for one select line.
func propose(clock int, idle bool, data []clocked, s spans, period quantity.Time) Proposal {
	p := Proposal{Kind: spi.Kind, Lines: []int{clock, -1, -1, s.index, -1}, Unit: "words"}
	out, in, told := data[0], clocked{index: -1}, true
	if len(data) > 1 {
		in = data[1]
		later, earlier := in.behind(&out)
		if earlier > later {
			out, in, later, earlier = in, out, earlier, later
		}
		// Where both change at one time nearly as often one way as the other, chance decides.
		told = later >= leastLater && later >= 10*earlier
	}
	p.Lines[1], p.Lines[2] = out.index, in.index
	// Data changes behind the edge that does not sample.
	samplesRising := !out.rising()
	mode := 0
	switch {
	case !idle && !samplesRising:
		mode = 1
	case idle && !samplesRising:
		mode = 2
	case idle && samplesRising:
		mode = 3
	}
	word, class, whole := words(s.bursts)
	p.Settings = fmt.Sprintf("mode=%d", mode)
	if word != 8 {
		p.Settings += fmt.Sprintf(" word=%d", word)
	}
	switch {
	case s.index < 0:
		p.Settings += fmt.Sprintf(" active=none gap=%s", plainTime(period*3/2))
	case s.high:
		p.Settings += " active=high"
	}
	pulses := 0
	for _, b := range s.bursts {
		pulses += b.pulses()
	}
	p.Units, p.unusual = pulses/word, word < 8 || in.index < 0 || !told || whole < leastWhole
	p.Class = class
	if len(class) > 1 {
		p.Apart = "pauses between the words, or what the words mean, would tell their length"
	}
	rests := "low"
	if idle {
		rests = "high"
	}
	edge := "falling"
	if samplesRising {
		edge = "rising"
	}
	p.Reasons = append(p.Reasons, fmt.Sprintf("clock %s, rests %s; data stands still at its %s edge: mode %d", quantity.FromHz(1e12/float64(period)).Round(4), rests, edge, mode))
	if in.index >= 0 {
		if told {
			by := ""
			if in.delay > out.delay {
				by = (in.delay - out.delay).Round(3) + " "
			}
			p.Reasons = append(p.Reasons, fmt.Sprintf("in answers the clock: it changes %slater than out", by))
		} else {
			p.Reasons = append(p.Reasons, "out and in may be the other way round: both change at the same time")
		}
	} else {
		p.Reasons = append(p.Reasons, "one data line only: whether it is out or in no wire tells")
	}
	p.Reasons = append(p.Reasons, "which bit comes first no wire tells: the most significant is usual")
	return p
}

// words finds the length of a word from the pulses of the bursts: 8 bits where
// that fits, else the most that all have in common. The class lists what fits.
//
// Whole is how many bursts it is found from.
func words(bs []burst) (word int, class []string, whole int) {
	g := 0
	counts := map[int]int{}
	for i, b := range bs {
		// A capture may begin and end inside of a burst.
		if len(bs) < 3 || i > 0 && i < len(bs)-1 {
			counts[b.pulses()]++
			whole++
		}
	}
	for n, k := range counts {
		// A burst that the capture cuts off, or one with a spike, does not count.
		if k > max(1, len(bs)/20) || len(bs) < 4 {
			g = gcd(g, n)
		}
	}
	if g == 0 {
		for n := range counts {
			g = gcd(g, n)
		}
	}
	var fits []int
	for w := 32; w >= 4; w-- {
		if g%w == 0 {
			fits = append(fits, w)
		}
	}
	if len(fits) == 0 {
		return 8, nil, whole
	}
	word = fits[0]
	if slices.Contains(fits, 8) {
		word = 8
	}
	class = []string{fmt.Sprintf("words of %d", word)}
	for _, w := range fits {
		if w != word {
			class = append(class, fmt.Sprintf("of %d", w))
		}
	}
	if len(class) == 1 {
		class = nil
	}
	return word, class, whole
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
