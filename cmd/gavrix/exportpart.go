package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/constants"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/safe"
)

func exportPart() *cobra.Command {
	var sets []string
	var asJSON, asC bool
	c := &cobra.Command{
		Use:   "part BENCH LINK PART [OPERATION...]",
		Short: "Registers, fields and codes of a part as constants, and operations as bytes",
		Long: `Prints what the device file of a part says as named numbers: register numbers, masks
and places of fields, codes in their places, the expected identity. Operations are added
as the transactions that they are. With --c as constants of C, in a file of its own.`,
		Example: `  gavrix export part demo hull leaf-tilt
  gavrix export part demo hull leaf-tilt 'read leaf-tilt.tilt' --c`,
		Args: cobra.MinimumNArgs(3),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := loadBench(args[0], sets...)
			if err != nil {
				return err
			}
			l, err := linkNamed(b, args[1])
			if err != nil {
				return err
			}
			p, err := describedPart(l, args[2])
			if err != nil {
				return err
			}
			ops, err := sequencesOf(l, args[3:])
			if err != nil {
				return err
			}
			all := constants.Of(p)
			switch {
			case asJSON && asC:
				return fmt.Errorf("--json and --c: take one")
			case asJSON:
				return printJSON(map[string]any{"part": p.Name, "constants": all, "operations": ops})
			case asC:
				printC(p, all, ops)
			default:
				printPart(p, all, ops)
			}
			return nil
		},
	}
	fl := c.Flags()
	fl.StringArrayVar(&sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&asC, "c", false, "as constants of C")
	return c
}

// comment makes a text one that ends no comment.
func comment(s string) string { return strings.ReplaceAll(safe.Text(s), "*/", "* /") }

// describedPart gives a part whose file describes registers.
func describedPart(l *bench.Link, name string) (*operation.Part, error) {
	op, err := operation.Parse("read "+name, l.Parts())
	var p *operation.Part
	for _, x := range l.Parts() {
		if strings.EqualFold(x.Name, name) {
			p = x
		}
	}
	switch {
	case p == nil && err != nil:
		return nil, err
	case p == nil:
		return nil, fmt.Errorf("%q is no part on %s; there is %s", name, l.Name, op.Part.Name)
	case p.Map == nil:
		return nil, fmt.Errorf("%s: its file describes no registers", p.Name)
	}
	return p, nil
}

// sequence is an operation as the transactions that it is.
type sequence struct {
	Operation string   `json:"operation"`
	Texts     []string `json:"transactions"`
}

func sequencesOf(l *bench.Link, texts []string) ([]sequence, error) {
	var out []sequence
	for _, text := range texts {
		op, err := operation.Parse(text, l.Parts())
		if err != nil {
			return nil, fmt.Errorf("%q: %w", text, err)
		}
		steps, err := op.Fixed()
		if err != nil {
			return nil, fmt.Errorf("%q: %w", text, err)
		}
		s := sequence{Operation: text}
		for _, step := range steps {
			s.Texts = append(s.Texts, step.Texts...)
		}
		if op.Verb == operation.Raw {
			s.Texts = []string{op.Text}
		}
		out = append(out, s)
	}
	return out, nil
}

// printC prints constants of C.
func printC(p *operation.Part, all []constants.Constant, ops []sequence) {
	name := constants.Name(p.Name)
	fmt.Fprintf(stdout, "/* %s: %s. %s */\n#ifndef %s_CONSTANTS\n#define %s_CONSTANTS\n\n", comment(p.Name), comment(p.About), comment(p.Source), name, name)
	for _, c := range all {
		suffix := "u"
		if c.Value>>32 != 0 {
			suffix = "ull"
		}
		fmt.Fprintf(stdout, "#define %-36s 0x%0*X%s  /* %s */\n", c.Name, min((c.Bits+3)/4, 16), c.Value, suffix, comment(c.About))
	}
	for _, o := range ops {
		fmt.Fprintf(stdout, "\n/* %s:\n", comment(o.Operation))
		for _, t := range o.Texts {
			fmt.Fprintf(stdout, " *   %s\n", comment(t))
		}
		fmt.Fprintln(stdout, " */")
	}
	fmt.Fprintln(stdout, "\n#endif")
}

// printPart prints constants and transactions as a table.
func printPart(p *operation.Part, all []constants.Constant, ops []sequence) {
	fmt.Fprintf(stdout, "# %s: %s   %s\n", safe.Text(p.Name), safe.Text(p.About), safe.Text(p.Source))
	for _, c := range all {
		fmt.Fprintf(stdout, "%-36s 0x%0*X   %s\n", c.Name, min((c.Bits+3)/4, 16), c.Value, safe.Text(c.About))
	}
	for _, o := range ops {
		fmt.Fprintf(stdout, "%s\n", safe.Text(o.Operation))
		for _, t := range o.Texts {
			fmt.Fprintf(stdout, "  %s\n", safe.Text(t))
		}
	}
}
