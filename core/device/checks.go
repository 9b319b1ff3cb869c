package device

import (
	"slices"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/packet"
)

// checkSums are the keys of how a check is worked out.
func checkSums() []doc.Key {
	return []doc.Key{
		{Name: "kind", Doc: "how it is worked out", Type: doc.Enum("crc", "sum", "xor"), Default: "crc"},
		{Name: "bits", Doc: "its size", Type: doc.Int(4, 32), Required: true},
		{Name: "polynomial", Doc: "of a crc, without its highest term", Type: numberType, Default: "0"},
		{Name: "start", Doc: "what the register, the sum or the byte holds before", Type: numberType, Default: "0"},
		{Name: "final", Doc: "what the result is exclusive or", Type: numberType, Default: "0"},
		{Name: "reflected", Doc: "the least significant bit of each byte goes first", Type: doc.YesNo, Default: "no"},
		{Name: "negated", Doc: "the two's complement of the sum is sent", Type: doc.YesNo, Default: "no"},
	}
}

// checkKeys say what the cell check is, with the stretches that a bus knows, the first one
// where none is named.
func checkKeys(over ...string) func() []doc.Key {
	return func() []doc.Key {
		return []doc.Key{{Name: "check", Doc: "how the cell check of patterns is worked out", Type: doc.Map(append(checkSums(),
			doc.Key{Name: "over", Doc: "what it covers: the same line from the check before on, or from the beginning of the span, or all since the start, with addresses", Type: doc.Enum(over...), Default: over[0]},
		)...)}}
	}
}

// checkOf reads how a check is worked out.
func checkOf(x *mapper, c *doc.Node) *packet.Check {
	out := &packet.Check{Bits: doc.Of[int](c, "bits"), Reflected: doc.Of[bool](c, "reflected"), Negated: doc.Of[bool](c, "negated"),
		Kind: packet.Kind(slices.Index([]string{"crc", "sum", "xor"}, doc.Of[string](c, "kind"))),
	}
	for key, to := range map[string]*uint32{"polynomial": &out.Polynomial, "start": &out.Start, "final": &out.Final} {
		v := doc.Of[uint64](c, key)
		if v > 1<<32-1 {
			x.fault("bad-check", c.Get(key), "write at most 32 bits", "%s: 0x%X", key, v)
		}
		*to = uint32(v)
		if key == "polynomial" && c.Get(key) != nil && out.Kind != packet.CRC {
			x.fault("bad-check", c.Get(key), "leave it out", "%s belongs to a crc", key)
		}
	}
	if c.Get("reflected") != nil && out.Kind != packet.CRC {
		x.fault("bad-check", c.Get("reflected"), "leave it out", "reflected belongs to a crc")
	}
	if c.Get("negated") != nil && out.Kind != packet.Sum {
		x.fault("bad-check", c.Get("negated"), "leave it out", "negated belongs to a sum")
	}
	return out
}

var overs = map[string]access.Over{"word": access.OverWord, "line": access.OverLine, "all": access.OverAll}

// checking gives what the cell check is; nil where the file does not say.
func (x *mapper) checking(d *Device, root *doc.Node) *access.Checking {
	n := root.Get("check")
	if n == nil {
		return nil
	}
	c := checkOf(x, n)
	if err := c.Valid(); err != nil {
		x.fault("bad-check", n, "correct the check", "%v", err)
	}
	out := &access.Checking{Bits: c.Bits, Over: overs[doc.Of[string](n, "over")], Of: func(data []byte) uint64 { return uint64(c.Of(data)) }}
	address := reaches[d.Kind.Name].address
	out.Address = func(reads bool) []byte {
		if address == nil {
			return nil
		}
		return address(d.End, reads)
	}
	return out
}
