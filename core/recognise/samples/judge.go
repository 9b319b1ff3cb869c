package samples

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/recognise"
)

// rateSlack is how far a rate may be off to count as found: a tenth of what a
// receiver stands.
const rateSlack = 0.005

// Judge compares the first proposal with the truth; it says what is wrong, or
// nothing.
func Judge(s *Sample, r *recognise.Result) string {
	if len(r.Best) == 0 {
		return "nothing recognised"
	}
	if len(r.Best) > 1 {
		return fmt.Sprintf("%d buses instead of one", len(r.Best))
	}
	p := &r.Best[0]
	if p.Kind.Name != s.Kind {
		return "taken for " + p.Kind.Name
	}
	for i, role := range p.Kind.Lines {
		if role.Name == "select" && s.Hard == "select held" {
			continue // the held line is it, or nothing shows that there is one
		}
		want, got := s.truth.roles[role.Name], ""
		if s.Kind == "uart" && role.Name == "shared" {
			want = s.truth.roles["uart"]
		}
		if p.Lines[i] >= 0 {
			got = s.Lines[p.Lines[i]].Name
		}
		if of, is := s.truth.same[got]; is {
			got = of
		}
		if want != got {
			return fmt.Sprintf("%s is %s, not %q", role.Name, want, got)
		}
	}
	if wrong := s.rates(p.Settings); wrong != "" {
		return wrong
	}
	switch s.Kind {
	case "uart":
		if !holds(p, s.truth.frame, setting(p.Settings, "frame")) {
			return fmt.Sprintf("frame %s, not %s %q", s.truth.frame, setting(p.Settings, "frame"), p.Class)
		}
	case "spi":
		if mode := setting(p.Settings, "mode"); mode != strconv.Itoa(s.truth.mode) {
			return fmt.Sprintf("mode %d, not %s", s.truth.mode, mode)
		}
		word := setting(p.Settings, "word")
		if word == "" {
			word = "8"
		}
		if !holds(p, fmt.Sprintf("of %d", s.truth.word), "of "+word) && !holds(p, fmt.Sprintf("words of %d", s.truth.word), "") {
			return fmt.Sprintf("words of %d, not %s %q", s.truth.word, word, p.Class)
		}
	}
	return ""
}

// rates compares the rates of a proposal with those on the wire.
func (s *Sample) rates(settings string) string {
	for key, want := range map[string]float64{"rate": s.truth.rate, "data-rate": s.truth.data} {
		if want == 0 {
			continue
		}
		got, err := quantity.ParseRate(setting(settings, key))
		if err != nil || math.Abs(got.Bd()/want-1) > rateSlack {
			return fmt.Sprintf("%s %.0f, not %q", key, want, setting(settings, key))
		}
	}
	return ""
}

// setting gives a value of key=value words, quotes taken off.
func setting(settings, key string) string {
	for _, m := range regexp.MustCompile(`([a-z-]+)=("[^"]*"|\S+)`).FindAllStringSubmatch(settings, -1) {
		if m[1] == key {
			return strings.Trim(m[2], `"`)
		}
	}
	return ""
}

// holds says whether the class, or without one the setting itself, is the truth.
func holds(p *recognise.Proposal, want, got string) bool {
	if len(p.Class) == 0 {
		return got == want
	}
	for _, c := range p.Class {
		if c == want || strings.HasPrefix(c, want+" whose") {
			return true
		}
	}
	return false
}

// SureOfWrong reports whether something is called sure that is not so, in a capture that was judged
// to be wrong. Of several proposals those of the right kind may well be right.
func SureOfWrong(s *Sample, r *recognise.Result) bool {
	for i := range r.Best {
		if p := &r.Best[i]; p.Confidence() == "sure" && (len(r.Best) == 1 || p.Kind.Name != s.Kind) {
			return true
		}
	}
	return false
}
