package quantity

import (
	"errors"
	"fmt"
	"math"
	"math/big"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode"
)

// splitUnit separates the number at the front of s from the unit behind it.
func splitUnit(s string) (num, unit string) {
	i := 0
	for i < len(s) {
		c := s[i]
		switch {
		case c >= '0' && c <= '9', c == '.', c == '_', c == ' ':
		case (c == '+' || c == '-') && (i == 0 || s[i-1] == 'e' || s[i-1] == 'E'):
		case (c == 'e' || c == 'E') && i > 0 && i+1 < len(s) && strings.ContainsRune("0123456789+-", rune(s[i+1])):
		default:
			return clean(s[:i]), strings.TrimSpace(s[i:])
		}
		i++
	}
	return clean(s), ""
}

func clean(num string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || unicode.IsSpace(r) {
			return -1
		}
		return r
	}, num)
}

func number(s string) (float64, error) {
	if s == "" {
		return 0, errors.New("no number in it")
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || math.IsInf(f, 0) || math.IsNaN(f) {
		return 0, fmt.Errorf("%q is not a number", s)
	}
	return f, nil
}

func pow10(n int) *big.Rat {
	p := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(n, -n))), nil)
	if n < 0 {
		return new(big.Rat).SetFrac(big.NewInt(1), p)
	}
	return new(big.Rat).SetInt(p)
}

// parse reads a number with a unit and gives the nearest base count.
func (d *dimension) parse(s string) (int64, error) {
	t := strings.TrimSpace(s)
	num, u := splitUnit(t)
	if _, err := number(num); err != nil {
		return 0, &Error{Text: s, What: d.what, Reason: err.Error()}
	}
	exp, known := d.spelt[u]
	if !known && u != "" {
		return 0, &Error{Text: s, What: d.what, Reason: fmt.Sprintf("unknown unit %q; use %s", u, d.unitList()), Meant: d.nearUnit(num, u)}
	}
	if u == "" && !d.bareOK {
		return 0, &Error{Text: s, What: d.what, Reason: "the unit is missing", Meant: d.ask(num)}
	}
	n, err := count(num, exp)
	if err != nil {
		return 0, &Error{Text: s, What: d.what, Reason: err.Error()}
	}
	if d.high != 0 && n != 0 && (n < d.low || n > d.high) {
		return 0, d.slip(s, num, exp, n)
	}
	return n, nil
}

// ask gives a number without a unit in the one that is probably meant: the dimension's
// usual one, or, where that gives nothing sensible, the one that does.
func (d *dimension) ask(num string) string {
	least, most := d.low, d.high
	if most == 0 {
		least, most = 1, d.sensible
	}
	for _, u := range append([]string{d.bare}, d.names()...) {
		n, err := count(num, d.spelt[u])
		if err != nil || n < least || most != 0 && n > most {
			continue
		}
		if u == d.bare {
			return num + " " + u
		}
		return d.print(n)
	}
	return num + " " + d.bare
}

// names gives the units, the smallest first.
func (d *dimension) names() []string {
	var out []string
	for _, u := range slices.Backward(d.units) {
		if u.exp >= d.bareExp() {
			out = append(out, u.name)
		}
	}
	return out
}

// count gives num × 10^exp as the nearest integer. The decimal exponent is
// bounded first, since an exact rational of 1e999999999 would fill the memory.
func count(num string, exp int) (int64, error) {
	f, err := number(num)
	if err != nil {
		return 0, err
	}
	if v := math.Abs(f) * math.Pow(10, float64(exp)); v > 2*math.MaxInt64 {
		return 0, errors.New("it is too large")
	} else if v < 0.4 {
		mantissa, _, _ := strings.Cut(strings.ToLower(num), "e")
		if strings.ContainsAny(mantissa, "123456789") {
			return 0, errors.New("it is too small to tell from 0")
		}
		return 0, nil
	}
	r, ok := new(big.Rat).SetString(num)
	if !ok {
		return 0, fmt.Errorf("%q is not a number", num)
	}
	r.Mul(r, pow10(exp))
	half := big.NewRat(1, 2)
	if r.Sign() < 0 {
		half.Neg(half)
	}
	r.Add(r, half)
	q := new(big.Int).Quo(r.Num(), r.Denom())
	if !q.IsInt64() {
		return 0, errors.New("it is too large")
	}
	return q.Int64(), nil
}

func (d *dimension) slip(s, num string, exp int, n int64) error {
	e := &Error{Text: s, What: d.what, Reason: fmt.Sprintf("outside the usual range of %s to %s", d.print(d.low), d.print(d.high))}
	step := -3
	if n < d.low {
		step = 3
	}
	for try := exp + step; try >= 0 && try <= 15; try += step {
		m, err := count(num, try)
		if err != nil || m < d.low || m > d.high {
			continue
		}
		for _, u := range d.units {
			if u.exp == try {
				e.Meant = num + " " + u.name
				return e
			}
		}
	}
	return e
}

func (d *dimension) unitList() string {
	var names []string
	for _, u := range d.units[:min(4, len(d.units))] {
		names = append(names, u.name)
	}
	return strings.Join(names, ", ")
}

func (d *dimension) nearUnit(num, u string) string {
	var spellings []string
	for k := range d.spelt {
		if k != "" {
			spellings = append(spellings, k)
		}
	}
	sort.Strings(spellings)
	for _, k := range spellings {
		if strings.EqualFold(k, u) {
			return num + " " + k
		}
	}
	return ""
}

// print gives the shortest exact decimal in the largest unit of which the
// value holds at least one.
func (d *dimension) print(n int64) string {
	u := d.unitFor(n)
	neg := n < 0
	digits := strconv.FormatUint(absU(n), 10)
	for len(digits) <= u.exp {
		digits = "0" + digits
	}
	whole, frac := digits[:len(digits)-u.exp], strings.TrimRight(digits[len(digits)-u.exp:], "0")
	s := whole
	if frac != "" {
		s += "." + frac
	}
	if neg {
		s = "-" + s
	}
	return s + " " + u.name
}

func (d *dimension) round(n int64, digits int) string {
	u := d.unitFor(n)
	v := float64(n) / math.Pow(10, float64(u.exp))
	before := 1
	if a := math.Abs(v); a >= 1 {
		before = int(math.Log10(a)) + 1
	}
	return fmt.Sprintf("%.*f %s", max(0, digits-before), v, u.name)
}

func (d *dimension) unitFor(n int64) unit {
	if n == 0 {
		for _, u := range d.units {
			if u.exp == d.bareExp() {
				return u
			}
		}
	}
	for _, u := range d.units {
		if absU(n) >= pow10u(u.exp) {
			return u
		}
	}
	return d.units[len(d.units)-1]
}

func (d *dimension) bareExp() int {
	if d.what == "time" {
		return 12
	}
	return 6
}

func absU(n int64) uint64 {
	if n < 0 {
		return uint64(-(n + 1)) + 1
	}
	return uint64(n)
}

func pow10u(n int) uint64 {
	p := uint64(1)
	for range n {
		p *= 10
	}
	return p
}

func trimFloat(s string) string {
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	if s == "-0" {
		s = "0"
	}
	return s
}
