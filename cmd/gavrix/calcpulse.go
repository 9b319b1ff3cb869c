package main

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/quantity"
)

// pulseResult is what `calc pulse` says.
type pulseResult struct {
	Bytes        string   `json:"bytes,omitempty"` // for the clocked data line
	Bit          float64  `json:"bit_us"`
	ZeroHigh     float64  `json:"zero_high_us"`
	ZeroLow      float64  `json:"zero_low_us"`
	OneHigh      float64  `json:"one_high_us"`
	OneLow       float64  `json:"one_low_us"`
	LargestPause float64  `json:"largest_pause_us"`
	Total        float64  `json:"total_us"` // of the elements, with the latch
	Latches      bool     `json:"pause_latches"`
	Wrong        []string `json:"wrong,omitempty"`
}

func parsePatterns(zero, one string) (pulse.Patterns, error) {
	p := pulse.Patterns{Bits: len(zero)}
	if len(one) != len(zero) {
		return p, fmt.Errorf("--zero-pattern %s and --one-pattern %s: they must have the same number of bits", zero, one)
	}
	for _, x := range []struct {
		text, flag string
		to         *uint32
	}{{zero, "--zero-pattern", &p.Zero}, {one, "--one-pattern", &p.One}} {
		v, err := strconv.ParseUint(x.text, 2, 32)
		if err != nil {
			return p, fmt.Errorf("%s: %q is no binary number", x.flag, x.text)
		}
		*x.to = uint32(v)
	}
	return p, p.Check()
}

// elementsOf takes the bits of bytes in groups of the element's size.
func elementsOf(s pulse.Settings, data []byte) ([]uint32, error) {
	if len(data)*8%s.Element != 0 {
		return nil, fmt.Errorf("--data: %d bits are no whole number of elements of %d", len(data)*8, s.Element)
	}
	var out []uint32
	for i := 0; i < len(data)*8; i += s.Element {
		e := uint32(0)
		for k := range s.Element {
			bit := i + k
			e = e<<1 | uint32(data[bit/8]>>(7-bit%8)&1)
		}
		out = append(out, e)
	}
	return out, nil
}

func calcPulse() *cobra.Command {
	var settings, zero, one, clockText, data, pauseText string
	var asJSON bool
	c := &cobra.Command{
		Use:   "pulse",
		Short: "Make a pulse line from a clocked data line: the bytes to send, and the tolerances",
		Long: `Each bit of the pulse line is sent as a pattern of bits of a clocked data line.
Gives the bytes for the elements, the times against the limits, and the largest
pause that the line may make between bytes. Exit status 1 if a time is outside
its limits.`,
		Example: `  gavrix calc pulse --zero-pattern 100 --one-pattern 110 --clock 2.5MHz --data A0 \
    --settings 'zero="0.2 to 0.5 us" one="0.6 to 1 us" low="0.3 to 5 us" latch=50us' --pause 60us`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			set, err := settingsOf(pulse.Kind, settings)
			if err != nil {
				return fmt.Errorf("--settings: %w", err)
			}
			s := set.(pulse.Settings)
			p, err := parsePatterns(zero, one)
			if err != nil {
				return err
			}
			hz, err := quantity.ParseClock(clockText)
			if err != nil {
				return fmt.Errorf("--clock: %w", err)
			}
			pause := quantity.Time(0)
			if pauseText != "" {
				if pause, err = quantity.ParseSpan(pauseText); err != nil {
					return fmt.Errorf("--pause: %w", err)
				}
			}
			raw, err := hex.DecodeString(strings.ReplaceAll(data, " ", ""))
			if err != nil {
				return fmt.Errorf("--data: %q is not bytes in hex", data)
			}
			elements, err := elementsOf(s, raw)
			if err != nil {
				return err
			}
			t := pulse.Fit(s, p, quantity.PeriodOf(quantity.FromBd(hz.Hz())), pause)
			us := func(t quantity.Time) float64 { return t.Seconds() * 1e6 }
			out := pulseResult{
				Bytes: strings.ToUpper(fmt.Sprintf("% x", pulse.ToClocked(s, p, elements...))), Bit: us(t.Bit),
				ZeroHigh: us(t.ZeroHigh), ZeroLow: us(t.ZeroLow), OneHigh: us(t.OneHigh), OneLow: us(t.OneLow),
				LargestPause: us(t.LargestPause), Total: us(t.Bit*quantity.Time(len(elements)*s.Element) + s.Latch),
				Latches: t.Unwanted, Wrong: t.Wrong,
			}
			if err := out.print(asJSON); err != nil {
				return err
			}
			if !t.Fits {
				return exitStatus(found)
			}
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&settings, "settings", "", "the pulse line's limits, as after decode --link")
	fl.StringVar(&zero, "zero-pattern", "", "bits of the data line for a 0, as 100")
	fl.StringVar(&one, "one-pattern", "", "bits of the data line for a 1, as 110")
	fl.StringVar(&clockText, "clock", "", "clock of the data line")
	fl.StringVar(&data, "data", "", "elements in hex, bit after bit")
	fl.StringVar(&pauseText, "pause", "", "pause that the data line makes between bytes, resting low")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	for _, f := range []string{"settings", "zero-pattern", "one-pattern", "clock"} {
		_ = c.MarkFlagRequired(f)
	}
	return c
}

func (r pulseResult) print(asJSON bool) error {
	if asJSON {
		return printJSON(r)
	}
	if r.Bytes != "" {
		fmt.Fprintf(stdout, "bytes  %s\n", r.Bytes)
	}
	fmt.Fprintf(stdout, "a bit takes %.4g µs; 0: high %.4g, low %.4g µs; 1: high %.4g, low %.4g µs\n", r.Bit, r.ZeroHigh, r.ZeroLow, r.OneHigh, r.OneLow)
	fmt.Fprintf(stdout, "all elements with the latch %.5g µs; between bytes a pause of at most %.4g µs fits\n", r.Total, r.LargestPause)
	for _, w := range r.Wrong {
		fmt.Fprintln(stdout, "wrong:", w)
	}
	return nil
}
