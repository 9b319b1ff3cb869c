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
}

// EndSchema lists what a device file says of a part on a character link.
var EndSchema = Schema.With(
	doc.Key{Name: "tolerance", Doc: "how far its clock may be off, as 1 %", Type: doc.PPMType, Default: "0 ppm"},
)

// ParseEnd reads an end that was validated with EndSchema.
func ParseEnd(n *doc.Node) End {
	return End{Parse(n), doc.Of[quantity.PPM](n, "tolerance")}
}
