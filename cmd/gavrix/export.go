package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix/core/bench"
	"gavrix/core/safe"
)

func exportCommand() *cobra.Command {
	c := &cobra.Command{Use: "export", Short: "Give the numbers for the firmware"}
	c.AddCommand(exportRegisters())
	return c
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
	Link     string      `json:"link"`
	Unit     string      `json:"unit"`
	Register string      `json:"register"`
	Address  string      `json:"address"`
	Value    string      `json:"value"`
	Reset    string      `json:"reset"`
	AtReset  bool        `json:"as_after_reset"`
	Fields   []fieldJSON `json:"fields"`
}

func exportRegisters() *cobra.Command {
	var sets []string
	var asJSON bool
	c := &cobra.Command{
		Use:   "registers BENCH",
		Short: "The control-register values that a bench's settings want",
		Long: `Prints address, register and value of each register that the links' settings go
into, with the fields that make it up. What equals the reset value stands as a
comment: it need not be written. The bench describes the registers below
mcu.registers, and each unit says below control where its settings go.`,
		Example: `  gavrix export registers demo
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
			var out []wordJSON
			for _, l := range b.Links {
				words, err := l.Words()
				if err != nil {
					return err
				}
				for _, w := range words {
					out = append(out, jsonOf(l, &w))
				}
				if !asJSON {
					printWords(l, words)
				}
			}
			if asJSON {
				return printJSON(out)
			}
			return nil
		},
	}
	c.Flags().StringArrayVar(&sets, "set", nil, "change a value of the bench first, as PATH=VALUE (may be given again)")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func jsonOf(l *bench.Link, w *bench.Word) wordJSON {
	out := wordJSON{
		Link: l.Name, Unit: l.Unit.Name, Register: w.Name, Address: fmt.Sprintf("0x%08X", w.Address),
		Value: w.Hex(w.Value), Reset: w.Hex(w.Reset), AtReset: w.AtReset,
	}
	for _, c := range w.Choices {
		out.Fields = append(out.Fields, fieldJSON{c.Field.Name, c.Field.Range(), c.Value, c.Field.Meaning(c.Value), c.Setting, c.Source})
	}
	return out
}

func printWords(l *bench.Link, words []bench.Word) {
	fmt.Printf("# %s, unit %s: %s", safe.Text(l.Name), safe.Text(l.Unit.Name), l.MCU.Frame)
	if l.Unit.Source != "" {
		fmt.Printf("   (%s)", safe.Text(l.Unit.Source))
	}
	fmt.Println()
	for _, w := range words {
		var fields []string
		for _, c := range w.Choices {
			fields = append(fields, fmt.Sprintf("%s %s (%s, %s)", c.Field.Name, c.Field.Meaning(c.Value), c.Setting, c.Source))
		}
		mark, note := "", ""
		if w.AtReset {
			mark, note = "# ", "   as after reset"
		}
		fmt.Printf("%s0x%08X  %-10s %s   # %s%s\n", mark, w.Address, safe.Text(w.Name), w.Hex(w.Value), safe.Text(strings.Join(fields, ", ")), note)
	}
	if len(words) == 0 {
		fmt.Println("# no setting of this unit goes into a described register")
	}
}
