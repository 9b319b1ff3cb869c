package main

import (
	"fmt"
	"math"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

func calcCounter() *cobra.Command {
	var clockText, freq, duty string
	w := clock.Counter{}
	var asJSON, explain bool
	c := &cobra.Command{
		Use:   "counter",
		Short: "Find the reload value of a counter for a square wave or pulses",
		Example: `  gavrix calc counter --clock 2.6MHz --width 10 --up --toggles --frequency 1.9kHz
  gavrix calc counter --clock 1MHz --width 16 --frequency 50Hz --duty 7.5%`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			f, err := quantity.ParseClock(clockText)
			if err != nil {
				return fmt.Errorf("--clock: %w", err)
			}
			want, err := quantity.ParseFreq(freq)
			if err != nil {
				return fmt.Errorf("--frequency: %w", err)
			}
			share := 0.0
			if duty != "" {
				if share, err = quantity.ParsePercent(duty); err != nil {
					return fmt.Errorf("--duty: %w", err)
				}
			}
			r, err := w.Solve(f, want, share)
			if err != nil {
				return err
			}
			var ds []finding.Derivation
			if explain {
				ds = append(ds, r.Derivation(w.Toggles))
			}
			if asJSON {
				return printJSON(explained{struct {
					Counts  int     `json:"counts"`
					Reload  int     `json:"reload"`
					Compare int     `json:"compare,omitempty"`
					Real    float64 `json:"real_hz"`
					Error   float64 `json:"error_percent"`
					Step    float64 `json:"step_percent"`
					Duty    float64 `json:"duty_percent,omitempty"`
				}{r.Counts, r.Reload, r.Compare, r.Real.Hz(), 100 * r.Error, 100 * r.Step, 100 * r.Duty}, ds})
			}
			fmt.Fprintf(stdout, "%d counts, reload 0x%0*X (%d): %s, %s; one count is %.2f %%\n", r.Counts, (w.Width+3)/4, r.Reload, r.Reload, r.Real.Round(6), clock.Percent(r.Error), 100*r.Step)
			if r.Compare > 0 {
				fmt.Fprintf(stdout, "compare %d: high %.2f %% of the time\n", r.Compare, 100*r.Duty)
			}
			printDerivations(ds)
			if math.Abs(r.Error) > 0.05 {
				return exitStatus(found)
			}
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&clockText, "clock", "", "clock of the counter")
	fl.StringVar(&freq, "frequency", "", "frequency wanted")
	fl.StringVar(&duty, "duty", "", "share of the time for which the output is high, as 25%")
	fl.IntVar(&w.Width, "width", 16, "bits of the counter")
	fl.BoolVar(&w.Up, "up", false, "it counts up to its end; else down to 0")
	fl.BoolVar(&w.Toggles, "toggles", false, "each overflow turns the output round")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	_ = c.MarkFlagRequired("clock")
	_ = c.MarkFlagRequired("frequency")
	return c
}
