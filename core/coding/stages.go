package coding

import (
	"fmt"
	"math/big"
)

// Layout says how a number stands in bytes.
type Layout struct {
	Format        // Bits of them count
	LowFirst bool // the least significant byte comes first
	Left     bool // the bits that count are the highest ones
}

// Stage is one step from bytes to a value.
type Stage struct {
	Name string `json:"name"`
	Hex  string `json:"hex,omitempty"`
	// Number is what stands there so far, exactly.
	Number string `json:"number"`
}

// Stages gives the steps from bytes to the value that they stand for: joined, aligned,
// scaled.
func (l *Layout) Stages(data []byte) ([]Stage, Value, error) {
	total := 8 * len(data)
	switch {
	case total == 0 || total > 64:
		return nil, Value{}, fmt.Errorf("%d bytes: a value takes 1 to 8", len(data))
	case l.Bits < 1 || l.Bits > total:
		return nil, Value{}, fmt.Errorf("%d bits of %d bytes: take 1 to %d", l.Bits, len(data), total)
	}
	if err := l.Coding.Check(l.Bits); err != nil {
		return nil, Value{}, err
	}
	joined := uint64(0)
	for i := range data {
		k := i
		if l.LowFirst {
			k = len(data) - 1 - i
		}
		joined = joined<<8 | uint64(data[k])
	}
	var out []Stage
	// A coding that moves with its bits is read over all of them too.
	whole := l.Coding
	if !l.Left || whole.Check(total) != nil || whole != Signed && whole != Unsigned {
		whole = Unsigned
	}
	n, err := whole.Number(joined, total)
	if err != nil {
		return nil, Value{}, err
	}
	out = append(out, Stage{"joined", fmt.Sprintf("0x%0*X", len(data)*2, joined), Text(n)})
	raw := joined
	if l.Left {
		raw >>= total - l.Bits
	}
	raw &= mask(l.Bits)
	v := l.Decode(raw)
	if n, err = l.Coding.Number(raw, l.Bits); err != nil {
		return out, v, nil // the value says why
	}
	out = append(out, Stage{fmt.Sprintf("%d bits, %s", l.Bits, l.Coding), v.Hex(), Text(n)})
	if v.Number != nil && l.Scaled() {
		out = append(out, Stage{"scaled", "", Text(v.Number) + unitBehind(v.Unit)})
		if !v.Number.IsInt() {
			out = append(out, Stage{"exactly", "", v.Number.RatString() + unitBehind(v.Unit)}, Stage{"rounded", "", new(big.Rat).SetInt(nearest(v.Number)).RatString() + unitBehind(v.Unit)})
		}
	}
	return out, v, nil
}

func unitBehind(unit string) string {
	if unit == "" {
		return ""
	}
	return " " + unit
}

// Bytes gives the bytes of a number of them in which a value stands.
func (l *Layout) Bytes(raw uint64, n int) []byte {
	if l.Left {
		raw <<= 8*n - l.Bits
	}
	out := make([]byte, n)
	for i := range n {
		k := n - 1 - i
		if l.LowFirst {
			k = i
		}
		out[i] = byte(raw >> (8 * k))
	}
	return out
}
