package main

import (
	"errors"
	"fmt"
	"math"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/quantity"
)

func calcInfer() *cobra.Command {
	o := &generatorOptions{}
	var rateText, bit, measured, uncertain string
	var values []int
	var asJSON bool
	c := &cobra.Command{
		Use:   "infer",
		Short: "Explain a measured rate that is not the programmed one",
		Long: `Ranks what would explain a rate that was measured on the wire: another source, a
hidden stage, other samples per bit, a divider that is one off. The flags describe
what was programmed; without --register the best setting for --rate.`,
		Example: `  gavrix calc infer --clock 20MHz --rate 57600 --register 22 --bit 22us`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			g, f, _, err := o.generator(cmd)
			if err == nil {
				err = idle(cmd, "on what explains a rate", "plus-minus")
			}
			if err == nil && len(values) > 0 {
				err = idle(cmd, "beside --register", "most", "least")
			}
			if err != nil {
				return err
			}
			rate, err := quantity.ParseRate(rateText)
			if err != nil {
				return fmt.Errorf("--rate: %w", err)
			}
			var s clock.Setting
			if len(values) > 0 {
				s, err = g.Read(f, rate, g.Samples()[0], values...)
			} else {
				var all []clock.Setting
				if all, err = g.Solve(f, rate); err == nil {
					s = all[0]
				}
			}
			if err != nil {
				return err
			}
			real, err := measuredRate(bit, measured)
			if err != nil {
				return err
			}
			pm, err := quantity.ParsePPM(uncertain)
			if err != nil {
				return fmt.Errorf("--uncertain: %w", err)
			}
			if pm < 0 {
				return fmt.Errorf("--uncertain %s: an uncertainty is not below 0", uncertain)
			}
			return printCauses(s, real, math.Abs(float64(pm))/1e6, asJSON)
		},
	}
	fl := c.Flags()
	o.flags(fl)
	fl.StringVar(&rateText, "rate", "", "rate that was wanted")
	fl.IntSliceVar(&values, "register", nil, "register values that were written")
	fl.StringVar(&bit, "bit", "", "measured time of a bit, as 22us")
	fl.StringVar(&measured, "measured", "", "measured rate, as 45.5k")
	fl.StringVar(&uncertain, "uncertain", "0.1 %", "uncertainty of the measurement")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("clock")
	_ = c.MarkFlagRequired("rate")
	return c
}

func measuredRate(bit, rate string) (quantity.Rate, error) {
	switch {
	case (bit == "") == (rate == ""):
		return 0, errors.New("give --bit, the measured time of a bit, or --measured, the rate")
	case rate != "":
		r, err := quantity.ParseRate(rate)
		if err != nil {
			return 0, fmt.Errorf("--measured: %w", err)
		}
		return r, nil
	}
	t, err := quantity.ParseTime(bit)
	if err != nil || t <= 0 {
		return 0, fmt.Errorf("--bit %s: write a time above 0, as 22us", bit)
	}
	return quantity.Period(t * 1000).Rate(), nil
}

func printCauses(s clock.Setting, measured quantity.Rate, plusMinus float64, asJSON bool) error {
	type cause struct {
		Text     string  `json:"cause"`
		Residual float64 `json:"residual_percent"`
	}
	out := []cause{}
	for _, c := range clock.Infer(s, measured, plusMinus) {
		out = append(out, cause{c.Text, 100 * c.Residual})
	}
	if asJSON {
		return printJSON(out)
	}
	fmt.Fprintf(stdout, "programmed %s Bd, measured %s Bd: a ratio of %.4f\n", s.Rate.Grouped(), measured.Grouped(), measured.Bd()/s.Rate.Bd())
	for i, c := range out {
		fmt.Fprintf(stdout, "%d. %s   leaves %+.2f %%\n", i+1, c.Text, c.Residual)
	}
	if len(out) == 0 {
		fmt.Fprintln(stdout, "nothing usual explains that")
	}
	fmt.Fprintf(stdout, "everything else as programmed, the clock at the unit is %s\n", clock.TrueClock(s, measured).Round(5))
	return nil
}
