package main

import (
	"fmt"

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
		Example: `  gavrix calc uart-margin --frame 8N1 --mcu 1.4% --device -1%
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
			a, err := quantity.ParsePPM(mcu)
			if err != nil {
				return fmt.Errorf("--mcu: %w", err)
			}
			d, err := quantity.ParsePPM(device)
			if err != nil {
				return fmt.Errorf("--device: %w", err)
			}
			if a <= -1e6 || d <= -1e6 {
				return fmt.Errorf("a clock that is off by -100 %% or more stands still")
			}
			b := uart.BudgetOf(f, oversampling, float64(a)/1e6, float64(d)/1e6)
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
	fl.StringVar(&mcu, "mcu", "0%", "rate error of the MCU's end")
	fl.StringVar(&device, "device", "0%", "rate error of the device's end")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	return c
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
