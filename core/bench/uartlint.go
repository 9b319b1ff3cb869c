package bench

import (
	"fmt"
	"math"
	"strings"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Direction is one way over a link, with the mismatch of its two clocks.
type Direction struct {
	Sender, Receiver string
	Limits           uart.Limits
	// Mismatch is receiver bit / sender bit - 1 with both clocks as they are;
	// Worst adds the tolerance that the device's sheet states, and the uncertainty
	// of a measured clock.
	Mismatch, Worst float64
	Judgement       uart.Judgement // of Worst
	Misread         string
}

// Directions gives both ways over a link: to the device and from it.
func (l *UART) Directions() [2]Direction {
	way := func(s, r uart.Settings, sn, rn string, sRate, rRate quantity.Rate) Direction {
		d := Direction{Sender: sn, Receiver: rn, Limits: uart.LimitsOf(s.Frame, r.Frame, r.Oversampling)}
		d.Mismatch = uart.Mismatch(rRate, sRate)
		tol := float64(l.DeviceEnd.Tolerance)/1e6 + l.Setting.PlusMinus
		d.Worst = d.Mismatch + tol
		if low := d.Mismatch - tol; d.Limits.Used(low) > d.Limits.Used(d.Worst) {
			d.Worst = low
		}
		d.Judgement = d.Limits.Judge(d.Worst)
		d.Misread = d.Limits.Misread(d.Worst)
		return d
	}
	dev := l.Far()
	return [2]Direction{
		way(l.MCU, dev, "MCU", l.Device.Name, l.MCU.Rate, dev.Rate),
		way(dev, l.MCU, l.Device.Name, "MCU", dev.Rate, l.MCU.Rate),
	}
}

func (l *UART) lint() []finding.Finding {
	out := l.lintFrames()
	out = append(out, l.lintSent()...)
	out = append(out, l.lintRates()...)
	out = append(out, l.lintClock()...)
	out = append(out, l.lintFlow()...)
	return append(out, l.lintTimes()...)
}

// lintSent finds bytes that the frame has no room for.
func (l *UART) lintSent() []finding.Finding {
	var out []finding.Finding
	add := func(data []byte, at finding.Place, what string) {
		if err := l.MCU.Frame.Carries(data); err != nil {
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "byte-too-wide", Where: at, Seen: fmt.Sprintf("%s: %v", what, err),
				Why: "the unit sends the low bits alone, and another byte arrives", Change: "send other bytes, or take a frame with more data bits at both ends",
			})
		}
	}
	if l.Ask != nil {
		add(l.Ask.Text, l.node.Get("mcu", "ask").KeyPlace(), "what the firmware asks")
	}
	for _, c := range l.Checks {
		add(c.Send, l.node.Get("checks", c.Name).KeyPlace(), "check "+c.Name)
	}
	return out
}

// lintFrames is what uart.Compare says, in one finding.
func (l *UART) lintFrames() []finding.Finding {
	diffs := uart.Compare(l.MCU, l.DeviceEnd.Settings, "MCU", l.Device.Name)
	if len(diffs) == 0 {
		return nil
	}
	f := finding.Finding{
		Severity: finding.Error, Code: diffs[0].Code, Where: l.node.Get("mcu", "frame").Place(),
		Seen: fmt.Sprintf("frames disagree: %s %s, MCU %s", l.Device.Name, l.DeviceEnd.Frame, l.MCU.Frame),
	}
	harmless := true
	var why []string
	for _, d := range diffs {
		harmless = harmless && d.Harmless
		why = append(why, d.Effects...)
	}
	if f.Where.Line == 0 {
		f.Where = l.node.Get("mcu").KeyPlace()
		f.Seen += "; the MCU's is a default that nobody chose"
	}
	if harmless {
		f.Severity = finding.Note
	} else {
		why = append(why, l.example())
	}
	f.Why = strings.Join(why, "; ")
	f.Change = "change one end"
	f.Fixes = []finding.Fix{
		{Label: "MCU to " + l.DeviceEnd.Frame.String(), Edits: []finding.Edit{{Path: l.path("mcu", "frame"), Value: l.DeviceEnd.Frame.String()}}},
		{Label: l.Device.Name + " to " + l.MCU.Frame.String(), Edits: []finding.Edit{{Path: l.path("device", "frame"), Value: l.MCU.Frame.String()}}},
	}
	return []finding.Finding{f}
}

// example says what one character looks like at the wrong end, found by
// running encoder and receiver.
func (l *UART) example() string {
	for _, v := range []uint16{'4', '1', '3', '0'} {
		seen := uart.Outcome(l.Far(), l.MCU, v)
		if len(seen.Chars) == 0 {
			continue
		}
		if seen.Chars[0] == v && seen.Marks[0] == 0 {
			continue
		}
		mark := "without an error flag"
		if seen.Marks[0] != 0 {
			mark = "with " + seen.Marks[0].String() + " error"
		}
		return fmt.Sprintf("it looks like this: '%c' (%02X) is stored as %02X %s", rune(v), v, seen.Chars[0], mark)
	}
	return "single characters may still look right"
}

func (l *UART) lintRates() []finding.Finding {
	var out []finding.Finding
	for i, d := range l.Directions() {
		if d.Judgement == uart.Fits {
			continue
		}
		f := finding.Finding{
			Severity: finding.Error, Code: "rates-disagree", Where: l.node.Get("mcu", "rate").Place(),
			Seen: fmt.Sprintf("%s → %s: mismatch up to %+.2f %%, allowed %+.1f / %+.1f %%", d.Sender, d.Receiver, 100*d.Worst, 100*d.Limits.RuleLate, 100*d.Limits.RuleEarly),
			Why:  d.Misread + "; " + d.Limits.WhenItBites(),
		}
		if d.Judgement == uart.DependsOnPhase {
			f.Severity, f.Code = finding.Warning, "rate-depends-on-phase"
			f.Seen += ": it depends on the start phase"
		}
		if i == 1 && len(out) > 0 {
			// The other direction says the same with the sign turned round.
			out[0].Seen += fmt.Sprintf("; back %+.2f %%", 100*d.Worst)
			if f.Severity > out[0].Severity {
				out[0].Severity, out[0].Code = f.Severity, f.Code
			}
			continue
		}
		nominal := uart.Mismatch(l.DeviceEnd.Rate, l.Wanted)
		if l.ClockOff != 0 && l.withoutOff(i) {
			f.Where = l.node.Get("device", "clock-off").Place()
			f.Change = fmt.Sprintf("%s's clock is %+g %% off: with a right one both ends fit", l.Device.Name, l.ClockOff.Percent())
			if math.Abs(l.ClockOff.Percent()) > mostDrift {
				f.Change = fmt.Sprintf("%s runs %+g %% off, more than a clock drifts: it has another rate or divider than stated, or another crystal", l.Device.Name, l.ClockOff.Percent())
			}
			f.Fixes = []finding.Fix{{Label: "its clock right", Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("device", "clock-off")}}}}
		} else if math.Abs(nominal) > 0.001 {
			f.Change = "give both ends one rate"
			f.Fixes = []finding.Fix{
				{Label: "MCU to " + l.DeviceEnd.Rate.String(), Edits: []finding.Edit{{Path: l.path("mcu", "rate"), Value: l.DeviceEnd.Rate.String()}}},
				{Label: l.Device.Name + " to " + l.Wanted.String(), Edits: []finding.Edit{{Path: l.path("device", "rate"), Value: l.Wanted.String()}}},
			}
		} else {
			f.Change = "both ends mean the same rate: look at the divider and at the device's clock"
		}
		out = append(out, f)
	}
	return out
}

// mostDrift is by how many percent an oscillator of the plainest kind is off its nominal rate.
const mostDrift = 10

// withoutOff asks whether a way fits once the device's clock is right.
func (l *UART) withoutOff(way int) bool {
	right := *l
	right.ClockOff = 0
	return right.Directions()[way].Judgement == uart.Fits
}

func (l *UART) lintClock() []finding.Finding {
	var out []finding.Finding
	u := l.Unit
	s := l.Setting
	better := l.Chosen && l.Options[0].Divisor() != s.Divisor()
	var best []finding.Fix
	if better {
		best = []finding.Fix{{Label: fmt.Sprintf("take divisor %s", l.Options[0].Divisor()), Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("mcu", "divisor")}}}}
	}
	if math.Abs(s.Error) > clock.Workable {
		f := finding.Finding{
			Severity: finding.Error, Code: "rate-not-reached", Where: l.node.Get("mcu", "rate").Place(),
			Seen: fmt.Sprintf("%s from %s: the divider gives %s Bd, %s", l.Wanted, u.Clock.Freq(), s.Rate.Grouped(), clock.Percent(s.Error)),
			Why:  fmt.Sprintf("more than %.1f %% leaves the other end too little", 100*clock.Workable),
		}
		var near []string
		for _, n := range clock.Nearby(l.Generator(), u.Clock.Freq(), l.Wanted, 3) {
			near = append(near, fmt.Sprintf("%s (%s)", n.Wanted, clock.Percent(n.Error)))
		}
		f.Change = "choose another rate or clock"
		if len(near) > 0 {
			f.Change = "nearest rates that this clock reaches: " + strings.Join(near, ", ")
		}
		if l.Chosen && math.Abs(l.Options[0].Error) <= clock.Workable {
			f.Change = fmt.Sprintf("divisor %s gives %s", l.Options[0].Divisor(), clock.Percent(l.Options[0].Error))
			f.Fixes = best
		}
		if meant, ok := l.asMeant(); ok {
			f.Why = fmt.Sprintf("divisor %s was found for %s, where it gives %s Bd (%s): the clock is wrong, not the divisor", s.Divisor(), meant.Clock, meant.Rate.Grouped(), clock.Percent(meant.Error))
			f.Change, f.Fixes = correctClock, nil
		}
		out = append(out, f) // whether another divisor is nearer is no second fault
	} else if better {
		out = append(out, finding.Finding{
			Severity: finding.Note, Code: "divisor-no-longer-best", Where: l.node.Get("mcu", "divisor").Place(),
			Seen:   fmt.Sprintf("the chosen divisor %s is kept; %s would be nearer (%s instead of %s)", s.Divisor(), l.Options[0].Divisor(), clock.Percent(l.Options[0].Error), clock.Percent(s.Error)),
			Change: "remove `divisor:` to take the best one",
			Fixes:  best,
		})
	}
	if l.MCU.Vote && l.MCU.Oversampling < 8 {
		out = append(out, finding.Finding{
			Severity: finding.Warning, Code: "vote-without-effect", Where: l.node.Get("mcu", "vote").Place(),
			Seen: "a vote of three needs at least 8 samples per bit", Why: "with 4 the third sample can fall into the next bit, so the receiver takes one", Change: "remove `vote:`",
		})
	}
	return out
}

// asMeant gives the setting at the clock that the unit should have, where it has another
// one and the setting fits that. A divisor that nobody chose is found for a measured clock.
func (l *UART) asMeant() (clock.Setting, bool) {
	p := l.Unit.Clock
	freq := p.Meant()
	if l.Chosen && len(p) > 0 {
		freq = p[len(p)-1].Expected
	}
	if freq == p.Freq() {
		return clock.Setting{}, false
	}
	meant, err := clock.At(l.Generator(), []clock.Setting{l.Setting}, freq)
	if err != nil || math.Abs(meant[0].Error) > clock.Workable {
		return clock.Setting{}, false
	}
	return meant[0], true
}

func (l *UART) lintTimes() []finding.Finding {
	var out []finding.Finding
	char := uart.Duration(l.DeviceEnd.Settings, 1)
	room := quantity.Time(l.Unit.Depth) * char
	heldBack := l.MCU.Flow == uart.Hardware && l.DeviceEnd.Flow == uart.Hardware && l.Wires == 4
	if l.Service >= room && !l.receives() && !heldBack {
		out = append(out, finding.Finding{
			Severity: finding.Warning, Code: "handler-too-slow", Where: l.node.Get("mcu", "service").Place(),
			Seen:   fmt.Sprintf("the receive register is emptied after %s; it is full, and one more complete, after %s", l.Service, room.Round(4)),
			Why:    "a character that completes while the register is full is lost (overrun)",
			Change: fmt.Sprintf("service it within %s, or let flow control hold %s back", room.Round(4), l.Device.Name),
		})
	}
	for _, c := range l.Checks {
		floor := uart.Duration(l.DeviceEnd.Settings, len(c.Expect))
		if c.Within <= floor {
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "time-out-too-short", Where: l.node.Get("checks", c.Name, "within").Place(),
				Seen:   fmt.Sprintf("check %s allows %s; its %s alone take %s on the line", c.Name, c.Within, quantity.Count(len(c.Expect), "byte"), floor.Round(4)),
				Change: fmt.Sprintf("allow at least %s", uart.MinTimeout(l.DeviceEnd.Settings, len(c.Expect), 0).Round(3)),
			})
		}
	}
	return out
}
