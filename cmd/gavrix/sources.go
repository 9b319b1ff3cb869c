package main

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/safe"
)

var origins = []string{bench.IsDefault, bench.IsChosen, bench.IsCopied, bench.IsDerived, bench.IsMeasured}

func sourcesCommand() *cobra.Command {
	var missing, asJSON bool
	var origin string
	c := &cobra.Command{
		Use:   "sources BENCH [TEXT]",
		Short: "List where the values of a bench come from, and search them",
		Long: `Lists clocks, rate generators and settings with the document and page, or the
measurement, that stands beside them (key source of a clock, a unit, an end of a
link, or a device file). With TEXT only those whose name, value or source hold it.
Values that were written without a source are counted. --origin shows those of one
origin only: default (not written), chosen, copied (from a document), derived,
measured.`,
		Example: `  gavrix sources demo
  gavrix sources demo divider
  gavrix sources demo --missing
  gavrix sources demo --origin default`,
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
			if origin != "" {
				if !slices.Contains(origins, origin) {
					return fmt.Errorf("--origin %s: write one of %s", origin, strings.Join(origins, ", "))
				}
				all = slices.DeleteFunc(all, func(s bench.Sourced) bool { return s.Origin != origin })
			}
			return printSources(all, missing, asJSON)
		},
	}
	c.Flags().StringVar(&origin, "origin", "", "only values of this origin")
	c.Flags().BoolVar(&missing, "missing", false, "only values without a source")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func printSources(all []bench.Sourced, missing, asJSON bool) error {
	type row struct {
		Path   string `json:"path"`
		Value  string `json:"value"`
		Source string `json:"source,omitempty"`
		Origin string `json:"origin"`
		Line   int    `json:"line,omitempty"`
	}
	rows := []row{}
	count := map[string]int{}
	for _, s := range all {
		count[s.Origin]++
		if missing && s.Origin != bench.IsChosen {
			continue
		}
		rows = append(rows, row{s.Path, s.Value, s.Source, s.Origin, s.Line})
	}
	if asJSON {
		return printJSON(rows)
	}
	for _, r := range rows {
		source := r.Source
		if source == "" {
			source = "–"
		}
		fmt.Fprintf(stdout, "%-44s %-16s %-9s %s\n", safe.Text(r.Path), safe.Text(r.Value), r.Origin, safe.Text(source))
	}
	var counts []string
	for _, o := range origins {
		counts = append(counts, fmt.Sprintf("%d %s", count[o], o))
	}
	fmt.Fprintf(stdout, "%d values: %s; %d without a source\n", len(all), strings.Join(counts, ", "), count[bench.IsChosen])
	return nil
}
