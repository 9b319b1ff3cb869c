package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/safe"
)

func exportCommand() *cobra.Command {
	return group("export", "Give the numbers for the firmware", exportRegisters(), exportPart(), exportC())
}

type fieldJSON struct {
	Field   string `json:"field"`
	Bits    string `json:"bits"`
	Value   uint64 `json:"value"`
	Meaning string `json:"meaning"`
	Setting string `json:"setting"`
	Source  string `json:"source"`
}

type wordJSON struct {
	Links    []string    `json:"links"`
	Unit     string      `json:"unit,omitempty"`
	Register string      `json:"register"`
	Address  string      `json:"address"`
	Value    string      `json:"value"`
	Reset    string      `json:"reset"`
	AtReset  bool        `json:"as_after_reset"`
	Fields   []fieldJSON `json:"fields"`
}

type stepJSON struct {
	Link     string `json:"link"`
	Step     string `json:"step"`
	Register string `json:"register"`
	Address  string `json:"address"`
	Mask     string `json:"mask"`
	Value    string `json:"value"`
	AtReset  bool   `json:"as_after_reset"`
	Text     string `json:"text"`
}

func exportRegisters() *cobra.Command {
	var sets []string
	var asJSON, steps bool
	c := &cobra.Command{
		Use:   "registers BENCH",
		Short: "The control-register values that a bench's settings want",
		Long: `Prints address, register and value of each register that the links' settings go
into, with the fields that make it up. What equals the reset value stands as a
comment: it need not be written. The bench describes the registers below
mcu.registers, and each unit says below control where its settings go.
With --steps the writes come one by one in startup order, each with the mask of
the bits that it changes.`,
		Example: `  gavrix export registers demo
  gavrix export registers demo --steps
  gavrix export registers demo --set links.lower-gauge.mcu.frame=8N1 --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := loadBench(args[0], sets...)
			if err != nil {
				return err
			}
			if b.MCU.Registers == nil {
				return fmt.Errorf("%s describes no registers: name a .csv table or a .svd below mcu.registers", args[0])
			}
			if steps {
				return exportSteps(b, asJSON)
			}
			words, err := b.Words()
			if err != nil {
				return err
			}
			if asJSON {
				var out []wordJSON
				for _, w := range words {
					out = append(out, jsonOf(b, &w))
				}
				return printJSON(out)
			}
			printWords(b, words)
			return nil
		},
	}
	c.Flags().StringArrayVar(&sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	c.Flags().BoolVar(&steps, "steps", false, "one write after another, in startup order")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func jsonOf(b *bench.Bench, w *bench.SharedWord) wordJSON {
	out := wordJSON{
		Links: w.Links, Register: w.Name, Address: fmt.Sprintf("0x%08X", w.Address),
		Value: w.Hex(w.Value), Reset: w.Hex(w.Reset), AtReset: w.AtReset,
	}
	if len(w.Links) == 1 {
		out.Unit = b.Link(w.Links[0]).Unit.Name
	}
	for _, c := range w.Choices {
		out.Fields = append(out.Fields, fieldJSON{c.Field.Name, c.Field.Range(), c.Value, c.Field.Meaning(c.Value), c.Setting, c.Source})
	}
	return out
}

func printWords(b *bench.Bench, words []bench.SharedWord) {
	heading := ""
	for _, w := range words {
		if h := strings.Join(w.Links, ", "); h != heading {
			heading = h
			if len(w.Links) > 1 {
				fmt.Fprintf(stdout, "# shared by %s\n", safe.Text(h))
			} else {
				printLink(b.Link(h))
			}
		}
		var fields []string
		for _, c := range w.Choices {
			fields = append(fields, fmt.Sprintf("%s %s (%s, %s)", c.Field.Name, c.Field.Meaning(c.Value), c.Setting, c.Source))
		}
		mark, note := "", ""
		if w.AtReset {
			mark, note = "# ", "   as after reset"
		}
		fmt.Fprintf(stdout, "%s0x%08X  %-10s %s   # %s%s\n", mark, w.Address, safe.Text(w.Name), w.Hex(w.Value), safe.Text(strings.Join(fields, ", ")), note)
	}
	if len(words) == 0 {
		fmt.Fprintln(stdout, "# no setting goes into a described register")
	}
}

func printLink(l *bench.Link) {
	fmt.Fprintf(stdout, "# %s, unit %s: %s", safe.Text(l.Name), safe.Text(l.Unit.Name), safe.Text(l.Model.Short()))
	if l.Unit.Source != "" {
		fmt.Fprintf(stdout, "   (%s)", safe.Text(l.Unit.Source))
	}
	fmt.Fprintln(stdout)
	for _, s := range l.Unheld() {
		fmt.Fprintf(stdout, "# no register takes %s: set it up by hand\n", safe.Text(s))
	}
}

// exportSteps prints the writes of all links in start-up order; what reset does
// stands as a comment.
func exportSteps(b *bench.Bench, asJSON bool) error {
	var out []stepJSON
	for _, l := range b.Links {
		c, err := l.Chain()
		if err != nil {
			return err
		}
		if !asJSON {
			printLink(l)
			fmt.Fprintln(stdout, "# address   mask        value       step")
		}
		for _, s := range c.Steps {
			for _, w := range s.Writes {
				value := w.Value
				if w.Clears() {
					value = w.Mask // writing ones clears
				}
				x := stepJSON{l.Name, s.Name, w.Name, fmt.Sprintf("0x%08X", w.Address), w.Hex(w.Mask), w.Hex(value), s.AtReset, w.Text}
				out = append(out, x)
				if asJSON {
					continue
				}
				mark, note := "", ""
				if s.AtReset {
					mark, note = "# ", "   as after reset"
				}
				fmt.Fprintf(stdout, "%s%s  %-10s  %-10s  # %s: %s %s%s\n", mark, x.Address, x.Mask, x.Value, s.Title, safe.Text(w.Name), safe.Text(w.Text), note)
			}
		}
	}
	if asJSON {
		return printJSON(out)
	}
	return nil
}
