package device

import "gavrix.org/gavrix/core/quantity"

// Odd is what one very part does otherwise than its file says.
type Odd struct {
	// Jobs are how long its jobs take; quantity.Forever: they never end.
	Jobs map[string]quantity.Time
	// Write is how long writing its memory takes; 0: as its file says.
	Write quantity.Time
	// Bad are bytes of its memory that take nothing.
	Bad map[uint64]bool
	// Parts are how many are in its chain; 0: as its file says.
	Parts int
}

// lasts gives how long a job of this part takes from now on.
func (p *Part) lasts(j *Job) quantity.Time {
	if t, odd := p.odd.Jobs[j.Name]; odd {
		return t
	}
	return j.Lasting(p.number)
}
