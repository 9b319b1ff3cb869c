package picture

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/transfer"
)

// Transfer draws what became of a plan's words from one time to another: the line, the
// unit's queue, the engine's requests and elements, the handler with its latency, the
// processor, and how full the buffer is. Columns is how many moments side by side can be
// told apart.
func Transfer(r *transfer.Run, from, to quantity.Time, columns int) *scene.Scene {
	p := r.Plan
	s := &scene.Scene{Title: "transfer " + p.Name, From: from, To: to}
	line := scene.Lane{Name: "line", Detail: map[bool]string{true: "words that come", false: "words that go"}[p.Receive]}
	queue := scene.Lane{Name: "unit", Detail: fmt.Sprintf("waiting, of %d", max(p.Stream.Depth, 1))}
	requests := scene.Lane{Name: "request", Detail: "to the engine"}
	beats := scene.Lane{Name: "DMA", Detail: fmt.Sprintf("channel %d", p.Channel)}
	handler := scene.Lane{Name: "handler", Detail: fmt.Sprintf("level %d", p.Urgency)}
	cpu := scene.Lane{Name: "processor", Detail: "busy"}
	ring := scene.Lane{Name: "position", Detail: "written next"}
	events := scene.Lane{Name: "events"}
	word := p.Stream.Word()
	least := (to - from) / quantity.Time(max(columns, 1))
	level, since := 0, from
	place, placed := 0, from
	fill := func(lane *scene.Lane, a, b quantity.Time, label string, tone scene.Tone) {
		a, b = max(a, from), min(b, to)
		if b <= a {
			return
		}
		if n := len(lane.Cells); n > 0 && lane.Cells[n-1].To >= a-least && lane.Cells[n-1].Label == label && lane.Cells[n-1].Tone == tone {
			lane.Cells[n-1].To = b
			return
		}
		lane.Cells = append(lane.Cells, scene.Cell{From: a, To: b, Label: label, Tone: tone})
	}
	mark := func(lane *scene.Lane, at quantity.Time, label string, tone scene.Tone) {
		if at < from || at >= to {
			return
		}
		if n := len(lane.Marks); n > 0 && at-lane.Marks[n-1].At < least && lane.Marks[n-1].Tone == tone && lane.Marks[n-1].Label == label {
			return
		}
		lane.Marks = append(lane.Marks, scene.Mark{At: at, Label: label, Tone: tone})
	}
	event := func(at quantity.Time, label string, tone scene.Tone) {
		if at < from || at >= to {
			return
		}
		if n := len(events.Ticks); n > 0 && at-events.Ticks[n-1].At < least {
			events.Ticks[n-1].Label += " " + label
			return
		}
		events.Ticks = append(events.Ticks, scene.Mark{At: at, Label: label, Tone: tone})
	}
	leveled := func(at quantity.Time, n int) {
		if level > 0 {
			tone := scene.Plain
			if level >= max(p.Stream.Depth, 1) {
				tone = scene.Doubt
			}
			fill(&queue, since, at, fmt.Sprint(level), tone)
		}
		level, since = n, at
	}
	for _, k := range r.Machine.Log.Marks() {
		if k.To < from-word && k.Kind != machine.Beat {
			if k.Kind == machine.Arrived || k.Kind == machine.Taken {
				level = k.N
			}
			continue
		}
		if k.At > to {
			break
		}
		switch k.Kind {
		case machine.Arrived:
			fill(&line, k.At-word, k.At, fmt.Sprintf("#%d", k.Serial), scene.Plain)
			leveled(k.At, k.N)
		case machine.Shifting:
			fill(&line, k.At, k.To, fmt.Sprintf("#%d", k.Serial), scene.Plain)
		case machine.Taken:
			leveled(k.At, k.N)
		case machine.Lost:
			mark(&queue, k.At, fmt.Sprintf("#%d lost", k.Serial), scene.Differ)
			event(k.At, "lost", scene.Differ)
		case machine.Requested:
			mark(&requests, k.At, "", scene.Plain)
		case machine.Beat:
			mark(&beats, k.At, "", scene.Plain)
			if p.Goal.Rings() {
				if k.At > placed {
					fill(&ring, placed, k.At, fmt.Sprint(place), scene.Quiet)
				}
				place, placed = (p.Count-k.N)%max(p.Count, 1), k.At
			}
		case machine.Half:
			if p.TellHalf {
				event(k.At, "half", scene.Plain)
			}
		case machine.Full:
			if p.TellFull {
				event(k.At, "full", scene.Plain)
			}
		case machine.Quiet:
			event(k.At, "idle", scene.Plain)
		case machine.Sent:
			event(k.At, "last bit sent", scene.Plain)
		case machine.Failed:
			event(k.At, "bus error", scene.Differ)
		case machine.Hung:
			mark(&handler, k.At, "hangs", scene.Differ)
		case machine.Raised:
			mark(&handler, k.At, "flag", scene.Quiet)
		case machine.Handled:
			fill(&handler, k.At, k.To, "handler", scene.Plain)
			fill(&cpu, k.At, k.To, "", scene.Plain)
		case machine.Looked:
			fill(&cpu, k.At, k.To, "", scene.Plain)
		case machine.Masked:
			fill(&handler, k.At, k.To, "held off", scene.Doubt)
		}
	}
	leveled(min(to, r.Machine.Now()), 0)
	if p.Goal.Rings() && p.Means == transfer.DMA {
		fill(&ring, placed, min(to, r.Machine.Now()), fmt.Sprint(place), scene.Quiet)
	}
	s.Lanes = append(s.Lanes, line)
	if p.Receive {
		s.Lanes = append(s.Lanes, queue)
	}
	if p.Means == transfer.DMA {
		s.Lanes = append(s.Lanes, requests, beats)
	}
	if p.Path() != nil {
		s.Lanes = append(s.Lanes, handler)
	}
	s.Lanes = append(s.Lanes, cpu)
	if p.Goal.Rings() && p.Means == transfer.DMA {
		s.Lanes = append(s.Lanes, ring)
	}
	s.Lanes = append(s.Lanes, events, scene.Lane{Name: "time", Ticks: ticks(from, to, min(columns, mostTickColumns))})
	s.Notes = append(s.Notes, wrapped(p.Sentence(), 96)...)
	return s
}

// wrapped breaks a sentence between words into lines of a width.
func wrapped(text string, width int) []string {
	var out []string
	line := ""
	for _, w := range strings.Fields(text) {
		if line != "" && len(line)+1+len(w) > width {
			out, line = append(out, line), ""
		}
		if line != "" {
			line += " "
		}
		line += w
	}
	return append(out, line)
}
