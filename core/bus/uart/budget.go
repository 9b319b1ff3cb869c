package uart

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/quantity"
)

// Budget is how two ends with rate errors of their own share the limits of
// one receiver.
type Budget struct {
	Frame        string  `json:"frame"`
	Oversampling int     `json:"oversampling"`
	N            float64 `json:"bits_to_stop_middle"`
	Late         float64 `json:"late_limit_percent"`
	Early        float64 `json:"early_limit_percent"`
	LateSure     float64 `json:"late_limit_any_phase_percent"`
	LateBest     float64 `json:"late_limit_best_phase_percent"`
	EarlyBest    float64 `json:"early_limit_best_phase_percent"`
	Mismatch     float64 `json:"mismatch_percent"` // the worse of both directions
	Used         float64 `json:"used_percent"`     // of the limit on that side
	Verdict      string  `json:"verdict"`
	FirstWrong   string  `json:"first_wrong,omitempty"`
	Pass         bool    `json:"pass"`
	Rule         string  `json:"rule"`  // how the limits are reckoned by hand
	Bites        string  `json:"bites"` // in which traffic they show
}

// BudgetOf judges two ends whose rates are off by the given shares (positive
// is fast). Each sends to the other, so the mismatch counts in both
// directions; the worse one is given.
func BudgetOf(f Frame, oversampling int, errA, errB float64) Budget {
	l := LimitsOf(f, f, oversampling)
	e := (1+errA)/(1+errB) - 1
	if back := (1+errB)/(1+errA) - 1; l.Used(back) > l.Used(e) {
		e = back
	}
	j := l.Judge(e)
	return Budget{
		Frame: f.String(), Oversampling: oversampling, N: l.N,
		Late: 100 * l.RuleLate, Early: 100 * l.RuleEarly, LateSure: 100 * l.Late, LateBest: 100 * l.LateBest, EarlyBest: 100 * l.EarlyBest,
		Mismatch: 100 * e, Used: 100 * l.Used(e), Verdict: j.String(), FirstWrong: l.Misread(e), Pass: j == Fits, Rule: l.Rule(), Bites: l.WhenItBites(),
	}
}

// Spread is by what a rate may be off: shares, the least and the most.
type Spread struct{ Least, Most float64 }

// WorstBudget is that of the two errors within their spreads that use most of the limit.
func WorstBudget(f Frame, oversampling int, a, b Spread) Budget {
	var worst Budget
	for i, x := range []float64{a.Least, a.Most} {
		for k, y := range []float64{b.Least, b.Most} {
			if g := BudgetOf(f, oversampling, x, y); i == 0 && k == 0 || g.Used > worst.Used {
				worst = g
			}
		}
	}
	return worst
}

// RateVerdict measures a sender's rate from the edges inside characters whose
// starts are known, and says in words how it stands to the wanted rate and to
// what its receiver runs at; nothing without edges. Starts may lie before the edges they belong to by less
// than a quarter of a bit: a cable's delay.
func RateVerdict(starts, toggles []quantity.Time, sends, reads Settings) string {
	starts = snapped(starts, toggles, quantity.PeriodOf(sends.Rate))
	p, spread, edges := Slope(starts, toggles, 1+sends.Frame.Data+sends.Frame.parityBits(), quantity.PeriodOf(sends.Rate))
	if edges == 0 || reads.Rate <= 0 {
		return ""
	}
	l := LimitsOf(sends.Frame, reads.Frame, reads.Oversampling)
	e := Mismatch(reads.Rate, p.Rate())
	want := sends.Rate
	if sends.Wanted > 0 {
		want = sends.Wanted
	}
	text := fmt.Sprintf("sends at %s Bd, %+.2f %% from the wanted %s (edges within %.3f bits); its receiver at %s Bd is %+.2f %% off", p.Rate().Grouped(), 100*Mismatch(want, p.Rate()), want, spread, reads.Rate.Grouped(), 100*e)
	if j := l.Judge(e); j != Fits {
		return text + fmt.Sprintf(": %s, allowed %+.1f / %+.1f %%; %s", j, 100*l.RuleLate, 100*l.RuleEarly, l.Misread(e))
	}
	return text + fmt.Sprintf(": passes, %.0f %% of what is allowed", 100*l.Used(e))
}

// snapped puts starts on the edges that they belong to.
func snapped(starts, toggles []quantity.Time, bit quantity.Period) []quantity.Time {
	var out []quantity.Time
	near := bit.Halves(1) / 2
	for _, s := range starts {
		if i, _ := slices.BinarySearch(toggles, s); i < len(toggles) && toggles[i]-s < near {
			out = append(out, toggles[i])
		}
	}
	return out
}
