// Package coding knows how numbers stand in bits: two's complement, offset binary,
// Gray code and others, with scale, offset and unit, and tables of codes. What it
// gives is exact: numbers are fractions of whole numbers.
package coding

import (
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"
)

// Coding is how a number stands in bits.
type Coding uint8

// The codings.
const (
	Unsigned      Coding = iota
	Signed               // two's complement
	OffsetBinary         // 0 stands at half of the range
	SignMagnitude        // the highest bit is the sign
	Gray                 // neighbours differ in one bit
	BCD                  // four bits a decimal digit, or what is left of them for the first
	Float                // IEEE 754, of 16, 32 or 64 bits
)

var names = []string{"unsigned", "signed", "offset-binary", "sign-magnitude", "gray", "bcd", "float"}

// Names lists the codings as files write them.
func Names() []string { return slices.Clone(names) }

func (c Coding) String() string { return names[c] }

// Parse is the inverse of String.
func Parse(s string) (Coding, error) {
	if i := slices.Index(names, s); i >= 0 {
		return Coding(i), nil
	}
	return 0, fmt.Errorf("%q is no coding; known are %s", s, strings.Join(names, ", "))
}

// Check says whether a coding can stand in a number of bits.
func (c Coding) Check(width int) error {
	switch {
	case width < 1 || width > 64:
		return fmt.Errorf("a number has 1 to 64 bits, not %d", width)
	case c == Float && width != 16 && width != 32 && width != 64:
		return fmt.Errorf("a float has 16, 32 or 64 bits, not %d", width)
	case (c == Signed || c == OffsetBinary || c == SignMagnitude) && width < 2:
		return fmt.Errorf("a number of %d bits with a sign", width)
	}
	return nil
}

func mask(width int) uint64 {
	if width >= 64 {
		return math.MaxUint64
	}
	return 1<<width - 1
}

func whole(v uint64) *big.Int { return new(big.Int).SetUint64(v) }

// Number gives the number that bits stand for; an error where they stand for none.
func (c Coding) Number(raw uint64, width int) (*big.Rat, error) {
	raw &= mask(width)
	half := uint64(1) << (width - 1)
	n := new(big.Int)
	switch c {
	case Signed:
		n.Sub(whole(raw), new(big.Int).Lsh(whole(raw>>(width-1)), uint(width)))
	case OffsetBinary:
		n.Sub(whole(raw), whole(half))
	case SignMagnitude:
		n.SetUint64(raw &^ half)
		if raw&half != 0 {
			n.Neg(n)
		}
	case Gray:
		for s := raw >> 1; s != 0; s >>= 1 {
			raw ^= s
		}
		n.SetUint64(raw)
	case BCD:
		ten := uint64(1)
		v := uint64(0)
		for i := 0; i < width; i += 4 {
			d := raw >> i & 0xf
			if d > 9 {
				return nil, fmt.Errorf("%0*X is no decimal number: a digit is %X", (width+3)/4, raw, d)
			}
			v += d * ten
			ten *= 10
		}
		n.SetUint64(v)
	case Float:
		f := floatOf(raw, width)
		r := new(big.Rat).SetFloat64(f)
		if r == nil {
			return nil, fmt.Errorf("%0*X is %v, not a number to calculate with", width/4, raw, f)
		}
		return r, nil
	default:
		n.SetUint64(raw)
	}
	return new(big.Rat).SetInt(n), nil
}

// Range gives the least and the greatest number of a coding.
func (c Coding) Range(width int) (least, most *big.Rat) {
	half := uint64(1) << (width - 1)
	first, last := uint64(0), mask(width)
	switch c {
	case Signed:
		first, last = half, half-1
	case SignMagnitude:
		first, last = mask(width), half-1
	case Gray:
		last = half
	case BCD: // the top digit may have fewer than four bits
		last = 0
		for i := 0; i < width; i += 4 {
			last |= min(9, mask(width)>>i&0xf) << i
		}
	case Float:
		end := math.MaxFloat64
		switch width {
		case 16:
			end = 65504
		case 32:
			end = math.MaxFloat32
		}
		return new(big.Rat).SetFloat64(-end), new(big.Rat).SetFloat64(end)
	}
	least, _ = c.Number(first, width)
	most, _ = c.Number(last, width)
	return least, most
}

// Bits gives the bits of the number that is nearest to one, and whether it is that
// number; an error where it is out of range.
func (c Coding) Bits(number *big.Rat, width int) (raw uint64, exact bool, err error) {
	least, most := c.Range(width)
	if c == Float {
		return floatBits(number, width, most)
	}
	n := nearest(number)
	r := new(big.Rat).SetInt(n)
	if r.Cmp(least) < 0 || r.Cmp(most) > 0 {
		return 0, false, fmt.Errorf("%s is outside %s to %s", Text(number), Text(least), Text(most))
	}
	exact = r.Cmp(number) == 0
	half := uint64(1) << (width - 1)
	switch c {
	case Signed:
		raw = new(big.Int).And(n, whole(mask(width))).Uint64()
	case OffsetBinary:
		raw = new(big.Int).Add(n, whole(half)).Uint64()
	case SignMagnitude:
		raw = new(big.Int).Abs(n).Uint64()
		if n.Sign() < 0 {
			raw |= half
		}
	case Gray:
		v := n.Uint64()
		raw = v ^ v>>1
	case BCD:
		v := n.Uint64()
		for i := 0; v > 0; i += 4 {
			raw |= v % 10 << i
			v /= 10
		}
	default:
		raw = n.Uint64()
	}
	return raw, exact, nil
}

// nearest rounds half away from zero.
func nearest(r *big.Rat) *big.Int {
	half := big.NewRat(1, 2)
	if r.Sign() < 0 {
		half.Neg(half)
	}
	x := new(big.Rat).Add(r, half)
	return new(big.Int).Quo(x.Num(), x.Denom())
}

func floatOf(raw uint64, width int) float64 {
	switch width {
	case 32:
		return float64(math.Float32frombits(uint32(raw)))
	case 64:
		return math.Float64frombits(raw)
	}
	sign, exp, frac := raw>>15&1, int(raw>>10&0x1f), float64(raw&0x3ff)
	var f float64
	switch exp {
	case 0:
		f = math.Ldexp(frac, -24)
	case 0x1f:
		f = math.Inf(1)
		if frac != 0 {
			f = math.NaN()
		}
	default:
		f = math.Ldexp(1024+frac, exp-25)
	}
	if sign == 1 {
		f = -f
	}
	return f
}

func floatBits(number *big.Rat, width int, most *big.Rat) (raw uint64, exact bool, err error) {
	if new(big.Rat).Abs(number).Cmp(most) > 0 {
		return 0, false, fmt.Errorf("%s is beyond the largest float of %d bits", Text(number), width)
	}
	switch width {
	case 64:
		f, exact := number.Float64()
		return math.Float64bits(f), exact, nil
	case 32:
		f, exact := number.Float32()
		return uint64(math.Float32bits(f)), exact, nil
	}
	// Of the numbers with 16 bits the nearest one is looked for: they rise with
	// their bits.
	size := new(big.Rat).Abs(number)
	low, high := uint64(0), uint64(0x7bff)
	at := func(v uint64) *big.Rat { return new(big.Rat).SetFloat64(floatOf(v, 16)) }
	for low < high {
		mid := (low + high + 1) / 2
		if at(mid).Cmp(size) <= 0 {
			low = mid
		} else {
			high = mid - 1
		}
	}
	if low < 0x7bff {
		down := new(big.Rat).Sub(size, at(low))
		up := new(big.Rat).Sub(at(low+1), size)
		if c := up.Cmp(down); c < 0 || c == 0 && low&1 == 1 {
			low++
		}
	}
	exact = at(low).Cmp(size) == 0
	if number.Sign() < 0 {
		low |= 0x8000
	}
	return low, exact, nil
}

// digits is how many digits a number without an end is written with.
const digits = 9

// Text writes a number: exactly where it ends within 18 digits, else with 9 that
// count.
func Text(r *big.Rat) string {
	if r.IsInt() {
		return r.Num().String()
	}
	d := new(big.Int).Set(r.Denom())
	twos, fives := 0, 0
	for d.Bit(0) == 0 {
		d.Rsh(d, 1)
		twos++
	}
	five, rest := big.NewInt(5), new(big.Int)
	for {
		q, m := new(big.Int).QuoRem(d, five, rest)
		if m.Sign() != 0 {
			break
		}
		d = q
		fives++
	}
	places := max(twos, fives)
	if d.Cmp(big.NewInt(1)) == 0 && places <= 15 {
		if s := r.FloatString(places); len(s) <= 20 {
			return s
		}
	}
	f, _ := r.Float64()
	return fmt.Sprintf("%.*g", digits, f)
}
