package main

import (
	"fmt"
	"math"
	"strings"

	"github.com/spf13/cobra"

	"gavrix/core/bus/uart"
	"gavrix/core/clock"
	"gavrix/core/finding"
	"gavrix/core/quantity"
)

func calcCommand() *cobra.Command {
	c := &cobra.Command{Use: "calc", Short: "Work out dividers and margins"}
	c.AddCommand(calcBaud(), calcMargin(), calcFrame(), calcEnds(), calcSync(), calcReading(), calcPulse())
	return c
}

// explained is a result with the way it came about.
type explained struct {
	Result      any                  `json:"result"`
	Derivations []finding.Derivation `json:"derivations,omitempty"`
}

func printDerivations(ds []finding.Derivation) {
	for _, d := range ds {
		fmt.Println()
		fmt.Println(strings.Join(d.Lines(), "\n"))
	}
}

type baudRow struct {
	Oversampling int     `json:"oversampling"`
	Divider      int     `json:"divider"`
	Register     int     `json:"register"`
	Rate         float64 `json:"rate_baud"`
	Wanted       float64 `json:"wanted_baud"`
	Error        float64 `json:"error_percent"`
	Workable     bool    `json:"workable"`
}

func rowOf(s clock.Setting) baudRow {
	return baudRow{s.Oversampling, s.N, s.Register, s.Rate.Bd(), s.Wanted.Bd(), 100 * s.Error, math.Abs(s.Error) <= clock.Workable}
}

func calcBaud() *cobra.Command {
	var clockText, rateText string
	var oversampling []int
	var most, divider int
	var plusOne, asJSON, explain bool
	c := &cobra.Command{
		Use:   "baud",
		Short: "Find the divider for a rate, or the meaning of a given register value",
		Example: `  gavrix calc baud --clock 20MHz --rate 57600 --oversampling 16,8
  gavrix calc baud --clock 1.5MHz --register 5 --rate 14400    what a copied value means`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			f, err := quantity.ParseClock(clockText)
			if err != nil {
				return fmt.Errorf("--clock: %w", err)
			}
			var rate quantity.Rate
			if rateText != "" {
				if rate, err = quantity.ParseRate(rateText); err != nil {
					return fmt.Errorf("--rate: %w", err)
				}
			}
			d := clock.Divider{Oversampling: oversampling, Least: 1, Most: most, PlusOne: plusOne}
			if cmd.Flags().Changed("register") {
				return explainRegister(d, divider, f, rate, asJSON, explain)
			}
			if rate == 0 {
				return fmt.Errorf("give --rate for the divider, or --register for what a value means")
			}
			return solveBaud(d, f, rate, asJSON, explain)
		},
	}
	fl := c.Flags()
	fl.StringVar(&clockText, "clock", "", "frequency at the peripheral, as 40MHz")
	fl.StringVar(&rateText, "rate", "", "rate wanted, or claimed for a register value")
	fl.IntSliceVar(&oversampling, "oversampling", []int{16}, "receiver samples a bit that the peripheral can take")
	fl.IntVar(&most, "most", 65536, "largest divider")
	fl.IntVar(&divider, "register", 0, "explain this register value")
	fl.BoolVar(&plusOne, "plus-one", false, "the register holds the divider less one")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	_ = c.MarkFlagRequired("clock")
	return c
}

func solveBaud(d clock.Divider, f quantity.Freq, rate quantity.Rate, asJSON, explain bool) error {
	settings, err := d.Solve(f, rate)
	if err != nil {
		return err
	}
	workable := math.Abs(settings[0].Error) <= clock.Workable
	near := clock.Nearby(d, f, rate, 5)
	var ds []finding.Derivation
	if explain {
		ds = append(ds, settings[0].Derivation())
	}
	if asJSON {
		out := struct {
			Settings []baudRow `json:"settings"`
			Nearby   []baudRow `json:"nearest_workable,omitempty"`
		}{}
		for _, s := range settings {
			out.Settings = append(out.Settings, rowOf(s))
		}
		if !workable {
			for _, s := range near {
				out.Nearby = append(out.Nearby, rowOf(s))
			}
		}
		if err := printJSON(explained{out, ds}); err != nil {
			return err
		}
	} else {
		fmt.Printf("%s from %s\n   OS  divider  register   real rate Bd     error\n", rate, f)
		for i, s := range settings {
			mark := " "
			if i == 0 && workable {
				mark = "*"
			}
			fmt.Printf(" %s ×%-3d %6d   0x%04X   %12s  %9s\n", mark, s.Oversampling, s.N, s.Register, s.Rate.Grouped(), clock.Percent(s.Error))
		}
		if !workable {
			fmt.Printf("refused: the best is %s off; more than %.1f %% leaves the other end too little\n", clock.Percent(settings[0].Error), 100*clock.Workable)
			fmt.Println("nearest workable rates:")
			for _, s := range near {
				fmt.Printf("   %-10s divider %-5d ×%-3d %s\n", s.Wanted, s.N, s.Oversampling, clock.Percent(s.Error))
			}
			if len(near) == 0 {
				fmt.Println("   none of the usual ones")
			}
		}
		printDerivations(ds)
	}
	if !workable {
		return exitStatus(found)
	}
	return nil
}

func explainRegister(d clock.Divider, register int, f quantity.Freq, claimed quantity.Rate, asJSON, explain bool) error {
	type meaning struct {
		Setting  baudRow  `json:"setting"`
		MeantFor float64  `json:"meant_for_hz,omitempty"`
		Exact    []string `json:"exact_with,omitempty"`
	}
	var all []meaning
	var ds []finding.Derivation
	worst := 0.0
	for _, os := range d.Oversampling {
		m, err := clock.Explain(d, f, claimed, os, register)
		if err != nil {
			return err
		}
		out := meaning{Setting: rowOf(m.Setting), MeantFor: m.MeantFor.Hz()}
		for _, e := range m.Exact {
			out.Exact = append(out.Exact, fmt.Sprintf("%s for %s", e.Clock, e.Rate))
		}
		all = append(all, out)
		worst = max(worst, math.Abs(m.Setting.Error))
		ds = append(ds, m.Setting.Derivation())
		if asJSON {
			continue
		}
		if claimed > 0 {
			fmt.Printf("register 0x%X at ×%d, said to mean %s: meant for %s; with %s it gives %s Bd, %s\n",
				register, os, claimed, m.MeantFor, f, m.Setting.Rate.Grouped(), clock.Percent(m.Setting.Error))
		} else {
			fmt.Printf("register 0x%X at ×%d with %s gives %s Bd\n", register, os, f, m.Setting.Rate.Grouped())
		}
		if len(out.Exact) > 0 {
			fmt.Printf("   exact with %s\n", strings.Join(out.Exact, ", "))
		}
	}
	if !explain {
		ds = nil
	}
	if asJSON {
		if err := printJSON(explained{all, ds}); err != nil {
			return err
		}
	} else {
		printDerivations(ds)
	}
	if worst > clock.Workable {
		return exitStatus(found)
	}
	return nil
}

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
				return fmt.Errorf("--oversampling %d: a receiver takes an even number of samples a bit, at least 4; 0 is an ideal receiver", oversampling)
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
				ds = append(ds, uart.LimitsOf(f, oversampling).Derivation())
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
	fl.IntVar(&oversampling, "oversampling", 16, "receiver samples a bit; 0 for an ideal receiver")
	fl.StringVar(&mcu, "mcu", "0%", "rate error of the MCU's end")
	fl.StringVar(&device, "device", "0%", "rate error of the device's end")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	return c
}

func printBudget(b uart.Budget) {
	how := "ideal receiver, ±0.5/N"
	if b.Oversampling > 0 {
		how = fmt.Sprintf("×%d, late +(0.5 - 1/%d)/N, early -0.5/N", b.Oversampling, b.Oversampling)
	}
	fmt.Printf("%s %s, N = %.1f\n", b.Frame, how, b.N)
	fmt.Printf("  allowed    %+.1f / %+.1f %%\n", b.Late, b.Early)
	fmt.Printf("  mismatch   %+.2f %%   %.0f %% of the limit used\n", b.Mismatch, b.Used)
	fmt.Printf("  verdict    %s\n", b.Verdict)
	if b.FirstWrong != "" {
		fmt.Printf("  first      %s\n", b.FirstWrong)
	}
	fmt.Printf("  %s\n", uart.WhenItBites)
}
