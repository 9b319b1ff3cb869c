package decode

import (
	"bytes"
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/vcd"
)

// examples are a link of each kind, and plans of whole transactions on it.
var examples = map[string]struct {
	link  string
	plans []string
}{
	"uart":  {"u uart mcu=l0 rate=1MBd frame=8E1", []string{"mcu 55", "mcu F0", "mcu 00 FF 0F", "mcu 80"}},
	"spi":   {"s spi clock=l0 out=l1 in=l2 select=l3 mode=1", []string{"out 83 00 in .. 40", "out 12"}},
	"i2c":   {"i i2c clock=l0 data=l1", []string{"start 3A ack 07 ack restart 3B ack 21 nack stop", "start 3A nack stop"}},
	"can":   {"c can line=l0 rate=250kBd", []string{"2A0 10 00 7F", "18FF50E5 01 02", "2A0 remote 4", "000", "7FF FF FF"}},
	"pulse": {`p pulse line=l0 zero="0.2 to 0.5 us" one="0.6 to 1 us" low="0.3 to 5 us" latch=50us element=12`, []string{"3C0 123 010", "000"}},
}

// capture writes a plan's levels up to a time as a dump, and decodes that.
func captured(t require.TestingT, link, plan string, to func(end, lastChange quantity.Time) quantity.Time) ([]record.Record, quantity.Time) {
	l, err := ParseLink(link, []string{"l0", "l1", "l2", "l3"})
	require.NoError(t, err)
	lines, err := l.Kind.Plan(l.Settings, plan, quantity.Microsecond, false)
	require.NoError(t, err)
	last := quantity.Time(0)
	for _, w := range lines {
		if n := len(w.Toggles); n > 0 {
			last = max(last, w.Toggles[n-1])
		}
	}
	// Records are closed by silence: enough of it.
	end := to(lines[0].To+10*quantity.Millisecond, last)
	var used []wire.Window
	var names []string
	for i := range lines {
		if !l.Lines[i].Present() {
			continue
		}
		w := lines[i]
		w.To = end
		for n := len(w.Toggles); n > 0 && w.Toggles[n-1] >= end; n-- {
			w.Toggles = w.Toggles[:n-1]
		}
		used = append(used, w)
		names = append(names, []string{"l0", "l1", "l2", "l3"}[len(names)])
	}
	var file bytes.Buffer
	w, err := vcd.NewWriter(&file, names)
	require.NoError(t, err)
	require.NoError(t, w.Write(used))
	require.NoError(t, w.Close(end-1))
	src, err := Open("x.vcd", &file, 0)
	require.NoError(t, err)
	l, err = ParseLink(link, names)
	require.NoError(t, err)
	var out record.List
	require.NoError(t, Run(context.Background(), src, []Link{l}, Options{}, &out))
	return out.Done, last
}

// TestCapturesThatEndAtTheirLastChange have the same records as those that go on: of
// each kind of bus that silence has a meaning for.
func TestCapturesThatEndAtTheirLastChange(t *testing.T) {
	for _, k := range all.Kinds {
		x, has := examples[k.Name]
		require.True(t, has, k.Name)
		for _, plan := range x.plans {
			want, _ := captured(t, x.link, plan, func(end, _ quantity.Time) quantity.Time { return end })
			require.NotEmpty(t, want, plan)
			for _, r := range want {
				require.Zero(t, r.AllFlags()&record.CutOff, "%s: %+v", plan, r)
			}
			got, _ := captured(t, x.link, plan, func(_, last quantity.Time) quantity.Time { return last + 1 })
			if k.Name == "can" {
				// Nobody acknowledges a plan, and the slot is behind the end of the capture.
				require.Len(t, got, 1)
				assert.Equal(t, []any{want[0].ID, want[0].Attr, want[0].Data, record.CutOff}, []any{got[0].ID, got[0].Attr, got[0].Data, got[0].AllFlags()}, plan)
				continue
			}
			assert.Equal(t, want, got, "%s %s", k.Name, plan)
		}
	}
}

// TestCapturesThatEndAnywhere say that they do: a record that is not as it was sent is
// marked, and what was whole before stays whole.
func TestCapturesThatEndAnywhere(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		k := rapid.SampledFrom(all.Kinds).Draw(rt, "kind")
		x := examples[k.Name]
		plan := rapid.SampledFrom(x.plans).Draw(rt, "plan")
		want, last := captured(rt, x.link, plan, func(end, _ quantity.Time) quantity.Time { return end })
		at := quantity.Time(rapid.Int64Range(int64(want[0].Start)+1, int64(last)).Draw(rt, "end"))
		got, _ := captured(rt, x.link, plan, func(quantity.Time, quantity.Time) quantity.Time { return at })
		for i, r := range got {
			if r.AllFlags()&record.CutOff == 0 {
				require.Equal(rt, want[i].Data[:len(r.Data)], r.Data, "ends at %s: %+v", at, r)
				continue
			}
			require.Equal(rt, len(got)-1, i, "only the last one is cut off")
			require.LessOrEqual(rt, r.End, max(at, r.Start+1))
		}
	})
}
