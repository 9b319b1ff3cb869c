package main

import (
	"encoding/hex"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/transfer"
)

// planFault is a fault as JSON has it.
type planFault struct {
	Transfer string `json:"transfer"`
	Code     string `json:"code"`
	Severity string `json:"severity"`
	Slot     string `json:"slot,omitempty"`
	Value    string `json:"write,omitempty"`
	Seen     string `json:"seen"`
	Harm     string `json:"harm,omitempty"`
}

// planRun is what became of a plan.
type planRun struct {
	Transfer string   `json:"transfer"`
	State    string   `json:"state"`
	Moved    int      `json:"words_moved"`
	Lost     int      `json:"words_lost"`
	Calls    int      `json:"handler_calls"`
	Buffer   string   `json:"buffer_hex"`
	Wire     string   `json:"wire_hex,omitempty"`
	Seen     []string `json:"harm_seen"`
	Lapped   int      `json:"unread_overwritten,omitempty"`
}

func calcTransferCheck() *cobra.Command {
	var traffic []string
	var slots, asJSON bool
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Check plans of transfers and run them, each alone, against words on the line",
		Long: `Reads plans from a file with part (what the MCU offers), units, transfers and
start; what a plan does not say is derived. Says what is wrong with each and what
will be seen of it, then runs it: the words come, or go, one behind the other from
the moment at which the unit is enabled. Plans of a bench are checked by lint. Exit
status 1 if something is wrong.`,
		Example: `  gavrix calc transfer check plans.yaml
  gavrix calc transfer check plans.yaml --words rx=200 --slots`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := regular.Read(args[0], doc.MostText)
			if err != nil {
				return fmt.Errorf("%s can't be read: %w", args[0], err)
			}
			s, file, faults := transfer.ReadFile(args[0], text)
			if len(faults) > 0 {
				for _, f := range faults {
					fmt.Fprintln(stdout, f.String())
				}
				return exitStatus(cannot)
			}
			words, err := wordCounts(traffic, s)
			if err != nil {
				return err
			}
			var out struct {
				Faults []planFault `json:"faults"`
				Runs   []planRun   `json:"runs"`
			}
			out.Faults, out.Runs = []planFault{}, []planRun{}
			wrong := false
			var texts []finding.Finding
			for _, f := range s.Check() {
				out.Faults = append(out.Faults, planFault{f.Plan, f.Code, f.Severity.String(), f.Slot, f.Value, f.Seen, string(f.Harm)})
				texts = append(texts, f.Finding(file.Root.Get("transfers", f.Plan)))
				wrong = wrong || f.Severity == finding.Error
			}
			for _, p := range s.Plans {
				r := s.RunOf(p, words[p.Name])
				out.Runs = append(out.Runs, runOut(r))
				wrong = wrong || len(r.Harms) > 0
			}
			switch {
			case asJSON:
				if err := printJSON(out); err != nil {
					return err
				}
			default:
				printPlans(s, texts, out.Runs, words, slots)
			}
			if wrong {
				return exitStatus(found)
			}
			return nil
		},
	}
	c.Flags().StringArrayVar(&traffic, "words", nil, "words that come or go, as TRANSFER=120; without it three times the length of a ring, else the length (repeatable)")
	c.Flags().BoolVar(&slots, "slots", false, "show every slot with its reason")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func wordCounts(given []string, s *transfer.Setup) (map[string]int, error) {
	words := map[string]int{}
	for _, p := range s.Plans {
		words[p.Name] = p.Words()
		if p.Goal != transfer.Fixed {
			words[p.Name] = 3 * p.Words()
		}
	}
	for _, g := range given {
		name, count, _ := strings.Cut(g, "=")
		if _, known := words[name]; !known {
			return nil, fmt.Errorf("--words %s: there is no transfer %q", g, name)
		}
		n := 0
		if _, err := fmt.Sscanf(count, "%d", &n); err != nil || n < 0 || n > 10_000_000 {
			return nil, fmt.Errorf("--words %s: write %s=120, 0 to 10 million", g, name)
		}
		words[name] = n
	}
	return words, nil
}

func runOut(r *transfer.Run) planRun {
	o := planRun{Transfer: r.Plan.Name, State: string(r.State), Moved: r.Moved, Lost: r.Lost, Calls: r.Calls, Buffer: hex.EncodeToString(r.Buffer.Values()), Seen: []string{}}
	var wire []byte
	for _, w := range r.Wire {
		for b := range r.Plan.Stream.Bytes() {
			wire = append(wire, byte(w>>(8*b)))
		}
	}
	o.Wire = hex.EncodeToString(wire)
	for _, h := range r.Harms {
		o.Seen = append(o.Seen, string(h))
	}
	for _, c := range r.Buffer.Cells[:r.Buffer.Bytes] {
		o.Lapped += c.Lost
	}
	return o
}

func printPlans(s *transfer.Setup, faults []finding.Finding, runs []planRun, words map[string]int, slots bool) {
	for i, p := range s.Plans {
		fmt.Fprintln(stdout, p.Sentence())
		if slots {
			for k := range transfer.Slots {
				sl := &transfer.Slots[k]
				if !sl.For(p) {
					continue
				}
				why := p.Why[sl.Key]
				if p.Given[sl.Key] {
					why = "given"
				}
				fmt.Fprintf(stdout, "   %-22s %-20s %s\n", sl.Key, sl.Get(p), why)
			}
		}
		r := runs[i]
		calls := fmt.Sprint(r.Calls)
		if r.Calls < 0 {
			calls = "endless"
		}
		fmt.Fprintf(stdout, "   run with %d words: %s; %d moved, %d lost, %s handler calls", words[p.Name], r.State, r.Moved, r.Lost, calls)
		if len(r.Seen) > 0 {
			fmt.Fprintf(stdout, "; seen: %s", strings.Join(r.Seen, ", "))
		}
		fmt.Fprintln(stdout)
	}
	for _, f := range faults {
		fmt.Fprintln(stdout, f.String())
	}
	if len(faults) == 0 {
		fmt.Fprintln(stdout, "no problems found")
	}
}
