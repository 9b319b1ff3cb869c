package startup

import (
	"slices"
	"strings"

	"gavrix.org/gavrix/core/register"
)

// State is what became of a step.
type State uint8

// The states of a step.
const (
	Done       State = iota
	AtReset          // need not be done: reset does it
	Missing          // is not done
	OutOfOrder       // is done where it has no effect, or undoes one
	Waits            // has no effect as long as another step is missing
	NotSeen          // the dump does not show it
)

func (s State) String() string {
	return [...]string{"done", "as after reset", "missing", "out of order", "waits", "not seen"}[s]
}

// Verdict is the state of one step.
type Verdict struct {
	*Step
	State State
	// On is the step that it waits for, or comes on the wrong side of.
	On  string
	How string // of a misplaced one, as `comes after unit on`
	Why string
}

// Broken says whether the step itself must be mended.
func (v Verdict) Broken() bool { return v.State == Missing || v.State == OutOfOrder }

// Judge says what becomes of each step where the firmware does the steps named,
// in that order, from reset on. A step may be done several times; it counts if
// it has its effect once.
func (c Chain) Judge(done []string) []Verdict {
	effective := map[string]bool{}
	for _, s := range c.Steps {
		effective[s.Name] = s.AtReset
	}
	for _, name := range done {
		s := c.Step(name)
		if s == nil {
			continue
		}
		if !c.blocked(s, effective) {
			effective[name] = true
		}
	}
	out := make([]Verdict, len(c.Steps))
	for i, s := range c.Steps {
		v := &out[i]
		v.Step = s
		switch {
		case s.AtReset && !slices.Contains(done, s.Name):
			v.State = AtReset
		case effective[s.Name]:
			v.State = Done
		case !slices.Contains(done, s.Name):
			v.State, v.Why = Missing, s.Lack
		default:
			c.misplaced(v, done, effective)
		}
	}
	c.blame(out)
	return out
}

// blame finds the step whose place is wrong where several others stand on the
// wrong side of it: these need not be moved.
func (c Chain) blame(out []Verdict) {
	wrong := map[string][]*Verdict{}
	for i := range out {
		if v := &out[i]; v.State == OutOfOrder && v.On != "" {
			wrong[v.On] = append(wrong[v.On], v)
		}
	}
	for i := range out {
		x := &out[i]
		vs := wrong[x.Name]
		if len(vs) < 2 || x.State != Done {
			continue
		}
		var titles []string
		late := slices.Contains(vs[0].after, x.Name)
		for _, v := range vs {
			v.State = Waits
			v.Why = "has no effect where " + x.Title + " stands"
			titles = append(titles, v.Title)
		}
		x.State, x.On = OutOfOrder, vs[0].Name
		x.How, x.Why = "comes too late", "no effect before it: "+strings.Join(titles, ", ")
		if !late {
			x.How, x.Why = "comes too early", "no effect after it: "+strings.Join(titles, ", ")
		}
	}
}

// blocked says whether a step has no effect where these are done.
func (c Chain) blocked(s *Step, effective map[string]bool) bool {
	for _, d := range s.after {
		if !effective[d] {
			return true
		}
	}
	for _, group := range s.notAfter {
		if !slices.ContainsFunc(group, func(d string) bool { return !effective[d] }) {
			return true
		}
	}
	return false
}

// misplaced says why a step that is done has no effect.
func (c Chain) misplaced(v *Verdict, done []string, effective map[string]bool) {
	for _, d := range v.after {
		if effective[d] {
			continue
		}
		v.State, v.On = Waits, d
		v.Why = "has no effect without " + c.Step(d).Title
		return
	}
	// All that it needs is done some time, so its place is wrong.
	v.State = OutOfOrder
	at := slices.Index(done, v.Name)
	for _, d := range v.after {
		if slices.Index(done, d) > at {
			v.On = d
			v.How, v.Why = "comes before "+c.Step(d).Title, "so it has no effect: "+v.Lack
			return
		}
	}
	for _, group := range v.notAfter {
		last := 0
		for _, d := range group {
			last = max(last, slices.Index(done, d))
		}
		if last < at {
			d := done[last]
			v.On = d
			v.How, v.Why = "comes after "+c.Step(d).Title, "so it has no effect: "+v.Lack
			return
		}
	}
	v.How, v.Why = "stands in the wrong place", "so it has no effect: "+v.Lack
}

// FromDump judges the chain from values of registers that were seen. Where a
// register was seen more than once, the last value counts. In which order steps
// were done can't be seen.
func (c Chain) FromDump(seen []register.Seen) []Verdict {
	values := map[uint64]uint64{}
	for _, s := range seen {
		values[s.Address] = s.Value
	}
	out := make([]Verdict, len(c.Steps))
	byName := map[string]*Verdict{}
	for i, s := range c.Steps {
		v := &out[i]
		v.Step = s
		byName[s.Name] = v
		v.State = c.seen(s, values)
	}
	for i := range out {
		v := &out[i]
		if v.Passing && !v.AtReset {
			c.passed(v, out)
		}
	}
	for i := range out {
		v := &out[i]
		if v.State != Missing {
			continue
		}
		v.Why = v.Lack
		var unseen []string
		for _, d := range v.after {
			switch byName[d].State {
			case Missing, Waits:
				v.State, v.On = Waits, d
				v.Why = "has no effect without " + c.Step(d).Title
			case NotSeen:
				unseen = append(unseen, c.Step(d).Title)
			}
		}
		if v.State == Missing && len(unseen) > 0 {
			v.Why += "; or it was written without " + strings.Join(unseen, " or ") + ", which was not seen"
		}
	}
	return out
}

// passed judges a step that a dump does not show by what could only be written
// while it held: one of these that is done proves it, several that are all
// missing speak against it.
func (c Chain) passed(v *Verdict, out []Verdict) {
	v.State, v.Why = NotSeen, "passes by: a dump does not show it"
	missing := 0
	for j := range out {
		d := &out[j]
		if !slices.Contains(d.after, v.Name) || d.Name == "join" {
			continue
		}
		switch d.State {
		case Done:
			v.State, v.Why = Done, ""
			return
		case Missing:
			missing++
		}
	}
	if missing > 1 {
		v.State = Missing
	}
}

func (c Chain) seen(s *Step, values map[uint64]uint64) State {
	all := true
	for _, w := range s.Writes {
		v, ok := values[w.Address]
		switch {
		case !ok:
			all = false
		case v&w.Mask != w.Value:
			return Missing
		}
	}
	switch {
	case !all:
		return NotSeen
	case s.AtReset:
		return AtReset
	}
	return Done
}

// First gives the first step that must be mended, or nil.
func First(vs []Verdict) *Verdict {
	for i := range vs {
		if vs[i].Broken() {
			return &vs[i]
		}
	}
	return nil
}

// Reached is whether a stage of a peripheral is reached.
type Reached struct {
	Stage
	Yes  bool
	Seen bool // by all that it needs; else as far as was seen
}

func (r Reached) String() string {
	switch {
	case !r.Yes:
		return r.Stage.String() + ": no"
	case !r.Seen:
		return r.Stage.String() + ": yes, as far as seen"
	}
	return r.Stage.String() + ": yes"
}

// Stages says of each stage that has steps whether it is reached.
func Stages(vs []Verdict) []Reached {
	var out []Reached
	for stage := SetUp; stage <= Started; stage++ {
		r, any := Reached{stage, true, true}, false
		for _, v := range vs {
			if v.Stage != stage {
				continue
			}
			any = true
			r.Yes = r.Yes && (v.State == Done || v.State == AtReset || v.State == NotSeen)
			r.Seen = r.Seen && v.State != NotSeen
		}
		if any {
			out = append(out, r)
		}
	}
	return out
}

// Progress says how far a peripheral is, as `set up: yes, enabled: yes, started: no`.
func Progress(vs []Verdict) string {
	var out []string
	for _, r := range Stages(vs) {
		out = append(out, r.String())
	}
	return strings.Join(out, ", ")
}

// Mended gives the list of steps with one of them put right, a missing one where
// it belongs or a misplaced one moved: the one that leaves least to be mended.
// Where no single step helps it is the usual order as a whole, and moved is "".
// It is nil where nothing must be mended.
func (c Chain) Mended(done []string) (steps []string, moved string) {
	now := c.Judge(done)
	if First(now) == nil {
		return nil, ""
	}
	steps = c.Needed()
	fewest := open(now)
	for _, v := range now {
		if v.State == Done || v.State == AtReset {
			continue
		}
		rest := slices.DeleteFunc(slices.Clone(done), func(d string) bool { return d == v.Name })
		// The usual place comes first, so that it is taken among equals.
		usual := 0
		for i, d := range rest {
			if slices.Index(c.Needed(), d) < slices.Index(c.Needed(), v.Name) {
				usual = i + 1
			}
		}
		for n := range len(rest) + 1 {
			at := (usual + n) % (len(rest) + 1)
			try := slices.Insert(slices.Clone(rest), at, v.Name)
			if left := open(c.Judge(try)); left < fewest {
				fewest, steps, moved = left, try, v.Name
			}
		}
	}
	return steps, moved
}

// open counts the steps that are not as they should be.
func open(vs []Verdict) int {
	n := 0
	for _, v := range vs {
		if v.State != Done && v.State != AtReset {
			n++
		}
	}
	return n
}
