package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/filter"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/sending"
	"gavrix.org/gavrix/core/session"
	"gavrix.org/gavrix/core/setpoint"
	"gavrix.org/gavrix/core/sim"
)

type sendOptions struct {
	times        int
	every, after string
	when, list   string
	replay, only string
	from, to     string
	all, asJSON  bool
	silence      bool
	length       string
	record       recordFlags
	sets         []string
	changes      []string
}

func sendCommand() *cobra.Command {
	o := &sendOptions{}
	c := &cobra.Command{
		Use:   "send BENCH [LINK WHAT...]",
		Short: "Send again and again, at times, whenever something is seen, from a list, or what a capture holds",
		Long: `Sends on a link of a bench, simulated or over its port: on a UART a text with \n,
\r, \xNN, on the other buses a transaction in the words in which one is planned. On
each of them 'message NAME VALUE = QUANTITY, ...' is a message that a device file
describes, and 'do OPERATION' reads or writes registers, as gavrix do does. All WHAT
are sent behind each other, --times over, --every so long; or --when a record fits a
filter. --list takes a file with a line for each: a time, a link, what. --replay sends
what the MCU sent in a recorded capture, on the links of the same names and with its
times; --all-frames also the CAN frames of others, --change puts other values into its
messages. It is said how late things were sent, and what came back on links of
characters. Exit status 1 where anything failed.`,
		Example: `  gavrix send demo lower-gauge 'SNAP\n' --times 20 --every 50ms
  gavrix send demo pump '2A5 02 60' --when 'lower-gauge answers' --times 1
  gavrix send demo pump 'message pump-command wanted = 120 bar, mode = raise' --times 5 --every 50ms
  gavrix send demo --replay lock.pcapng --save again.pcapng`,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			if len(args) == 0 {
				return errors.New("name a bench")
			}
			ways := 0
			for _, w := range []bool{len(args) > 1, o.list != "", o.replay != ""} {
				if w {
					ways++
				}
			}
			if ways != 1 {
				return errors.New("name a link and what to send, or --list, or --replay")
			}
			if o.replay == "" {
				if err := idle(cmd, "without --replay", "only", "all-frames", "from", "to", "change"); err != nil {
					return err
				}
			}
			return o.run(ctx, cmd, args)
		},
	}
	fl := c.Flags()
	fl.IntVar(&o.times, "times", 1, "how often; 0 goes on until --for is over")
	fl.StringVar(&o.every, "every", "", "time from one begin to the next")
	fl.StringVar(&o.after, "after", "0 s", "time until the first, or behind a record that fits --when")
	fl.StringVar(&o.when, "when", "", "send for each record that fits this (gavrix help filters)")
	fl.StringVar(&o.list, "list", "", "send the lines of this file: TIME LINK WHAT")
	fl.BoolVar(&o.silence, "silence", false, "the firmware of the bench sends nothing by itself")
	fl.StringVar(&o.replay, "replay", "", "send what this recorded capture (.pcapng) holds")
	fl.StringArrayVar(&o.changes, "change", nil, "with --replay: another value in its messages, as 'pump-command.wanted = 50 bar' (repeatable)")
	fl.StringVar(&o.only, "only", "", "of a capture only records that fit this filter")
	fl.StringVar(&o.from, "from", "", "of a capture: beginning of the stretch")
	fl.StringVar(&o.to, "to", "", "of a capture: end of the stretch")
	fl.BoolVar(&o.all, "all-frames", false, "of a capture: CAN frames of all nodes")
	o.record.add(fl, "save")
	fl.StringVar(&o.length, "for", "", "end after this time (default 10 s with --when or --times 0, otherwise none)")
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	fl.BoolVar(&o.asJSON, "json", false, "print JSON")
	return c
}

func (o *sendOptions) run(ctx context.Context, cmd *cobra.Command, args []string) (result error) {
	b, err := loadBench(args[0], o.sets...)
	if err != nil {
		return err
	}
	speaks := b.Speaks()
	switch {
	case o.silence && len(speaks) == 0:
		return errors.New("--silence has no effect: the firmware of this bench sends nothing by itself")
	case o.silence:
		if err := b.Silence(); err != nil {
			return err
		}
	case o.replay != "" && len(speaks) > 0:
		fmt.Fprintf(os.Stderr, "gavrix: the firmware of the bench sends by itself too, on %s: what it sent in the capture comes twice; --silence keeps it quiet\n", safe.Text(strings.Join(speaks, ", ")))
	}
	var s link.Session = sim.NewHeadless(b)
	for _, l := range b.Links {
		if l.Port != nil {
			open := session.Open(b)
			defer open.Close()
			s = open
			break
		}
	}
	p, err := o.plan(cmd, b, s, args)
	if err != nil {
		return err
	}
	end, err := o.record.begin(ctx, s.Store(), "save", true)
	if err != nil {
		return err
	}
	defer func() { result = errors.Join(result, end()) }()
	began := s.Now()
	done, err := sending.Run(ctx, s, b, p, nil)
	switch {
	case errors.Is(err, context.Canceled):
		err = nil
	case err != nil && done.Sent > 0:
		return fmt.Errorf("%w (before that %s)", err, done.String())
	case err != nil:
		return err
	}
	// What was sent is on its way still.
	_ = s.Wait(ctx, s.Now()+200*quantity.Millisecond, func(*capture.Snapshot) bool { return false })
	if o.asJSON {
		said := map[string]any{"sent": done.Sent, "first_s": done.First.Seconds(), "last_s": done.Last.Seconds(), "failed": done.Failed, "why": done.Why, "late_mean_us": microseconds(done.Late.Mean), "late_most_us": microseconds(done.Late.Most), "characters_waiting": done.Waiting}
		said["answers"] = answersOf(s.Store().Snapshot(), p, began)
		if o.silence {
			said["kept_quiet"] = speaks
		}
		if err := printJSON(said); err != nil {
			return err
		}
	} else {
		fmt.Fprintln(stdout, safe.Text(done.String()))
		answers := answersOf(s.Store().Snapshot(), p, began)
		for i, a := range answers {
			if i == mostAnswers {
				fmt.Fprintf(stdout, "  and %d more\n", len(answers)-i)
				break
			}
			fmt.Fprintf(stdout, "  %14s s  %s → MCU  %s\n", strconv.FormatFloat(a.At, 'f', 6, 64), safe.Text(a.From), a.Text)
		}
		if o.silence {
			fmt.Fprintf(stdout, "the firmware was kept quiet on %s\n", safe.Text(strings.Join(speaks, ", ")))
		}
	}
	if done.Failed > 0 || done.Sent == 0 {
		return exitStatus(found)
	}
	return nil
}

// mostAnswers is how many answers are printed.
const mostAnswers = 20

// answer is what came back on a link of characters.
type answer struct {
	Link string  `json:"link"`
	From string  `json:"from"`
	At   float64 `json:"at_s"`
	Text string  `json:"text"`
	Hex  string  `json:"hex"`
}

// answersOf gives what devices sent on the links of a plan since a time. What they send unasked is
// among it: no wire tells.
func answersOf(snap *capture.Snapshot, p *sending.Plan, since quantity.Time) []answer {
	asked := map[uint16]bool{}
	for i := range p.Items {
		asked[p.Items[i].Link] = true
	}
	out := []answer{}
	for i := snap.First(); i < snap.Len(); i++ {
		if h := snap.Head(i); h.Kind != record.Chars || !asked[h.Link] || h.From < record.Device || h.Seen == record.Tap || h.Start < since {
			continue
		}
		r := snap.At(i)
		l := &snap.Meta().Links[r.Link]
		out = append(out, answer{l.Name, l.EndName(r.From), r.Start.Seconds(), safe.Bytes(r.Data), fmt.Sprintf("%X", r.Data)})
	}
	return out
}

// plan reads what to send, and when.
func (o *sendOptions) plan(cmd *cobra.Command, b *bench.Bench, s link.Session, args []string) (*sending.Plan, error) {
	p := &sending.Plan{Times: o.times}
	if o.length == "" && (o.when != "" || o.times == 0) {
		o.length = "10 s"
	}
	if o.length != "" {
		d, err := quantity.ParseSpan(o.length)
		if err != nil || d <= 0 {
			return nil, fmt.Errorf("--for %s: write a time, as 10 s", o.length)
		}
		p.For = d
	}
	after, err := quantity.ParseSpan(o.after)
	if err != nil || after < 0 {
		return nil, fmt.Errorf("--after %s: write a time, as 5 ms", o.after)
	}
	if o.every != "" {
		if p.Every, err = quantity.ParseSpan(o.every); err != nil {
			return nil, fmt.Errorf("--every: %w", err)
		}
		if o.when != "" {
			return nil, errors.New("--every and --when: choose one")
		}
	}
	if o.when == "" {
	} else {
		f, bad := filter.Parse(o.when, filter.NounsOf(b, &s.Store().Meta))
		if bad != nil {
			return nil, &filterError{"--when", bad}
		}
		p.When = f
	}
	switch {
	case o.replay != "":
		p.Spaced = true
		p.Items, err = o.captured(cmd.Context(), b, s)
	case o.list != "":
		raw, e := regular.Read(o.list, doc.MostText)
		if e != nil {
			return nil, fmt.Errorf("--list %s: %w", o.list, e)
		}
		p.Items, err = sending.List(b, o.list, string(raw))
	default:
		l, e := linkNamed(b, args[1])
		if e != nil {
			return nil, e
		}
		for _, w := range args[2:] {
			it, e := sending.What(l, w)
			if e != nil {
				return nil, e
			}
			p.Items = append(p.Items, it)
		}
		if p.Items == nil {
			err = fmt.Errorf("say what to send on %s", l.Name)
		}
	}
	if err != nil {
		return nil, err
	}
	for i := range p.Items {
		p.Items[i].After += after
	}
	if p.Times != 1 && p.Every == 0 && p.When == nil {
		return nil, errors.New("--times without --every: how long from one to the next?")
	}
	if p.Times == 1 && p.Every > 0 {
		return nil, errors.New("--every has no effect on what is sent once: add --times")
	}
	return p, p.Valid()
}

// captured gives what a capture holds.
func (o *sendOptions) captured(ctx context.Context, b *bench.Bench, s link.Session) ([]sending.Item, error) {
	if !strings.EqualFold(filepath.Ext(o.replay), ".pcapng") {
		return nil, fmt.Errorf("--replay %s: a recorded capture ends in .pcapng; gavrix decode and gavrix watch --save make one", o.replay)
	}
	store, err := readCapture(ctx, o.replay)
	if err != nil {
		return nil, err
	}
	snap := store.Snapshot()
	a, z, err := stretch(o.from, o.to, snap)
	if err != nil {
		return nil, err
	}
	wants := func(*record.Record) bool { return true }
	if o.only != "" {
		own, _ := sim.BenchOf(&store.Meta)
		f, bad := filter.Parse(o.only, filter.NounsOf(own, &store.Meta))
		if bad != nil {
			return nil, &filterError{"--only", bad}
		}
		wants = f.Matcher(own, &store.Meta).Take
	}
	var change *setpoint.Change
	if o.changes != nil {
		if change, err = setpoint.ReadChange(b, &store.Meta, o.changes); err != nil {
			return nil, fmt.Errorf("--change: %w", err)
		}
	}
	items, err := sending.OfCapture(snap, &s.Store().Meta, wants, a, z+1, o.all, change)
	switch {
	case err != nil:
		return nil, err
	case items == nil:
		return nil, fmt.Errorf("%s holds nothing that could be sent on the links of this bench", o.replay)
	case change != nil && change.Changed == 0:
		return nil, fmt.Errorf("--change: no message that the MCU sends in %s holds that", o.replay)
	case change != nil:
		fmt.Fprintf(os.Stderr, "changed in %d of %d messages\n", change.Changed, len(items))
	}
	return items, nil
}
