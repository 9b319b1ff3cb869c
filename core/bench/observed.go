package bench

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/doc"
)

// Observed is a bus that is known from captures only.
type Observed struct {
	Name     string
	Kind     *bus.Kind
	Settings bus.Settings
	Lines    map[string]string // by role, each a name or an expression
}

// observed reads a bus that is known from captures.
func (x *binder) observed(n *doc.Node) *Observed {
	o := &Observed{Name: n.Key, Kind: all.ByName(n.Text("kind")), Lines: map[string]string{}}
	settings := n.Get("settings")
	if settings == nil {
		settings = o.Kind.Schema.Empty()
	}
	if faults := o.Kind.Schema.Validate(settings); len(faults) > 0 {
		for i := range faults {
			if faults[i].Where.Line == 0 {
				faults[i].Where = n.KeyPlace() // there are no settings at all
			}
		}
		x.faults = append(x.faults, faults...)
		return o
	}
	var err error
	if o.Settings, err = o.Kind.Parse(settings); err != nil {
		x.fault("bad-settings", n.KeyPlace(), "correct the settings", "%s: %v", n.Key, err)
	}
	var roles []string
	for _, r := range o.Kind.Lines {
		roles = append(roles, r.Name)
	}
	for _, l := range n.Get("lines").All() {
		if !slices.Contains(roles, l.Key) {
			x.unknownLine(o.Kind, l, roles)
			continue
		}
		o.Lines[l.Key] = l.Scalar
	}
	for _, r := range o.Kind.Lines {
		if o.Lines[r.Name] == "" && !r.Optional {
			x.fault("line-missing", n.Get("lines").Place(), fmt.Sprintf("add `%s:` with the name of the line", r.Name), "%s: no line is the %s", n.Key, r.Name)
		}
	}
	return o
}
