package startup

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/register"
)

// step makes a step that sets one bit of its own, or clears it where reset has it
// set.
func step(name string, bit int, reset bool) *Step {
	r := &register.Register{Name: name, Address: uint64(16 * bit), Bits: 8}
	f := register.Field{Name: "ON", Low: 0, Bits: 1}
	value := uint64(1)
	if reset {
		r.Reset = 1
	}
	r.Fields = []register.Field{f}
	return &Step{Role: RoleNamed(name), Writes: []Write{{Register: r, Mask: 1, Value: value, Text: "ON on"}}}
}

func chain(c Chain, names ...string) Chain {
	var steps []*Step
	for i, n := range names {
		steps = append(steps, step(n, i, false))
	}
	return c.With(steps...)
}

func states(vs []Verdict) map[string]State {
	out := map[string]State{}
	for _, v := range vs {
		out[v.Name] = v.State
	}
	return out
}

func TestRolesAreOrdered(t *testing.T) {
	for i, r := range Roles {
		for _, d := range r.After {
			j := slices.IndexFunc(Roles, func(x *Role) bool { return x.Name == d })
			require.GreaterOrEqual(t, j, 0, "%s depends on %s, which is no role", r.Name, d)
			assert.Less(t, j, i, "%s comes before what it depends on", r.Name)
		}
		for _, d := range r.NotAfter {
			j := slices.IndexFunc(Roles, func(x *Role) bool { return x.Name == d })
			require.GreaterOrEqual(t, j, 0, d)
			assert.Greater(t, j, i, "%s comes after what it must come before", r.Name)
		}
		assert.NotEmpty(t, r.Lack, r.Name)
	}
}

func TestOrderSensitivePairs(t *testing.T) {
	// Settings before enable, where the unit locks them.
	locked := chain(Chain{Locked: true}, "clock", "rate", "frame", "enable")
	vs := locked.Judge([]string{"clock", "enable", "rate", "frame"})
	assert.Equal(t, "enable", First(vs).Name)
	assert.Equal(t, "comes too early", First(vs).How)
	assert.Equal(t, map[string]State{"clock": Done, "enable": OutOfOrder, "rate": Waits, "frame": Waits}, states(vs))
	free := chain(Chain{}, "clock", "rate", "frame", "enable")
	assert.Nil(t, First(free.Judge([]string{"clock", "enable", "rate", "frame"})))

	// The second register of a rate before the first, where that takes both over.
	latched := chain(Chain{Latched: true}, "clock", "rate-fine", "rate")
	vs = latched.Judge([]string{"clock", "rate", "rate-fine"})
	require.NotNil(t, First(vs))
	assert.Equal(t, "rate-fine", First(vs).Name)
	assert.Equal(t, "comes after rate", First(vs).How)
	assert.Nil(t, First(chain(Chain{}, "clock", "rate-fine", "rate").Judge([]string{"clock", "rate", "rate-fine"})))

	// The DMA channel before the unit's request.
	dma := chain(Chain{}, "clock", "dma-clock", "dma-channel", "enable", "dma-request")
	vs = dma.Judge([]string{"clock", "dma-clock", "enable", "dma-request", "dma-channel"})
	assert.Equal(t, "dma-request", First(vs).Name)
	steps, moved := dma.Mended([]string{"clock", "dma-clock", "enable", "dma-request", "dma-channel"})
	assert.Contains(t, []string{"dma-request", "dma-channel"}, moved)
	assert.Nil(t, First(dma.Judge(steps)))
}

func TestProgress(t *testing.T) {
	c := chain(Chain{}, "clock", "rate", "enable", "receive-interrupt")
	for _, x := range []struct {
		done []string
		want string
	}{
		{[]string{"clock", "rate", "enable", "receive-interrupt"}, "set up: yes, enabled: yes, started: yes"},
		{[]string{"clock", "rate", "enable"}, "set up: yes, enabled: yes, started: no"},
		{[]string{"clock", "rate"}, "set up: yes, enabled: no, started: no"},
		{[]string{"clock", "enable", "receive-interrupt"}, "set up: no, enabled: yes, started: yes"},
		{nil, "set up: no, enabled: no, started: no"},
	} {
		assert.Equal(t, x.want, Progress(c.Judge(x.done)))
	}
	assert.Equal(t, "set up: yes, as far as seen, enabled: yes, as far as seen, started: yes, as far as seen", Progress(c.FromDump(nil)))
}

// What reset does need not be done, and is told apart.
func TestAtReset(t *testing.T) {
	c := Chain{}.With(step("clock", 0, true), step("rate", 1, false), step("enable", 2, false))
	assert.Equal(t, []string{"rate", "enable"}, c.Needed())
	assert.Equal(t, AtReset, states(c.Judge(c.Needed()))["clock"])
	assert.Equal(t, map[string]State{"clock": Missing, "rate": Waits, "enable": NotSeen}, states(c.FromDump([]register.Seen{{Address: 0, Value: 0}, {Address: 16, Value: 0}})), "a clock that reset has on was turned off")
}

// A configuration that is entered and left can't be seen in a dump: what could only
// be written meanwhile tells.
func TestPassingSteps(t *testing.T) {
	c := chain(Chain{}, "clock", "configuration", "rate", "filters", "join")
	seen := func(rate, filters uint64) map[string]State {
		return states(c.FromDump([]register.Seen{{Address: 0, Value: 1}, {Address: 32, Value: rate}, {Address: 48, Value: filters}, {Address: 64, Value: 1}}))
	}
	assert.Equal(t, Done, seen(1, 1)["configuration"])
	assert.Equal(t, map[string]State{"clock": Done, "configuration": Missing, "rate": Waits, "filters": Waits, "join": Done}, seen(0, 0), "both are missing: it was never entered")
	assert.Equal(t, map[string]State{"clock": Done, "configuration": Done, "rate": Missing, "filters": Done, "join": Done}, seen(0, 1))
}

func TestParse(t *testing.T) {
	steps, err := Parse("clock, rate ,enable")
	require.NoError(t, err)
	assert.Equal(t, []string{"clock", "rate", "enable"}, steps)
	steps, err = Parse("  ")
	require.NoError(t, err)
	assert.Empty(t, steps)
	_, err = Parse("clock, ratte")
	assert.ErrorContains(t, err, `"ratte" is no step`)
	_, err = Parse("clock,,rate")
	assert.Error(t, err)
}

// From any order, mending ends in one that is good, and never makes it worse.
func TestMendingEnds(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var names []string
		for _, r := range Roles {
			if r.Suits([]string{"transmit-pin", "receive-pin", "transmit-enable", "receive-enable"}, Interrupt) && r.Name != "rate-fine" && rapid.Bool().Draw(rt, r.Name) {
				names = append(names, r.Name)
			}
		}
		c := chain(Chain{Locked: rapid.Bool().Draw(rt, "locked"), Latched: rapid.Bool().Draw(rt, "latched")}, names...)
		require.Nil(rt, First(c.Judge(c.Needed())), "the usual order is good")
		var steps []string
		if len(names) > 0 {
			steps = rapid.SliceOfN(rapid.SampledFrom(names), 0, 12).Draw(rt, "steps")
		}
		left := open(c.Judge(steps))
		for n := 0; First(c.Judge(steps)) != nil; n++ {
			require.Less(rt, n, 40)
			steps, _ = c.Mended(steps)
			now := open(c.Judge(steps))
			require.Less(rt, now, left)
			left = now
		}
	})
}
