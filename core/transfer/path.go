package transfer

import (
	"fmt"
	"maps"
	"slices"
)

// PathStep is one link of the way of an event.
type PathStep struct {
	Name string
	On   bool
	Slot string // that switches it
}

// Path is the way from a flag to its handler and back, as a plan has it.
func (p *Plan) Path() []PathStep {
	if p.Tells != ByInterrupt && p.Means != Interrupt {
		return nil
	}
	enabled, slot := p.WordInterrupt, "word-interrupt"
	if p.Means == DMA {
		enabled, slot = p.TellFull || p.TellHalf, "tell-full"
		if p.Goal.Rings() {
			slot = "tell-half"
			enabled = p.TellFull && p.TellHalf
		}
	}
	out := []PathStep{{Name: "flag", On: true}, {Name: "unit", On: enabled, Slot: slot}}
	if p.Receive && p.Goal == Messages {
		out = append(out, PathStep{Name: "idle", On: p.IdleInterrupt, Slot: "idle-interrupt"})
	}
	return append(out,
		PathStep{Name: "controller", On: p.LineOn, Slot: "line"},
		PathStep{Name: "processor", On: p.Global, Slot: "interrupts"},
		PathStep{Name: "handler", On: p.Handler, Slot: "handler"},
		PathStep{Name: "clear", On: p.Clears, Slot: "handler-clears"})
}

// Broken gives the first link of the path that is off; nil where all are on.
func (p *Plan) Broken() *PathStep {
	for _, s := range p.Path() {
		if !s.On {
			return &s
		}
	}
	return nil
}

// Owner is who has a channel, a request line, or a level of the controller.
type Owner struct {
	What   string // channel 3, request serial1.receive, level 2
	Owners []string
	Free   bool
}

// Owners says who has what of the part: channels with the requests that they can carry,
// then request lines, then levels.
func (s *Setup) Owners() (channels, requests, levels []Owner) {
	add := func(list *[]Owner, what string, has func(*Plan) bool) {
		o := Owner{What: what}
		for _, p := range s.Plans {
			if has(p) {
				o.Owners = append(o.Owners, p.Name)
			}
		}
		o.Free = len(o.Owners) == 0
		*list = append(*list, o)
	}
	for n := range s.Part.Channels {
		add(&channels, fmt.Sprint(n+1), func(p *Plan) bool { return p.Means == DMA && p.Channel == n+1 })
	}
	for _, line := range s.lines() {
		add(&requests, line, func(p *Plan) bool { return p.Means == DMA && p.Request == line })
	}
	for u := range s.Part.Least + 1 {
		o := Owner{What: fmt.Sprint(u)}
		for _, p := range s.Plans {
			if p.LineOn && p.Urgency == u {
				o.Owners = append(o.Owners, p.Name)
			}
		}
		for _, x := range s.Part.Others {
			if x.Urgency == u {
				o.Owners = append(o.Owners, x.Name)
			}
		}
		o.Free = len(o.Owners) == 0
		levels = append(levels, o)
	}
	return channels, requests, levels
}

// lines are the request lines, in order.
func (s *Setup) lines() []string { return slices.Sorted(maps.Keys(s.Part.Requests)) }
