package stats

import (
	"cmp"
	"slices"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// item is what figures need of a record.
type item struct {
	start, end, each quantity.Time
	n, bytes         int32
	from             record.End
	chars, bad       bool
}

// itemOf gives what figures need of a record; ok is false for what is no traffic.
func itemOf(r *record.Record) (x item, ok bool) {
	if !r.Traffic() || r.Kind == record.Flow {
		return item{}, false
	}
	x = item{r.Start, r.End, r.Each, int32(r.Len()), int32(r.Len()), r.From, r.Kind == record.Chars, r.AllFlags() != 0}
	if r.Kind == record.Transaction && r.Bits > 0 {
		x.bytes = int32(len(r.Data) + len(r.Back))
	}
	return x, true
}

// Collector takes the records of a stretch of time, as one receiver saw them, and gives their
// figures. It keeps some 50 bytes of each, whatever its size.
type Collector struct {
	from, to quantity.Time
	links    [][]item
	byKey    map[Key]*Group
	groups   []*Group
}

// NewCollector begins the figures of so many links.
func NewCollector(links int, from, to quantity.Time) *Collector {
	return &Collector{from: from, to: to, links: make([][]item, links), byKey: map[Key]*Group{}}
}

// Take takes a record. One that is not whole in the stretch, or is no traffic, counts nowhere.
func (c *Collector) Take(r *record.Record) {
	if r.Start < c.from || r.End > c.to || int(r.Link) >= len(c.links) {
		return
	}
	x, ok := itemOf(r)
	if !ok {
		return
	}
	c.links[r.Link] = append(c.links[r.Link], x)
	k, _ := KeyOf(r)
	g := c.byKey[k]
	if g == nil {
		g = &Group{Key: k, First: r.Start}
		g.From = r.From
		c.byKey[k] = g
		c.groups = append(c.groups, g)
	}
	g.take(r)
}

func (c *Collector) sorted(link int) []item {
	in := c.links[link]
	slices.SortStableFunc(in, func(a, b item) int { return cmp.Compare(a.start, b.start) })
	return in
}

// Traffic gives the figures of a link.
func (c *Collector) Traffic(link int) Traffic { return figures(c.sorted(link), c.from, c.to) }

// Replies gives the times from the end of what the MCU sent to the begin of the answer, on a link
// where each has its line.
func (c *Collector) Replies(link int) []quantity.Time {
	var out []quantity.Time
	in := c.sorted(link)
	var asked *item
	for i := range in {
		switch r := &in[i]; {
		case !r.chars:
		case r.from == record.MCU:
			asked = r
		case r.from >= record.Device && asked != nil:
			out = append(out, r.start-asked.end)
			asked = nil
		}
	}
	return out
}
