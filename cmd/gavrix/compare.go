package main

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/follow"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/transfer"
)

// trafficFlags say on which traffic transfers are run.
type trafficFlags struct {
	link, transfer, file, length string
	sets                         []string
}

func (o *trafficFlags) add(c *cobra.Command) {
	fl := c.Flags()
	fl.StringVar(&o.link, "link", "", "the link")
	fl.StringVar(&o.transfer, "transfer", "", "the transfer; without it the first of the link")
	fl.StringVar(&o.file, "capture", "", "a capture whose traffic is taken, recorded or of levels; without it the bench is simulated")
	fl.StringVar(&o.length, "for", "1s", "time that is simulated")
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	_ = c.MarkFlagRequired("link")
}

// traffic gives the link, its transfer, and the traffic.
func (o *trafficFlags) traffic(cmd *cobra.Command, name string) (*bench.Bench, *bench.Link, *bench.Transfer, *capture.Snapshot, error) {
	b, err := loadBench(name, o.sets...)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	l, err := linkNamed(b, o.link)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	if len(l.Transfers) == 0 {
		return nil, nil, nil, nil, fmt.Errorf("link %s has no transfers: add `transfers:` below it", l.Name)
	}
	t := l.Transfers[0]
	if o.transfer != "" {
		if t = l.Transfer(o.transfer); t == nil {
			var names []string
			for _, x := range l.Transfers {
				names = append(names, x.Name)
			}
			return nil, nil, nil, nil, fmt.Errorf("--transfer: %s has no transfer %q; it has %s", l.Name, o.transfer, strings.Join(names, ", "))
		}
	}
	if o.file != "" {
		if err := idle(cmd, "with --capture", "for"); err != nil {
			return nil, nil, nil, nil, err
		}
		store, err := trafficOf(cmd.Context(), b, o.file)
		if err != nil {
			return nil, nil, nil, nil, err
		}
		if !slices.ContainsFunc(store.Meta.Links, func(c capture.Link) bool { return c.Name == l.Name }) {
			return nil, nil, nil, nil, fmt.Errorf("--capture: %s has no link %s", o.file, l.Name)
		}
		return b, l, t, store.Snapshot(), nil
	}
	d, err := quantity.ParseSpan(o.length)
	if err != nil {
		return nil, nil, nil, nil, fmt.Errorf("--for: %w", err)
	}
	if d > 1000*quantity.Second {
		return nil, nil, nil, nil, fmt.Errorf("--for %s: at most 1000 s", o.length)
	}
	if l.Port != nil {
		return nil, nil, nil, nil, fmt.Errorf("link %s is a real port: record it with gavrix watch --save FILE, and give that as --capture FILE", l.Name)
	}
	h := sim.NewHeadless(b)
	h.World.RunTo(d)
	return b, l, t, h.Store().Snapshot(), nil
}

// trafficOf reads a recorded capture, or decodes a file of levels with a bench.
func trafficOf(ctx context.Context, b *bench.Bench, path string) (*capture.Store, error) {
	if strings.EqualFold(filepath.Ext(path), ".pcapng") {
		return readCapture(ctx, path)
	}
	src, f, err := openLevels(path, "")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	links, _ := decode.FromBench(b, src.Names())
	if !decode.Any(links) {
		return nil, fmt.Errorf("--capture: %s has no line of a link of the bench; its lines are %s", path, decode.List(src.Names()))
	}
	return allRecords(ctx, src, links, decode.Meta(links))
}

// methodRow is what one method made of the traffic, as JSON has it.
type methodRow struct {
	Method     string  `json:"method"`
	Refused    string  `json:"refused,omitempty"`
	Came       int     `json:"words_came"`
	Moved      int     `json:"words_moved"`
	Lost       int     `json:"lost_by_the_unit"`
	RingLost   int     `json:"lost_in_the_ring"`
	Doubled    int     `json:"taken_twice"`
	Share      float64 `json:"processor_percent"`
	Interrupts float64 `json:"interrupts_per_s"`
	Latency    float64 `json:"latency_us"`
	Greatest   float64 `json:"greatest_bit_rate"`
	Limit      string  `json:"limited_by"`
	Bursts     string  `json:"bursts,omitempty"`
	Content    string  `json:"content,omitempty"`
}

func compareCommand() *cobra.Command {
	o := &trafficFlags{}
	var methods string
	var explain, asJSON bool
	c := &cobra.Command{
		Use:   "compare BENCH",
		Short: "Run polling, interrupts and DMA on the same traffic of a link",
		Long: `Takes the traffic of a link, simulated or from a capture, and runs a transfer on it
by each method: what is wanted stays, what only one method needs is derived. Says
what each costs, how late it is, and what it loses. Exit status 1 if the method that
the bench has loses words.`,
		Example: `  gavrix compare demo --link upper-gauge
  gavrix compare demo --link pump --methods polled,interrupt --for 2s --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var means []transfer.Means
			for _, w := range listed(methods) {
				m, err := word[transfer.Means]("methods", w, transfer.AllMeans)
				if err != nil {
					return err
				}
				if !slices.Contains(means, m) {
					means = append(means, m)
				}
			}
			if means == nil {
				return fmt.Errorf("--methods: write one or more of %s", strings.Join(transfer.AllMeans, ", "))
			}
			_, l, t, snap, err := o.traffic(cmd, args[0])
			if err != nil {
				return err
			}
			rows := follow.Compare(snap, l, t, means)
			return printMethods(l, t, rows, explain, asJSON)
		},
	}
	o.add(c)
	c.Flags().StringVar(&methods, "methods", "polled,interrupt,dma", "methods, separated by commas")
	c.Flags().BoolVar(&explain, "explain", false, "show how the greatest rates are calculated")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func printMethods(l *bench.Link, t *bench.Transfer, rows []follow.Row, explain, asJSON bool) error {
	out := []methodRow{}
	var why []finding.Derivation
	loses := false
	for i := range rows {
		r := &rows[i]
		m := methodRow{Method: r.Means.String(), Refused: r.Refused}
		if r.Refused == "" {
			m.Bursts, m.Content = r.Cadence, r.Content
			m.Came, m.Moved, m.Lost, m.Share, m.Interrupts, m.Latency, m.Greatest, m.Limit = r.Run.Came, r.Run.Moved, r.Run.Lost, 100*r.Run.Share, r.Interrupts, microseconds(r.Latency), r.Greatest, r.Limit
			if r.Run.Ring != nil {
				m.RingLost, m.Doubled = r.Run.Ring.Sums()
			}
			for _, d := range r.Plan.Limit(&l.Setup().Part).Why {
				d.Name = m.Method + ": " + d.Name
				why = append(why, d)
			}
		}
		if r.Means == t.Plan.Means {
			loses = m.Lost+m.RingLost+m.Doubled > 0
		}
		out = append(out, m)
	}
	if asJSON {
		if !explain {
			why = nil
		}
		if err := printJSON(explained{out, why}); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(stdout, "%s, transfer %s, by %s in the bench\n", l.Name, t.Name, t.Plan.Means)
		if len(rows) > 0 && rows[0].Cadence != "" {
			fmt.Fprintf(stdout, "bursts: %s\n", rows[0].Cadence)
		}
		fmt.Fprintln(stdout, "   method       moved   lost   lost in ring   twice   processor   interrupts/s    latency   greatest rate   against the line")
		for i, m := range out {
			if m.Refused != "" {
				fmt.Fprintf(stdout, "   %-10s   %s\n", m.Method, m.Refused)
				continue
			}
			fmt.Fprintf(stdout, "   %-10s %7d %6d %14d %7d   %7.3f %%   %12.1f %10s   %s (%s)   %s\n", m.Method, m.Moved, m.Lost, m.RingLost, m.Doubled, m.Share, m.Interrupts, rows[i].LatencyText(), l.RateText(quantity.FromBd(m.Greatest), 4), m.Limit, m.Content)
		}
		if explain {
			printDerivations(why)
		}
	}
	if loses {
		return exitStatus(found)
	}
	return nil
}

func drawTransfer() *cobra.Command {
	o := &trafficFlags{}
	p := &pictureOptions{}
	var from, span string
	c := &cobra.Command{
		Use:   "transfer BENCH",
		Short: "Draw what a transfer makes of traffic: line, queue, requests, handler, processor",
		Long: `Runs a transfer on the traffic of its link, simulated or from a capture, and draws
the lanes that the Transfers view shows.`,
		Example: `  gavrix draw transfer demo --link upper-gauge
  gavrix draw transfer demo --link upper-gauge --set links.upper-gauge.transfers.readings.method=polled --out lost.svg`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, l, t, snap, err := o.traffic(cmd, args[0])
			if err != nil {
				return err
			}
			f := follow.New(b, snap.Meta())
			for f.Take(snap, 1<<20) {
			}
			for _, x := range f.All {
				if x.Link != l || x.Transfer != t {
					continue
				}
				width := 24 * t.Plan.Stream.Word()
				if span != "" {
					if width, err = quantity.ParseSpan(span); err != nil {
						return fmt.Errorf("--span: %w", err)
					}
				}
				start := max(x.Live.Active()-width*7/8, 0)
				if from != "" {
					if start, err = momentOf(from); err != nil {
						return fmt.Errorf("--from: %w", err)
					}
				}
				if width < quantity.Nanosecond || start < 0 || width > 1000*quantity.Second {
					return fmt.Errorf("--from %s, --span %s: write times from 1 ns to 1000 s", from, span)
				}
				return p.write(picture.Transfer(x.Live.Run(), start, start+width, max(p.columns-20, 20)))
			}
			return nil
		},
	}
	o.add(c)
	fl := c.Flags()
	fl.StringVar(&p.out, "out", "", "file to write, .svg or .pdf; without it the picture is printed as text")
	fl.IntVar(&p.columns, "columns", 110, "width of the text picture")
	fl.StringVar(&from, "from", "", "where the picture begins; without it the latest words are shown")
	fl.StringVar(&span, "span", "", "time across; without it 24 words")
	return c
}
