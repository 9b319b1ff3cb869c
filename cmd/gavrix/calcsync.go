package main

import (
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
)

// syncResult is what `calc sync` says.
type syncResult struct {
	At       float64   `json:"at_us"`
	Rate     float64   `json:"rate_baud"`
	Bit      float64   `json:"bit_us"`
	Spread   float64   `json:"largest_edge_deviation_bits"`
	Error    *float64  `json:"error_percent,omitempty"` // against the rate wanted
	Settings []baudRow `json:"settings,omitempty"`      // for the clock given
}

// mostEdges is how far a line is searched for the sync character.
const mostEdges = 1 << 20

func printSync(out *syncResult, s uart.Sync, character string, asJSON bool) error {
	if asJSON {
		return printJSON(out)
	}
	fmt.Fprintf(stdout, "%s at %s: %s, a bit is %.4g µs; edges up to %.3f bits off\n", character, s.Start.Round(6), s.Rate().Round(6), out.Bit, s.Spread)
	if out.Error != nil {
		fmt.Fprintf(stdout, "%+.2f %% from the rate given\n", *out.Error)
	}
	for _, r := range out.Settings {
		fmt.Fprintf(stdout, "×%d divider %d: %.1f Bd, %+.2f %%\n", r.Oversampling, r.Divider, r.Rate, r.Error)
	}
	return nil
}

func calcSync() *cobra.Command {
	var line, frameText, byteText, wantText, clockText, rate string
	var oversampling []int
	var most int
	var asJSON bool
	c := &cobra.Command{
		Use:   "sync FILE",
		Short: "Measure the rate of a UART from a sync character in a capture",
		Long: `Looks for the first sync character on a line, after a pause or at its beginning,
and gives the sender's rate from its edges; with --clock also the divider that
comes nearest.`,
		Example: `  gavrix calc sync lock.vcd --line rx --clock 40MHz`,
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, err := uart.ParseFrame(frameText)
			if err != nil {
				return fmt.Errorf("--frame: %w", err)
			}
			value, err := strconv.ParseUint(byteText, 16, 9)
			if err != nil {
				return fmt.Errorf("--byte: %q is no character in hex", byteText)
			}
			if err := f.Fits(uint16(value)); err != nil {
				return fmt.Errorf("--byte: %w", err)
			}
			high, toggles, err := readLine(args[0], rate, line)
			if err != nil {
				return err
			}
			s, err := uart.FindSync(f, uint16(value), high, toggles)
			if err != nil {
				return fmt.Errorf("%s, line %s: %w", args[0], line, err)
			}
			out := syncResult{At: s.Start.Seconds() * 1e6, Rate: s.Rate().Bd(), Bit: 1e6 / s.Rate().Bd(), Spread: s.Spread}
			if wantText != "" {
				want, err := quantity.ParseRate(wantText)
				if err != nil {
					return fmt.Errorf("--rate: %w", err)
				}
				e := 100 * (s.Rate().Bd()/want.Bd() - 1)
				out.Error = &e
			}
			if clockText != "" {
				hz, err := quantity.ParseClock(clockText)
				if err != nil {
					return fmt.Errorf("--clock: %w", err)
				}
				settings, err := clock.Divider{Oversampling: oversampling, Least: 1, Most: most}.Solve(hz, s.Rate())
				if err != nil {
					return err
				}
				for _, x := range settings {
					out.Settings = append(out.Settings, rowOf(x))
				}
			}
			return printSync(&out, s, byteText, asJSON)
		},
	}
	fl := c.Flags()
	fl.StringVar(&line, "line", "", "the line in the capture")
	fl.StringVar(&byteText, "byte", "55", "the sync character in hex")
	fl.StringVar(&frameText, "frame", "8N1", "data bits, parity, stop bits")
	fl.StringVar(&wantText, "rate", "", "the rate that it should have")
	fl.StringVar(&clockText, "clock", "", "clock of a rate generator: give its divider")
	fl.IntSliceVar(&oversampling, "oversampling", []int{16}, "receiver samples per bit that the rate generator can take")
	fl.IntVar(&most, "most", 65536, "its largest divider")
	fl.StringVar(&rate, "sample-rate", "", "rate of the samples of a .csv file without times")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("line")
	return c
}

// readLine reads the first edges of one line of a capture.
func readLine(path, rate, line string) (high bool, toggles []quantity.Time, err error) {
	src, file, err := openLevels(path, rate)
	if err != nil {
		return false, nil, err
	}
	defer file.Close()
	i, err := decode.Index(src.Names(), line)
	if err != nil {
		return false, nil, fmt.Errorf("--line: %w", err)
	}
	src.Select(i)
	for first := true; len(toggles) < mostEdges; first = false {
		ws, err := src.Next()
		if len(ws) > 0 {
			if first {
				high = ws[0].High
			}
			toggles = append(toggles, ws[0].Toggles...)
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return false, nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return high, toggles, nil
}
