// Package quantity holds the physical quantities of a bench (times,
// frequencies, bit rates and relative errors), parses them with their units
// and prints them so that parsing the print gives the same value back.
//
// A quantity is an integer count of a small unit, so it compares, adds and
// travels through files without rounding.
package quantity

import (
	"fmt"
	"math"
	"strings"
)

// Time is a time in picoseconds, as a rule since the start of a capture.
// Its range is about ±106 days.
type Time int64

// Common times.
const (
	Picosecond  Time = 1
	Nanosecond       = 1000 * Picosecond
	Microsecond      = 1000 * Nanosecond
	Millisecond      = 1000 * Microsecond
	Second           = 1000 * Millisecond

	// Forever is later than every time of a capture.
	Forever Time = math.MaxInt64
)

// Seconds gives t in seconds.
func (t Time) Seconds() float64 { return float64(t) / float64(Second) }

// Freq is a frequency in microhertz, up to 9.2 THz.
type Freq int64

// Common frequencies.
const (
	Hertz     Freq = 1_000_000
	Kilohertz      = 1000 * Hertz
	Megahertz      = 1000 * Kilohertz
	Gigahertz      = 1000 * Megahertz
)

// Hz gives f in hertz.
func (f Freq) Hz() float64 { return float64(f) / float64(Hertz) }

// FromHz gives the frequency nearest to hz hertz.
func FromHz(hz float64) Freq { return Freq(math.Round(hz * float64(Hertz))) }

// Rate is a signalling rate in millionths of a baud (symbols per second). On
// the buses described here a symbol is a bit, so it is a bit rate as well.
type Rate int64

// Common rates.
const (
	Baud     Rate = 1_000_000
	Kilobaud      = 1000 * Baud
	Megabaud      = 1000 * Kilobaud
)

// Bd gives r in baud.
func (r Rate) Bd() float64 { return float64(r) / float64(Baud) }

// FromBd gives the rate nearest to bd baud.
func FromBd(bd float64) Rate { return Rate(math.Round(bd * float64(Baud))) }

// Period is the duration of one bit in femtoseconds. It is finer than Time so
// that the bits of a long word add up without a visible rounding error.
type Period int64

// PeriodOf gives the bit period of a rate. It is 0 for a rate of 0 or less.
func PeriodOf(r Rate) Period {
	if r <= 0 {
		return 0
	}
	return Period(math.Round(1e15 / r.Bd()))
}

// Rate gives the rate whose bits last p; 0 for a period of 0 or less.
func (p Period) Rate() Rate {
	if p <= 0 {
		return 0
	}
	return FromBd(1e15 / float64(p))
}

// Times gives n periods, rounded to the nearest picosecond. n periods must
// stay below 2.5 hours.
func (p Period) Times(n int64) Time { return (Time(int64(p)*n) + 500) / 1000 }

// Halves gives n half periods, rounded to the nearest picosecond, under the
// limit of Times.
func (p Period) Halves(n int64) Time { return (Time(int64(p)*n) + 1000) / 2000 }

// Scaled gives the period of a clock that is ppm parts per million fast
// (shorter periods) or, when negative, slow.
func (p Period) Scaled(ppm PPM) Period {
	return Period(math.Round(float64(p) / (1 + float64(ppm)/1e6)))
}

// PPM is a relative deviation in parts per million. Positive is fast.
type PPM float64

// Percent gives the deviation in per cent.
func (p PPM) Percent() float64 { return float64(p) / 1e4 }

type unit struct {
	name string // as printed
	exp  int    // power of ten relative to the base count
}

// dimension is one physical dimension: its units, how it may be spelt, and
// the range outside of which a value is questioned as a slip.
type dimension struct {
	what   string
	units  []unit         // largest first, for printing
	spelt  map[string]int // spelling -> power of ten
	bare   string         // the unit that a number without one is given in a question
	bareOK bool           // a number without a unit is taken in that unit
	low    int64          // usual range, in base counts; 0,0: none
	high   int64
	// sensible is the largest value that a number without a unit is taken to mean.
	sensible int64
}

var times = dimension{
	what: "time",
	units: []unit{
		{"s", 12}, {"ms", 9}, {"µs", 6}, {"ns", 3}, {"ps", 0},
	},
	spelt: map[string]int{"s": 12, "ms": 9, "us": 6, "µs": 6, "μs": 6, "ns": 3, "ps": 0},
	bare:  "ms",

	sensible: 1000 * int64(Second),
}

var freqs = dimension{
	what:  "frequency",
	units: []unit{{"GHz", 15}, {"MHz", 12}, {"kHz", 9}, {"Hz", 6}, {"mHz", 3}, {"µHz", 0}},
	spelt: map[string]int{"GHz": 15, "MHz": 12, "kHz": 9, "KHz": 9, "Hz": 6, "mHz": 3, "µHz": 0, "uHz": 0},
	bare:  "MHz",

	sensible: 10 * int64(Gigahertz),
}

var rates = dimension{
	what:  "rate",
	units: []unit{{"MBd", 12}, {"kBd", 9}, {"Bd", 6}, {"mBd", 3}, {"µBd", 0}},
	spelt: map[string]int{
		"MBd": 12, "kBd": 9, "Bd": 6, "mBd": 3, "µBd": 0, "uBd": 0, "baud": 6, "kbaud": 9, "Mbaud": 12,
		"Hz": 6, "kHz": 9, "KHz": 9, "MHz": 12,
		"bit/s": 6, "kbit/s": 9, "Mbit/s": 12, "bps": 6, "kbps": 9, "Mbps": 12, "k": 9, "M": 12, "": 6,
	},
	bare:   "Bd",
	bareOK: true,
	low:    45 * int64(Baud),
	high:   20 * int64(Megabaud),
}

// Error says why a text is no quantity, and what was probably meant.
type Error struct {
	Text   string
	What   string // the dimension: "time", "frequency", "rate"
	Reason string
	Meant  string // a likely correct spelling, or ""
}

func (e *Error) Error() string {
	s := fmt.Sprintf("%q is not a usable %s: %s", e.Text, e.What, e.Reason)
	if e.Meant != "" {
		s += fmt.Sprintf("; did you mean %s?", e.Meant)
	}
	return s
}

// ParseTime reads a time such as `5 ms` or `34.722 µs`. A number without a
// unit is refused with a question.
func ParseTime(s string) (Time, error) {
	n, err := times.parse(s)
	return Time(n), err
}

// ParseSpan is ParseTime for a length of time, which is not below 0.
func ParseSpan(s string) (Time, error) {
	t, err := ParseTime(s)
	if err == nil && t < 0 {
		err = &Error{Text: s, What: "time", Reason: "it is below 0"}
	}
	return t, err
}

// ParseFreq reads a frequency such as `14 MHz`. A number without a unit is
// refused with a question.
func ParseFreq(s string) (Freq, error) {
	n, err := freqs.parse(s)
	return Freq(n), err
}

// ParseClock reads the frequency of a clock. It is ParseFreq, and refuses
// what is a thousand-fold slip for a clock: below 1 kHz or above 10 GHz.
func ParseClock(s string) (Freq, error) {
	d := freqs
	d.low, d.high = int64(Kilohertz), 10*int64(Gigahertz)
	n, err := d.parse(s)
	if err == nil && n <= 0 {
		err = &Error{Text: s, What: d.what, Reason: "a clock is above 0"}
	}
	return Freq(n), err
}

// ParseRate reads a rate such as `57600`, `57.6k`, `28.8 kbit/s`, `400 kHz` or
// `57.6 kBd`. A number below 1000 with a fraction and without a unit is refused with a question. Rates outside 45 Bd to 20 MBd, of clocked buses in Mbit/s
// or MHz to 200 MBd, are refused as a likely thousand-fold slip.
func ParseRate(s string) (Rate, error) {
	d := rates
	num, u := splitUnit(strings.TrimSpace(s))
	if v, err := number(num); u == "" && err == nil && v != math.Trunc(v) && v >= 45 && v < 1000 {
		return 0, &Error{Text: s, What: rates.what, Reason: "the unit is missing", Meant: num + " kBd"}
	}
	if strings.HasPrefix(u, "M") && u != "MBd" && u != "Mbaud" && u != "M" {
		d.high = 200 * int64(Megabaud) // a clocked bus
	}
	n, err := d.parse(s)
	if err == nil && n <= 0 {
		err = &Error{Text: s, What: d.what, Reason: "a rate is above 0"}
	}
	return Rate(n), err
}

// ParsePPM reads a relative deviation such as `-150 ppm` or `0.5 %`.
func ParsePPM(s string) (PPM, error) {
	t := strings.TrimSpace(s)
	num, u := splitUnit(t)
	f, err := number(num)
	if err != nil {
		return 0, &Error{Text: s, What: "deviation", Reason: err.Error()}
	}
	switch u {
	case "ppm":
		return PPM(f), nil
	case "%":
		return PPM(f * 1e4), nil
	case "":
		return 0, &Error{Text: s, What: "deviation", Reason: "the unit is missing", Meant: num + " ppm"}
	}
	return 0, &Error{Text: s, What: "deviation", Reason: fmt.Sprintf("unknown unit %q; use ppm or %%", u)}
}

// ParsePercent reads a share such as `87.5 %`, above 0 and up to 100 %, as a number up to
// 1. Parts per million will do.
func ParsePercent(s string) (float64, error) {
	num, u := splitUnit(strings.TrimSpace(s))
	if _, err := number(num); err == nil && u == "" {
		return 0, &Error{Text: s, What: "share", Reason: "the unit is missing", Meant: num + " %"}
	}
	p, err := ParsePPM(s)
	if err != nil {
		return 0, &Error{Text: s, What: "share", Reason: "write it in percent, as 87.5 %"}
	}
	if p <= 0 || p > 1e6 {
		return 0, &Error{Text: s, What: "share", Reason: "it must be above 0 and at most 100 %"}
	}
	return float64(p) / 1e6, nil
}

func (t Time) String() string { return times.print(int64(t)) }
func (f Freq) String() string { return freqs.print(int64(f)) }
func (r Rate) String() string { return rates.print(int64(r)) }
func (p PPM) String() string  { return trimFloat(fmt.Sprintf("%.3f", float64(p))) + " ppm" }

// Round prints t with the given number of significant digits, for a person
// to read; the print no longer parses to the same value.
func (t Time) Round(digits int) string { return times.round(int64(t), digits) }

// Round prints f with the given number of significant digits.
func (f Freq) Round(digits int) string { return freqs.round(int64(f), digits) }

// Round prints r with the given number of significant digits.
func (r Rate) Round(digits int) string { return rates.round(int64(r), digits) }

// BitRate prints r in bit/s, as buses other than character links have it.
func (r Rate) BitRate() string { return strings.ReplaceAll(r.String(), "Bd", "bit/s") }

// RoundBits is Round in bit/s.
func (r Rate) RoundBits(digits int) string { return strings.ReplaceAll(r.Round(digits), "Bd", "bit/s") }

// Grouped prints r in baud with one decimal and the thousands set apart, as
// `28 735.6`, so that rates stand in columns.
func (r Rate) Grouped() string { return Group(r.Bd(), 1) }

// Group prints v with the given decimals and a space between thousands.
func Group(v float64, decimals int) string {
	s := fmt.Sprintf("%.*f", decimals, math.Abs(v))
	whole, frac, _ := strings.Cut(s, ".")
	var b strings.Builder
	for i, c := range whole {
		if i > 0 && (len(whole)-i)%3 == 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(c)
	}
	out := b.String()
	if frac != "" {
		out += "." + frac
	}
	if v < 0 {
		out = "-" + out
	}
	return out
}
