package quantity

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

var (
	scaled = regexp.MustCompile(`^([0-9]+(?:\.[0-9]*)?|\.[0-9]+) ?([pnuµμmkM]?)(V|F|Ohm|Ω|m|)$`)
	// infix is a number with its prefix in the place of the point, as 4k7.
	infix = regexp.MustCompile(`^([0-9]+)([pnuµμmkM])([0-9]+)(V|F|Ohm|Ω|)$`)
)

var prefixes = map[string]float64{"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "μ": 1e-6, "m": 1e-3, "": 1, "k": 1e3, "M": 1e6}

// usual are the ranges outside of which a value is questioned, with the unit in which
// a number without one is asked about.
var usual = map[string]struct {
	least, most float64
	asked       string
}{
	"V": {1e-3, 1e4, "V"}, "F": {1e-15, 1e-2, "pF"}, "Ω": {1e-3, 1e9, "Ω"}, "m": {1e-4, 1e6, "m"},
}

// ParseScaled reads a value above 0 with a prefix and its unit, V, F, Ω or m (of
// length); Ohm stands for Ω. The Ω may be left out, and so may the unit in the form 4k7. Other
// numbers without a unit are refused with a question.
func ParseScaled(text, unit string) (float64, error) {
	limits := usual[unit]
	bad := &Error{Text: text, What: "value in " + unit, Reason: "write a number above 0 with its unit, as " + map[string]string{"V": "3.3 V", "F": "200 pF", "Ω": "2.2 kΩ", "m": "25 m"}[unit]}
	trimmed := strings.TrimSpace(text)
	number, prefix, got := trimmed, "", ""
	if m := infix.FindStringSubmatch(trimmed); m != nil && unit != "m" {
		number, prefix, got = m[1]+"."+m[3], m[2], m[4]
	} else if m := scaled.FindStringSubmatch(trimmed); m != nil {
		number, prefix, got = m[1], m[2], m[3]
		if unit == "m" && got == "" && prefix == "m" {
			prefix, got = "", "m" // a length has no prefix, so that m is never a milli
		}
	} else {
		return 0, bad
	}
	if got == "Ohm" {
		got = "Ω"
	}
	v, err := strconv.ParseFloat(number, 64)
	switch {
	case err != nil || v <= 0 || got != "" && got != unit || unit == "m" && prefix != "":
		return 0, bad
	case got == "" && prefix == "" && unit != "Ω":
		bad.Reason, bad.Meant = "the unit is missing", number+" "+limits.asked
		return 0, bad
	case got == "" && unit != "Ω" && infix.FindString(trimmed) == "":
		bad.Reason, bad.Meant = "the unit is missing", number+" "+prefix+unit
		return 0, bad
	}
	v *= prefixes[prefix]
	if v < limits.least || v > limits.most {
		bad.Reason = fmt.Sprintf("outside the usual range of %s to %s", Scaled(limits.least, unit), Scaled(limits.most, unit))
		return 0, bad
	}
	return v, nil
}

// Scaled prints a value with the prefix that leaves one to three digits before the
// point.
func Scaled(v float64, unit string) string {
	if unit == "m" {
		return fmt.Sprintf("%.3g m", v)
	}
	for _, p := range []string{"M", "k", "", "m", "µ", "n", "p"} {
		if v >= 0.9995*prefixes[p] || p == "p" {
			return fmt.Sprintf("%.3g %s%s", v/prefixes[p], p, unit)
		}
	}
	return ""
}
