package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/can"
)

// parseIDs reads identifiers in hex.
func parseIDs(texts []string) ([]uint32, error) {
	var out []uint32
	for _, t := range texts {
		id, err := can.ParseID(strings.TrimSpace(t))
		if err != nil {
			return nil, err
		}
		out = append(out, id.ID)
	}
	return out, nil
}

func calcCANFilters() *cobra.Command {
	var ids []string
	var elements int
	var extended, asJSON bool
	c := &cobra.Command{
		Use:     "can-filters",
		Short:   "Find acceptance filter elements for wanted identifiers, and what else they let through",
		Example: `  gavrix calc can-filters --ids 2A1,2A6,3C0 --elements 2`,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			wanted, err := parseIDs(ids)
			if err != nil {
				return fmt.Errorf("--ids: %w", err)
			}
			fs, err := can.Filters(wanted, extended, elements)
			if err != nil {
				return err
			}
			some, n := can.Unwanted(fs, wanted, extended, 64)
			digits := (can.Width(extended) + 3) / 4
			hex := func(ids []uint32) []string {
				out := []string{}
				for _, id := range ids {
					out = append(out, fmt.Sprintf("%0*X", digits, id))
				}
				return out
			}
			if asJSON {
				type element struct {
					ID     string   `json:"id"`
					Mask   string   `json:"mask"`
					Wanted []string `json:"for"`
				}
				out := struct {
					Elements []element `json:"elements"`
					Unwanted uint64    `json:"unwanted"`
					Some     []string  `json:"unwanted_ids"`
				}{Unwanted: n, Some: hex(some)}
				for _, f := range fs {
					out.Elements = append(out.Elements, element{hex([]uint32{f.ID})[0], hex([]uint32{f.Mask})[0], hex(f.Wanted)})
				}
				return printJSON(out)
			}
			for i, f := range fs {
				fmt.Fprintf(stdout, "%d. id %0*X  mask %0*X   for %s\n", i+1, digits, f.ID, digits, f.Mask, strings.Join(hex(f.Wanted), " "))
			}
			if n == 0 {
				fmt.Fprintln(stdout, "nothing else passes")
				return nil
			}
			more := ""
			if uint64(len(some)) < n {
				more = " …"
			}
			fmt.Fprintf(stdout, "%d unwanted pass: %s%s\n", n, strings.Join(hex(some), " "), more)
			return nil
		},
	}
	fl := c.Flags()
	fl.StringSliceVar(&ids, "ids", nil, "wanted identifiers in hex")
	fl.IntVar(&elements, "elements", 1, "how many filter elements there are")
	fl.BoolVar(&extended, "extended", false, "29-bit identifiers")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("ids")
	return c
}
