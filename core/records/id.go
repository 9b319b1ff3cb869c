package records

import (
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// ID names a record of a list that grows, whatever comes between.
type ID struct {
	Start, End quantity.Time
	ID         uint32
	Link       uint16
	Kind       record.Kind
	Seen, From record.End
}

// IDOf gives the name of a record.
func IDOf(r *record.Record) ID {
	return ID{r.Start, r.End, r.ID, r.Link, r.Kind, r.Seen, r.From}
}

// Locate gives the number of a record; false where it is no longer kept.
func (r *Reader) Locate(id ID) (int, bool) {
	for i := max(r.IndexAt(id.End), r.first); i < r.Len(); i++ {
		h := r.Head(i)
		if h.End > id.End {
			break
		}
		if h.Start == id.Start && h.Link == id.Link && h.Kind == id.Kind && h.Seen == id.Seen && h.From == id.From && h.ID == id.ID {
			return i, true
		}
	}
	return 0, false
}
