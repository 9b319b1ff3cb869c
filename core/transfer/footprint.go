package transfer

import "fmt"

// Footprint is one side of a channel's first elements: for each place, which elements trod
// on it, counted from 1.
type Footprint struct {
	Side   string // unit, memory
	Places []string
}

// Footprints follows the first elements of a DMA transfer, so many at most, over the places
// of both sides: a side that does not move on treads in place. Nil where no engine moves the
// words.
func (p *Plan) Footprints(beats, places int) []Footprint {
	if p.Means != DMA {
		return nil
	}
	n := min(beats, max(p.Count, 1))
	side := func(name string, width int, moves bool) Footprint {
		width = max(width/8, 1)
		f := Footprint{Side: name, Places: make([]string, places)}
		firsts, lasts := make([]int, places), make([]int, places)
		for k := range n {
			at := 0
			if moves {
				at = k * width
			}
			for b := range width {
				if at+b < places {
					if firsts[at+b] == 0 {
						firsts[at+b] = k + 1
					}
					lasts[at+b] = k + 1
				}
			}
		}
		for i := range places {
			switch {
			case firsts[i] == 0:
			case firsts[i] == lasts[i]:
				f.Places[i] = fmt.Sprint(firsts[i])
			default:
				f.Places[i] = fmt.Sprintf("%d-%d", firsts[i], lasts[i])
			}
		}
		return f
	}
	unit, memory := side("unit", p.UnitWidth, p.UnitSteps), side("memory", p.MemoryWidth, p.MemorySteps)
	if p.FromUnit {
		return []Footprint{unit, memory}
	}
	return []Footprint{memory, unit}
}
