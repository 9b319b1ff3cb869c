package uart

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Flow is how an end keeps the other one from sending more than it can take, and what
// makes it hold back itself.
type Flow uint8

// The ways of flow control.
const (
	NoFlow   Flow = iota
	Hardware      // a ready line of each end
	Software      // XOFF and XON among the characters
	Flows         // keep last
)

var flowNames = []string{"none", "rts-cts", "xon-xoff"}

func (f Flow) String() string { return flowNames[min(f, Flows-1)] }

// FlowNamed gives the flow control that a word of bench files stands for; NoFlow for
// any other.
func FlowNamed(s string) Flow { return Flow(max(slices.Index(flowNames, s), 0)) }

// The characters of software flow control, DC1 and DC3 of ISO/IEC 646.
const (
	XON  = 0x11
	XOFF = 0x13
)

// StopAt is how many waiting characters make an end with a receive queue of so many say
// stop: a ready line stops the sender behind the character on its way, so all places
// are used; XOFF comes later, so it is sent at half.
func (s Settings) StopAt(depth int) int {
	switch {
	case s.Stop > 0:
		return min(s.Stop, depth)
	case s.Flow == Software:
		return max(depth/2, 1)
	}
	return max(depth, 1)
}

// What a flow line says.
const (
	ready    = "ready to receive"
	notReady = "not ready to receive"
)

// FlowLine tells of the changes of a line with which an end says that it can
// receive: low is ready.
type FlowLine struct {
	rec record.Record
}

// NewFlowLine gives the teller of an end's line.
func NewFlowLine(link uint16, from record.End) FlowLine {
	return FlowLine{record.Record{Kind: record.Flow, Link: link, Seen: record.Tap, From: from, Origin: record.FromLevels}}
}

// Feed tells of the next window.
func (f *FlowLine) Feed(w *wire.Window, out record.Sink) {
	high := w.High
	for _, t := range w.Toggles {
		high = !high
		f.rec.Start, f.rec.End, f.rec.Text = t, t, ready
		if high {
			f.rec.Text = notReady
		}
		out.Put(&f.rec)
	}
}

// Ready says what a record of a flow line says.
func Ready(r *record.Record) bool { return r.Kind == record.Flow && r.Text == ready }

// CompareFlow says what becomes of two ends whose flow control is not the same.
func CompareFlow(a, b Settings, nameA, nameB string) []bus.Difference {
	if a.Flow == b.Flow {
		return nil
	}
	out := bus.Difference{Code: "flow-differs", What: fmt.Sprintf("flow control: %s %s, %s %s", nameA, a.Flow, nameB, b.Flow)}
	for _, x := range []struct {
		mine, other  Settings
		name, toward string
	}{{a, b, nameA, nameB}, {b, a, nameB, nameA}} {
		switch x.mine.Flow {
		case Hardware:
			out.Effects = append(out.Effects, fmt.Sprintf("%s waits for the ready line of %s, which nobody drives: it sends nothing", x.name, x.toward))
		case Software:
			out.Effects = append(out.Effects, fmt.Sprintf("the XOFF and XON of %s (13, 11) are data to %s, which does not stop; a 13 in the data of %s stops %s until an 11 comes", x.name, x.toward, x.toward, x.name))
		case NoFlow:
			out.Effects = append(out.Effects, fmt.Sprintf("%s never says stop: what it is sent while it is full is lost", x.name))
		}
	}
	return []bus.Difference{out}
}
