package startup

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/register"
)

// Write is what a step does to a register: the bits in Mask get Value. Of a flag
// that is cleared by writing 1 or by reading, Value is what is read afterwards: 0.
type Write struct {
	*register.Register
	Mask, Value uint64
	Text        string // the fields with their meanings
}

// Clears says whether the write clears flags by writing ones to them.
func (w *Write) Clears() bool {
	for i := range w.Fields {
		if f := &w.Fields[i]; f.Mask()&w.Mask != 0 && f.Access == register.WriteOne {
			return true
		}
	}
	return false
}

// Step is one step of a chain.
type Step struct {
	*Role
	Writes []Write
	// Pending: what the step takes away is there before it, reset or not.
	Pending bool
	// AtReset: the registers hold all this after reset, so that it need not be done.
	AtReset bool

	after    []string   // those of the role that the chain has
	notAfter [][]string // groups that must not be done as a whole
}

// Text says what the step does.
func (s *Step) Text() string {
	var out []string
	for _, w := range s.Writes {
		out = append(out, w.Name+" "+w.Text)
	}
	return strings.Join(out, "; ")
}

// Chain are the steps of a peripheral, in an order that works.
type Chain struct {
	Steps []*Step
	// Locked: rate and frame take no writes while the unit is on.
	Locked bool
	// Latched: the second register of the rate takes effect when the first is
	// written.
	Latched bool
}

// settings are the roles that a locked unit takes only while it is off.
var settings = []string{"rate-fine", "rate", "frame"}

// With puts steps into an empty chain: in the usual order, each knowing which
// others it depends on. Steps without writes are left out.
func (c Chain) With(steps ...*Step) Chain {
	for _, r := range Roles {
		for _, s := range steps {
			if s.Role == r && len(s.Writes) > 0 {
				s.AtReset = !s.Pending
				for _, w := range s.Writes {
					s.AtReset = s.AtReset && w.Reset&w.Mask == w.Value
				}
				c.Steps = append(c.Steps, s)
			}
		}
	}
	if j, config := c.Step("join"), c.Step("configuration"); j != nil && config != nil {
		j.AtReset = config.AtReset // to be left it must be entered
	}
	for _, s := range c.Steps {
		s.after, s.notAfter = nil, nil
		for _, name := range s.Role.After {
			if d := c.Step(name); d != nil {
				s.after = append(s.after, name)
			}
		}
		var groups [][]string
		if s.Name != "rate-fine" || c.Latched {
			groups = append(groups, s.Role.NotAfter)
		}
		if c.Locked && slices.Contains(settings, s.Name) {
			groups = append(groups, []string{"enable"})
		}
		if s.Name != "join" && slices.Contains(s.Role.After, "configuration") {
			groups = append(groups, []string{"join"})
		}
		for _, g := range groups {
			g = slices.DeleteFunc(slices.Clone(g), func(name string) bool {
				d := c.Step(name)
				return d == nil || d.AtReset
			})
			if len(g) > 0 {
				s.notAfter = append(s.notAfter, g)
			}
		}
	}
	return c
}

// Step gives the step with a role's name, or nil.
func (c Chain) Step(name string) *Step {
	for _, s := range c.Steps {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Needed gives the names of the steps that must be done: all but those that
// reset does.
func (c Chain) Needed() []string {
	var out []string
	for _, s := range c.Steps {
		if !s.AtReset {
			out = append(out, s.Name)
		}
	}
	return out
}

// Parse reads a list of steps, separated by commas; the names must be of roles.
func Parse(text string) ([]string, error) {
	var out []string
	for _, f := range strings.Split(text, ",") {
		f = strings.TrimSpace(f)
		if f == "" && strings.TrimSpace(text) == "" {
			return nil, nil
		}
		if RoleNamed(f) == nil {
			var names []string
			for _, r := range Roles {
				names = append(names, r.Name)
			}
			return nil, fmt.Errorf("%q is no step; the steps are %s", f, strings.Join(names, ", "))
		}
		out = append(out, f)
	}
	return out, nil
}
