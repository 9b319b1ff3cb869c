package uart

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
}

// BudgetOf judges two ends whose rates are off by the given shares (positive
// is fast). Each sends to the other, so the mismatch counts in both
// directions; the worse one is given.
func BudgetOf(f Frame, oversampling int, errA, errB float64) Budget {
	l := LimitsOf(f, oversampling)
	e := (1+errA)/(1+errB) - 1
	if back := (1+errB)/(1+errA) - 1; l.Used(back) > l.Used(e) {
		e = back
	}
	j := l.Judge(e)
	return Budget{
		Frame: f.String(), Oversampling: oversampling, N: l.N,
		Late: 100 * l.RuleLate, Early: 100 * l.RuleEarly, LateSure: 100 * l.Late, LateBest: 100 * l.LateBest, EarlyBest: 100 * l.EarlyBest,
		Mismatch: 100 * e, Used: 100 * l.Used(e), Verdict: j.String(), FirstWrong: l.Misread(f, e), Pass: j == Fits,
	}
}
