package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/decode"
)

// endsRow is one difference of two ends.
type endsRow struct {
	Code     string   `json:"code"`
	What     string   `json:"what"`
	Harmless bool     `json:"harmless"`
	Effects  []string `json:"effects"`
}

func kindNamed(name string) (*bus.Kind, error) {
	if k := all.ByName(name); k != nil {
		return k, nil
	}
	return nil, fmt.Errorf("there is no bus %q; known are %s", name, strings.Join(all.Names(), ", "))
}

func settingsOf(k *bus.Kind, words string) (bus.Settings, error) {
	text, err := decode.SplitSettings(words)
	if err != nil {
		return nil, err
	}
	s, err := decode.ParseSettings(k, text)
	if err != nil {
		return nil, fmt.Errorf("%q: %w", words, err)
	}
	return s, nil
}

func calcEnds() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "ends BUS SETTINGS SETTINGS",
		Short: "Compare the frame settings of two ends, with the effect of each difference",
		Long: `Settings are key=value words, as in a bench or after decode --link. The first end
is called A, the second B. Exit status 1 if a difference does harm.`,
		Example: `  gavrix calc ends uart 'rate=57600 frame=8E1' 'rate=57600 frame=8N1'
  gavrix calc ends spi 'mode=0' 'mode=1 order=lsb'
  gavrix calc ends can 'rate=250k sample=87.5%' 'rate=250k sample=75%'`,
		Args: cobra.ExactArgs(3),
		RunE: func(_ *cobra.Command, args []string) error {
			k, err := kindNamed(args[0])
			if err != nil {
				return err
			}
			a, err := settingsOf(k, args[1])
			if err != nil {
				return err
			}
			b, err := settingsOf(k, args[2])
			if err != nil {
				return err
			}
			rows := []endsRow{}
			for _, d := range k.Compare(a, b, "A", "B") {
				rows = append(rows, endsRow{d.Code, d.What, d.Harmless, d.Effects})
			}
			return printEnds(rows, asJSON)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func printEnds(rows []endsRow, asJSON bool) error {
	harm := false
	for _, r := range rows {
		harm = harm || !r.Harmless
	}
	if asJSON {
		if err := printJSON(rows); err != nil {
			return err
		}
	} else {
		for _, r := range rows {
			mark := "differs"
			if r.Harmless {
				mark = "differs, harmless"
			}
			fmt.Fprintf(stdout, "%s: %s\n", mark, r.What)
			for _, e := range r.Effects {
				fmt.Fprintf(stdout, "  %s\n", e)
			}
		}
		if len(rows) == 0 {
			fmt.Fprintln(stdout, "both ends agree")
		}
	}
	if harm {
		return exitStatus(found)
	}
	return nil
}
