package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/prove"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/session"
	"gavrix.org/gavrix/core/sim"
)

func printJSON(v any) error {
	enc := json.NewEncoder(safe.JSONWriter(stdout))
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

func lintCommand() *cobra.Command {
	var asJSON, strict bool
	var sets []string
	c := &cobra.Command{
		Use:   "lint BENCH",
		Short: "Say what the description of a bench shows to be wrong",
		Long:  "Reads the bench and its device files and reports every finding: where, what, why and how to fix it.\nThe word demo stands for the bench that ships with Gavrix. Exit status 1 where an error is found;\nwarnings and notes alone give 0, with --strict 1 too.",
		Example: `  gavrix lint demo
  gavrix lint demo --set links.lower-gauge.mcu.frame=8N1     with a fault planted`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := loadBench(args[0], sets...)
			if err != nil {
				return err
			}
			fs := b.Lint()
			if asJSON {
				if fs == nil {
					fs = []finding.Finding{}
				}
				if err := printJSON(fs); err != nil {
					return err
				}
			} else {
				printFindings(stdout, fs)
				if len(fs) == 0 {
					counted := ""
					if strict {
						counted = ", warnings and notes counted"
					}
					fmt.Fprintf(stdout, "%s: %s, no problems found%s\n", safe.Text(b.Name), quantity.Count(len(b.Links), "link"), counted)
				}
			}
			if worst, any := finding.Worst(fs); any && (worst == finding.Error || strict) {
				return exitStatus(found)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print the findings as JSON")
	c.Flags().BoolVar(&strict, "strict", false, "exit status 1 for warnings and notes too")
	c.Flags().StringArrayVar(&sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	return c
}

func proveCommand() *cobra.Command {
	var asJSON bool
	var junit string
	var only, sets []string
	c := &cobra.Command{
		Use:   "prove BENCH",
		Short: "Run the checks of a bench",
		Long: `Runs every check of the bench's links, on the simulation or on the port that a
link is bound to, and says for each whether it passed, or the first difference
and all others. What lint finds to be an error in the description of a link stands
after its checks as one that failed.`,
		Example: `  gavrix prove demo
  gavrix prove demo --set links.lower-gauge.mcu.frame=8N1     with a fault planted`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := loadBench(args[0], sets...)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			return runChecks(ctx, b, only, asJSON, junit)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print the results as JSON")
	c.Flags().StringVar(&junit, "junit", "", "write the results to this file too, as JUnit XML")
	c.Flags().StringSliceVar(&only, "link", nil, "only these links")
	c.Flags().StringArrayVar(&sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	return c
}

func runChecks(ctx context.Context, b *bench.Bench, only []string, asJSON bool, junit string) error {
	links, err := chosen(b, only)
	if err != nil {
		return err
	}
	var h link.Session = sim.NewHeadless(b)
	for _, l := range links {
		if l.Port != nil {
			s := session.Open(b)
			defer s.Close()
			h = s
			break
		}
	}
	results := []check.Result{}
	for _, l := range links {
		if len(only) > 0 && len(l.Checks) == 0 {
			return fmt.Errorf("%s has no checks; write them below links.%s.checks", l.Name, l.Name)
		}
		rs, err := prove.Link(ctx, h, l)
		results = append(results, rs...)
		if errors.Is(err, context.Canceled) {
			return errors.New("stopped; the checks that ran are above")
		}
		if err != nil {
			return err
		}
	}
	checks := len(results)
	for _, l := range links {
		results = append(results, described(l, h.Info(l.Index).Simulated)...)
	}
	failed := 0
	for _, r := range results {
		if !r.Pass {
			failed++
		}
	}
	if junit != "" {
		var text bytes.Buffer
		if err := check.WriteJUnit(&text, b.Name, results); err != nil {
			return err
		}
		if err := regular.Replace(junit, text.Bytes(), 0o644); err != nil {
			return err
		}
	}
	if asJSON {
		if err := printJSON(results); err != nil {
			return err
		}
	} else {
		printResults(results)
		wrong := len(results) - checks
		fmt.Fprintf(stdout, "%s, %d failed", quantity.Count(checks, "check"), failed-wrong)
		if wrong > 0 {
			fmt.Fprintf(stdout, "; %s in the description", quantity.Count(wrong, "error"))
		}
		fmt.Fprintln(stdout)
	}
	if failed > 0 {
		return exitStatus(found)
	}
	return nil
}

// described gives the errors in the description of a link as checks that failed: what
// passes in spite of them passes by chance.
func described(l *bench.Link, simulated bool) []check.Result {
	var out []check.Result
	for _, f := range l.Lint() {
		if f.Severity == finding.Error {
			out = append(out, check.Result{Link: l.Name, Check: "description", Simulated: simulated, Problem: f.Where.String() + ": " + f.Seen})
		}
	}
	return out
}

func printResults(results []check.Result) {
	for _, r := range results {
		world := "REAL     "
		if r.Simulated {
			world = "SIMULATED"
		}
		fmt.Fprintln(stdout, world+"  "+safe.Text(r.Summary()))
		if r.Pass {
			continue
		}
		if len(r.Sent) > 0 {
			fmt.Fprintf(stdout, "      sent %s\n", safe.Bytes(r.Sent))
		}
		switch {
		case len(r.Seen) == 0 && len(r.Sent) > 0:
			fmt.Fprintln(stdout, "      seen nothing")
		case len(r.Seen) > 0:
			fmt.Fprintf(stdout, "      seen %s  (% X)\n", safe.Bytes(r.Seen), r.Seen)
		}
		for i, d := range r.Differences {
			if i > 0 {
				fmt.Fprintln(stdout, "      "+safe.Text(d.String()))
			}
		}
	}
}

// chosen gives the named links, or all.
func chosen(b *bench.Bench, names []string) ([]*bench.Link, error) {
	if len(names) == 0 {
		return b.Links, nil
	}
	var out []*bench.Link
	for _, n := range names {
		l, err := linkNamed(b, n)
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}
