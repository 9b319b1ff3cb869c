package main

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/core/record"
)

// readingJSON is the form of a guess.
type readingJSON struct {
	Frames  []string `json:"frames"`
	Faster  float64  `json:"receiver_too_fast_by"`
	Bits    float64  `json:"bits_saved"`
	Apart   string   `json:"told_apart_by,omitempty"`
	Reasons []string `json:"reasons,omitempty"`
}

func calcReading() *cobra.Command {
	var frame string
	var asJSON bool
	c := &cobra.Command{
		Use:   "reading BYTES",
		Short: "Tell the sender's frame from what a receiver with another one read",
		Long: `Ranks the frames with which characters may have been sent, from the bytes that a
receiver read and its error marks alone. Bytes are in hex; a framing error is a !
after the byte, a parity error a ?. At least 4, better 20 different ones.`,
		Example: `  gavrix calc reading --frame 8N1 'CC BD B4 2E B8 B2 A0 ED 8D 0A'
  gavrix calc reading --frame 7N1 '31! 32! 33 34!'`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			own, err := uart.ParseFrame(frame)
			if err != nil {
				return fmt.Errorf("--frame: %w", err)
			}
			chars, err := parseReading(args[0], own)
			if err != nil {
				return err
			}
			gs := recognise.Bytes(own, chars)
			if len(gs) == 0 {
				return errors.New("these are too few characters: give at least 4")
			}
			if asJSON {
				out := []readingJSON{}
				for _, g := range gs {
					out = append(out, readingJSON{g.Class, g.Faster, g.Gain, g.Apart, g.Reasons})
				}
				return printJSON(out)
			}
			for i, g := range gs {
				fmt.Fprintf(stdout, "%d. %s", i+1, strings.Join(g.Class, ", or "))
				if g.Faster != 1 {
					fmt.Fprintf(stdout, ", and the receiver's rate is %g times too high", g.Faster)
				}
				fmt.Fprintf(stdout, "   %+.0f bits\n", g.Gain)
				for _, r := range g.Reasons {
					fmt.Fprintln(stdout, "   "+r)
				}
				if len(g.Class) > 1 || g.Faster != 1 {
					fmt.Fprintln(stdout, "   "+g.Apart)
				}
			}
			return nil
		},
	}
	c.Flags().StringVar(&frame, "frame", "8N1", "the receiver's frame")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// parseReading reads characters with their error marks.
func parseReading(text string, f uart.Frame) ([]recognise.Char, error) {
	var out []recognise.Char
	for _, w := range strings.Fields(text) {
		var c recognise.Char
		hex := strings.TrimRight(w, "!?")
		if strings.Contains(w, "!") {
			c.Flags |= record.Framing
		}
		if strings.Contains(w, "?") {
			if f.Parity == uart.None {
				return nil, fmt.Errorf("%q: a receiver with %s marks no parity errors", w, f)
			}
			c.Flags |= record.Parity
		}
		v, err := strconv.ParseUint(hex, 16, 16)
		if err != nil || uint16(v) > f.Mask() {
			return nil, fmt.Errorf("%q: write a character of %d bits in hex, with ! after it for a framing error and ? for a parity error", w, f.Data)
		}
		c.Value = uint16(v)
		out = append(out, c)
	}
	return out, nil
}
