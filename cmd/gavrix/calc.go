package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix/core/finding"
)

func calcCommand() *cobra.Command {
	c := &cobra.Command{Use: "calc", Short: "Work out dividers and margins"}
	c.AddCommand(calcStartup(), calcBaud(), calcMargin(), calcInfer(), calcFrame(), calcEnds(), calcSync(), calcReading(), calcPulse(),
		calcCANTiming(), calcCANFilters(), calcCANLoad(), calcI2C(), calcSPIClock(), calcCounter(), calcRegister())
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
