package quantity

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

var scaled = regexp.MustCompile(`^([0-9]+(?:\.[0-9]*)?|\.[0-9]+) ?([pnuµmkM]?)(V|F|Ohm|Ω|m|)$`)

var prefixes = map[string]float64{"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "m": 1e-3, "": 1, "k": 1e3, "M": 1e6}

// ParseScaled reads a value above 0 with a prefix and its unit, V, F, Ω or m (of
// length); Ohm stands for Ω, and the unit may be left out where a prefix says
// enough, as 2.2k.
func ParseScaled(text, unit string) (float64, error) {
	bad := &Error{Text: text, What: "value in " + unit, Reason: "write a number above 0, as 200p" + unit + " or 2.2k" + unit}
	trimmed := strings.TrimSpace(text)
	if unit == "m" {
		// A length has no prefix, so that m is never a milli.
		v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(trimmed, "m")), 64)
		if err != nil || !(v > 0 && v < 1e9) {
			bad.Reason = "write a length above 0, as 25 m"
			return 0, bad
		}
		return v, nil
	}
	m := scaled.FindStringSubmatch(trimmed)
	if m == nil {
		return 0, bad
	}
	if m[3] == "Ohm" {
		m[3] = "Ω"
	}
	v, err := strconv.ParseFloat(m[1], 64)
	if err != nil || v <= 0 || m[3] != "" && m[3] != unit {
		return 0, bad
	}
	return v * prefixes[m[2]], nil
}

// Scaled prints a value with the prefix that leaves one to three digits before the
// point.
func Scaled(v float64, unit string) string {
	for _, p := range []string{"M", "k", "", "m", "µ", "n", "p"} {
		if v >= 0.9995*prefixes[p] || p == "p" {
			return fmt.Sprintf("%.3g %s%s", v/prefixes[p], p, unit)
		}
	}
	return ""
}
