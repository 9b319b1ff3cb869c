package transfer

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/machine"
)

// Phrase is a piece of a plan's sentence: words, or what stands in a slot.
type Phrase struct {
	Text string
	Slot string // its key; "" of words between
}

// Phrases say the plan in one sentence, whose slots can be changed.
func (p *Plan) Phrases() []Phrase {
	var out []Phrase
	say := func(text string) { out = append(out, Phrase{Text: text}) }
	fill := func(key, text string) { out = append(out, Phrase{text, key}) }
	unit := "the data register"
	stays := func(moves bool) string {
		if moves {
			return " (moves on)"
		}
		return " (stays)"
	}
	fill("method", map[Means]string{Polled: "polled", Interrupt: "by interrupt", DMA: "by DMA"}[p.Means])
	say(":")
	memory := map[Goal]string{Fixed: "a buffer of ", Unending: "a ring of ", Messages: "a ring of ", Repeat: "a buffer of "}[p.Goal]
	if p.Means == DMA {
		say("at each")
		fill("request", "request of "+p.Request)
		say("channel")
		fill("channel", fmt.Sprint(p.Channel))
		say("takes")
		fill("unit-width", fmt.Sprintf("%d bits", p.UnitWidth))
		from, to := func() { fill("unit-step", unit+stays(p.UnitSteps)) }, func() {
			fill("length", fmt.Sprintf("%s%d bytes", memory, p.Length))
			fill("memory-step", strings.TrimSpace(stays(p.MemorySteps)))
			if p.MemoryWidth != p.UnitWidth {
				say("as")
				fill("memory-width", fmt.Sprintf("%d bits", p.MemoryWidth))
			}
		}
		if !p.FromUnit {
			from, to = to, from
		}
		say("from")
		from()
		say("to")
		to()
		say(",")
		fill("count", fmt.Sprintf("%d elements", p.Count))
		fill("mode", map[machine.Mode]string{machine.OneShot: "once", machine.Circular: "again and again", machine.Double: "in two buffers by turns", machine.Chained: "then the next stretch"}[p.Mode])
	} else {
		if p.Means == Polled {
			say("every")
			fill("every", p.Every.Round(3))
			say("the main loop")
		} else {
			fill("level", fmt.Sprintf("at %d waiting", p.Level))
			say("the handler")
		}
		fill("direction", map[bool]string{true: "takes a word from " + unit + " to", false: "puts a word into " + unit + " from"}[p.Receive])
		fill("length", fmt.Sprintf("%s%d bytes", memory, p.Length))
	}
	say("in")
	fill("memory", p.Memory)
	var told []string
	if p.TellHalf && p.Means == DMA {
		told = append(told, "half")
	}
	if p.TellFull && p.Means == DMA {
		told = append(told, "full")
	}
	if p.IdleInterrupt {
		told = append(told, "idle")
	}
	say(";")
	switch {
	case p.Tells == ByWaiting:
		fill("tells", "the caller waits")
	case p.Tells == ByNothing:
		fill("tells", "nobody is told")
	default:
		say("tell at")
		if p.Means == DMA {
			key := "tell-full"
			if p.TellHalf || p.Goal.Rings() {
				key = "tell-half"
			}
			if told == nil {
				told = []string{"nothing"}
			}
			fill(key, strings.Join(told, ", "))
		} else {
			fill("idle-interrupt", strings.Join(append([]string{"each word"}, told...), ", "))
		}
		say("on level")
		fill("urgency", fmt.Sprint(p.Urgency))
	}
	if p.Goal == Fixed {
		say(", give up after")
		fill("time-out", map[bool]string{true: "no time", false: p.Timeout.Round(3)}[p.Timeout == 0])
	}
	if p.Release != NothingToRelease {
		say(", release at")
		fill("release", p.Release.String())
	}
	return out
}

// Sentence is the plan in words.
func (p *Plan) Sentence() string {
	var b strings.Builder
	b.WriteString(p.Name)
	b.WriteString(", ")
	for i, x := range p.Phrases() {
		if i > 0 && !strings.HasPrefix(x.Text, ",") && x.Text != ";" && x.Text != ":" {
			b.WriteByte(' ')
		}
		b.WriteString(x.Text)
	}
	return b.String()
}
