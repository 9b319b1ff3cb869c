package follow

import (
	"fmt"

	"gavrix.org/gavrix/core/quantity"
)

// Cadence is how words come: in bursts, with a pause of two words or more between them.
type Cadence struct {
	Bursts          int // that are over
	Least, Most     int // words in one
	Shortest        quantity.Time
	Longest         quantity.Time // from the start of one to the start of the next
	first           quantity.Time
	begun, previous quantity.Time
	end             quantity.Time
	words           int
}

// word takes note of a word whose length on the line is each.
func (c *Cadence) word(start, end, each quantity.Time) {
	if c.words > 0 && start-c.end >= 2*each {
		c.over()
		c.words = 0
	}
	if c.words == 0 {
		c.begun = start
		if c.Bursts == 0 {
			c.first = start
		}
	}
	c.words++
	c.end = max(c.end, end)
}

// over ends a burst.
func (c *Cadence) over() {
	if c.Bursts == 0 || c.words < c.Least {
		c.Least = c.words
	}
	c.Most = max(c.Most, c.words)
	if c.Bursts > 0 {
		gap := c.begun - c.previous
		if c.Bursts == 1 || gap < c.Shortest {
			c.Shortest = gap
		}
		c.Longest = max(c.Longest, gap)
	}
	c.previous = c.begun
	c.Bursts++
}

// Mean is the mean time from the start of one burst to the start of the next; 0 where fewer
// than two are over.
func (c *Cadence) Mean() quantity.Time {
	if c.Bursts < 2 {
		return 0
	}
	return (c.previous - c.first) / quantity.Time(c.Bursts-1)
}

// String says it in words; "" before two bursts are over.
func (c *Cadence) String() string {
	if c.Bursts < 2 {
		return ""
	}
	size := quantity.Count(c.Most, "word")
	if c.Least != c.Most {
		size = fmt.Sprintf("%d to %d words", c.Least, c.Most)
	}
	return fmt.Sprintf("%d of %s, %s apart (%s to %s)", c.Bursts, size, c.Mean().Round(4), c.Shortest.Round(3), c.Longest.Round(3))
}
