// Command large shows how a capture of many records behaves: it records so many, opens the
// file with and without its index, jumps about in it and filters it, and prints the figures
// of docs/performance.md.
//
//	go run ./bench/large -records 50000000 -file /tmp/large.pcapng
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/filter"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

var (
	wanted = flag.Int("records", 50_000_000, "how many records")
	file   = flag.String("file", "large.pcapng", "the file that is made, and left there")
	step   = flag.String("step", "", "one step alone, in a process of its own")
)

// steps are run one after the other, each in a process of its own: its memory counts.
var steps = []struct {
	name string
	run  func() error
}{
	{"record", makeFile}, {"open", func() error { return opened(true) }}, {"open without index", func() error { return opened(false) }},
}

func main() {
	flag.Parse()
	for _, s := range steps {
		if *step == s.name {
			if err := s.run(); err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			return
		}
	}
	for _, s := range steps {
		fmt.Printf("\n%s\n", s.name)
		c := exec.Command(os.Args[0], "-records", fmt.Sprint(*wanted), "-file", *file, "-step", s.name)
		c.Stdout, c.Stderr = os.Stdout, os.Stderr
		if err := c.Run(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

func row(what, aim string, value any) { fmt.Printf("| %s | %s | %v |\n", what, aim, value) }

// resident is the greatest memory that the process had.
func resident() string {
	b, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return "unknown"
	}
	for line := range strings.Lines(string(b)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			return strings.TrimSpace(rest)
		}
	}
	return "unknown"
}

// makeFile records ten seconds of Lock 7 again and again, each time behind the last.
func makeFile() error {
	if _, err := os.Stat(*file); err == nil {
		fmt.Println("the file is there already")
		return nil
	}
	b, faults := bench.Load(demo.Files, demo.Bench)
	if len(faults) > 0 {
		return errors.New(faults[0].Seen)
	}
	h := sim.NewHeadless(b)
	h.World.RunTo(10 * quantity.Second)
	snap := h.Store().Snapshot()
	store := capture.NewStore(sim.MetaOf(b))
	store.Bound(64 << 20)
	r, err := pcapng.Record(store, *file)
	if err != nil {
		return err
	}
	var rs []*record.Record
	for i := range snap.Len() {
		if x := snap.At(i); x.Traffic() {
			rs = append(rs, x)
		}
	}
	began := time.Now()
	for n := 0; n < *wanted; {
		shift := quantity.Time(n/len(rs)) * 10 * quantity.Second
		for _, x := range rs {
			y := *x
			y.Start, y.End = y.Start+shift, y.End+shift
			store.Put(&y)
			store.Advance(y.End)
			if n++; n%20_000 == 0 {
				r.Beat()
			}
			if n == *wanted {
				break
			}
		}
	}
	if err := r.Close(); err != nil {
		return err
	}
	took := time.Since(began)
	info, err := os.Stat(*file)
	if err != nil {
		return err
	}
	index, err := os.Stat(pcapng.IndexName(*file))
	if err != nil {
		return err
	}
	row("records a second, recorded", "", fmt.Sprintf("%.0f", float64(*wanted)/took.Seconds()))
	row("file, index", "", fmt.Sprintf("%.2f GB, %.1f MB", float64(info.Size())/1e9, float64(index.Size())/1e6))
	row("memory, most", "", resident())
	return nil
}

func opened(with bool) error {
	index := pcapng.IndexName(*file)
	if !with {
		if err := os.Rename(index, index+".away"); err != nil {
			return err
		}
		defer func() { _ = os.Rename(index+".away", index) }()
	}
	debug.SetGCPercent(100)
	began := time.Now()
	o, err := pcapng.Open(*file)
	if err != nil {
		return err
	}
	defer o.Close()
	if with != o.Known {
		return fmt.Errorf("index known: %v, %w", o.Known, errors.Join(o.Why))
	}
	if with {
		if err := o.Load(context.Background(), nil); err != nil {
			return err
		}
		row("open, with the index", "1 s", time.Since(began).Round(time.Millisecond))
		return inside(o)
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	first := make(chan struct{})
	once := false
	go func() {
		_ = o.Load(ctx, func() {
			if !once && o.Store.Snapshot().Len() >= 40 {
				once = true
				close(first)
			}
			if o.Share() > 0.1 {
				cancel()
			}
		})
		cancel()
	}()
	<-first
	row("first page, without the index", "0.3 s", time.Since(began).Round(time.Millisecond))
	<-ctx.Done()
	took := time.Since(began)
	row("records a second, read without the index", "", fmt.Sprintf("%.0f", float64(o.Store.Snapshot().Len())/took.Seconds()))
	row("memory, most", "500 MB", resident())
	return nil
}

// inside measures what is done in an opened file.
func inside(o *pcapng.Opening) error {
	snap := o.Store.Snapshot()
	if snap.Len() != *wanted {
		return fmt.Errorf("%d records where %d were recorded", snap.Len(), *wanted)
	}
	rng := rand.New(rand.NewPCG(1, 2))
	var took []time.Duration
	for range 300 {
		at := quantity.Time(rng.Int64N(int64(snap.Now)))
		began := time.Now()
		i := snap.IndexAt(at)
		for k := i; k < min(i+40, snap.Len()); k++ {
			_ = snap.At(k)
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	row("jump anywhere and read 40 records: median, greatest of 300", "20 ms", fmt.Sprintf("%s, %s", took[150].Round(time.Microsecond*10), took[299].Round(time.Microsecond*10)))
	b, err := sim.BenchOf(snap.Meta())
	if err != nil {
		return err
	}
	for _, text := range []string{"pump-drive", "identifier 1A5", "errors", "leaf-tilt.tilt changes", "lower-gauge answers later than 1 ms"} {
		x, bad := filter.Parse(text, filter.NounsOf(b, snap.Meta()))
		if bad != nil {
			return bad
		}
		began := time.Now()
		found := x.Find(b, snap.Meta())
		found.Near(context.Background(), snap, snap.Len(), 40)
		n := len(found.Picks().IDs)
		row(fmt.Sprintf("first page of `%s`, %d records", text, n), "100 ms", time.Since(began).Round(10*time.Microsecond))
	}
	runtime.GC()
	began := time.Now()
	x, _ := filter.Parse("identifier 1A5", filter.NounsOf(b, snap.Meta()))
	found := x.Find(b, snap.Meta())
	n := 0
	for more := true; more && n < 2_000_000; n += 20_000 {
		more = found.Look(snap, 20_000)
	}
	row("records a second, searched", "", fmt.Sprintf("%.0f", float64(n)/time.Since(began).Seconds()))
	row("memory, most", "500 MB", resident())
	return nil
}
