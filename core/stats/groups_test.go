package stats

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Figures by identifier against a walk over the records of each.
func TestGroups(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var rs []*record.Record
		at := quantity.Time(0)
		for range rapid.IntRange(0, 60).Draw(rt, "records") {
			at += quantity.Time(rapid.IntRange(1, 50).Draw(rt, "step"))
			r := &record.Record{Kind: record.Frame, Link: uint16(rapid.IntRange(0, 1).Draw(rt, "link")), ID: uint32(rapid.IntRange(1, 3).Draw(rt, "id")), Start: at, End: at + 3, Data: make([]byte, rapid.IntRange(0, 8).Draw(rt, "bytes"))}
			if rapid.IntRange(0, 4).Draw(rt, "bad") == 0 {
				r.Marks = []record.Mark{{Flags: record.Stuff | record.Form}}
			}
			rs = append(rs, r)
		}
		c := NewCollector(2, 0, at+3)
		for _, r := range rs {
			c.Take(r)
		}
		groups := c.Groups()
		for link := range 2 {
			var mine []*record.Record
			for _, r := range rs {
				if int(r.Link) == link {
					mine = append(mine, r)
				}
			}
			require.Equal(rt, Of(mine, 0, at+3), c.Traffic(link))
		}
		n := 0
		for i, g := range groups {
			if i > 0 {
				require.True(rt, groups[i-1].Link < g.Link || groups[i-1].Link == g.Link && groups[i-1].ID < g.ID)
			}
			var last *record.Record
			count, size, bad, periods, missing := 0, 0, 0, []quantity.Time{}, 0
			for _, r := range rs {
				if r.Link != g.Link || r.ID != g.ID {
					continue
				}
				count++
				size += len(r.Data)
				if r.Marks != nil {
					bad++
				}
				if last != nil {
					periods = append(periods, r.Start-last.Start)
				}
				last = r
			}
			n += count
			require.Equal(rt, count, g.Count)
			require.Equal(rt, size, g.Bytes)
			require.Equal(rt, bad, g.Bad)
			require.Equal(rt, len(periods), g.Period.N)
			// How many periods are longer than three times the middle one.
			for _, p := range periods {
				below := 0
				for _, q := range periods {
					if 3*q < p {
						below++
					}
				}
				if len(periods) > 1 && below > len(periods)/2 {
					missing++
				}
			}
			// Where more than a quarter are far from the middle one, none can be missed.
			slices.Sort(periods)
			far := 0
			for _, p := range periods {
				if m := float64(periods[len(periods)/2]); float64(p) >= 1.5*m || float64(p) < m/2 {
					far++
				}
			}
			if far > len(periods)/4 {
				missing = 0
			}
			require.Equal(rt, missing, g.Missing)
			if bad > 0 {
				require.Contains(rt, g.Errors(), "stuff")
			}
		}
		require.Equal(rt, len(rs), n)
	})
}

func TestClasses(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var ts []quantity.Time
		for range rapid.IntRange(1, 50).Draw(rt, "n") {
			ts = append(ts, quantity.Time(rapid.IntRange(0, 1000).Draw(rt, "t")))
		}
		sum := 0
		for _, c := range Classes(ts, rapid.IntRange(1, 9).Draw(rt, "classes")) {
			n := 0
			for _, x := range ts {
				if x >= c.From && x < c.To {
					n++
				}
			}
			require.Equal(rt, n, c.N)
			sum += n
		}
		require.Equal(rt, len(ts), sum)
	})
	assert.Nil(t, Classes(nil, 5))
}
