package sim

import (
	"slices"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// sharedRole is the role of the wire for both directions.
const sharedRole = 2

// sharedWire is one wire for both directions of a character link. An end drives it from its
// first start bit until some time behind its last stop bit, and does not listen meanwhile.
type sharedWire struct {
	join    *wire.Join
	driving [2]bool
	drove   [2][]wire.Span // up to what has been read
}

func (l *uartLink) shares() bool { return l.ends.Wires == 1 }

// beginShared gives the wire anew where there is one.
func (l *uartLink) beginShared() {
	if !l.shares() {
		return
	}
	l.shared = sharedWire{join: wire.NewJoin(2, l.w.now)}
	if l.bench.Biased {
		l.shared.join = wire.NewPulledJoin(2, l.w.now)
	}
	l.wake(mcuSide, l.w.now+1)
}

// reaches says whether what an end drives comes onto the wire.
func (l *uartLink) reaches(side int) bool {
	if side == mcuSide {
		return !l.undriven && !l.cut[mcuSide]
	}
	return !l.off && !l.cut[deviceSide]
}

// driveShared lets an end drive the wire.
func (l *uartLink) driveShared(side int, toggles []quantity.Time) {
	s := &l.shared
	if !l.reaches(side) {
		return
	}
	high := l.resting[side]
	var driven []wire.Driven
	if !s.driving[side] {
		s.driving[side] = true
		s.drove[side] = append(s.drove[side], wire.Span{From: l.w.now, To: quantity.Forever})
		driven = append(driven, wire.Driven{At: l.w.now, High: high, Driven: true})
	}
	for _, t := range toggles {
		high = !high
		driven = append(driven, wire.Driven{At: t, High: high, Driven: true})
	}
	s.join.Drive(side, driven)
	l.wake(mcuSide, l.w.now+1)
}

// letsGo takes an end off the wire, unless it sends again.
func (l *uartLink) letsGo(side int) {
	s := &l.shared
	if !l.shares() || !s.driving[side] || l.tx[side].busy && l.reaches(side) {
		return
	}
	s.driving[side] = false
	s.drove[side][len(s.drove[side])-1].To = l.w.now
	s.join.Drive(side, []wire.Driven{{At: l.w.now}})
	l.wake(mcuSide, l.w.now+1)
}

// readShared gives the receivers and the capture the wire up to now: an end hears it while
// it does not drive it, and the taps know which end does.
func (l *uartLink) readShared() {
	s := &l.shared
	w := s.join.Read(l.w.now)
	if w.From == w.To {
		return
	}
	for side := range 2 {
		listener := 1 - side
		heard := without(&w, s.drove[listener], l.resting[side])
		if l.cut[listener] {
			heard = wire.Window{From: w.From, To: w.To, High: l.resting[side]}
		}
		if side == mcuSide || !l.ends.Unit.Deaf {
			l.rx[side].Feed(&heard, l.w.store)
		}
		seen := without(&w, between(s.drove[side], w.From, w.To), l.resting[side])
		l.tap[side].Feed(&seen, l.w.store)
	}
	for side := range 2 {
		s.drove[side] = slices.DeleteFunc(s.drove[side], func(d wire.Span) bool { return d.To <= w.To })
	}
	l.w.store.Levels(l.line0+sharedRole, &w)
	t := min(l.tap[0].Wake(), l.tap[1].Wake(), l.rx[mcuSide].Wake())
	if !l.ends.Unit.Deaf {
		t = min(t, l.rx[deviceSide].Wake())
	}
	if t != quantity.Forever {
		l.wake(mcuSide, max(t, l.w.now+1))
	}
}

// between gives the rest of a stretch beside spans.
func between(spans []wire.Span, from, to quantity.Time) []wire.Span {
	var out []wire.Span
	for _, s := range spans {
		if s.From > from {
			out = append(out, wire.Span{From: from, To: s.From})
		}
		from = max(from, s.To)
	}
	if from < to {
		out = append(out, wire.Span{From: from, To: to})
	}
	return out
}

// without gives a window that rests in some spans.
func without(w *wire.Window, spans []wire.Span, rest bool) wire.Window {
	out := wire.Window{From: w.From, To: w.To}
	covered := func(t quantity.Time) bool {
		for _, s := range spans {
			if s.From <= t && t < s.To {
				return true
			}
		}
		return false
	}
	times := append([]quantity.Time{w.From}, w.Changes()...)
	for _, s := range spans {
		for _, t := range []quantity.Time{s.From, s.To} {
			if t > w.From && t < w.To {
				times = append(times, t)
			}
		}
	}
	slices.Sort(times)
	times = slices.Compact(times)
	level := rest
	if !covered(w.From) {
		level = w.High
	}
	out.High = level
	for i, t := range times {
		now := rest
		end := w.To
		if i+1 < len(times) {
			end = times[i+1]
		}
		if !covered(t) {
			now = w.Level(t)
			if w.Floating(t) {
				out.Unknown = append(out.Unknown, wire.Span{From: t, To: end, Open: w.Symbol(t) == 'z'})
			}
		}
		if now != level {
			out.Toggles = append(out.Toggles, t)
		}
		level = now
	}
	return out
}
