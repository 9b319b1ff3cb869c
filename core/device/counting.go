package device

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// Count is a counter of several digits, as a clock's: at each beat the first goes up by
// one, and when it would reach its modulus it begins anew and the next goes up. What is
// written to a digit stays, and it goes on from there.
type Count struct {
	Every  quantity.Time
	Digits []Digit
}

// Digit is a value that counts from First to First + Modulus - 1.
type Digit struct {
	Value          *Value
	First, Modulus uint64
}

var digitsType = doc.Scalar("names of values with the number at which each begins anew, the fastest first: SECONDS 60, MINUTES 60, HOURS 24", func(s string) ([]string, error) {
	parts := strings.Split(s, ",")
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
		if n := len(strings.Fields(parts[i])); n != 2 {
			return nil, fmt.Errorf("%q: write a name and a number, as SECONDS 60, or the first and the last, as DAY 1..31", parts[i])
		}
	}
	return parts, nil
})

// countsKey is what counts by itself in a simulated part.
var countsKey = doc.Key{Name: "counts", Doc: "what counts by itself, and goes on from what is written, as a clock", Type: doc.MapOf(doc.Map(
	doc.Key{Name: "every", Doc: "time from one count to the next", Type: doc.TimeType, Required: true},
	doc.Key{Name: "digits", Doc: "values that count, the fastest first", Type: digitsType, Required: true},
))}

// counts reads what counts by itself.
func (x *mapper) counts(n *doc.Node) []Count {
	var out []Count
	for _, c := range n.Get("counts").All() {
		count := Count{Every: doc.Of[quantity.Time](c, "every")}
		if count.Every < quantity.Microsecond {
			x.fault("count-too-fast", c.Get("every"), "write at least 1 µs", "%s counts every %s", c.Key, count.Every)
			continue
		}
		for _, part := range doc.As[[]string](c.Get("digits")) {
			w := strings.Fields(part)
			v := x.bitsValue(c.Get("digits"), w[0])
			if v == nil {
				continue
			}
			d := Digit{Value: v}
			first, last, ranged := strings.Cut(w[1], "..")
			from, err := strconv.ParseUint(first, 0, 32)
			if d.Modulus = from; ranged && err == nil {
				var to uint64
				to, err = strconv.ParseUint(last, 0, 32)
				d.First, d.Modulus = from, max(to+1, from)-from
			}
			if err != nil || d.Modulus < 2 {
				x.fault("bad-digit", c.Get("digits"), "write from which number on it begins anew, as 60, or the first and the last, as 1..31", "%s", part)
				continue
			}
			if _, exact, err := v.Coding.Bits(new(big.Rat).SetInt(new(big.Int).SetUint64(d.First+d.Modulus-1)), v.Bits); err != nil || !exact {
				x.fault("bad-digit", c.Get("digits"), "give it more bits, or count less far", "%s does not hold %d", v.Name, d.First+d.Modulus-1)
				continue
			}
			count.Digits = append(count.Digits, d)
		}
		out = append(out, count)
	}
	return out
}

// count lets n beats pass for what the registers of a part hold. A digit that holds what
// is no number of its own goes on from its first.
func (p *Part) count(c *Count, n uint64) {
	for _, d := range c.Digits {
		if n == 0 {
			return
		}
		at := uint64(0)
		if r, err := d.Value.Coding.Number(d.Value.Of(p.content), d.Value.Bits); err == nil && r.IsInt() && r.Sign() >= 0 && r.Num().Uint64() >= d.First {
			at = (r.Num().Uint64() - d.First) % d.Modulus
		}
		at += n
		n = at / d.Modulus
		raw, _, err := d.Value.Coding.Bits(new(big.Rat).SetInt(new(big.Int).SetUint64(d.First+at%d.Modulus)), d.Value.Bits)
		if err == nil {
			p.put(d.Value, raw)
		}
	}
}
