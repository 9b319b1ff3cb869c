package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

func calcTransferPair() *cobra.Command {
	s := stringsOf{}
	var q transfer.Pair
	var asJSON bool
	c := &cobra.Command{
		Use:   "pair",
		Short: "Run the two DMA channels of a full-duplex bus and see that receive is armed first",
		Long: `The bus controller's side of a full-duplex bus: a send register, a shifter, and a
receive register of one word. Each channel is armed at its time and moves a word its
latency after the request. Gives what memory holds, what is lost, and the times at which
the last word was written, moved to the shifter and was out, with what would be cut if
the select were released too early. Exit status 1 if a word is lost, missing or left.`,
		Example: `  gavrix calc transfer pair --rate 2M --word 16 --send 12 --receive 12 --send-armed 6us --send-latency 1.5us --receive-latency 1us
  gavrix calc transfer pair --rate 1M --send 10 --receive 10 --send-armed 0 --receive-armed 30us`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			rate, err := s.rate()
			if err != nil {
				return err
			}
			q.Bit = quantity.PeriodOf(rate)
			if q.OnFull, err = s.policy(); err != nil {
				return err
			}
			for name, into := range map[string]*quantity.Time{"send-armed": &q.Send.Armed, "send-latency": &q.Send.Latency, "receive-armed": &q.Receive.Armed, "receive-latency": &q.Receive.Latency, "hold": &q.Hold} {
				v, err := span(name, s.get(name))
				if err != nil {
					return err
				}
				*into = v
			}
			if q.WordBits < 1 || q.WordBits > 64 || q.Gap < 0 || q.Send.Count < 1 || q.Send.Count > 1<<20 || q.Receive.Count < 0 || q.Receive.Count > 1<<20 {
				return fmt.Errorf("--word %d, --gap %d, --send %d, --receive %d: a word has 1 to 64 bits, and at least one is sent, at most %d", q.WordBits, q.Gap, q.Send.Count, q.Receive.Count, 1<<20)
			}
			return printPair(q, transfer.PairOf(q), asJSON)
		},
	}
	fl := c.Flags()
	s.add(c, "rate", "", "bit rate")
	fl.IntVar(&q.WordBits, "word", 8, "bits of a word")
	fl.IntVar(&q.Gap, "gap", 0, "bits of the pause between words")
	fl.IntVar(&q.Send.Count, "send", 0, "words that are sent")
	fl.IntVar(&q.Receive.Count, "receive", 0, "words that the receive channel takes")
	s.add(c, "send-armed", "", "when the send channel is armed")
	s.add(c, "receive-armed", "", "when the receive channel is armed")
	s.add(c, "send-latency", "", "from its request to the word")
	s.add(c, "receive-latency", "", "from its request to the word")
	s.add(c, "on-full", "keep-oldest", "what is lost when the receive register is full: keep-oldest, replace-last")
	fl.BoolVar(&q.Old, "old-word", false, "a word from before waits in the receive register")
	s.add(c, "hold", "", "from the end of the last word to the release of the select")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("rate")
	_ = c.MarkFlagRequired("send")
	return c
}

func printPair(q transfer.Pair, r transfer.PairRun, asJSON bool) error {
	at := func(t quantity.Time) *float64 {
		if t < 0 {
			return nil
		}
		v := microseconds(t)
		return &v
	}
	some := func(list []int) []int {
		if list == nil {
			return []int{}
		}
		return list
	}
	var left *int
	if r.LeftOver != -2 {
		left = &r.LeftOver
	}
	if asJSON {
		if err := printJSON(struct {
			Clocked       int      `json:"words_clocked"`
			Received      []int    `json:"received"`
			Lost          []int    `json:"lost"`
			Left          *int     `json:"left_in_register"`
			Missing       int      `json:"receive_missing"`
			ReceiveDone   *float64 `json:"receive_done_us"`
			SendDone      *float64 `json:"send_done_us"`
			RegisterEmpty *float64 `json:"register_empty_us"`
			LastBit       *float64 `json:"last_bit_us"`
			Release       *float64 `json:"select_release_us"`
			CutAtDone     int      `json:"words_cut_at_send_done"`
			CutAtEmpty    int      `json:"words_cut_at_register_empty"`
		}{r.Clocked, some(r.Received), some(r.Lost), left, r.Missing, at(r.ReceiveDone), at(r.SendDone), at(r.RegisterEmpty), at(r.LastBit), at(r.Release), r.CutAtSendDone, r.CutAtEmpty}); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(stdout, "receive armed at %s, send at %s; when the register is full: %s\n", q.Receive.Armed.Round(5), q.Send.Armed.Round(5), q.OnFull)
		fmt.Fprintf(stdout, "%d words clocked, %d in memory, %d lost", r.Clocked, len(r.Received), len(r.Lost))
		if r.Missing > 0 {
			fmt.Fprintf(stdout, "; the receive channel waits for %d more", r.Missing)
		}
		fmt.Fprintln(stdout)
		if len(r.Received) > 0 && r.Received[0] < 0 {
			fmt.Fprintln(stdout, "the first word in memory is an old one that waited in the register")
		}
		if len(r.Lost) > 0 {
			fmt.Fprintf(stdout, "lost, counted from 0: %v: the register was full when they were complete\n", r.Lost)
		}
		if left != nil {
			fmt.Fprintf(stdout, "word %d is left in the register\n", *left)
		}
		line := func(what string, t quantity.Time, more string) {
			v := "never"
			if t >= 0 {
				v = t.Round(7)
			}
			fmt.Fprintf(stdout, "   %-34s %12s%s\n", what, v, more)
		}
		cut := func(n int) string {
			if n == 0 {
				return ""
			}
			return fmt.Sprintf("   releasing the select now cuts %s", quantity.Count(n, "word"))
		}
		line("last word in the send register", r.SendDone, cut(r.CutAtSendDone))
		line("last word in the shifter", r.RegisterEmpty, cut(r.CutAtEmpty))
		line("last bit out", r.LastBit, "")
		line("select released", r.Release, "")
		line("receive complete", r.ReceiveDone, "")
	}
	if len(r.Lost) > 0 || r.Missing > 0 || left != nil || q.Old {
		return exitStatus(found)
	}
	return nil
}
