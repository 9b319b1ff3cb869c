package sending

import (
	"bytes"
	"context"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// lazyPort is a port whose operating system wakes who waits too late, and that sends what it is
// given one after the other.
type lazyPort struct {
	store *capture.Store
	now   quantity.Time
	late  func() quantity.Time
	each  quantity.Time
	free  quantity.Time // when its line is
	data  []byte
	at    []quantity.Time
}

func (p *lazyPort) Store() *capture.Store { return p.store }
func (p *lazyPort) Now() quantity.Time    { return p.now }
func (p *lazyPort) Info(uint16) link.Info {
	return link.Info{Open: true, Takes: map[string]string{link.SendVerb: ""}}
}

func (p *lazyPort) Wait(_ context.Context, until quantity.Time, _ func(*capture.Snapshot) bool) error {
	p.now = max(p.now, until) + p.late()
	return nil
}

func (p *lazyPort) Do(_ context.Context, _ uint16, i link.Intent) (link.Outcome, error) {
	for _, b := range i.(link.Send).Data {
		p.free = max(p.free, p.now)
		p.data, p.at = append(p.data, b), append(p.at, p.free)
		p.free += p.each
	}
	return link.Outcome{At: p.now, OK: true}, nil
}

// TestPausesAreKeptOnAPort: what a capture holds goes out over a port with at least the pauses
// that lay between its characters, however late the port is woken and however slow it is.
func TestPausesAreKeptOnAPort(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		b := lock7(t)
		l := b.Link("lower-gauge")
		each := uart.Duration(l.Model.(*bench.UART).MCU, 1)
		// The capture: runs of characters, each begun within the run before's idle time or not.
		was := each / quantity.Time(rapid.IntRange(1, 4).Draw(r, "faster"))
		store := capture.NewStore(capture.Meta{Links: []capture.Link{{Name: l.Name, Kind: "uart", Ends: []string{"MCU", "gauge"}}}})
		var want []byte
		var pauses []quantity.Time // before each character
		at := quantity.Time(0)
		for range rapid.IntRange(1, 5).Draw(r, "runs") {
			run := &record.Record{Kind: record.Chars, From: record.MCU, Seen: record.Tap, Start: at, Each: was}
			for range rapid.IntRange(1, 5).Draw(r, "chars") {
				pause := quantity.Time(0)
				if len(want) > 0 && rapid.Bool().Draw(r, "paused") {
					pause = quantity.Time(rapid.Int64Range(int64(was), int64(20*quantity.Millisecond)).Draw(r, "pause"))
				}
				at += pause
				if len(run.Data) == 0 {
					run.Start = at
				}
				run.Data, run.Offsets = append(run.Data, byte(len(want))), append(run.Offsets, at-run.Start)
				want, pauses = append(want, byte(len(want))), append(pauses, pause)
				at += was
			}
			run.End = at
			store.Put(run)
		}
		to := &lazyPort{
			store: capture.NewStore(store.Meta), each: each,
			late: func() quantity.Time {
				return quantity.Time(rapid.Int64Range(0, int64(5*quantity.Millisecond)).Draw(r, "late"))
			},
		}
		items, err := OfCapture(store.Snapshot(), &to.store.Meta, func(*record.Record) bool { return true }, 0, quantity.Forever, false, nil)
		require.NoError(r, err)
		for i := range items {
			items[i].Link = l.Index
		}
		_, err = Run(context.Background(), to, b, &Plan{Items: items, Times: 1, Spaced: true}, nil)
		require.NoError(r, err)
		require.True(r, bytes.Equal(want, to.data))
		for i := 1; i < len(want); i++ {
			require.GreaterOrEqual(r, to.at[i]-to.at[i-1]-each, pauses[i]-quantity.Microsecond, "before %d", i)
		}
	})
}
