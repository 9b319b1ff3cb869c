package decode_test

import (
	"context"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/core/recognise/samples"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// gathered gives the levels of lines in stretches.
type gathered struct {
	lines  []recognise.Line
	chosen []int
	at     int
	parts  int // 1, or 2 halves
}

func (g *gathered) Names() (out []string) {
	for _, l := range g.lines {
		out = append(out, l.Name)
	}
	return out
}

func (g *gathered) Select(lines ...int) { g.chosen = lines }

func (g *gathered) Next() ([]wire.Window, error) {
	if g.at == g.parts {
		return nil, io.EOF
	}
	var out []wire.Window
	for _, i := range g.chosen {
		w := g.lines[i].Levels
		t := wire.NewTrace(w.High, 1<<30)
		t.Append(&w)
		from, to := w.From, w.To
		if g.parts == 2 {
			half := w.From + (w.To-w.From)/2
			if g.at == 0 {
				to = half
			} else {
				from = half
			}
		}
		out = append(out, t.Window(from, to))
	}
	g.at++
	return out, nil
}

// TestLinesThatRingAreDecoded: what is proposed for lines that ring decodes them as cleanly as it was
// recognised, however the levels are cut; without its filter it does not.
func TestLinesThatRingAreDecoded(t *testing.T) {
	tried, spoilt := 0, 0
	for _, bus := range []string{"spi", "can", "uart"} {
		for seed := range uint64(90) {
			s := samples.MakeHard(bus, seed)
			r, err := recognise.Lines(context.Background(), s.Lines, nil)
			require.NoError(t, err)
			if s.Hard != "ringing" || strings.Contains(s.About, "cut") || samples.Judge(&s, &r) != "" {
				continue
			}
			src := &gathered{lines: s.Lines, parts: 1}
			gs, err := decode.Guesses(r.Best, s.Lines, src.Names(), nil)
			require.NoError(t, err)
			if gs[0].Link.Filter == 0 {
				continue // it rings so little that it was read as it is
			}
			tried++
			read := func(l decode.Link, parts int) (good, bad int) {
				var out record.List
				require.NoError(t, decode.Run(context.Background(), &gathered{lines: s.Lines, parts: parts}, []decode.Link{l}, decode.Options{}, &out))
				for _, x := range out.Done {
					if x.AllFlags()&^record.CutOff == 0 {
						good += x.Len()
					} else {
						bad += x.Len()
					}
				}
				return good, bad
			}
			good, bad := read(gs[0].Link, 1)
			require.LessOrEqual(t, bad, max(good/8, 8), "%s: %s", s.About, gs[0].Text)
			again, worse := read(gs[0].Link, 2)
			require.Equal(t, [2]int{good, bad}, [2]int{again, worse})
			plain := gs[0].Link
			plain.Filter = 0
			if n, b := read(plain, 1); n != good || b != bad {
				spoilt++
			}
		}
	}
	require.Greater(t, tried, 20)
	require.Greater(t, spoilt, tried/5) // characters and frames stand more than words do
}
