package i2c

import (
	"encoding/hex"
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// End is a device's end as its sheet words it.
type End struct {
	Name    string
	Address Address // seven bits
	Most    quantity.Rate
	Load    float64 // capacitance of its pins, farad
	// Stretch is the longest time for which it holds the clock low.
	Stretch quantity.Time
	// Pointer is how many bytes set the pointer into what it holds; Holds are its
	// bytes after power-up.
	Pointer int
	Holds   []byte
}

// Named is the end of a part with another name.
func (e End) Named(name string) any {
	e.Name = name
	return e
}

// At is the end of a part at another address.
func (e End) At(a Address) End {
	e.Address = a
	return e
}

var loadType = doc.Scalar("a capacitance, as 10 pF", func(s string) (float64, error) { return quantity.ParseScaled(s, "F") })

// EndSchema lists what a device file says of an i2c device.
var EndSchema = doc.Map(
	doc.Key{Name: "address", Doc: "7-bit address, without the read bit, as 0x4B, or one of ten bits, as 10-bit 0x1A3", Type: AddressType, Required: true},
	doc.Key{Name: "most", Doc: "the most that its clock may run at", Type: doc.RateType, Required: true},
	doc.Key{Name: "capacitance", Doc: "of each of its pins", Type: loadType, Default: "10 pF"},
	doc.Key{Name: "pointer", Doc: "bytes at the start of a write that set the pointer to what is read or written", Type: doc.Int(0, 2), Default: "1"},
	doc.Key{Name: "holds", Doc: "its bytes from pointer 0 on after power-up, in hex", Type: doc.Scalar("bytes in hex", parseHolds), Default: "FF"},
	doc.Key{Name: "stretch", Doc: "longest time for which it holds the clock low", Type: doc.TimeType, Default: "0 ns"},
)

func parseHolds(s string) ([]byte, error) {
	b, err := hex.DecodeString(strings.Join(strings.Fields(s), ""))
	if err != nil || len(b) == 0 || len(b) > 65536 {
		return nil, fmt.Errorf("%q: write 1 to 65536 bytes in hex, as C5 00 1F", s)
	}
	return b, nil
}

// ParseEnd reads an end that was validated with EndSchema.
func ParseEnd(n *doc.Node, name string) (End, error) {
	return End{
		Name: name, Address: doc.Of[Address](n, "address"), Most: doc.Of[quantity.Rate](n, "most"), Load: doc.Of[float64](n, "capacitance"),
		Pointer: doc.Of[int](n, "pointer"), Holds: doc.Of[[]byte](n, "holds"), Stretch: doc.Of[quantity.Time](n, "stretch"),
	}, nil
}
