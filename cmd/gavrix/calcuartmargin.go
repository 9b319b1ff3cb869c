package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

func calcMargin() *cobra.Command {
	var frameText, mcu, device string
	var oversampling int
	var asJSON, explain bool
	c := &cobra.Command{
		Use:   "uart-margin",
		Short: "Say whether the rate errors of two ends are allowed together",
		Long: `Says whether the rate errors of two ends are allowed together. With a sign an error is
just that, as +1.4%; without one it is a tolerance, which may go either way: 1% is ±1%.`,
		Example: `  gavrix calc uart-margin --frame 8N1 --mcu +1.4% --device -1%
  gavrix calc uart-margin --frame 8E1 --oversampling 8 --device 20000ppm --explain`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			f, err := uart.ParseFrame(frameText)
			if err != nil {
				return fmt.Errorf("--frame: %w", err)
			}
			if oversampling != 0 && (oversampling < 4 || oversampling%2 != 0) {
				return fmt.Errorf("--oversampling %d: a receiver takes an even number of samples per bit, at least 4; 0 is an ideal receiver", oversampling)
			}
			a, err := spread(mcu)
			if err != nil {
				return fmt.Errorf("--mcu: %w", err)
			}
			d, err := spread(device)
			if err != nil {
				return fmt.Errorf("--device: %w", err)
			}
			b := uart.WorstBudget(f, oversampling, a, d)
			var ds []finding.Derivation
			if explain {
				l := uart.LimitsOf(f, f, oversampling)
				ds = append(ds, l.Derivation())
			}
			if asJSON {
				if err := printJSON(explained{b, ds}); err != nil {
					return err
				}
			} else {
				printBudget(b)
				printDerivations(ds)
			}
			if !b.Pass {
				return exitStatus(found)
			}
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&frameText, "frame", "8N1", "data bits, parity and stop bits")
	fl.IntVar(&oversampling, "oversampling", 16, "receiver samples per bit; 0 for an ideal receiver")
	fl.StringVar(&mcu, "mcu", "0%", "rate error of the MCU's end, as +1.4%; without a sign ±")
	fl.StringVar(&device, "device", "0%", "rate error of the device's end")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	return c
}

// spread reads by what a rate is off: with a sign just so, without one both ways, as a sheet
// states it.
func spread(text string) (uart.Spread, error) {
	plain := strings.TrimSpace(text)
	rest, both := strings.CutPrefix(plain, "±")
	p, err := quantity.ParsePPM(strings.TrimSpace(rest))
	share := float64(p) / 1e6
	signed := !both && (strings.HasPrefix(plain, "+") || strings.HasPrefix(plain, "-"))
	least := share
	if !signed {
		least = -share
	}
	switch {
	case err != nil:
		return uart.Spread{}, err
	case min(least, share) <= -1:
		return uart.Spread{}, fmt.Errorf("a clock that is off by -100 %% or more stands still")
	}
	return uart.Spread{Least: min(least, share), Most: max(least, share)}, nil
}

func printBudget(b uart.Budget) {
	how := "ideal receiver"
	if b.Oversampling > 0 {
		how = fmt.Sprintf("×%d", b.Oversampling)
	}
	fmt.Fprintf(stdout, "%s %s, %s\n", b.Frame, how, b.Rule)
	fmt.Fprintf(stdout, "  allowed    %+.1f / %+.1f %%\n", b.Late, b.Early)
	fmt.Fprintf(stdout, "  mismatch   %+.2f %%   %.0f %% of the limit used\n", b.Mismatch, b.Used)
	fmt.Fprintf(stdout, "  verdict    %s\n", b.Verdict)
	if b.FirstWrong != "" {
		fmt.Fprintf(stdout, "  first      %s\n", b.FirstWrong)
	}
	fmt.Fprintf(stdout, "  %s\n", b.Bites)
}
