package main

import (
	"errors"
	"fmt"
	"strconv"
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

// givenFilters reads elements as identifier and mask, as 2A0/7F0.
func givenFilters(texts []string, wanted []uint32, extended bool) ([]can.Filter, error) {
	var out []can.Filter
	for _, t := range texts {
		a, b, both := strings.Cut(t, "/")
		id, err := strconv.ParseUint(strings.TrimSpace(a), 16, 32)
		mask, err2 := strconv.ParseUint(strings.TrimSpace(b), 16, 32)
		if most := uint64(1)<<can.Width(extended) - 1; !both || err != nil || err2 != nil || id > most || mask > most {
			return nil, fmt.Errorf("--given %q: write identifier and mask in hex, of %d bits each, as 2A0/7F0", t, can.Width(extended))
		}
		f := can.Filter{ID: uint32(id), Mask: uint32(mask)}
		for _, w := range wanted {
			if f.Passes(w) {
				f.Wanted = append(f.Wanted, w)
			}
		}
		out = append(out, f)
	}
	return out, nil
}

func calcCANFilters() *cobra.Command {
	var ids, given []string
	var elements int
	var extended, asJSON bool
	c := &cobra.Command{
		Use:   "can-filters",
		Short: "Find acceptance filter elements for wanted identifiers, and what else they let through",
		Example: `  gavrix calc can-filters --ids 2A1,2A6,3C0 --elements 2
  gavrix calc can-filters --ids 2A1,2A6 --given 2A0/7F0`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			wanted, err := parseIDs(ids)
			if err != nil {
				return fmt.Errorf("--ids: %w", err)
			}
			var fs []can.Filter
			if len(given) > 0 {
				if err := idle(cmd, "with --given", "elements"); err != nil {
					return err
				}
				fs, err = givenFilters(given, wanted, extended)
			} else {
				fs, err = can.Filters(wanted, extended, elements)
			}
			if err != nil {
				return err
			}
			return printFilters(fs, wanted, extended, asJSON)
		},
	}
	fl := c.Flags()
	fl.StringSliceVar(&ids, "ids", nil, "wanted identifiers in hex")
	fl.StringSliceVar(&given, "given", nil, "elements that there are, each identifier and mask, as 2A0/7F0: what do they let through?")
	fl.IntVar(&elements, "elements", 1, "how many filter elements there are")
	fl.BoolVar(&extended, "extended", false, "29-bit identifiers")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("ids")
	return c
}

// printFilters prints filter elements, with what they keep out though it is wanted, and what they let
// through though it is not.
func printFilters(fs []can.Filter, wanted []uint32, extended, asJSON bool) error {
	var verdict error
	missed := can.Missed(fs, wanted)
	if len(missed) > 0 {
		verdict = exitStatus(found)
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
			Missed   []string  `json:"kept_out,omitempty"`
		}{Unwanted: n, Some: hex(some)}
		if len(missed) > 0 {
			out.Missed = hex(missed)
		}
		for _, f := range fs {
			out.Elements = append(out.Elements, element{hex([]uint32{f.ID})[0], hex([]uint32{f.Mask})[0], hex(f.Wanted)})
		}
		return errors.Join(printJSON(out), verdict)
	}
	for i, f := range fs {
		fmt.Fprintf(stdout, "%d. id %0*X  mask %0*X   for %s\n", i+1, digits, f.ID, digits, f.Mask, strings.Join(hex(f.Wanted), " "))
	}
	if len(missed) > 0 {
		fmt.Fprintf(stdout, "kept out, though wanted: %s\n", strings.Join(hex(missed), " "))
	}
	if n == 0 {
		fmt.Fprintln(stdout, "nothing else passes")
		return verdict
	}
	more := ""
	if uint64(len(some)) < n {
		more = " …"
	}
	fmt.Fprintf(stdout, "%d unwanted pass: %s%s\n", n, strings.Join(hex(some), " "), more)
	return verdict
}
