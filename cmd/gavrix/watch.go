package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/jsonl"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/link/tty"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/session"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/textlog"
)

type watchOptions struct {
	asJSON, taps bool
	only, sets   []string
	sends, asks  []string
	span         time.Duration
	fast         bool
	levels       string
	record       recordFlags
	memory       memoryFlag
	port, rate   string
	frame, flow  string
	dtr, rts     string
	meanings     *bench.Meanings
	bench        *bench.Bench
	pick         pickFlags
	cmd          *cobra.Command
}

func watchCommand() *cobra.Command {
	o := &watchOptions{}
	c := &cobra.Command{
		Use:   "watch [BENCH]",
		Short: "Print traffic as it comes, from a bench or a port",
		Long: `Prints each run of characters when it is finished. A bench runs on the
simulation, and on real ports where its links name one; --port watches one port
without a bench.

--do asks a link to do something: send 534E0A, transact and the words of a plan, cut
on END, hold on LINE, power off DEVICE, and each of the last three back. What a link
can't take, it says.`,
		Example: `  gavrix watch demo --for 2s
  gavrix watch demo --for 10s --fast --json
  gavrix watch demo --link lower-gauge --send 'SNAP\n' --for 1s
  gavrix watch demo --fast --for 1s --do 'pump transact 2A0 10 00' --do 'hull hold on data'
  gavrix watch demo --for 2s --fast --levels lock.vcd && gavrix decode lock.vcd --bench demo
  gavrix watch --port /dev/ttyS0 --rate 57600 --frame 8N1`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			o.cmd = cmd
			// A reader that goes away must not end the program before its file is whole.
			signal.Ignore(syscall.SIGPIPE)
			if (len(args) == 0) == (o.port == "") {
				return errors.New("name a bench, or a port with --port")
			}
			if o.port != "" {
				if err := idle(cmd, "beside --port", "set", "fast", "link", "tap", "levels"); err != nil {
					return err
				}
				return o.watchPort(ctx)
			}
			if err := idle(cmd, "without --port", "rate", "frame", "flow", "dtr", "rts"); err != nil {
				return err
			}
			b, err := loadBench(args[0], o.sets...)
			if err != nil {
				return err
			}
			return o.watchBench(ctx, b)
		},
	}
	o.pick.add(c)
	fl := c.Flags()
	fl.BoolVar(&o.asJSON, "json", false, "print one JSON object a record (docs/formats.md)")
	fl.BoolVar(&o.taps, "tap", false, "print what an ideal tap reads too")
	fl.StringSliceVar(&o.only, "link", nil, "only these links")
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	fl.StringArrayVar(&o.sends, "send", nil, `send a text at the start, as 'SNAP\n', on the first link watched (repeatable)`)
	fl.StringArrayVar(&o.asks, "do", nil, "ask something of a link at the start, as 'pump transact 2A0 10 00' (repeatable)")
	fl.DurationVar(&o.span, "for", 0, "stop after this time, as 5s; 0 goes on until interrupted")
	fl.BoolVar(&o.fast, "fast", false, "run the simulation as fast as it goes, for the time of --for")
	o.record.add(fl, "save")
	o.memory.add(fl)
	fl.StringVar(&o.levels, "levels", "", "at the end write the kept line levels to this .vcd or .csv file")
	fl.StringVar(&o.port, "port", "", "watch this port")
	fl.StringVar(&o.rate, "rate", "", "its rate")
	fl.StringVar(&o.frame, "frame", "8N1", "its frame")
	fl.StringVar(&o.flow, "flow", "none", "its flow control: none, rts-cts or xon-xoff")
	fl.StringVar(&o.dtr, "dtr", "leave", "modem line DTR on opening: on, off or leave")
	fl.StringVar(&o.rts, "rts", "leave", "modem line RTS on opening: on, off or leave")
	return c
}

func (o *watchOptions) watchBench(ctx context.Context, b *bench.Bench) error {
	o.bench, o.meanings = b, b.Meanings()
	links, err := watched(b, o.only)
	if err != nil {
		return err
	}
	if o.fast {
		if o.span <= 0 {
			return errors.New("--fast needs --for: the time to simulate")
		}
		h := sim.NewHeadless(b)
		return o.follow(ctx, h, links, quantity.Time(o.span.Nanoseconds())*quantity.Nanosecond)
	}
	s := session.Open(b)
	defer s.Close()
	return o.follow(ctx, s, links, 0)
}

func (o *watchOptions) watchPort(ctx context.Context) error {
	if o.rate == "" {
		return errors.New("--port needs --rate")
	}
	cfg, err := tty.Configured(o.port, o.rate, o.frame)
	if err != nil {
		return err
	}
	cfg.Flow, cfg.DTR, cfg.RTS = o.flow, o.dtr, o.rts
	if err := cfg.Check(); err != nil {
		return err
	}
	s := session.OpenPort(cfg)
	defer s.Close()
	return o.follow(ctx, s, nil, 0)
}

// watched gives the indices of the named links, or of all.
func watched(b *bench.Bench, names []string) ([]uint16, error) {
	if len(names) == 0 {
		var all []uint16
		for i := range b.Links {
			all = append(all, uint16(i))
		}
		return all, nil
	}
	var out []uint16
	for _, n := range names {
		l, err := linkNamed(b, n)
		if err != nil {
			return nil, err
		}
		out = append(out, l.Index)
	}
	return out, nil
}

// openWait is how long what is asked of a port waits for it to open.
const openWait = 3 * quantity.Second

// follow prints a session's records until its time is over.
func (o *watchOptions) follow(ctx context.Context, s link.Session, links []uint16, virtual quantity.Time) (result error) {
	p, err := o.pick.picker(o.cmd, o.bench, o.meanings, &s.Store().Meta)
	if err != nil {
		return err
	}
	memory, err := o.memory.bytes()
	if err != nil {
		return err
	}
	s.Store().Bound(memory)
	levels, err := o.openLevels(s)
	if err != nil {
		return err
	}
	defer levels.close()
	end, err := o.record.begin(ctx, s.Store(), "save", virtual > 0)
	if err != nil {
		return err
	}
	if o.record.path != "" && (o.pick.filter != "" || len(links) < len(s.Store().Meta.Links) && len(links) > 0) {
		fmt.Fprintf(os.Stderr, "gavrix: %s gets all links and all records; what is chosen is what is printed\n", safe.Text(o.record.path))
	}
	defer func() { result = errors.Join(result, end()) }()
	wanted := map[uint16]bool{}
	first := uint16(0)
	for i, l := range links {
		wanted[l] = true
		if i == 0 {
			first = l
		}
	}
	p.shown = func(r *record.Record) bool { return o.shows(r, wanted) }
	print := func(r *record.Record) error { return o.print(&s.Store().Meta, r) }
	var printed records.Mark
	out := func(snap *capture.Snapshot) error {
		for _, i := range snap.Since(printed) {
			if err := p.take(snap.At(i), o.asJSON, print); err != nil {
				return err
			}
		}
		printed = snap.Mark()
		return nil
	}
	span := quantity.Time(o.span.Nanoseconds()) * quantity.Nanosecond
	if o.port != "" {
		// The time of a port counts from its opening; what is asked of it waits less.
		limit := quantity.Forever
		if span > 0 {
			limit = s.Now() + span
		}
		if len(o.sends)+len(o.asks) > 0 {
			limit = s.Now() + openWait
		}
		err := s.Wait(ctx, limit, func(snap *capture.Snapshot) bool { return out(snap) != nil || s.Info(0).Open })
		if info := s.Info(0); err == nil && !info.Open {
			return fmt.Errorf("the port did not open: %s", info.Problem)
		}
	}
	for _, text := range o.sends {
		data, err := check.ParseText(text)
		if err != nil {
			return fmt.Errorf("--send %s: %w", text, err)
		}
		if _, err := s.Do(ctx, first, link.Send{Data: data}); err != nil {
			return err
		}
	}
	for _, text := range o.asks {
		if err := ask(ctx, s, text); err != nil {
			return fmt.Errorf("--do %s: %w", text, err)
		}
	}
	until := quantity.Forever
	if virtual > 0 {
		until = virtual
	} else if span > 0 {
		until = s.Now() + span
	}
	var failed error
	err = s.Wait(ctx, until, func(snap *capture.Snapshot) bool {
		failed = out(snap)
		return failed != nil
	})
	snap := s.Store().Snapshot()
	if failed == nil {
		failed = out(snap)
	}
	for i := range snap.Running {
		if r := &snap.Running[i]; failed == nil && o.shows(r, wanted) && p.trigger == nil && p.filter == nil && p.reader == nil {
			failed = print(r)
		}
	}
	if failed == nil {
		failed = p.ended(snap.Now)
	}
	if errors.Is(failed, errDone) {
		failed = nil
	}
	if errors.Is(failed, syscall.EPIPE) || errors.Is(err, context.Canceled) {
		err, failed = nil, nil
	}
	return errors.Join(err, failed, levels.write(snap))
}

// ask asks something of the named link, and says what came of it.
func ask(ctx context.Context, s link.Session, text string) error {
	name, what, _ := strings.Cut(text, " ")
	links := s.Store().Meta.Links
	at := slices.IndexFunc(links, func(l capture.Link) bool { return l.Name == name })
	if at < 0 {
		var names []string
		for _, l := range links {
			names = append(names, l.Name)
		}
		return fmt.Errorf("there is no link %q, only %s", name, strings.Join(names, ", "))
	}
	i, err := link.ParseIntent(what)
	if err != nil {
		return err
	}
	out, err := s.Do(ctx, uint16(at), i)
	if err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "%s: %s: %s\n", safe.Text(name), safe.Text(what), safe.Text(cmp.Or(out.Text, "done")))
	return nil
}

// levelsFile is where levels go at the end; it is opened before anything runs, so that what can't be
// written costs no run.
type levelsFile struct {
	out  *regular.New // nil: nobody wants them
	path string
	done bool
}

func (o *watchOptions) openLevels(s link.Session) (*levelsFile, error) {
	l := &levelsFile{path: o.levels}
	if o.levels == "" {
		return l, nil
	}
	if err := levelsName(o.levels); err != nil {
		return nil, err
	}
	some := false
	for i := range s.Store().Meta.Links {
		some = some || s.Info(uint16(i)).Simulated
	}
	if !some {
		return nil, errors.New("--levels: a real port gives characters, no levels")
	}
	var err error
	l.out, err = regular.Create(o.levels, 0o600)
	return l, err
}

// close ends it; a file into which nothing was written goes.
func (l *levelsFile) close() {
	if l.out != nil && !l.done {
		_ = l.out.End(context.Canceled)
	}
}

// write writes the levels of a session.
func (l *levelsFile) write(snap *capture.Snapshot) error {
	if l.out == nil {
		return nil
	}
	l.done = true
	src := decode.OfCapture(snap)
	from := src.From()
	err := l.out.End(convert(src, l.out, "the capture", l.path))
	if err == nil && from > 0 {
		fmt.Fprintf(os.Stderr, "gavrix: %s begins at %s: levels before are not kept; --memory takes more\n", safe.Text(l.path), from)
	}
	return err
}

// shows says whether a record is to be printed.
func (o *watchOptions) shows(r *record.Record, wanted map[uint16]bool) bool {
	// What is on a shared bus is seen by all alike; the tap stands for them.
	own := r.Kind != record.Chars
	return (len(wanted) == 0 || wanted[r.Link]) && (r.Seen != record.Tap || o.taps || own)
}

func (o *watchOptions) print(meta *capture.Meta, r *record.Record) error {
	if o.asJSON {
		b, err := jsonl.Marshal(meta, r, o.meanings.Text(meta.Links[r.Link].Name, r))
		if err != nil {
			return err
		}
		_, err = stdout.Write(b)
		return err
	}
	_, err := io.WriteString(stdout, textlog.Line(meta, o.meanings, r))
	return err
}
