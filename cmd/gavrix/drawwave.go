package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/sim"
)

// waveOptions are those of `draw wave`: what it is made from, and the picture.
type waveOptions struct {
	decodeOptions
	frameOptions
	only []string
}

func drawWave() *cobra.Command {
	o := &waveOptions{}
	c := &cobra.Command{
		Use:   "wave FILE|BENCH",
		Short: "Draw line levels with what they mean, from a capture or the simulated bench",
		Long: `Draws a stretch of time: for each link what was sent, the levels, and on a
character link what the receiver made of them. A bench is simulated up to the
end of the stretch; of a file of levels --bench or --link say which lines are
which bus.`,
		Example: `  gavrix draw wave demo --only lower-gauge --from 250ms --to 255ms
  gavrix draw wave lock.vcd --bench demo --from 250ms --to 255ms --out answer.svg`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			where, flags := "on a bench", []string{"link", "bench", "sample-rate"}
			if levels(args[0]) {
				where, flags = "on a file of levels", []string{"set"}
			}
			if err := idle(cmd, where, flags...); err != nil {
				return err
			}
			s, err := o.draw(ctx, args[0])
			if err != nil {
				return err
			}
			return o.write(s)
		},
	}
	fl := c.Flags()
	fl.StringArrayVar(&o.links, "link", nil, "of a file of levels: which lines are which bus (repeatable)")
	fl.StringVar(&o.decodeOptions.bench, "bench", "", "of a file of levels: the links of this bench")
	fl.StringVar(&o.decodeOptions.rate, "sample-rate", "", "rate of the samples of a .csv file without times")
	fl.StringArrayVar(&o.sets, "set", nil, "of a bench: change a value first, as PATH=VALUE (repeatable)")
	fl.StringSliceVar(&o.only, "only", nil, "only these links")
	fl.StringVar(&o.decodeOptions.from, "from", "0 s", "beginning of the stretch")
	fl.StringVar(&o.decodeOptions.to, "to", "", "end of the stretch; of a file all of it without")
	fl.StringVar(&o.out, "out", "", "file to write, .svg or .pdf; without it the picture is printed as text")
	fl.IntVar(&o.columnsWide, "columns", 140, "width of the text picture, and how many edges a drawing tells apart (eightfold)")
	return c
}

// levels says whether a file holds levels, by the ending of its name.
func levels(path string) bool {
	ext := strings.ToLower(filepath.Ext(path))
	return ext == ".vcd" || ext == ".csv"
}

// draw makes the picture.
func (o *waveOptions) draw(ctx context.Context, path string) (*scene.Scene, error) {
	if err := columns(o.columnsWide); err != nil {
		return nil, err
	}
	var from, to quantity.Time
	var err error
	if from, err = quantity.ParseTime(o.decodeOptions.from); err != nil || from < 0 {
		return nil, fmt.Errorf("--from %s: write a time, as 250 ms", o.decodeOptions.from)
	}
	if o.decodeOptions.to != "" {
		if to, err = quantity.ParseTime(o.decodeOptions.to); err != nil {
			return nil, fmt.Errorf("--to: %w", err)
		}
		if to <= from {
			return nil, fmt.Errorf("--to %s is not after --from %s", o.decodeOptions.to, o.decodeOptions.from)
		}
	}
	w := picture.Wave{From: from, To: to, Columns: o.columnsWide - 19}
	if o.out != "" {
		w.Columns = 8 * o.columnsWide
	}
	if levels(path) {
		err = o.fromFile(ctx, path, &w)
	} else {
		err = o.fromBench(ctx, path, &w)
	}
	if err != nil {
		return nil, err
	}
	if len(w.Bands) == 0 {
		return nil, errors.New("--only: there is no such link")
	}
	return w.Scene(), nil
}

// wants says whether a link is to be drawn.
func (o *waveOptions) wants(name string) bool {
	for _, n := range o.only {
		if n == name {
			return true
		}
	}
	return len(o.only) == 0
}

func (o *waveOptions) fromFile(ctx context.Context, path string, w *picture.Wave) error {
	src, f, err := openLevels(path, o.decodeOptions.rate)
	if err != nil {
		return err
	}
	defer f.Close()
	if len(o.links) == 0 && o.decodeOptions.bench == "" {
		return fmt.Errorf("%s: say with --link or --bench which lines are which bus; its lines are %s", path, decode.List(src.Names()))
	}
	links, err := o.wanted(src.Names())
	if err != nil {
		return err
	}
	store := capture.NewStore(decode.Meta(links))
	if err := decode.Load(ctx, src, links, store); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	w.Snap = store.Snapshot()
	if w.To == 0 {
		w.To = max(w.Snap.Now, w.From+1)
	}
	for i := range links {
		if l := &links[i]; o.wants(l.Name) && !l.Absent() {
			w.Bands = append(w.Bands, picture.Band{Link: uint16(i), Kind: l.Kind, Name: l.Name, Settings: l.Settings})
		}
	}
	return nil
}

func (o *waveOptions) fromBench(ctx context.Context, path string, w *picture.Wave) error {
	if w.To == 0 {
		return errors.New("a bench is simulated up to the end of the stretch: give --to")
	}
	b, err := loadBench(path, o.sets...)
	if err != nil {
		return err
	}
	h := sim.NewHeadless(b)
	// What reaches into the stretch is finished a little behind it.
	if err := h.Wait(ctx, w.To+100*quantity.Millisecond, func(*capture.Snapshot) bool { return false }); err != nil {
		return err
	}
	w.Snap = h.Store().Snapshot()
	meanings := b.Meanings().Within(&w.Snap.Reader)
	for i, l := range b.Links {
		if !o.wants(l.Name) {
			continue
		}
		band := picture.Band{Link: uint16(i), Kind: all.Of(l.Kind.Name, w.Snap.Meta().Links[i].Roles), Name: l.Name, Settings: l.Model.Tap(),
			Meaning: func(r *record.Record) string { return meanings.Text(l.Name, r) }}
		if band.Kind.LineOf != nil {
			band.LineNames = []string{l.Ends[0].Name, l.Ends[1].Name}
		}
		w.Bands = append(w.Bands, band)
	}
	return nil
}
