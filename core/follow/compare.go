package follow

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/transfer"
)

// Row is what one method makes of the traffic of a transfer.
type Row struct {
	Means      transfer.Means
	Plan       *transfer.Plan
	Run        *transfer.Run
	Live       *transfer.Live
	Interrupts float64       // a second
	Latency    quantity.Time // from the flag to the handler's first instruction, at worst; of polling between two looks
	Greatest   float64       // bit/s that it carries
	Limit      string        // what limits it
	Cadence    string        // how the words came
	Content    string        // how what reached memory differs from what was on the line
	Refused    string        // why it can't be tried here; "" where it was
}

// Means are all methods.
var Means = []transfer.Means{transfer.Polled, transfer.Interrupt, transfer.DMA}

// Variant gives the transfer's plan with another method: what is wanted stays, what only the
// old method needed is derived anew.
func Variant(l *bench.Link, t *bench.Transfer, m transfer.Means) (*transfer.Setup, *transfer.Plan) {
	old := l.Setup()
	s := &transfer.Setup{Part: old.Part, Order: old.Order, StepTime: old.StepTime}
	var mine *transfer.Plan
	for _, p := range old.Plans {
		c := *p
		if p == t.Plan {
			c.Given, c.Why = map[string]bool{"method": true}, map[string]string{}
			for k := range p.Given {
				if s := transfer.SlotNamed(k); s != nil && (s.Means == nil || slices.Contains(s.Means, m)) {
					c.Given[k] = true
				}
			}
			if m != p.Means {
				for _, k := range []string{"word-interrupt", "tells", "line", "handler", "handler-clears", "urgency", "cache", "re-arms"} {
					delete(c.Given, k)
				}
				c.Memory, c.Address = "", 0
				delete(c.Given, "memory")
				delete(c.Given, "address")
			}
			c.Means = m
			mine = &c
		}
		s.Plans = append(s.Plans, &c)
	}
	s.Complete()
	return s, mine
}

// Compare runs methods on the same traffic of a transfer: all that the snapshot keeps.
func Compare(s *capture.Snapshot, l *bench.Link, t *bench.Transfer, means []transfer.Means) []Row {
	var out []Row
	for _, m := range means {
		setup, plan := Variant(l, t, m)
		row := Row{Means: m, Plan: plan}
		if m == transfer.DMA && plan.Channel == 0 {
			row.Refused = fmt.Sprintf("no channel of the DMA engine that carries %s is free", plan.Request)
			if len(setup.Part.Requests[plan.Request]) == 0 {
				row.Refused = fmt.Sprintf("no channel of the DMA engine carries %s", plan.Request)
			}
			out = append(out, row)
			continue
		}
		f := &Follower{byLink: map[uint16][]*Followed{}, seenBy: map[uint16]record.End{}}
		f.add(l, &bench.Transfer{Name: t.Name, Plan: plan}, setup, s.Meta())
		if len(f.All) == 0 {
			row.Refused = "the capture has no link " + l.Name
			out = append(out, row)
			continue
		}
		for f.Take(s, 1<<20) {
		}
		row.Live = f.All[0].Live
		row.Run = row.Live.Run()
		row.Cadence = f.All[0].Cadence.String()
		row.Content = row.content()
		row.fill(&setup.Part, s.Now)
		out = append(out, row)
	}
	return out
}

func (r *Row) fill(part *transfer.Part, now quantity.Time) {
	if t := now.Seconds(); t > 0 {
		r.Interrupts = float64(max(r.Run.Calls, 0)) / t
	}
	r.Latency = r.Run.Latest
	if r.Means == transfer.Polled && r.Plan.Tells != transfer.ByWaiting {
		r.Latency = r.Plan.Every
	}
	l := r.Plan.Limit(part)
	r.Greatest, r.Limit = l.Rate, l.By
}

// content compares what reached memory with what was on the line, word by word.
func (r *Row) content() string {
	if !r.Plan.Receive {
		if n := r.Live.Refused; n > 0 {
			return fmt.Sprintf("%s not begun: the one before was not over", quantity.Count(n, "transfer"))
		}
		return "equal"
	}
	p := r.Run.Port
	switch {
	case p.Losses > 0 && len(p.LostSerials) > 0:
		return fmt.Sprintf("%s missing, the first is number %d", quantity.Count(p.Losses, "word"), slices.Min(p.LostSerials)+1)
	case r.Run.Ring != nil:
		lost, doubled := r.Run.Ring.Sums()
		if lost+doubled > 0 {
			return fmt.Sprintf("%s overwritten, %d taken twice", quantity.Count(lost, "byte"), doubled)
		}
	}
	return "equal"
}

// LatencyText prints the latency; a method without one says why.
func (r *Row) LatencyText() string {
	switch {
	case r.Latency > 0:
		return r.Latency.Round(3)
	case r.Means == transfer.Polled:
		return "it waits"
	}
	return "not called"
}
