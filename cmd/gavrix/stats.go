package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/stats"
	"gavrix.org/gavrix/core/values"
)

func statsCommand() *cobra.Command {
	o := &sourceFlags{}
	pick := &pickFlags{}
	var from, to string
	var asJSON bool
	c := &cobra.Command{
		Use:   "stats SOURCE",
		Short: "Count traffic: by link, and by identifier, device or sender, with periods, load, errors and answer times",
		Long: `Gives figures of traffic: of each link how much, how long, how loaded, how fast answers
came; and of each identifier, device or sender how many, at which period, with which
jitter, how often one stayed away for three periods, and which errors.

` + sourceHelp,
		Example: `  gavrix stats demo --for 300ms
  gavrix stats lock.pcapng --filter 'pump' --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, snap, err := o.open(cmd, args[0])
			if err != nil {
				return err
			}
			a, z, err := stretch(from, to, snap)
			if err != nil {
				return err
			}
			p, err := pick.picker(cmd, b, nil, snap.Meta())
			if err != nil {
				return err
			}
			c := stats.NewCollector(len(snap.Meta().Links), a, z)
			for i := snap.First(); i < snap.Len(); i++ {
				r := snap.At(i)
				if p.filter != nil && !p.filter.Take(r) {
					continue
				}
				if int(r.Link) < len(snap.Meta().Links) && values.Once(&snap.Meta().Links[r.Link], r) {
					c.Take(r)
				}
			}
			if err := printStats(snap.Meta(), c, z-a, asJSON); err != nil {
				return err
			}
			return p.ended(snap.Now)
		},
	}
	o.add(c)
	fl := c.Flags()
	fl.StringVar(&pick.filter, "filter", "", "only records that fit this (gavrix help filters)")
	fl.StringVar(&from, "from", "", "beginning of the stretch")
	fl.StringVar(&to, "to", "", "end of the stretch")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// groupRow is a group as JSON has it.
type groupRow struct {
	Link    string  `json:"link"`
	What    string  `json:"what"`
	Count   int     `json:"count"`
	Bytes   int     `json:"bytes"`
	Least   float64 `json:"period_least_ms"`
	Mean    float64 `json:"period_mean_ms"`
	Most    float64 `json:"period_most_ms"`
	Jitter  float64 `json:"jitter_ms"`
	Load    float64 `json:"load_percent"`
	Missing int     `json:"missing"`
	Bad     int     `json:"bad"`
	Errors  string  `json:"errors,omitempty"`
}

// called says what the records of a group are.
func called(l *capture.Link, g *stats.Group) string {
	switch key := g.Text(); {
	case key != "":
		return key
	case g.From == record.Nobody:
		return "anybody"
	}
	return l.EndName(g.From)
}

func printStats(m *capture.Meta, c *stats.Collector, span quantity.Time, asJSON bool) error {
	ms := func(t quantity.Time) float64 { return t.Seconds() * 1e3 }
	rows := []groupRow{}
	groups := c.Groups()
	for _, g := range groups {
		l := &m.Links[g.Link]
		rows = append(rows, groupRow{
			Link: l.Name, What: called(l, g), Count: g.Count, Bytes: g.Bytes, Least: ms(g.Period.Least), Mean: ms(g.Period.Mean), Most: ms(g.Period.Most),
			Jitter: ms(g.Jitter()), Load: 100 * float64(g.Busy) / float64(span), Missing: g.Missing, Bad: g.Bad, Errors: g.Errors(),
		})
	}
	if asJSON {
		return printJSON(rows)
	}
	if len(rows) == 0 {
		fmt.Fprintln(stdout, "no traffic in this stretch")
		return nil
	}
	for i := range m.Links {
		t := c.Traffic(i)
		lines := t.Lines()
		if lines == nil {
			continue
		}
		fmt.Fprintln(stdout, safe.Text(m.Links[i].Name))
		for _, l := range lines {
			fmt.Fprintln(stdout, "   "+l)
		}
		if replies := c.Replies(i); len(replies) > 1 {
			for _, c := range stats.Classes(replies, 6) {
				fmt.Fprintf(stdout, "   answers after %10s to %10s %6d  %s\n", c.From.Round(4), c.To.Round(4), c.N, strings.Repeat("█", (c.N*40+len(replies)-1)/len(replies)))
			}
		}
		fmt.Fprintf(stdout, "   %-14s %7s %8s %11s %11s %11s %10s %8s %8s  %s\n", "what", "count", "bytes", "period", "least", "longest", "jitter", "load", "missing", "errors")
		for k, g := range groups {
			if int(g.Link) != i {
				continue
			}
			r := &rows[k]
			period := []string{"-", "-", "-", "-"}
			if g.Period.N > 0 {
				period = []string{g.Period.Mean.Round(4), g.Period.Least.Round(4), g.Period.Most.Round(4), g.Jitter().Round(3)}
			}
			fmt.Fprintf(stdout, "   %-14s %7d %8d %11s %11s %11s %10s %7.3f%% %8d  %s\n", safe.Text(r.What), g.Count, g.Bytes, period[0], period[1], period[2], period[3], r.Load, g.Missing, g.Errors())
		}
	}
	return nil
}
