package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/finding"
)

func calcCommand() *cobra.Command {
	return group("calc", "Work out dividers and margins",
		calcStartup(), calcBaud(), calcMargin(), calcInfer(), calcFrame(), calcEnds(), calcSync(), calcReading(), calcPulse(),
		calcCANTiming(), calcCANFilters(), calcCANLoad(), calcI2C(), calcSPIClock(), calcCounter(), calcValue(), calcRegister(), calcTransfer())
}

// explained is a result with the way it came about.
type explained struct {
	Result      any                  `json:"result"`
	Derivations []finding.Derivation `json:"derivations,omitempty"`
}

func printDerivations(ds []finding.Derivation) {
	for _, d := range ds {
		fmt.Fprintln(stdout)
		fmt.Fprintln(stdout, strings.Join(d.Lines(), "\n"))
	}
}
