package main

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

// cameOf reads bytes as 197.3us:56: the time of the first bit, and the value in hex.
func cameOf(text string, byteTime quantity.Time) ([]transfer.Came, error) {
	var out []transfer.Came
	for _, w := range listed(text) {
		at, value, ok := strings.Cut(w, ":")
		t, err := momentOf(at)
		v, bad := hex.DecodeString(value)
		if err != nil || !ok || bad != nil || len(v) == 0 {
			return nil, fmt.Errorf("--bytes: %q: write the time of the first bit and the bytes in hex, as 197.3us:56", w)
		}
		for i, b := range v {
			start := t + quantity.Time(i)*byteTime
			if n := len(out); n > 0 && start < out[n-1].Start {
				return nil, fmt.Errorf("--bytes: %q begins before the byte in front of it", w)
			}
			out = append(out, transfer.Came{Start: start, End: start + byteTime, Value: b})
		}
	}
	return out, nil
}

func calcTransferEnd() *cobra.Command {
	s := stringsOf{}
	var count, most, bits, depth int
	var asJSON bool
	c := &cobra.Command{
		Use:   "end",
		Short: "Say when receives end, why, and what is lost between them",
		Long: `Follows receives over the bytes of a line. A receive ends by its --count, by an
--end-mark, when the line was quiet for --idle after at least one byte, or --timeout
after it was armed: whichever comes first. The next one is armed --rearm later; what
comes meanwhile is kept up to --depth bytes, or with depth 0 the receiver is off and
needs a start bit. Exit status 1 if bytes are lost.`,
		Example: `  gavrix calc transfer end --rate 9600 --bytes '0:3431350A 20ms:34 45ms:3435' --count 8 --end-mark 0A --idle 5ms --rearm 500us`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			q := transfer.Receives{Most: most, Depth: depth, Rule: transfer.Rule{Count: count, EndMark: -1}}
			if count < 0 || most < 0 || depth < 0 || bits < 1 || bits > 1000 {
				return fmt.Errorf("--count, --receives and --depth can't be less than 0, and --byte-bits is 1 to 1000")
			}
			if m := s.get("end-mark"); m != "" {
				v, err := strconv.ParseUint(m, 16, 8)
				if err != nil {
					return fmt.Errorf("--end-mark: %q is no byte in hex", m)
				}
				q.Rule.EndMark = int(v)
			}
			for name, into := range map[string]*quantity.Time{"idle": &q.Rule.Idle, "timeout": &q.Rule.Timeout, "armed": &q.Armed, "rearm": &q.Rearm} {
				v, err := span(name, s.get(name))
				if err != nil {
					return err
				}
				*into = v
			}
			if err := q.Rule.Check(); err != nil {
				return err
			}
			rate, err := s.rate()
			if err != nil {
				return err
			}
			bytes, err := cameOf(s.get("bytes"), quantity.PeriodOf(rate).Times(int64(bits)))
			if err != nil {
				return err
			}
			got, lost, left := transfer.ReceivesOf(bytes, q)
			return printReceives(got, lost, left, depth, asJSON)
		},
	}
	fl := c.Flags()
	s.add(c, "rate", "", "bit rate")
	fl.IntVar(&bits, "byte-bits", 10, "bits of a byte on the line")
	s.add(c, "bytes", "", "bytes as they come: times of first bits and values in hex, as 197.3us:56")
	fl.IntVar(&count, "count", 0, "bytes that end a receive")
	s.add(c, "end-mark", "", "value in hex that ends it")
	s.add(c, "idle", "", "silence that ends it")
	s.add(c, "timeout", "", "time that ends it")
	s.add(c, "armed", "", "when the first is armed")
	s.add(c, "rearm", "", "from the end of one to the arming of the next")
	fl.IntVar(&most, "receives", 0, "how many are made; 0: as many as the bytes give")
	fl.IntVar(&depth, "depth", 1, "bytes that the unit keeps while none is armed; 0: the receiver is off")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("rate")
	_ = c.MarkFlagRequired("bytes")
	return c
}

func printReceives(got []transfer.Receive, lost, left []int, depth int, asJSON bool) error {
	type row struct {
		Armed  float64  `json:"armed_us"`
		Ended  *float64 `json:"ended_us"`
		Cause  string   `json:"ended_by"`
		First  int      `json:"first"`
		Count  int      `json:"count"`
		Waited int      `json:"waited"`
	}
	rows := []row{}
	for _, r := range got {
		o := row{Armed: microseconds(r.Armed), Cause: r.Cause.String(), First: r.First, Count: r.Count, Waited: r.Waited}
		if r.Cause != transfer.NotEnded {
			t := microseconds(r.Ended)
			o.Ended = &t
		}
		rows = append(rows, o)
	}
	if lost == nil {
		lost = []int{}
	}
	kept := left[:min(depth, len(left))]
	gone := left[len(kept):]
	if asJSON {
		if err := printJSON(struct {
			Receives []row `json:"receives"`
			Lost     []int `json:"lost_indices"`
			Kept     []int `json:"kept_after_last,omitempty"`
			Gone     []int `json:"lost_after_last,omitempty"`
		}{rows, lost, kept, gone}); err != nil {
			return err
		}
	} else {
		between := fmt.Sprintf("the unit keeps %s", quantity.Count(depth, "byte"))
		if depth == 0 {
			between = "the receiver is off"
		}
		fmt.Fprintf(stdout, "between two receives %s\n", between)
		fmt.Fprintln(stdout, "        armed          ended   by          bytes")
		for _, r := range got {
			ended, bytes := "not yet", "none"
			if r.Cause != transfer.NotEnded {
				ended = r.Ended.Round(7)
			}
			if r.Count > 0 {
				bytes = fmt.Sprintf("%d, from byte %d", r.Count, r.First)
			}
			if r.Waited > 0 {
				bytes += fmt.Sprintf("; %d waited in the unit", r.Waited)
			}
			fmt.Fprintf(stdout, "%13s  %13s   %-10s  %s\n", r.Armed.Round(7), ended, r.Cause, bytes)
		}
		if len(lost) > 0 {
			fmt.Fprintf(stdout, "lost while none was armed: %v\n", lost)
		}
		if len(kept) > 0 {
			fmt.Fprintf(stdout, "still in the unit after the last receive: %v\n", kept)
		}
		if len(gone) > 0 {
			fmt.Fprintf(stdout, "lost after the last receive: %v; more receives than %d would take them\n", gone, len(got))
		}
	}
	if len(lost)+len(gone) > 0 {
		return exitStatus(found)
	}
	return nil
}
