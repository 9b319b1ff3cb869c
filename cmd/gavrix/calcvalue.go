package main

import (
	"encoding/hex"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/safe"
)

func calcValue() *cobra.Command {
	var order, align, kind, scale, offset, of string
	var size int
	var asJSON bool
	l := coding.Layout{}
	c := &cobra.Command{
		Use:   "value [BYTES]",
		Short: "Make a value of bytes, stage by stage, or bytes of a value",
		Long: `Joins bytes, takes the bits that count, reads them in their coding, and scales them:
each stage is shown. With --of the other way: the bytes in which a value stands.`,
		Example: `  gavrix calc value 'C7 30' --bits 14 --align left --coding signed --scale '0.5 mg'
  gavrix calc value 'FF 07' --order low-first --bits 12 --scale 1000/4095
  gavrix calc value --of '-1818 mg' --bytes 2 --bits 14 --align left --coding signed --scale '0.5 mg'`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if l.Coding, err = coding.Parse(kind); err != nil {
				return fmt.Errorf("--coding: %w", err)
			}
			if l.LowFirst, err = oneOf("--order", order, "high-first", "low-first"); err != nil {
				return err
			}
			if l.Left, err = oneOf("--align", align, "right", "left"); err != nil {
				return err
			}
			if err := scaled(&l, scale, offset); err != nil {
				return err
			}
			if (of == "") == (len(args) == 0) {
				return fmt.Errorf("give bytes in hex, or a value with --of")
			}
			if of != "" {
				return bytesOf(&l, of, size, asJSON)
			}
			if cmd.Flags().Changed("bytes") {
				return fmt.Errorf("--bytes belongs to --of: as many as are given count")
			}
			data, err := hex.DecodeString(strings.Join(strings.Fields(args[0]), ""))
			if err != nil {
				return fmt.Errorf("%q: write bytes in hex, as C7 30", args[0])
			}
			if l.Bits == 0 {
				l.Bits = 8 * len(data)
			}
			stages, v, err := l.Stages(data)
			if err != nil {
				return err
			}
			least, most := l.Range()
			if asJSON {
				return printJSON(map[string]any{"stages": stages, "meaning": v.Meaning(), "least": l.Quantity(least), "greatest": l.Quantity(most)})
			}
			for _, s := range stages {
				fmt.Fprintf(stdout, "%-18s %-12s %s\n", s.Name, s.Hex, safe.Text(s.Number))
			}
			if v.Fault != "" {
				fmt.Fprintln(stdout, safe.Text(v.Fault))
			}
			fmt.Fprintf(stdout, "%-18s %-12s %s to %s\n", "range", "", safe.Text(l.Quantity(least)), safe.Text(l.Quantity(most)))
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&order, "order", "high-first", "which byte comes first: high-first or low-first")
	fl.StringVar(&align, "align", "right", "where the bits that count stand: left or right")
	fl.IntVar(&l.Bits, "bits", 0, "how many bits count; without it all")
	fl.StringVar(&kind, "coding", "unsigned", "how the number stands in them: "+strings.Join(coding.Names(), ", "))
	fl.StringVar(&scale, "scale", "", "what one count is, as '0.5 mg' or 1/128")
	fl.StringVar(&offset, "offset", "", "what is added to the scaled number")
	fl.StringVar(&of, "of", "", "a value: give its bytes")
	fl.IntVar(&size, "bytes", 2, "how many bytes --of gives")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// scaled gives a layout its scale and offset, which share a unit.
func scaled(l *coding.Layout, scale, offset string) (err error) {
	if scale != "" {
		if l.Scale, l.Unit, err = coding.ParseQuantity(scale); err != nil {
			return fmt.Errorf("--scale: %w", err)
		}
		if l.Scale.Sign() == 0 {
			return fmt.Errorf("--scale: a scale of 0")
		}
	}
	if offset != "" {
		r, unit, err := coding.ParseQuantity(offset)
		if err != nil {
			return fmt.Errorf("--offset: %w", err)
		}
		if l.Offset = r; unit != "" && l.Unit != "" && unit != l.Unit {
			return fmt.Errorf("--offset is in %s, --scale in %s", unit, l.Unit)
		} else if l.Unit == "" {
			l.Unit = unit
		}
	}
	return nil
}

// oneOf says whether a flag has the second of two words.
func oneOf(flag, is, first, second string) (bool, error) {
	if is != first && is != second {
		return false, fmt.Errorf("%s: write %s or %s", flag, first, second)
	}
	return is == second, nil
}

// bytesOf prints the bytes in which a value stands.
func bytesOf(l *coding.Layout, text string, size int, asJSON bool) error {
	if size < 1 || size > 8 {
		return fmt.Errorf("--bytes: write 1 to 8")
	}
	if l.Bits == 0 {
		l.Bits = 8 * size
	}
	if l.Bits < 1 || l.Bits > 8*size {
		return fmt.Errorf("--bits: write 1 to %d", 8*size)
	}
	if err := l.Coding.Check(l.Bits); err != nil {
		return err
	}
	w, err := l.Encode(text)
	if err != nil {
		return err
	}
	data := l.Bytes(w.Raw, size)
	if asJSON {
		return printJSON(map[string]any{"bytes": hex.EncodeToString(data), "meaning": w.Meaning(), "rounded": w.Rounded})
	}
	note := ""
	if w.Rounded {
		note = "   the nearest to " + l.Quantity(w.Asked)
	}
	fmt.Fprintf(stdout, "% X   %s%s\n", data, safe.Text(w.Meaning()), safe.Text(note))
	return nil
}
