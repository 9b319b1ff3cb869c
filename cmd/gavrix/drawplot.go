package main

import (
	"encoding/csv"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/values"
)

func drawPlot() *cobra.Command {
	o := &sourceFlags{}
	p := &frameOptions{}
	var from, to, table string
	var against, histogram bool
	c := &cobra.Command{
		Use:   "plot SOURCE VALUE...",
		Short: "Draw values over time, one against another, or how often each was how large",
		Long: `Draws values that the traffic carries: each VALUE in a lane of its own, those
joined by + on one scale. ` + "`gavrix values SOURCE`" + ` lists them. Where what the MCU sets
stands beside what a part answers, the first is a staircase, the second dots.

` + sourceHelp,
		Example: `  gavrix draw plot demo pump-drive.pressure leaf-angle.angle --for 500ms
  gavrix draw plot demo winch-status.speed winch-drive.turns --against --for 500ms
  gavrix draw plot demo upper-gauge.level --histogram --from 200ms --for 500ms`,
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if against && histogram {
				return fmt.Errorf("--against and --histogram are two pictures: choose one")
			}
			if table != "" {
				if err := idle(cmd, "with --table", "out", "columns", "against", "histogram"); err != nil {
					return err
				}
				if !strings.EqualFold(filepath.Ext(table), ".csv") {
					return fmt.Errorf("--table %s: the name must end in .csv", table)
				}
			}
			if err := columns(p.columnsWide); err != nil {
				return err
			}
			b, snap, err := o.open(cmd, args[0])
			if err != nil {
				return err
			}
			a, z, err := stretch(from, to, snap)
			if err != nil {
				return err
			}
			book := values.NewBook(b, snap.Meta(), snap.ValuesMemory())
			for book.Take(snap, 1<<20) {
			}
			lanes, err := lanesOf(book, args[1:])
			if err != nil {
				return err
			}
			if table != "" {
				return writeTable(table, book.Catalog(), lanes, a, z)
			}
			s, err := plotted(book, lanes, against, histogram, a, z, snap.Now, p.columnsWide-19)
			if err != nil {
				return err
			}
			return p.write(s)
		},
	}
	o.add(c)
	fl := c.Flags()
	fl.StringVar(&from, "from", "", "beginning of the stretch")
	fl.StringVar(&to, "to", "", "end of the stretch")
	fl.BoolVar(&against, "against", false, "draw the second value against the first, with the line that fits best")
	fl.BoolVar(&histogram, "histogram", false, "draw how often each value was how large")
	fl.StringVar(&table, "table", "", "write the samples to this .csv file in place of a picture")
	fl.StringVar(&p.out, "out", "", "file to write, .svg or .pdf; without it the picture is printed as text")
	fl.IntVar(&p.columnsWide, "columns", 140, "width of the text picture, and how fine a drawing is")
	return c
}

// plotted is the picture of values between two times: over time, against each other, or how often
// each was how large.
func plotted(book *values.Book, lanes [][]*values.Series, against, histogram bool, a, z, now quantity.Time, columns int) (*scene.Scene, error) {
	name := book.Catalog().Short
	var s *scene.Scene
	switch {
	case against:
		if len(lanes) != 2 {
			return nil, fmt.Errorf("--against: name two values, the one that is set first")
		}
		s = picture.Against(lanes[0][0], lanes[1][0], name, a, z)
	case histogram:
		s = &scene.Scene{Title: "how often each value was how large"}
		for _, l := range lanes {
			s.Charts = append(s.Charts, picture.Histogram(l[0], name, a, z, 24).Charts...)
		}
	default:
		plot := picture.Plot{Lanes: lanes, Name: name, From: a, To: z, Now: now, Columns: columns}
		s = plot.Scene()
		for _, l := range lanes {
			for _, x := range l {
				s.Notes = append(s.Notes, figuresText(book.Catalog(), x, a, z))
			}
		}
	}
	return s, nil
}

// lanesOf finds the values that are named; + joins those that share a lane.
func lanesOf(book *values.Book, names []string) ([][]*values.Series, error) {
	var out [][]*values.Series
	for _, arg := range names {
		var lane []*values.Series
		for _, text := range strings.Split(arg, "+") {
			n, err := book.Find(strings.TrimSpace(text))
			if err != nil {
				return nil, fmt.Errorf("%w; gavrix values SOURCE lists them", err)
			}
			s := book.Of(n)
			if s == nil {
				return nil, fmt.Errorf("%s never came in this traffic", n)
			}
			if s.Len() == 0 {
				return nil, fmt.Errorf("%s is text, no number: it can't be drawn", n)
			}
			lane = append(lane, s)
		}
		out = append(out, lane)
	}
	return out, nil
}

// figuresText says what a value was in a stretch.
func figuresText(c *values.Catalog, x *values.Series, from, to quantity.Time) string {
	f := x.Figures(from, to)
	if f.N == 0 {
		return c.Short(x.Name) + ": no samples here"
	}
	scale := scene.Scale{Unit: x.UnitText()}
	return fmt.Sprintf("%s: %s, %s to %s, mean %s, deviation %s", c.Short(x.Name), quantity.Count(f.N, "sample"), scale.Text(f.Least), scale.Text(f.Most), scale.Text(f.Mean), scale.Text(f.Deviation))
}

// writeTable writes samples as comma-separated values, in order of time.
func writeTable(path string, c *values.Catalog, lanes [][]*values.Series, from, to quantity.Time) error {
	return regular.Write(path, 0o644, func(out io.Writer) error { return tabulate(out, c, lanes, from, to) })
}

func tabulate(out io.Writer, c *values.Catalog, lanes [][]*values.Series, from, to quantity.Time) error {
	w := csv.NewWriter(out)
	_ = w.Write([]string{"time [s]", "value", "number", "unit"})
	var all []*values.Series
	var next []int
	for _, l := range lanes {
		for _, x := range l {
			i, _ := x.Between(from, to)
			all, next = append(all, x), append(next, i)
		}
	}
	for {
		best := -1
		var when quantity.Time
		for k, x := range all {
			if next[k] >= x.Len() {
				continue
			}
			if t, _ := x.At(next[k]); t < to && (best < 0 || t < when) {
				best, when = k, t
			}
		}
		if best < 0 {
			break
		}
		_, v := all[best].At(next[best])
		next[best]++
		_ = w.Write([]string{quantity.Group(when.Seconds(), 12), c.Short(all[best].Name), strconv.FormatFloat(v, 'g', -1, 64), all[best].UnitText()})
	}
	w.Flush()
	return w.Error()
}

func valuesCommand() *cobra.Command {
	o := &sourceFlags{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "values SOURCE",
		Short: "List the values that traffic carries: what they were last, how often they came and changed",
		Long: `Lists every value that the device files tell of, as its messages and registers had it:
the newest first. What links do themselves (gap, delay, rate, errors, period) are
values too.

` + sourceHelp,
		Example: `  gavrix values demo --for 300ms
  gavrix values lock.pcapng --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, snap, err := o.open(cmd, args[0])
			if err != nil {
				return err
			}
			book := values.NewBook(b, snap.Meta(), snap.ValuesMemory())
			for book.Take(snap, 1<<20) {
			}
			return printValues(book, snap.Now, asJSON)
		},
	}
	o.add(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// valueRow is a value as JSON has it.
type valueRow struct {
	Name    string  `json:"name"`
	Link    uint16  `json:"link"`
	Last    string  `json:"last"`
	Before  string  `json:"before,omitempty"`
	At      int64   `json:"at_ps"`
	Age     float64 `json:"age_s"`
	Count   int     `json:"count"`
	Changes int     `json:"changes"`
	Stale   bool    `json:"stale,omitempty"`
	About   string  `json:"about,omitempty"`
}

func printValues(book *values.Book, now quantity.Time, asJSON bool) error {
	rows := []valueRow{}
	for _, s := range book.Fresh() {
		rows = append(rows, valueRow{
			Name: book.Catalog().Short(s.Name), Link: s.Link, Last: s.Last, Before: s.Before, At: int64(s.LastAt), Age: (now - s.LastAt).Seconds(),
			Count: s.Seen, Changes: s.Changes, Stale: s.Stale(now), About: s.About,
		})
	}
	if asJSON {
		return printJSON(rows)
	}
	if len(rows) == 0 {
		fmt.Fprintln(stdout, "no value came: the traffic is empty, or no device file says what it means")
		return nil
	}
	wide := 8
	for _, r := range rows {
		wide = max(wide, len([]rune(r.Name)))
	}
	fmt.Fprintf(stdout, "%-*s  %-22s %-22s %9s %9s %12s\n", wide, "value", "last", "before", "came", "changed", "age")
	for _, r := range rows {
		age := quantity.Time(r.Age * 1e12).Round(3)
		if r.Stale {
			age += " stale"
		}
		fmt.Fprintf(stdout, "%-*s  %-22s %-22s %9d %9d %12s\n", wide, r.Name, safe.Text(r.Last), safe.Text(r.Before), r.Count, r.Changes, age)
	}
	return nil
}
