package wire

import (
	"encoding/binary"
	"sort"
	"sync"

	"gavrix.org/gavrix/core/quantity"
)

const blockToggles = 4096

// block holds up to blockToggles toggles as variable-length differences.
type block struct {
	first quantity.Time // time of the first toggle
	last  quantity.Time
	high  bool // level before the first toggle
	n     int
	diffs []byte // of the second toggle and on
	marks []mark // at every markToggles-th toggle, from the second such on
}

// markToggles are the toggles from one mark to the next: so many at most are gone
// through to find one.
const markToggles = 64

// mark is a place in a block: the time of a toggle, and where the differences behind
// it begin.
type mark struct {
	at     quantity.Time
	behind uint16
}

// markBytes is the memory of a mark.
const markBytes = 16

// cursor stands on a toggle of a block.
type cursor struct {
	k    int // of the block's toggles
	at   quantity.Time
	rest []byte
}

// step goes to the next toggle.
func (c *cursor) step() {
	d, n := binary.Uvarint(c.rest)
	c.k, c.at, c.rest = c.k+1, c.at+quantity.Time(d), c.rest[n:]
}

// seek gives the first toggle that is not before t; its k is n where there is none.
func (b *block) seek(t quantity.Time) cursor {
	if b.last < t {
		return cursor{k: b.n}
	}
	c := cursor{0, b.first, b.diffs}
	if i := sort.Search(len(b.marks), func(i int) bool { return b.marks[i].at >= t }) - 1; i >= 0 {
		m := b.marks[i]
		c = cursor{(i + 1) * markToggles, m.at, b.diffs[m.behind:]}
	}
	for c.at < t {
		c.step()
	}
	return c
}

// Trace keeps the levels of one line in bounded memory: when it is full the
// oldest stretch is given up. One goroutine appends; any may read.
type Trace struct {
	mu     sync.Mutex
	limit  int
	bytes  int
	high   bool          // level before the first toggle kept
	from   quantity.Time // levels before this are no longer kept
	to     quantity.Time // levels are known up to here
	blocks []block
	// unknown are the stretches of unknown level, in order.
	unknown []Span
}

// spanBytes is the memory of an unknown stretch.
const spanBytes = 24

// NewTrace gives an empty trace whose toggles take at most limit bytes, at
// least one block.
func NewTrace(high bool, limit int) *Trace {
	return &Trace{high: high, limit: limit}
}

// Bound sets the bytes that toggles may take from now on.
func (t *Trace) Bound(limit int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.limit = limit
}

// Append adds the window that follows the last one.
func (t *Trace) Append(w *Window) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for rest := w.Toggles; len(rest) > 0; {
		if len(t.blocks) == 0 || t.blocks[len(t.blocks)-1].n == blockToggles {
			t.blocks = append(t.blocks, t.fresh(rest[0]))
			t.bytes += 64
			rest = rest[1:]
		}
		b := &t.blocks[len(t.blocks)-1]
		n := min(len(rest), blockToggles-b.n)
		t.bytes += b.add(rest[:n])
		rest = rest[n:]
	}
	for _, s := range w.Unknown {
		if n := len(t.unknown); n > 0 && t.unknown[n-1].To >= s.From && t.unknown[n-1].Open == s.Open {
			t.unknown[n-1].To = max(t.unknown[n-1].To, s.To)
			continue
		}
		t.unknown = append(t.unknown, s)
		t.bytes += spanBytes
	}
	t.to = w.To
	t.drop()
}

// add takes toggles for which there is room, and gives the bytes that these take.
func (b *block) add(toggles []quantity.Time) int {
	diffs, last, bytes := b.diffs, b.last, -len(b.diffs)
	for _, at := range toggles {
		diffs = binary.AppendUvarint(diffs, uint64(at-last))
		last = at
		if b.n%markToggles == 0 {
			b.marks = append(b.marks, mark{at, uint16(len(diffs))})
			bytes += markBytes
		}
		b.n++
	}
	b.diffs, b.last = diffs, last
	return bytes + len(diffs)
}

// fresh gives a block for toggles from a time on, with room for as much as the block
// before it took.
func (t *Trace) fresh(at quantity.Time) block {
	b := block{first: at, last: at, high: t.endsHigh(), n: 1}
	if n := len(t.blocks); n > 0 {
		last := &t.blocks[n-1]
		b.diffs, b.marks = make([]byte, 0, len(last.diffs)), make([]mark, 0, len(last.marks))
	}
	return b
}

// drop gives up the oldest levels where there are too many.
func (t *Trace) drop() {
	for t.bytes > t.limit && len(t.unknown) > 1 && (len(t.blocks) < 2 || t.unknown[0].To <= t.blocks[0].last) {
		t.from = max(t.from, t.unknown[0].To)
		t.unknown = t.unknown[1:]
		t.bytes -= spanBytes
	}
	for t.bytes > t.limit && len(t.blocks) > 1 {
		b := t.blocks[0]
		t.bytes -= len(b.diffs) + 64 + len(b.marks)*markBytes
		t.from = b.last
		t.high = b.high != (b.n%2 == 1)
		t.blocks[0] = block{}
		t.blocks = t.blocks[1:]
	}
}

// Bytes gives the memory that the toggles take.
func (t *Trace) Bytes() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.bytes
}

func (t *Trace) endsHigh() bool {
	if len(t.blocks) == 0 {
		return t.high
	}
	b := &t.blocks[len(t.blocks)-1]
	return b.high != (b.n%2 == 1)
}

// Kept gives the stretch of time for which levels are kept.
func (t *Trace) Kept() Span {
	t.mu.Lock()
	defer t.mu.Unlock()
	return Span{From: t.from, To: t.to}
}

// Window gives the levels of a stretch, cut to what is kept.
func (t *Trace) Window(from, to quantity.Time) Window {
	t.mu.Lock()
	defer t.mu.Unlock()
	from, to = max(from, t.from), min(to, t.to)
	w := Window{From: from, To: max(from, to), High: t.high}
	for k := sort.Search(len(t.unknown), func(k int) bool { return t.unknown[k].To > from }); k < len(t.unknown) && t.unknown[k].From < to; k++ {
		s := t.unknown[k]
		w.Unknown = append(w.Unknown, Span{max(s.From, from), min(s.To, to), s.Open})
	}
	i := sort.Search(len(t.blocks), func(i int) bool { return t.blocks[i].last >= from })
	if i == len(t.blocks) {
		w.High = t.endsHigh()
		return w
	}
	w.High = t.blocks[i].high
	for ; i < len(t.blocks) && t.blocks[i].first < to; i++ {
		b := &t.blocks[i]
		c := b.seek(from)
		w.High = w.High != (c.k%2 == 1)
		for ; c.k < b.n && c.at < to; c.step() {
			w.Toggles = append(w.Toggles, c.at)
			if c.k+1 == b.n {
				break
			}
		}
	}
	return w
}
