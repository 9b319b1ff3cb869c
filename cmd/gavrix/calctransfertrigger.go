package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

func calcTransferTrigger() *cobra.Command {
	s := stringsOf{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "trigger",
		Short: "Say which edges of a button or a line start a transfer",
		Long: `An edge starts a transfer when the line was quiet for --bounce before it, and when the
transfer before, which takes --busy, is over. The other edges are counted by their cause.`,
		Example: `  gavrix calc transfer trigger --edges '0 0.5ms 1ms 2ms 3ms' --bounce 10ms
  gavrix calc transfer trigger --edges '0 20ms 40ms' --busy 50ms`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			edges, err := moments("edges", s.get("edges"))
			if err != nil {
				return err
			}
			for i := 1; i < len(edges); i++ {
				if edges[i] < edges[i-1] {
					return fmt.Errorf("--edges: %s comes after %s: write them in the order in which they come", edges[i], edges[i-1])
				}
			}
			bounce, err := span("bounce", s.get("bounce"))
			if err != nil {
				return err
			}
			busy, err := span("busy", s.get("busy"))
			if err != nil {
				return err
			}
			t := transfer.Debounce(edges, bounce, busy)
			if asJSON {
				starts := []float64{}
				for _, at := range t.Starts {
					starts = append(starts, microseconds(at))
				}
				return printJSON(struct {
					Starts  []float64 `json:"starts_us"`
					Bounces int       `json:"ignored_bounces"`
					Busy    int       `json:"refused_busy"`
				}{starts, t.Bounces, t.Busy})
			}
			fmt.Fprintf(stdout, "%s, bounce time %s, busy for %s: %d starts, %d ignored as bounces, %d refused because it was busy\n", quantity.Count(len(edges), "edge"), bounce.Round(4), busy.Round(4), len(t.Starts), t.Bounces, t.Busy)
			for _, at := range t.Starts {
				fmt.Fprintf(stdout, "   %s\n", at.Round(7))
			}
			return nil
		},
	}
	s.add(c, "edges", "", "times of the edges")
	s.add(c, "bounce", "", "time for which the line must be quiet before an edge")
	s.add(c, "busy", "", "time that the transfer takes")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("edges")
	return c
}
