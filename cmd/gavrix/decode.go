package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/mattn/go-isatty"
	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/jsonl"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/textlog"
	"gavrix.org/gavrix/demo"
)

type decodeOptions struct {
	links          []string
	bench          string
	guess          bool
	plans          []string
	asJSON, asCSV  bool
	from, to, rate string
	meanings       *bench.Meanings
	known          *bench.Bench
	pick           pickFlags
	cmd            *cobra.Command
}

func decodeCommand() *cobra.Command {
	o := &decodeOptions{}
	c := &cobra.Command{
		Use:   "decode FILE",
		Short: "Decode the levels of a capture (.vcd, .csv), or print the records of one (.pcapng)",
		Long: `Decodes one or several buses of a capture in one pass. Each --link gives a name,
a kind of bus, its lines and its settings:

  NAME uart  mcu=LINE device=LINE rate=… frame=…       one of the lines is enough
             shared=LINE                               one wire for both directions
             mcu-ready=LINE device-ready=LINE          flow lines, low is ready
  NAME spi   clock=LINE out=LINE in=LINE select=LINE mode=… word=… order=… active=…
             other=LINE                                low while another device is selected
             out=LINE wires=1 turn=8                   one data line, the device's from bit 8 on
  NAME i2c   clock=LINE data=LINE filter=… stretch=… stuck=… error-code=yes
  NAME can   line=LINE rate=… data-rate=… sample=… jump=… quanta=…
  NAME pulse line=LINE zero="0.2 to 0.5 us" one="0.6 to 1 us" low="0.3 to 5 us" latch=50us element=12

With filter=WIDTH, as filter=40ns, pulses shorter than that are left out of the lines
of a bus before they are read: of edges that ring, of noise.
A LINE may be a boolean expression over lines, as line="enable and not mosi".
Devices that share an SPI bus are links of their own, each with its select line,
mode and word.

With --bench the links of a bench are decoded whose lines the file has, and the
buses below its key observed. With --guess the lines that no link takes are
recognised: what they may be is printed to standard error, in words that --link
takes, and the first proposals are decoded. Without any of the three the lines of
the file are listed. FILE may be demo, the capture that ships with Gavrix. Of a
recorded capture (.pcapng) the records are printed in the same forms.

With --plan the transactions of a link are compared bit by bit with what should be
there; differences are printed instead of records, and the exit status is 1 when
there are any, or no such transaction:

` + planForms(),
		Example: `  gavrix decode lock.vcd
  gavrix decode demo --guess
  gavrix decode demo --link 'tilt i2c clock=in9 data=in0' --plan 'tilt: start 3A ack 07 ack 01 ack stop'
  gavrix decode lock.vcd --link 'gauge uart device=rx rate=28.8k frame=7E1' \
                         --link 'angle spi clock=sck out=mosi in=miso select=cs mode=1' --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			o.cmd = cmd
			return o.run(ctx, args[0])
		},
	}
	o.pick.add(c)
	fl := c.Flags()
	fl.StringArrayVar(&o.links, "link", nil, "what to decode (repeatable)")
	fl.StringVar(&o.bench, "bench", "", "decode the links of this bench")
	fl.BoolVar(&o.guess, "guess", false, "recognise the lines that no link takes, and decode them")
	fl.StringArrayVar(&o.plans, "plan", nil, "what should be on a link, as 'LINK: TRANSACTION' (repeatable)")
	fl.BoolVar(&o.asJSON, "json", false, "print one JSON object a record (docs/formats.md)")
	fl.BoolVar(&o.asCSV, "csv", false, "print comma-separated values")
	fl.StringVar(&o.from, "from", "", "only records that reach beyond this time")
	fl.StringVar(&o.to, "to", "", "only records that begin before this time")
	fl.StringVar(&o.rate, "sample-rate", "", "rate of the samples of a .csv file without times")
	return c
}

// levelFile is a file of levels, or the demo's capture.
type levelFile interface {
	io.ReadCloser
	Size() int64
}

type diskFile struct {
	*os.File
	size int64
}

// countedFile counts what is read of a file, for who watches another goroutine read.
type countedFile struct {
	levelFile
	read *atomic.Int64
}

// Read implements io.Reader.
func (f countedFile) Read(p []byte) (int, error) {
	n, err := f.levelFile.Read(p)
	f.read.Add(int64(n))
	return n, err
}

// Share is how much of the file is read, 0 to 1.
func (f countedFile) Share() float64 { return min(float64(f.read.Load())/float64(max(f.Size(), 1)), 1) }

func (f diskFile) Size() int64 { return f.size }

type demoFile struct{ *bytes.Reader }

func (demoFile) Close() error { return nil }

func openFile(path string) (levelFile, error) {
	if path == "demo" {
		return demoFile{bytes.NewReader(demo.Capture)}, nil
	}
	f, err := regular.Open(path)
	if err != nil {
		return nil, fmt.Errorf("the capture %s can't be read: %w", path, err)
	}
	info, err := f.Stat()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the capture can't be read: %w", err), f.Close())
	}
	return diskFile{f, info.Size()}, nil
}

// openLevels opens a file of levels.
func openLevels(path, rate string) (src decode.Source, f countedFile, err error) {
	var hz quantity.Freq
	if rate != "" {
		if hz, err = quantity.ParseFreq(rate); err != nil {
			return nil, f, fmt.Errorf("--sample-rate: %w", err)
		}
	}
	if rate != "" && !strings.EqualFold(filepath.Ext(path), ".csv") {
		return nil, f, fmt.Errorf("--sample-rate is for .csv files without times; %s has times", path)
	}
	slog.Info("levels opened", "file", path)
	f.read = &atomic.Int64{}
	if f.levelFile, err = openFile(path); err != nil {
		return nil, f, err
	}
	name := path
	if path == "demo" {
		name = demo.CaptureName
	}
	if src, err = decode.Open(name, f, hz); err != nil {
		f.Close()
		return nil, f, fmt.Errorf("%s: %w", path, err)
	}
	f.levelFile = noted{f.levelFile, path, src}
	return src, f, nil
}

// noted says, when a file of levels is closed, what of it was passed over.
type noted struct {
	levelFile
	path string
	src  decode.Source
}

// Close implements io.Closer.
func (n noted) Close() error {
	for _, text := range decode.Notes(n.src) {
		fmt.Fprintf(os.Stderr, "gavrix: %s: %s\n", safe.Text(n.path), safe.Text(text))
	}
	return n.levelFile.Close()
}

func (o *decodeOptions) run(ctx context.Context, path string) error {
	if o.asJSON && o.asCSV {
		return errors.New("--json and --csv: choose one")
	}
	if strings.EqualFold(filepath.Ext(path), ".pcapng") {
		return o.records(ctx, path)
	}
	src, f, err := openLevels(path, o.rate)
	if err != nil {
		return err
	}
	defer f.Close()
	if len(o.links) == 0 && o.bench == "" && !o.guess {
		if err := idle(o.cmd, "where nothing is decoded", pickNames...); err != nil {
			return err
		}
		for _, n := range src.Names() {
			fmt.Fprintln(stdout, safe.Text(n))
		}
		return nil
	}
	links, err := o.wanted(src.Names())
	if err != nil {
		return err
	}
	if o.guess {
		guessed, err := o.recognised(ctx, path, links)
		if err != nil {
			return err
		}
		links = append(links, guessed...)
	}
	opts := decode.Options{Progress: progress(f)}
	if err := o.stretch(&opts); err != nil {
		return err
	}
	meta := decode.Meta(links)
	if len(o.plans) > 0 {
		if err := idle(o.cmd, "with --plan", pickNames...); err != nil {
			return err
		}
		return o.compare(ctx, src, links, opts, path)
	}
	out, err := o.printing(&meta)
	if err != nil {
		return err
	}
	ctx, out.stop = context.WithCancel(ctx)
	defer out.stop()
	err = decode.Run(ctx, src, links, opts, out)
	if errors.Is(out.err, errDone) {
		err = nil
	}
	if opts.Progress != nil {
		fmt.Fprint(os.Stderr, "\r\x1b[K")
	}
	if e := out.flush(); e != nil {
		return e
	}
	if err != nil {
		return fmt.Errorf("%s: %w; what comes before it was decoded", path, err)
	}
	return nil
}

// records prints the records of a capture that has no levels.
func (o *decodeOptions) records(ctx context.Context, path string) error {
	for flag, given := range map[string]bool{"--link": len(o.links) > 0, "--bench": o.bench != "", "--guess": o.guess, "--plan": len(o.plans) > 0, "--sample-rate": o.rate != ""} {
		if given {
			return fmt.Errorf("%s holds records, not levels: %s is for .vcd and .csv files", path, flag)
		}
	}
	var opts decode.Options
	if err := o.stretch(&opts); err != nil {
		return err
	}
	store, err := readCapture(ctx, path)
	if err != nil {
		return err
	}
	if b, err := sim.BenchOf(&store.Meta); err == nil {
		o.known, o.meanings = b, b.Meanings()
	}
	out, err := o.printing(&store.Meta)
	if err != nil {
		return err
	}
	snap := store.Snapshot()
	for i := snap.First(); i < snap.Len(); i++ {
		if r := snap.At(i); r.End >= opts.From && (opts.To == 0 || r.Start < opts.To) {
			out.Put(r)
		}
	}
	return out.flush()
}

// stretch reads the times to which the records are bounded.
func (o *decodeOptions) stretch(opts *decode.Options) (err error) {
	for _, t := range []struct {
		text, name string
		to         *quantity.Time
	}{{o.from, "--from", &opts.From}, {o.to, "--to", &opts.To}} {
		if t.text != "" {
			if *t.to, err = quantity.ParseTime(t.text); err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			if *t.to < 0 {
				return fmt.Errorf("%s %s: a capture begins at 0 s", t.name, t.text)
			}
		}
	}
	if opts.To > 0 && opts.To <= opts.From {
		return fmt.Errorf("--to %s is not after --from %s", o.to, o.from)
	}
	return nil
}

// wanted gives the links to decode: those of a bench, and those given in words.
func (o *decodeOptions) wanted(names []string) ([]decode.Link, error) {
	var links []decode.Link
	if o.bench != "" {
		b, err := loadBench(o.bench)
		if err != nil {
			return nil, err
		}
		o.known, o.meanings = b, b.Meanings()
		var missing []error
		links, missing = decode.FromBench(b, names)
		for _, e := range missing {
			fmt.Fprintln(os.Stderr, "left out:", safe.Text(e.Error()))
		}
		if !decode.Any(links) && len(o.links) == 0 {
			return nil, fmt.Errorf("%s: the file has the lines of none of its links; name them below `lines:`, or use --link", o.bench)
		}
	}
	for _, text := range o.links {
		l, err := decode.ParseLink(text, names)
		if err != nil {
			return nil, fmt.Errorf("--link %w", err)
		}
		links = append(links, l)
	}
	return links, nil
}

// progress tells how much of a large file is read, on a terminal.
func progress(f countedFile) func(quantity.Time) {
	if f.Size() < 8<<20 {
		return nil
	}
	return percent("decoding", func(quantity.Time) float64 { return f.Share() })
}

// percent tells on a terminal how much of something is done.
func percent(what string, share func(quantity.Time) float64) func(quantity.Time) {
	if !isatty.IsTerminal(os.Stderr.Fd()) {
		return nil
	}
	last := -1
	return func(at quantity.Time) {
		if percent := int(100 * share(at)); percent != last {
			last = percent
			fmt.Fprintf(os.Stderr, "\r%s, %d %%", what, percent)
			if percent == 100 {
				fmt.Fprintln(os.Stderr)
			}
		}
	}
}

// printing is a sink that prints.
type printing struct {
	o    *decodeOptions
	pick *picker
	now  quantity.Time
	stop context.CancelFunc // of the decoding, when nothing more is wanted
	meta *capture.Meta
	w    *bufio.Writer
	csv  *csv.Writer
	err  error
}

func (o *decodeOptions) printing(meta *capture.Meta) (*printing, error) {
	p, err := o.pick.picker(o.cmd, o.known, o.meanings, meta)
	if err != nil {
		return nil, err
	}
	if p.reader != nil && o.asCSV {
		return nil, errors.New("--values and --csv: choose one")
	}
	out := &printing{o: o, meta: meta, w: bufio.NewWriterSize(stdout, 1<<16), pick: p, stop: func() {}}
	if o.asCSV {
		out.csv = csv.NewWriter(out.w)
		out.err = out.csv.Write([]string{"start_ps", "end_ps", "link", "bus", "data", "errors", "text"})
	}
	return out, nil
}

// flush hands everything to the output, and says what went wrong first.
func (p *printing) flush() error {
	if p.csv != nil {
		p.csv.Flush()
	}
	if err := p.w.Flush(); p.err == nil {
		p.err = err
	}
	if errors.Is(p.err, errDone) {
		return nil
	}
	if p.err == nil {
		p.err = p.pick.ended(p.now)
	}
	return p.err
}

// Put implements record.Sink.
func (p *printing) Put(r *record.Record) {
	if p.err != nil {
		return
	}
	p.now = max(p.now, r.End)
	if p.err = p.pick.take(r, p.o.asJSON, p.print); p.err != nil {
		p.stop()
	}
}

func (p *printing) print(r *record.Record) error {
	switch {
	case p.o.asJSON:
		b, err := jsonl.Marshal(p.meta, r, p.o.meanings.Text(p.meta.Links[r.Link].Name, r))
		if err == nil {
			_, err = p.w.Write(b)
		}
		return err
	case p.csv != nil:
		l := &p.meta.Links[r.Link]
		return p.csv.Write([]string{
			strconv.FormatInt(int64(r.Start), 10), strconv.FormatInt(int64(r.End), 10), l.Name, l.Kind,
			hex.EncodeToString(r.Data), record.MarksText(r.Marks), jsonl.Text(l.Kind, r),
		})
	default:
		_, err := p.w.WriteString(textlog.Line(p.meta, p.o.meanings, r))
		return err
	}
}

// Open implements record.Sink: what is not finished is printed when it is.
func (p *printing) Open(*record.Record) {}
