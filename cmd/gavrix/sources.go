package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"gavrix/core/bench"
	"gavrix/core/safe"
)

func sourcesCommand() *cobra.Command {
	var missing, asJSON bool
	c := &cobra.Command{
		Use:   "sources BENCH [TEXT]",
		Short: "List where the values of a bench come from, and search them",
		Long: `Lists clocks, rate generators and settings with the document and page, or the
measurement, that stands beside them (key source of a clock, a unit, an end of a
link, or a device file). With TEXT only those whose name, value or source hold it.
Values without a source are counted.`,
		Example: `  gavrix sources demo
  gavrix sources demo divider
  gavrix sources demo --missing`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := loadBench(args[0])
			if err != nil {
				return err
			}
			all := b.Sources()
			if len(args) > 1 {
				all = bench.Find(all, args[1])
			}
			return printSources(all, missing, asJSON)
		},
	}
	c.Flags().BoolVar(&missing, "missing", false, "only values without a source")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func printSources(all []bench.Sourced, missing, asJSON bool) error {
	type row struct {
		Path   string `json:"path"`
		Value  string `json:"value"`
		Source string `json:"source,omitempty"`
		Line   int    `json:"line,omitempty"`
	}
	rows := []row{}
	without := 0
	for _, s := range all {
		if s.Source == "" {
			without++
		} else if missing {
			continue
		}
		rows = append(rows, row{s.Path, s.Value, s.Source, s.Line})
	}
	if asJSON {
		return printJSON(rows)
	}
	for _, r := range rows {
		source := r.Source
		if source == "" {
			source = "–"
		}
		fmt.Printf("%-44s %-16s %s\n", safe.Text(r.Path), safe.Text(r.Value), safe.Text(source))
	}
	fmt.Printf("%d values, %d without a source\n", len(all), without)
	return nil
}
