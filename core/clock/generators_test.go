package clock

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// drawn gives a random generator of each kind with a small range, and what it can
// divide the clock by in all, by brute force.
func drawn(rt *rapid.T) (Generator, []float64) {
	least := rapid.IntRange(1, 20).Draw(rt, "least")
	most := least + rapid.IntRange(0, 200).Draw(rt, "span")
	var all []float64
	switch rapid.IntRange(0, 3).Draw(rt, "kind") {
	case 0:
		d := Divider{Oversampling: []int{16, 8}, Least: least, Most: most, PlusOne: rapid.Bool().Draw(rt, "plus one")}
		for n := least; n <= most; n++ {
			all = append(all, float64(16*n), float64(8*n))
		}
		return d, all
	case 1:
		d := Fractional{Oversampling: []int{16}, Least: least, Most: most, Bits: rapid.IntRange(1, 6).Draw(rt, "bits"), Packed: rapid.Bool().Draw(rt, "packed")}
		for n := least; n <= most; n++ {
			for f := range 1 << d.Bits {
				all = append(all, 16*(float64(n)+float64(f)/float64(int(1)<<d.Bits)))
			}
		}
		return d, all
	case 2:
		d := Reload{Width: rapid.IntRange(4, 9).Draw(rt, "width"), Before: rapid.SampledFrom([]int{1, 12}).Draw(rt, "before"), Factor: []int{32, 16}}
		for reload := range 1 << d.Width {
			all = append(all, float64(d.Before*32*(1<<d.Width-reload)), float64(d.Before*16*(1<<d.Width-reload)))
		}
		return d, all
	}
	d := Chain{Factors: []int{1, 8, 32}, Least: least, Most: most}
	for n := least; n <= most; n++ {
		all = append(all, float64(8*n), float64(32*n))
	}
	return d, all
}

// No setting is better than the first; all stay in their limits, their values
// fit their fields and mean the setting that they came with.
func TestGeneratorsAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		g, all := drawn(rt)
		clock := quantity.FromHz(rapid.Float64Range(1e5, 1e8).Draw(rt, "clock"))
		want := quantity.FromBd(rapid.Float64Range(300, 2e6).Draw(rt, "want"))
		best := math.Inf(1)
		for _, d := range all {
			best = min(best, math.Abs(clock.Hz()/d/want.Bd()-1))
		}
		got, err := g.Solve(clock, want)
		require.NoError(rt, err)
		require.InDelta(rt, best, math.Abs(got[0].Error), 1e-8)
		for i, s := range got {
			if i > 0 {
				require.GreaterOrEqual(rt, math.Abs(s.Error)+1e-8, math.Abs(got[i-1].Error))
			}
			require.Equal(rt, math.Abs(math.Abs(s.Error)-math.Abs(got[0].Error)) <= same && len(got) > 1 && (i > 0 || got[1].Tie), s.Tie)
			var values []int
			for _, v := range s.Values {
				require.True(rt, v.Value >= 0 && v.Value < 1<<v.Bits, "%+v", v)
				values = append(values, v.Value)
			}
			back, err := g.Read(clock, want, s.Oversampling, values...)
			require.NoError(rt, err)
			back.Tie = s.Tie
			require.Equal(rt, s, back)
			// Held to one factor, that factor's best is found, with the same values.
			held, err := g.Only(s.Oversampling).Solve(clock, want)
			require.NoError(rt, err)
			require.LessOrEqual(rt, math.Abs(held[0].Error), math.Abs(s.Error)+1e-12)
			// The clock that the setting would be exact with.
			exact, err := g.Read(s.ExactClock(), want, s.Oversampling, values...)
			require.NoError(rt, err)
			require.InDelta(rt, 0, exact.Error, 1e-6)
			d, err := ParseDivisor(s.Divisor())
			require.NoError(rt, err)
			again, err := g.With(clock, want, s.Oversampling, d)
			require.NoError(rt, err)
			again.Tie = s.Tie
			require.Equal(rt, s, again)
		}
	})
}

// The shift of a single edge is that of a counter which adds up fractions.
func TestShiftOfASingleEdge(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		d := Fractional{Oversampling: []int{16}, Least: 1, Most: 100, Bits: rapid.IntRange(1, 6).Draw(rt, "bits")}
		n, one := rapid.IntRange(1, 100).Draw(rt, "n"), 1<<d.Bits
		f := rapid.IntRange(0, one-1).Draw(rt, "f")
		s, err := d.Read(quantity.Megahertz, quantity.Kilobaud, 16, n, f)
		require.NoError(rt, err)
		mean := float64(n) + float64(f)/float64(one)
		worst, sum, clocks := 0.0, 0, 0
		for tick := 1; tick <= 16*one; tick++ {
			clocks += n
			if sum += f; sum >= one {
				sum -= one
				clocks++
			}
			worst = max(worst, math.Abs(float64(clocks)-float64(tick)*mean))
		}
		require.InDelta(rt, worst/(16*mean), s.Shift, 1e-12)
	})
}

func best(t *testing.T, g Generator, clock string, want float64) Setting {
	f, err := quantity.ParseClock(clock)
	require.NoError(t, err)
	s, err := g.Solve(f, quantity.FromBd(want))
	require.NoError(t, err)
	return s[0]
}

func TestWorkedCases(t *testing.T) {
	whole := Divider{Oversampling: []int{16}, Least: 1, Most: 4096, PlusOne: true}
	s := best(t, whole, "14 MHz", 19200)
	assert.Equal(t, 45, s.Register)
	assert.Equal(t, "19 021.7", s.Rate.Grouped())
	assert.Equal(t, "-0.93 %", Percent(s.Error))
	s = best(t, whole, "7.3728 MHz", 115200)
	assert.Equal(t, 3, s.Register)
	assert.Zero(t, s.Error)

	part := Fractional{Oversampling: []int{16}, Least: 1, Most: 4095, Bits: 5}
	s = best(t, part, "22 MHz", 57600)
	assert.Equal(t, "23 + 28/32", s.Divisor())
	assert.Equal(t, "-0.01 %", Percent(s.Error))
	assert.Equal(t, []Value{{Value: 23, Bits: 12}, {Value: 28, Bits: 5}}, s.Values)
	s = best(t, part, "20 MHz", 57600)
	assert.Equal(t, "21 + 22/32", s.Divisor())
	assert.Equal(t, "57637", fmt.Sprintf("%.0f", s.Rate.Bd()))
	assert.Equal(t, "+0.06 %", Percent(s.Error))
	assert.InDelta(t, 15.0/16/(16*21.6875), s.Shift, 1e-12)

	timer := Reload{Width: 8, Before: 12, Factor: []int{32}}
	s = best(t, timer, "14.7456 MHz", 9600)
	assert.Equal(t, 0xFC, s.Register)
	assert.Zero(t, s.Error)

	chain := Chain{Factors: []int{1, 8, 32}, Least: 1, Most: 65536}
	settings, err := chain.Solve(quantity.FromHz(3.9e6), 14400*quantity.Baud)
	require.NoError(t, err)
	settings = Known(settings, 0.01/3.9)
	assert.Equal(t, 8, settings[0].Oversampling)
	assert.Equal(t, 34, settings[0].N)
	assert.Equal(t, "-0.43 ± 0.26", fmt.Sprintf("%.2f ± %.2f", 100*settings[0].Error, 100*settings[0].PlusMinus))
	for _, s := range settings {
		assert.NotEqual(t, 1, s.Oversampling)
		if s.Oversampling == 32 {
			assert.Greater(t, math.Abs(s.Error), Workable)
			assert.Contains(t, []string{"3.6864 MHz", "4.1472 MHz"}, s.ExactClock().String())
		}
	}
	_, err = Chain{Factors: []int{1}, Least: 1, Most: 9}.Solve(quantity.Megahertz, quantity.Kilobaud)
	assert.ErrorIs(t, err, ErrSynchronous)
	_, err = chain.Only(1).Solve(quantity.Megahertz, quantity.Kilobaud)
	assert.ErrorIs(t, err, ErrSynchronous)
}

func TestBadGenerators(t *testing.T) {
	for _, g := range []Generator{
		Fractional{Oversampling: []int{16}, Least: 1, Most: 2}, Fractional{Bits: 3, Least: 1, Most: 2}, Reload{Width: 3}, Reload{Width: 8, Factor: []int{32}},
		Reload{Width: 8, Before: 1}, Reload{Width: 8, Before: 1, Factor: []int{2}}, Chain{}, Chain{Factors: []int{0}, Least: 1, Most: 2}, Chain{Factors: []int{8}},
	} {
		assert.Error(t, g.Check())
		_, err := g.Solve(quantity.Megahertz, quantity.Kilobaud)
		assert.Error(t, err)
	}
	part := Fractional{Oversampling: []int{16}, Least: 1, Most: 9, Bits: 4}
	packed := part
	packed.Packed = true
	timer := Reload{Width: 8, Before: 1, Factor: []int{32, 16}}
	for _, f := range []func() (Setting, error){
		func() (Setting, error) { return part.Read(1, 1, 16, 1) },
		func() (Setting, error) { return part.Read(1, 1, 16, 1, 16) },
		func() (Setting, error) { return part.Read(1, 1, 16, 0, 0) },
		func() (Setting, error) { return packed.Read(1, 1, 16, 1, 2) },
		func() (Setting, error) { return part.With(1, 1, 16, 99) },
		func() (Setting, error) { return timer.Read(1, 1, 16, 1) },
		func() (Setting, error) { return timer.Read(1, 1, 16, 256, 0) },
		func() (Setting, error) { return timer.Read(1, 1, 16, 0, 2) },
		func() (Setting, error) { return timer.With(1, 1, 16, 1.5) },
		func() (Setting, error) { return Chain{Factors: []int{8}}.Read(1, 1, 8) },
		func() (Setting, error) { return Chain{Factors: []int{8}}.Read(1, 1, 8, 1, 1) },
		func() (Setting, error) { return Divider{}.Read(1, 1, 8) },
	} {
		_, err := f()
		assert.Error(t, err)
	}
	for _, text := range []string{"", "x", "1 +", "1 + 2", "1 + 3/2", "1 + -1/2", "1/2"} {
		_, err := ParseDivisor(text)
		assert.Error(t, err, text)
	}
}

func TestInfer(t *testing.T) {
	d := Divider{Oversampling: []int{16}, Least: 1, Most: 4096}
	s, err := d.Read(20*quantity.Megahertz, 57600*quantity.Baud, 16, 22)
	require.NoError(t, err)
	measured := (quantity.Period(22_000_000_000)).Rate() // a bit of 22.0 µs
	cs := Infer(s, measured, 0.001)
	require.NotEmpty(t, cs)
	assert.Equal(t, "the clock at the unit is 16 MHz, not 20 MHz", cs[0].Text)
	assert.InDelta(t, 16e6, TrueClock(s, measured).Hz(), 1)
	cs = Infer(s, quantity.FromBd(s.Rate.Bd()/32), 0.001)
	require.NotEmpty(t, cs)
	assert.Contains(t, cs[0].Text, "divides by 32")
	cs = Infer(s, s.Rate, 0.001)
	assert.Contains(t, cs[0].Text, "as programmed")
	cs = Infer(s, quantity.FromBd(s.Rate.Bd()*22/23), 0.001)
	assert.Contains(t, cs[0].Text, "one more than was written: 23 instead of 22")
	// What nothing known explains is another source.
	for _, ratio := range []float64{1.234, 0.79, 0.61} {
		cs = Infer(s, quantity.FromBd(s.Rate.Bd()*ratio), 0.0001)
		require.Len(t, cs, 1)
		assert.Contains(t, cs[0].Text, fmt.Sprintf("the source runs at %s, %.3f times what is stated", quantity.FromHz(20e6*ratio).Round(4), ratio))
	}
}

// What is measured is carried on with its uncertainty; the first hop at which the
// columns part is named.
func TestMeasuredPath(t *testing.T) {
	p := Path{
		{Name: "crystal", Freq: 10 * quantity.Megahertz},
		{Name: "pll", Op: Times, Factor: 8, Measured: quantity.FromHz(64e6), PlusMinus: 0.002},
		{Name: "bus", Op: Divide, Factor: 2, Unproven: true},
	}
	p.Solve()
	assert.Equal(t, "32 MHz", p.Freq().String())
	assert.Equal(t, "40 MHz", p[2].Expected.String())
	assert.InDelta(t, 0.002, p.PlusMinus(), 1e-12)
	assert.Equal(t, 1, p.Parts())
	assert.True(t, p.Unproven())
	p[1].Measured = quantity.FromHz(80.1e6)
	p.Solve()
	assert.Equal(t, -1, p.Parts())
}

func BenchmarkGenerators(b *testing.B) {
	for _, g := range []Generator{
		Fractional{Oversampling: []int{16, 8}, Least: 1, Most: 65535, Bits: 6}, Reload{Width: 16, Before: 12, Factor: []int{32, 16}}, Chain{Factors: []int{8, 16, 32, 64}, Least: 1, Most: 1 << 20},
	} {
		b.Run(fmt.Sprintf("%T", g), func(b *testing.B) {
			for b.Loop() {
				_, _ = g.Solve(80*quantity.Megahertz, 115200*quantity.Baud)
			}
		})
	}
}

// A formula finds what trying everything by hand finds, and reads its values back.
func TestFormulaAgainstBruteForce(t *testing.T) {
	f, err := NewFormula("clock / (16 * (n + 1) * 2 ** m)", 16, []Variable{{Name: "n", Most: 60, Register: "A", Field: "N"}, {Name: "m", Least: 1, Most: 4}})
	require.NoError(t, err)
	rapid.Check(t, func(rt *rapid.T) {
		clock := quantity.FromHz(rapid.Float64Range(1e5, 1e8).Draw(rt, "clock"))
		want := quantity.FromBd(rapid.Float64Range(300, 2e6).Draw(rt, "want"))
		best := math.Inf(1)
		for n := 0; n <= 60; n++ {
			for m := 1; m <= 4; m++ {
				best = min(best, math.Abs(clock.Hz()/float64(16*(n+1)*(1<<m))/want.Bd()-1))
			}
		}
		got, err := f.Solve(clock, want)
		require.NoError(rt, err)
		require.InDelta(rt, best, math.Abs(got[0].Error), 1e-9)
		for _, s := range got {
			back, err := f.Read(clock, want, 16, s.Values[0].Value, s.Values[1].Value)
			require.NoError(rt, err)
			back.Tie = s.Tie
			require.Equal(rt, s, back)
		}
	})
	s, err := f.Read(16*quantity.Megahertz, 9600*quantity.Baud, 16, 51, 1)
	require.NoError(t, err)
	assert.Equal(t, "n = 51, m = 1", s.Divisor())
	assert.Contains(t, s.Derivation().Worked, "n = 51, m = 1")
	one, err := NewFormula("clock / (16 * (n + 1))", 16, []Variable{{Name: "n", Most: 255}})
	require.NoError(t, err)
	s, err = one.With(16*quantity.Megahertz, 9600*quantity.Baud, 16, 103)
	require.NoError(t, err)
	assert.Equal(t, "+0.16 %", Percent(s.Error))
	for _, bad := range []func() error{
		func() error { _, err := f.With(1, 1, 16, 3); return err },
		func() error { _, err := one.With(1, 1, 16, 300); return err },
		func() error { _, err := f.Read(1, 1, 16, 1); return err },
		func() error { _, err := f.Read(1, 1, 16, 61, 1); return err },
		func() error { _, err := NewFormula("clock", 16, nil); return err },
		func() error { _, err := NewFormula("clock / q", 16, []Variable{{Name: "n", Most: 1}}); return err },
		func() error { _, err := NewFormula("clock", 2, []Variable{{Name: "n", Most: 1}}); return err },
		func() error { _, err := NewFormula("clock", 16, []Variable{{Name: "clock", Most: 1}}); return err },
		func() error { _, err := NewFormula("clock", 16, []Variable{{Name: "n", Most: -1}}); return err },
		func() error {
			_, err := NewFormula("clock", 16, []Variable{{Name: "n", Most: 300}, {Name: "m", Most: 300}})
			return err
		},
		func() error {
			none, err := NewFormula("0 * clock * n", 16, []Variable{{Name: "n", Most: 3}})
			require.NoError(t, err)
			_, err = none.Solve(1, 1)
			return err
		},
	} {
		assert.Error(t, bad())
	}
}

func BenchmarkFormula(b *testing.B) {
	f, err := NewFormula("clock / (16 * (n + 1) * 2 ** m)", 16, []Variable{{Name: "n", Most: 1023}, {Name: "m", Most: 7}})
	require.NoError(b, err)
	for b.Loop() {
		_, _ = f.Solve(80*quantity.Megahertz, 115200*quantity.Baud)
	}
}

// TestAtAnotherClock: what is written to the registers stays, and the rate goes with the clock; at the
// clock for which they were found the settings are the same.
func TestAtAnotherClock(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		g, _ := drawn(rt)
		clock := quantity.FromHz(rapid.Float64Range(1e6, 1e8).Draw(rt, "clock"))
		found, err := g.Solve(clock, quantity.FromBd(rapid.Float64Range(300, 1e6).Draw(rt, "rate")))
		if err != nil {
			return
		}
		same, err := At(g, found, clock)
		require.NoError(rt, err)
		by := rapid.IntRange(1, 16).Draw(rt, "slower")
		slower, err := At(g, found, clock/quantity.Freq(by))
		require.NoError(rt, err)
		for i, s := range found {
			require.Equal(rt, s.Values, same[i].Values)
			require.Equal(rt, s.Rate, same[i].Rate)
			require.Equal(rt, s.Tie, same[i].Tie)
			require.Equal(rt, s.Values, slower[i].Values)
			require.InEpsilon(rt, s.Rate.Bd()/float64(by), slower[i].Rate.Bd(), 1e-6)
		}
	})
}
