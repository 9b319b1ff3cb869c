package main

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

func calcTransferQueue() *cobra.Command {
	s := stringsOf{}
	var depth int
	var asJSON bool
	c := &cobra.Command{
		Use:   "queue",
		Short: "Say which frames a receive queue keeps, and which it loses",
		Long: `Frames are complete at --ends; one is read at each of --reads, the rest after the
last. Exit status 1 if frames are lost.`,
		Example: `  gavrix calc transfer queue --depth 3 --on-full keep-oldest --ends '1ms 2ms 3ms 4ms 5ms'
  gavrix calc transfer queue --depth 3 --on-full keep-newest --ends '1ms 2ms 3ms 4ms 5ms' --reads 2.5ms`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if depth < 1 || depth > 1<<16 {
				return fmt.Errorf("--depth %d: a queue holds 1 to 65536 frames", depth)
			}
			onFull, err := s.policy()
			if err != nil {
				return err
			}
			ends, err := moments("ends", s.get("ends"))
			if err != nil {
				return err
			}
			reads, err := moments("reads", s.get("reads"))
			if err != nil {
				return err
			}
			for i := 1; i < len(ends); i++ {
				if ends[i] < ends[i-1] {
					return fmt.Errorf("--ends: %s comes after %s: write them in the order in which they come", ends[i], ends[i-1])
				}
			}
			k := transfer.QueueOf(ends, reads, depth, onFull)
			if asJSON {
				if err := printJSON(struct {
					Read   []int `json:"read"`
					Lost   []int `json:"lost"`
					Before int   `json:"read_before_end"`
					High   int   `json:"most_waiting"`
				}{append([]int{}, k.Read...), append([]int{}, k.Lost...), k.Before, k.High}); err != nil {
					return err
				}
			} else {
				fmt.Fprintf(stdout, "%d frames came, %d were read, %d lost; at most %d waited\n", len(ends), len(k.Read), len(k.Lost), k.High)
				fmt.Fprintf(stdout, "read, counted from 0: %v\n", k.Read)
				if len(k.Lost) > 0 {
					fmt.Fprintf(stdout, "lost: %v\n", k.Lost)
				}
			}
			if len(k.Lost) > 0 {
				return exitStatus(found)
			}
			return nil
		},
	}
	c.Flags().IntVar(&depth, "depth", 3, "frames that the queue holds")
	s.add(c, "on-full", "keep-oldest", "what is lost when it is full: keep-oldest, keep-newest, replace-last")
	s.add(c, "ends", "", "times at which frames are complete")
	s.add(c, "reads", "", "times at which one is read")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("ends")
	return c
}

// sendingOf reads a frame as NAME ID BITS TIME, behind it remote, extended or
// cancel=TIME.
func sendingOf(text string) (transfer.Sending, error) {
	w := strings.Fields(text)
	if len(w) < 4 {
		return transfer.Sending{}, fmt.Errorf("%q: write a name, an identifier in hex, the bits on the bus and the time of queueing, as 'status 2A0 111 20us'", text)
	}
	f := transfer.Sending{Name: w[0]}
	id, err := can.ParseID(w[1])
	if err != nil {
		return f, fmt.Errorf("%q: %w", text, err)
	}
	f.ID, f.Extended = id.ID, id.Extended
	if f.Bits, err = strconv.Atoi(w[2]); err != nil || f.Bits < 1 || f.Bits > 1000 {
		return f, fmt.Errorf("%q: %q is no number of bits from 1 to 1000", text, w[2])
	}
	if f.Queued, err = momentOf(w[3]); err != nil {
		return f, fmt.Errorf("%q: %w", text, err)
	}
	for _, x := range w[4:] {
		at, isCancel := strings.CutPrefix(x, "cancel=")
		switch {
		case x == "remote":
			f.Remote = true
		case isCancel:
			if f.Cancelled, err = momentOf(at); err != nil {
				return f, fmt.Errorf("%q: %w", text, err)
			}
		default:
			return f, fmt.Errorf("%q: behind the time may stand remote and cancel=TIME", text)
		}
	}
	return f, nil
}

func calcTransferSend() *cobra.Command {
	s := stringsOf{}
	var own, others []string
	var mailboxes int
	var asJSON bool
	c := &cobra.Command{
		Use:   "send",
		Short: "Say in which order a CAN node's frames go out, and how long each waits",
		Long: `A node's own frames, each as 'NAME ID BITS TIME' (identifier in hex, with more than
three digits where it is extended; bits with stuff bits and the space between frames;
the time at which it is queued; then remote, cancel=TIME), against --other frames, each
sent by a node of its own. Both orders are shown: in the order of queueing, and the most
urgent of the mailboxes first.`,
		Example: `  gavrix calc transfer send --rate 500k --own 'fault 0A1 111 30us' --own 'log 6F0 130 0' --own 'status 2A0 111 10us' --other 'drive 1A5 111 5us'`,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			rate, err := s.rate()
			if err != nil {
				return err
			}
			if err := positive("mailboxes", mailboxes, 0); err != nil {
				return err
			}
			read := func(flag string, texts []string) (out []transfer.Sending, err error) {
				for _, t := range texts {
					f, err := sendingOf(t)
					if err != nil {
						return nil, fmt.Errorf("--%s %w", flag, err)
					}
					out = append(out, f)
				}
				return out, nil
			}
			mine, err := read("own", own)
			if err != nil {
				return err
			}
			foreign, err := read("other", others)
			if err != nil {
				return err
			}
			return printSends(mine, foreign, mailboxes, quantity.PeriodOf(rate), asJSON)
		},
	}
	s.add(c, "rate", "", "bit rate")
	c.Flags().StringArrayVar(&own, "own", nil, "a frame of the node (repeatable)")
	c.Flags().StringArrayVar(&others, "other", nil, "a frame of another node (repeatable)")
	c.Flags().IntVar(&mailboxes, "mailboxes", 0, "frames that compete at once; 0: all that are queued")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("rate")
	_ = c.MarkFlagRequired("own")
	return c
}

func printSends(own, others []transfer.Sending, mailboxes int, bit quantity.Period, asJSON bool) error {
	type row struct {
		Name    string  `json:"name"`
		Start   float64 `json:"start_us"`
		Wait    float64 `json:"wait_us"`
		Foreign bool    `json:"other_node"`
	}
	type order struct {
		Rows      []row    `json:"frames"`
		Longest   float64  `json:"longest_wait_us"`
		Cancelled []string `json:"cancelled,omitempty"`
	}
	out := map[string]order{}
	for name, urgent := range map[string]bool{"in_order": false, "by_priority": true} {
		r := transfer.SendsOf(own, others, urgent, mailboxes, bit)
		o := order{Rows: []row{}, Longest: microseconds(r.Longest)}
		for _, x := range r.Order {
			f := own
			if x.Foreign {
				f = others
			}
			o.Rows = append(o.Rows, row{f[x.Frame].Name, microseconds(x.At), microseconds(x.At - f[x.Frame].Queued), x.Foreign})
		}
		for _, i := range r.Cancelled {
			o.Cancelled = append(o.Cancelled, own[i].Name)
		}
		out[name] = o
	}
	if asJSON {
		return printJSON(out)
	}
	for _, k := range []struct{ key, title string }{{"in_order", "in the order of queueing"}, {"by_priority", "the most urgent first"}} {
		title := k.title
		if k.key == "by_priority" && mailboxes > 0 {
			title += fmt.Sprintf(" of %s", map[bool]string{true: "1 mailbox", false: fmt.Sprint(mailboxes, " mailboxes")}[mailboxes == 1])
		}
		fmt.Fprintln(stdout, title)
		for _, r := range out[k.key].Rows {
			whose := ""
			if r.Foreign {
				whose = "   another node's"
			}
			fmt.Fprintf(stdout, "   %10.1f µs   %-16s waited %10.1f µs%s\n", r.Start, r.Name, r.Wait, whose)
		}
		if c := out[k.key].Cancelled; len(c) > 0 {
			fmt.Fprintf(stdout, "   taken back in time: %s\n", strings.Join(c, ", "))
		}
		fmt.Fprintf(stdout, "   longest wait %.1f µs\n", out[k.key].Longest)
	}
	return nil
}
