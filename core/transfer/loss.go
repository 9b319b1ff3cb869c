package transfer

import (
	"slices"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// Reader is how the words that come are read from a unit.
type Reader struct {
	Way     Way // EachWord and AtLevel by interrupt, Look by the main loop
	Core    quantity.Freq
	Cycles  Cycles
	Level   int
	All     bool          // one run, or one look, reads all that wait
	Phase   quantity.Time // of the first look
	Period  quantity.Time // of looks
	Blocked []Window      // interrupts are held off
	Depth   int
	OnFull  machine.Policy
}

// Loss is what became of the words of a stream.
type Loss struct {
	Lost      []int // their places in the stream
	Delivered int
	Left      int // wait in the unit, below the level that would tell anybody
	High      int // the most that waited
	Count     int // interrupts, or looks that found something
	Busy      quantity.Time
	Worst     quantity.Time // from the flag to the first instruction
	Marks     []machine.Mark
}

// LossOf reads the words that are complete at given times, in order, and says which are
// lost. Keep is how many marks of the run are kept.
func LossOf(ends []quantity.Time, r Reader, keep int) Loss {
	m := machine.New(r.Core)
	m.Log.Keep = keep
	p := m.AddPort(&machine.Port{Name: "unit", Depth: r.Depth, OnFull: r.OnFull, Threshold: r.Level, Enabled: true})
	var out Loss
	p.OnTaken = func(machine.Word) { out.Delivered++ }
	var irq *machine.Interrupt
	switch r.Way {
	case Look:
		m.SetLoop(&machine.Loop{Phase: r.Phase, Period: r.Period, Look: func() quantity.Time {
			cost := r.Cycles.Look
			found := false
			for p.Level() > 0 {
				p.Take()
				found = true
				cost += r.Cycles.Read
				if !r.All {
					break
				}
			}
			if found {
				out.Count++
			}
			return m.Cycles(cost)
		}})
	default:
		irq = &machine.Interrupt{Name: "unit", Enabled: true, Entry: r.Cycles.Entry, Exit: r.Cycles.Exit, Handler: reading(m, p, r.Cycles, r.All)}
		m.AddInterrupt(irq, p)
		p.OnReceive = true
	}
	for _, w := range r.Blocked {
		m.At(w.From, func() { m.Mask(true) })
		m.At(w.To, func() { m.Mask(false) })
	}
	for i, at := range ends {
		m.RunTo(at)
		p.Receive(machine.Word{Serial: i})
	}
	// The reading goes on behind the last word.
	switch {
	case r.Way == Look:
		for n := 0; p.Level() > 0 && n <= r.Depth; n++ {
			m.RunTo(m.Next())
		}
	default:
		for m.Next() != quantity.Forever {
			m.RunTo(m.Next())
		}
		out.Count, out.Worst = irq.Count, irq.Latest
	}
	out.Lost = slices.Clone(p.LostSerials)
	slices.Sort(out.Lost)
	out.Left, out.High, out.Busy = p.Level(), p.High, m.CPU.Busy
	out.Marks = m.Log.Marks()
	return out
}

// reading is a handler that reads a port: the first word after Read cycles, all says that
// it looks again every Next cycles until none waits.
func reading(m *machine.Machine, p *machine.Port, k Cycles, all bool) machine.Routine {
	return machine.RoutineFunc(func(phase int) (quantity.Time, bool) {
		if phase == 0 {
			return m.Cycles(k.Read), false
		}
		_, ok := p.Take()
		if !ok || !all {
			return 0, true
		}
		return m.Cycles(k.Next), false
	})
}
