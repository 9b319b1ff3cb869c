package values

import (
	"cmp"
	"math"
	"slices"
	"sort"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/records"
)

// Series is what a value was over time.
type Series struct {
	*Name
	times   []quantity.Time
	numbers []float64
	// Last and Before are what it was last, and what it was before its last change.
	Last, Before    string
	LastAt          quantity.Time
	ChangedAt       quantity.Time
	Seen, Changes   int // how often it came, and how often it was another than before
	Wrote           bool
	Gone            int // samples that are no longer kept
	usual           [window]quantity.Time
	usualN, usualAt int
}

// window is how many intervals the usual one is made of.
const window = 32

// StaleAfter is how many usual intervals without a sample make a value stale.
const StaleAfter = 3

// Book keeps what all values of a capture were. It is not safe for use by several goroutines.
type Book struct {
	reader *Reader
	by     map[*Name]*Series
	list   []*Series // in the order in which they came first
	trail  records.Trail
	kept   int
	// Limit is how many samples are kept of all values together; the oldest of those with
	// the most go first.
	Limit int
}

// perSample is what a sample takes in bytes, with the room that is kept for the next ones.
const perSample = 2 * 16

// NewBook gives an empty book, whose samples take so many bytes of memory at most.
func NewBook(b *bench.Bench, m *capture.Meta, memory int) *Book {
	return &Book{reader: NewReader(b, m), by: map[*Name]*Series{}, Limit: max(memory/perSample, 1)}
}

// Catalog gives the names of all values that can come.
func (b *Book) Catalog() *Catalog { return b.reader.Catalog }

// Find is Catalog.Find where of several that a text can mean those are meant that came.
func (b *Book) Find(text string) (*Name, error) {
	return b.reader.find(text, func(n *Name) bool { return b.by[n] != nil })
}

// Behind is how many records wait to be taken.
func (b *Book) Behind() int { return b.trail.Behind }

// All gives the values that came so far.
func (b *Book) All() []*Series { return b.list }

// Of gives a value; nil where it never came.
func (b *Book) Of(n *Name) *Series { return b.by[n] }

// Take takes what came since the last time, so many records at most, and says whether more
// wait.
func (b *Book) Take(s *capture.Snapshot, most int) (more bool) {
	fresh, more := b.trail.Next(&s.Reader, most)
	for _, i := range fresh {
		for _, x := range b.reader.Take(s.At(i)) {
			b.put(&x)
		}
	}
	return more
}

func (b *Book) put(x *Sample) {
	s := b.by[x.Name]
	if s == nil {
		s = &Series{Name: x.Name}
		b.by[x.Name] = s
		b.list = append(b.list, s)
	}
	s.take(x)
	if x.Numeric {
		b.kept++
	}
	if b.kept > b.Limit {
		b.drop()
	}
}

// drop lets the older half of the longest series go.
func (b *Book) drop() {
	long := b.list[0]
	for _, s := range b.list {
		if len(s.times) > len(long.times) {
			long = s
		}
	}
	n := len(long.times) / 2
	long.times, long.numbers = slices.Clone(long.times[n:]), slices.Clone(long.numbers[n:])
	long.Gone += n
	b.kept -= n
}

func (s *Series) take(x *Sample) {
	if s.Seen > 0 {
		s.usual[s.usualAt] = x.At - s.LastAt
		s.usualAt, s.usualN = (s.usualAt+1)%window, min(s.usualN+1, window)
		if x.Text != s.Last {
			s.Before, s.ChangedAt = s.Last, x.At
			s.Changes++
		}
	}
	s.Seen++
	s.Last, s.LastAt, s.Wrote = x.Text, x.At, x.Wrote
	if x.Numeric {
		s.times, s.numbers = append(s.times, x.At), append(s.numbers, x.Number)
	}
}

// Usual is the longest time from one sample to the next that is usual: of the latest the
// longest but one, so that an outage does not count. 0 where fewer than two samples came.
func (s *Series) Usual() quantity.Time {
	if s.usualN == 0 {
		return 0
	}
	all := slices.Clone(s.usual[:s.usualN])
	slices.Sort(all)
	return all[max(len(all)-2, 0)]
}

// Stale says whether it should have come again by a time.
func (s *Series) Stale(now quantity.Time) bool {
	u := s.Usual()
	return u > 0 && now-s.LastAt > StaleAfter*u
}

// Len is the number of samples that are kept.
func (s *Series) Len() int { return len(s.times) }

// At gives a sample.
func (s *Series) At(i int) (quantity.Time, float64) { return s.times[i], s.numbers[i] }

// Between gives the numbers of the first sample at or behind a time, and of the first at or
// behind another.
func (s *Series) Between(from, to quantity.Time) (first, end int) {
	return s.index(from), s.index(to)
}

func (s *Series) index(t quantity.Time) int {
	return sort.Search(len(s.times), func(i int) bool { return s.times[i] >= t })
}

// Copy gives a series that goes on no more, with the samples of a stretch and those next to it,
// for others to read.
func (s *Series) Copy(from, to quantity.Time) *Series {
	c := *s
	i, j := s.Between(from, to)
	i, j = max(i-1, 0), min(j+1, len(s.times))
	c.times, c.numbers = s.times[i:j:j], s.numbers[i:j:j]
	return &c
}

// Figures are those of the samples in a stretch of time.
type Figures struct {
	N                 int
	Least, Most, Mean float64
	Deviation         float64 // of the samples, divided by n
	First, Last       float64
	Step              float64 // the smallest difference of two samples that is not 0
	// EffectiveBits is how many bits of resolution the noise leaves of the span that the
	// value's bits can express; NaN where that has no bound.
	EffectiveBits float64
}

// Figures of a stretch.
func (s *Series) Figures(from, to quantity.Time) Figures {
	i, j := s.Between(from, to)
	f := Figures{N: j - i, Least: math.Inf(1), Most: math.Inf(-1), EffectiveBits: math.NaN(), Step: math.Inf(1)}
	if f.N == 0 {
		return Figures{EffectiveBits: math.NaN()}
	}
	in := s.numbers[i:j]
	for k, v := range in {
		f.Least, f.Most = min(f.Least, v), max(f.Most, v)
		f.Mean += v / float64(f.N)
		if k > 0 && v != in[k-1] {
			f.Step = min(f.Step, math.Abs(v-in[k-1]))
		}
	}
	for _, v := range in {
		f.Deviation += (v - f.Mean) * (v - f.Mean) / float64(f.N)
	}
	f.Deviation = math.Sqrt(f.Deviation)
	if f.Least == f.Most {
		f.Mean, f.Deviation = f.Least, 0 // not what sums miss by
	}
	f.First, f.Last = in[0], in[len(in)-1]
	if s.Format != nil && s.Format.Bits < 64 && len(s.Format.Codes) == 0 && f.Deviation > 0 {
		least, most := s.Format.Range()
		a, _ := least.Float64()
		b, _ := most.Float64()
		f.EffectiveBits = math.Log2((b - a) / (f.Deviation * math.Sqrt(12)))
	}
	return f
}

// Step is what one count of its bits is worth; 0 and false where that is not known.
func (s *Series) Step() (float64, bool) {
	if s.Format == nil || s.Format.Bits >= 64 || s.Format.Scale == nil {
		return 0, false
	}
	f, _ := s.Format.Scale.Float64()
	return math.Abs(f), true
}

// Histogram counts the samples of a stretch in n equal classes from the least to the most.
func (s *Series) Histogram(from, to quantity.Time, n int) (counts []int, least, most float64) {
	i, j := s.Between(from, to)
	f := s.Figures(from, to)
	if f.N == 0 || n < 1 {
		return nil, 0, 0
	}
	counts = make([]int, n)
	for _, v := range s.numbers[i:j] {
		k := 0
		if f.Most > f.Least {
			k = min(int((v-f.Least)/(f.Most-f.Least)*float64(n)), n-1)
		}
		counts[k]++
	}
	return counts, f.Least, f.Most
}

// Fresh gives the values that came so far, the one that came last first.
func (b *Book) Fresh() []*Series {
	out := slices.Clone(b.list)
	slices.SortStableFunc(out, func(x, y *Series) int { return cmp.Compare(y.LastAt, x.LastAt) })
	return out
}
