package uart

import (
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// End is a device's end as its sheet words it.
type End struct {
	Settings
	// Tolerance is how far the part's own clock may be off.
	Tolerance quantity.PPM
	// Holds is how many received characters wait in the part, Each how long it works on
	// one; 0 of a part that takes whatever comes.
	Holds int
	Each  quantity.Time
}

// EndSchema lists what a device file says of a part on a character link.
var EndSchema = Schema.With(
	doc.Key{Name: "tolerance", Doc: "how far its clock may be off, as 1 %", Type: doc.PPMType, Default: "0 ppm"},
	doc.Key{Name: "queue", Doc: "what it can take: characters that wait in it, and the time that it works on one; absent: whatever comes", Type: doc.Map(
		doc.Key{Name: "holds", Doc: "characters", Type: doc.Int(1, 65536), Required: true},
		doc.Key{Name: "each", Doc: "time for one", Type: doc.TimeType, Required: true},
	)},
)

// ParseEnd reads an end that was validated with EndSchema.
func ParseEnd(n *doc.Node) End {
	e := End{Settings: Parse(n), Tolerance: doc.Of[quantity.PPM](n, "tolerance")}
	if q := n.Get("queue"); q != nil {
		e.Holds, e.Each = doc.Of[int](q, "holds"), max(doc.Of[quantity.Time](q, "each"), quantity.Nanosecond)
	}
	return e
}
