package coding

import (
	"fmt"
	"math"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Format is what the bits of a field mean.
type Format struct {
	Bits   int
	Coding Coding
	// Scale and Offset make a quantity of the number: number × Scale + Offset. Nil
	// is 1 and 0.
	Scale, Offset *big.Rat
	Unit          string
	// Codes are bits with a meaning of their own.
	Codes map[uint64]string
	// Least and Most bound what may be written; nil is no bound.
	Least, Most *big.Rat
}

// Value is what bits mean.
type Value struct {
	Raw    uint64
	Bits   int
	Number *big.Rat // nil where they stand for no number
	Code   string   // their meaning by the table
	Unit   string
	Fault  string   // why they stand for nothing
	plain  bool     // neither scale nor table: they are just bits
	step   *big.Rat // what one count is; nil is 1
}

// Scaled says whether the format makes quantities of numbers.
func (f *Format) Scaled() bool { return f.Scale != nil || f.Offset != nil || f.Unit != "" }

// Plain says whether the bits are nothing but a number without a sign.
func (f *Format) Plain() bool {
	return !f.Scaled() && len(f.Codes) == 0 && f.Coding == Unsigned
}

// Decode gives the meaning of bits.
func (f *Format) Decode(raw uint64) Value {
	v := Value{Raw: raw & mask(f.Bits), Bits: f.Bits, plain: f.Plain()}
	if c, known := f.Codes[v.Raw]; known {
		v.Code = c
		return v
	}
	if len(f.Codes) > 0 && !f.Scaled() {
		v.Fault = fmt.Sprintf("%d has no meaning in the table", v.Raw)
		return v
	}
	n, err := f.Coding.Number(v.Raw, f.Bits)
	if err != nil {
		v.Fault = err.Error()
		return v
	}
	if f.Scale != nil {
		n.Mul(n, f.Scale)
	}
	if f.Offset != nil {
		n.Add(n, f.Offset)
	}
	v.Number, v.Unit, v.step = n, f.Unit, f.Scale
	return v
}

// Words is a value that is a text.
func Words(text string) Value { return Value{Code: strconv.Quote(text)} }

// Exactly is a value that is a number without bits, with its unit.
func Exactly(r *big.Rat, unit string) Value { return Value{Number: r, Unit: unit} }

// Hex gives the bits with as many digits as they need.
func (v *Value) Hex() string { return fmt.Sprintf("0x%0*X", (v.Bits+3)/4, v.Raw) }

// Meaning gives the value in words: a quantity with its unit, or the code's meaning.
// Quantities have as many decimals as tell neighbouring counts apart, and one more.
func (v *Value) Meaning() string {
	switch {
	case v.Code != "":
		return v.Code
	case v.Number == nil:
		return v.Fault
	case v.Unit != "":
		return v.digits() + " " + v.Unit
	case v.plain && v.Bits > 4:
		return v.Hex()
	}
	return v.digits()
}

// digits writes the number as exactly as its counts are apart, at least with six digits
// that count.
func (v *Value) digits() string {
	exact := Text(v.Number)
	if v.step == nil || v.Number.IsInt() {
		return exact
	}
	step, _ := v.step.Float64()
	size, _ := v.Number.Float64()
	places := int(math.Ceil(-math.Log10(math.Abs(step)))) + 1
	if size != 0 {
		places = max(places, 5-int(math.Floor(math.Log10(math.Abs(size)))))
	}
	if _, decimals, _ := strings.Cut(exact, "."); places < 0 || places > 15 || len(decimals) <= places && !strings.Contains(exact, "e") {
		return exact
	}
	return v.Number.FloatString(places)
}

// Written is what becomes of a text that is to be written.
type Written struct {
	Value
	// Rounded: the bits stand for a number that is not quite the one that was asked
	// for; Asked is that.
	Rounded bool
	Asked   *big.Rat
}

var quantityForm = regexp.MustCompile(`^([+-]?[0-9]+(?:\.[0-9]*)?(?:/[0-9]+)?|[+-]?\.[0-9]+)(?:[eE]([+-]?[0-9]{1,9}))?\s*(.*)$`)

// noUnit is how no unit begins: what stands there is the rest of a number.
var noUnit = regexp.MustCompile(`^(?:[0-9]|[^\pL\pM%‰°'"/²³⁻¹(\[$€])`)

// mostPower bounds the powers of ten of quantities.
const mostPower = 60

// power applies the power of ten of a quantity, and holds against each other where the
// number ends and the unit begins.
func power(s string, r *big.Rat, exponent, unit string) (string, error) {
	unit = strings.TrimSpace(unit)
	if noUnit.MatchString(unit) && !strings.HasPrefix(unit, "1/") {
		return "", fmt.Errorf("%q: %q behind the number is neither a part of it nor a unit; write decimals with a point, powers as 1e3, and no marks between digits", s, unit)
	}
	if exponent == "" {
		return unit, nil
	}
	n, err := strconv.Atoi(exponent)
	if err != nil || n > mostPower || n < -mostPower {
		return "", fmt.Errorf("%q: a power of ten is at most %d", s, mostPower)
	}
	r.Mul(r, tens(n))
	return unit, nil
}

// prefixes of units, as powers of ten.
var prefixes = map[string]int{"p": -12, "n": -9, "u": -6, "µ": -6, "m": -3, "k": 3, "M": 6, "G": 9}

// Encode reads a text as a value of the field: the word of a code, a quantity, or bits
// as 0x1F or 0b101.
func (f *Format) Encode(text string) (Written, error) {
	text = strings.TrimSpace(text)
	flat := squeeze(text)
	for raw, c := range f.Codes {
		if strings.EqualFold(squeeze(c), flat) {
			return Written{Value: f.Decode(raw)}, nil
		}
	}
	if strings.HasPrefix(text, "0x") || strings.HasPrefix(text, "0b") || strings.HasPrefix(text, "0X") {
		raw, err := strconv.ParseUint(strings.ReplaceAll(text, "_", ""), 0, 64)
		switch {
		case err != nil:
			return Written{}, fmt.Errorf("%q is no number", text)
		case raw&^mask(f.Bits) != 0:
			return Written{}, fmt.Errorf("%s does not fit %d bits", text, f.Bits)
		}
		return Written{Value: f.Decode(raw)}, nil
	}
	asked, err := f.Asked(text)
	if err != nil {
		return Written{}, err
	}
	number := new(big.Rat).Set(asked)
	if f.Offset != nil {
		number.Sub(number, f.Offset)
	}
	if f.Scale != nil {
		number.Quo(number, f.Scale)
	}
	if len(f.Codes) > 0 && !f.Scaled() {
		// A field with a table takes its codes as numbers too.
		raw, _, err := Unsigned.Bits(number, f.Bits)
		if err != nil || !number.IsInt() {
			return Written{}, fmt.Errorf("%q is no value%s", text, f.known())
		}
		return Written{Value: f.Decode(raw)}, nil
	}
	raw, exact, err := f.Coding.Bits(number, f.Bits)
	if err != nil {
		least, most := f.Range()
		return Written{}, fmt.Errorf("%s is outside what the %d bits hold, %s to %s", f.Quantity(asked), f.Bits, f.Quantity(least), f.Quantity(most))
	}
	return Written{Value: f.Decode(raw), Rounded: !exact, Asked: asked}, nil
}

// Asked reads a text as a quantity of the field, in its unit or one with another prefix,
// within its bounds.
func (f *Format) Asked(text string) (*big.Rat, error) {
	asked, err := f.Amount(text)
	if err == nil && (f.Least != nil && asked.Cmp(f.Least) < 0 || f.Most != nil && asked.Cmp(f.Most) > 0) {
		return nil, fmt.Errorf("%s is outside %s", f.Quantity(asked), f.bounds())
	}
	return asked, err
}

// Amount is Asked without bounds.
func (f *Format) Amount(text string) (*big.Rat, error) {
	m := quantityForm.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return nil, fmt.Errorf("%q is no value%s", text, f.known())
	}
	asked, ok := new(big.Rat).SetString(m[1])
	if !ok {
		return nil, fmt.Errorf("%q is no number", m[1])
	}
	unit, err := power(text, asked, m[2], m[3])
	if err != nil {
		return nil, err
	}
	if unit != "" && unit != f.Unit {
		p, known := f.prefix(unit)
		if !known {
			if f.Unit == "" {
				return nil, fmt.Errorf("%q: the field has no unit%s", text, f.known())
			}
			return nil, fmt.Errorf("%q: the unit of the field is %s", text, f.Unit)
		}
		asked.Mul(asked, tens(p))
	}
	return asked, nil
}

// Range gives the least and the greatest quantity that the bits hold.
func (f *Format) Range() (least, most *big.Rat) {
	least, most = f.Coding.Range(f.Bits)
	for _, r := range []*big.Rat{least, most} {
		if f.Scale != nil {
			r.Mul(r, f.Scale)
		}
		if f.Offset != nil {
			r.Add(r, f.Offset)
		}
	}
	if least.Cmp(most) > 0 {
		return most, least
	}
	return least, most
}

// Nearest gives the bits of the quantity that is nearest to a number, of two the one that is
// farther from zero before scale and offset; beyond the range that is an end of it. Of what is
// no number it is 0.
func (f *Format) Nearest(number float64) uint64 {
	if raw, sure := f.quick(number); sure {
		return raw
	}
	n := new(big.Rat).SetFloat64(number)
	if n == nil {
		return 0
	}
	if least, most := f.Range(); n.Cmp(least) < 0 {
		n = least
	} else if n.Cmp(most) > 0 {
		n = most
	}
	if f.Offset != nil {
		n.Sub(n, f.Offset)
	}
	if f.Scale != nil {
		n.Quo(n, f.Scale)
	}
	raw, _, _ := f.Coding.Bits(n, f.Bits)
	return raw
}

// quick is Nearest in floating point, where its rounding can't matter: the steps are counted
// within 4e-7 up to a billion of them.
func (f *Format) quick(number float64) (raw uint64, sure bool) {
	if f.Coding > Signed || f.Bits > 32 {
		return 0, false
	}
	scale, offset := 1.0, 0.0
	if f.Scale != nil {
		scale, _ = f.Scale.Float64()
	}
	if f.Offset != nil {
		offset, _ = f.Offset.Float64()
	}
	steps := (number - offset) / scale
	n := math.Round(steps)
	least, most := 0.0, float64(mask(f.Bits))
	if f.Coding == Signed {
		least, most = -math.Ldexp(1, f.Bits-1), math.Ldexp(1, f.Bits-1)-1
	}
	inside := math.Abs(number)+math.Abs(offset) < 1e9*math.Abs(scale) && n >= least && n <= most
	return uint64(int64(n)) & mask(f.Bits), inside && math.Abs(math.Abs(steps-n)-0.5) > 1e-6
}

// Quantity writes a number with the unit of the format.
func (f *Format) Quantity(r *big.Rat) string {
	if f.Unit == "" {
		return Text(r)
	}
	return Text(r) + " " + f.Unit
}

func (f *Format) bounds() string {
	switch {
	case f.Least == nil:
		return "what is allowed: at most " + f.Quantity(f.Most)
	case f.Most == nil:
		return "what is allowed: at least " + f.Quantity(f.Least)
	}
	return f.Quantity(f.Least) + " to " + f.Quantity(f.Most)
}

// known lists what may be written.
func (f *Format) known() string {
	if len(f.Codes) == 0 {
		if f.Unit != "" {
			return "; write a number in " + f.Unit + ", or bits as 0x1F"
		}
		return "; write a number"
	}
	var raws []uint64
	for raw := range f.Codes {
		raws = append(raws, raw)
	}
	slices.Sort(raws)
	var out []string
	for _, raw := range raws {
		if len(out) == 12 {
			out = append(out, "…")
			break
		}
		out = append(out, f.Codes[raw])
	}
	return "; known are " + strings.Join(out, ", ")
}

// prefix reads the field's unit with a prefix.
func (f *Format) prefix(unit string) (power int, known bool) {
	for p, n := range prefixes {
		if f.Unit != "" && unit == p+f.Unit {
			return n, true
		}
		if rest, has := strings.CutPrefix(f.Unit, p); has && rest != "" && unit == rest {
			return -n, true
		}
		for q, k := range prefixes {
			if rest, has := strings.CutPrefix(f.Unit, p); has && rest != "" && unit == q+rest {
				return k - n, true
			}
		}
	}
	return 0, false
}

func tens(power int) *big.Rat {
	t := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(power, -power))), nil)
	if power < 0 {
		return new(big.Rat).SetFrac(big.NewInt(1), t)
	}
	return new(big.Rat).SetInt(t)
}

func squeeze(s string) string { return strings.Join(strings.Fields(s), " ") }

// ParseQuantity reads a scale, an offset or a bound: a number or a fraction, with a
// unit or without, as `0.25 Pa` or `1/128 °C`.
func ParseQuantity(s string) (*big.Rat, string, error) {
	m := quantityForm.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return nil, "", fmt.Errorf("%q: write a number or a fraction, and the unit after it, as 0.25 Pa or 1/128 °C", s)
	}
	r, ok := new(big.Rat).SetString(m[1])
	if !ok {
		return nil, "", fmt.Errorf("%q is no number", m[1])
	}
	unit, err := power(s, r, m[2], m[3])
	return r, unit, err
}
