package clock

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

func TestSolveIsNeverWorseThanBruteForce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		d := Divider{
			Oversampling: rapid.SampledFrom([][]int{{16}, {8}, {16, 8}, {4, 8, 16}}).Draw(rt, "os"),
			Least:        rapid.IntRange(1, 20).Draw(rt, "least"),
		}
		d.Most = d.Least + rapid.IntRange(0, 400).Draw(rt, "span")
		clock := quantity.FromHz(rapid.Float64Range(1e5, 1e8).Draw(rt, "clock"))
		want := quantity.FromBd(rapid.Float64Range(300, 2e6).Draw(rt, "want"))
		got, err := d.Solve(clock, want)
		require.NoError(rt, err)
		best := math.Inf(1)
		for _, os := range d.Oversampling {
			for n := d.Least; n <= d.Most; n++ {
				best = min(best, math.Abs(clock.Hz()/float64(os)/float64(n)/want.Bd()-1))
			}
		}
		require.InDelta(rt, best, math.Abs(got[0].Error), 1e-8)
		for _, s := range got {
			require.True(rt, s.N >= d.Least && s.N <= d.Most)
		}
	})
}

func TestRateToDivisor(t *testing.T) {
	d := Divider{Oversampling: []int{16, 8}, Least: 1, Most: 4096}
	s, err := d.Solve(20*quantity.Megahertz, 57600*quantity.Baud)
	require.NoError(t, err)
	found := map[int]Setting{}
	for _, x := range s {
		if _, ok := found[x.Oversampling]; !ok {
			found[x.Oversampling] = x
		}
	}
	assert.Equal(t, 22, found[16].N)
	assert.Equal(t, "56818", strings.ReplaceAll(quantity.Group(found[16].Rate.Bd(), 0), " ", ""))
	assert.Equal(t, "-1.36 %", Percent(found[16].Error))
	assert.Equal(t, 43, found[8].N)
	assert.Equal(t, "+0.94 %", Percent(found[8].Error))
	assert.Equal(t, 8, s[0].Oversampling, "the smaller error comes first")

	one := Divider{Oversampling: []int{16}, Least: 1, Most: 255}
	s, err = one.Solve(2*quantity.Megahertz, 115200*quantity.Baud)
	require.NoError(t, err)
	assert.Equal(t, "+8.51 %", Percent(s[0].Error))
	assert.Greater(t, s[0].Error, Workable)
	for _, near := range Nearby(one, 2*quantity.Megahertz, 115200*quantity.Baud, 3) {
		assert.LessOrEqual(t, math.Abs(near.Error), Workable)
	}
	_, err = Divider{Oversampling: []int{1}, Least: 1, Most: 9}.Solve(quantity.Megahertz, quantity.Kilobaud)
	assert.ErrorContains(t, err, "×1 can't be used")
	for _, bad := range []Divider{{}, {Oversampling: []int{6, 3}, Least: 1, Most: 2}, {Oversampling: []int{16}, Least: 2, Most: 1}} {
		assert.Error(t, bad.Check())
	}
}

func TestDivisorToRate(t *testing.T) {
	d := Divider{Oversampling: []int{16}, Least: 1, Most: 255}
	m, err := Explain(d, quantity.FromHz(1.5e6), 14400*quantity.Baud, 16, 5)
	require.NoError(t, err)
	assert.Equal(t, "1.152 MHz", m.MeantFor.String())
	assert.Equal(t, 18750*quantity.Baud, m.Setting.Rate)
	assert.Equal(t, "+30.21 %", Percent(m.Setting.Error))
	assert.Contains(t, m.Exact, ExactClock{quantity.FromHz(1.152e6), 14400 * quantity.Baud})
	for _, x := range m.Exact {
		assert.Equal(t, x.Clock.Hz(), x.Rate.Bd()*16*5)
	}
	d.PlusOne = true
	m, err = Explain(d, 40*quantity.Megahertz, 0, 16, 86)
	require.NoError(t, err)
	assert.Equal(t, 87, m.Setting.N)
	assert.Zero(t, m.MeantFor)
	d.PlusOne = false
	_, err = Explain(d, quantity.Megahertz, 0, 16, 0)
	assert.Error(t, err)
}

func TestPath(t *testing.T) {
	p := Path{
		{Name: "crystal", Freq: 10 * quantity.Megahertz},
		{Name: "pll", Op: Times, Factor: 24, Unproven: true},
		{Name: "core", Op: Divide, Factor: 5},
		{Name: "bus", Op: Divide, Factor: 2},
	}
	p.Solve()
	assert.Equal(t, "24 MHz", p.Freq().String())
	assert.True(t, p.Unproven())
	assert.False(t, p[0].Unproven)
	assert.Equal(t, "10 MHz × 24 ÷ 5 ÷ 2", p.Derivation().Worked)
}

func BenchmarkSolve(b *testing.B) {
	d := Divider{Oversampling: []int{16, 8, 4}, Least: 1, Most: 65536}
	for b.Loop() {
		_, _ = d.Solve(80*quantity.Megahertz, 115200*quantity.Baud)
	}
}
