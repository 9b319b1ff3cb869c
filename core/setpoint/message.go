package setpoint

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/layout"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/values"
)

// Message reads a message by its name with its values, as `pump-command wanted = 120 bar, mode =
// raise`, and gives what sends it once. The name is that of a layout of what the MCU sends, with
// its part and a dot before it where several parts have one; blanks are dashes. Of a text all
// values are to be named; else those that are not are as in the message that the firmware sends
// by itself, or 0.
func Message(l *bench.Link, text string) (link.Intent, error) {
	name, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	part, lay, err := named(l, name)
	if err != nil {
		return nil, err
	}
	given := map[string]string{}
	for _, x := range strings.Split(rest, ",") {
		if x = strings.TrimSpace(x); x == "" {
			continue
		}
		field, value, has := strings.Cut(x, "=")
		field = values.Dashed(field)
		i := slices.IndexFunc(lay.Fields, func(f *layout.Field) bool { return strings.EqualFold(values.Dashed(f.Name), field) })
		if !has || i < 0 {
			var known []string
			for _, f := range lay.Fields {
				known = append(known, values.Dashed(f.Name))
			}
			return nil, fmt.Errorf("%q is no value of %s: write NAME = QUANTITY; it has %s", x, name, strings.Join(known, ", "))
		}
		field = lay.Fields[i].Name
		if _, twice := given[field]; twice {
			return nil, fmt.Errorf("%s is named twice", field)
		}
		given[field] = strings.TrimSpace(value)
	}
	_, last := sentAgain(l, lay)
	return carry(part, lay, given, last)
}

// Messages lists the messages of a link that can be sent by name.
func Messages(l *bench.Link) []string {
	var out []string
	each(l, func(p *operation.Part, x *device.Layout) { out = append(out, whole(p, x)) })
	return out
}

func each(l *bench.Link, take func(*operation.Part, *device.Layout)) {
	for _, p := range l.Parts() {
		for _, x := range p.Layouts {
			if sends(p, x) {
				take(p, x)
			}
		}
	}
}

func whole(p *operation.Part, x *device.Layout) string { return values.Dashed(p.Name + "." + x.Name) }

// called says whether a message is meant by a name.
func called(p *operation.Part, x *device.Layout, name string) bool {
	return strings.EqualFold(whole(p, x), name) || strings.EqualFold(values.Dashed(x.Name), name)
}

func named(l *bench.Link, name string) (part *operation.Part, lay *device.Layout, err error) {
	var all []string
	each(l, func(p *operation.Part, x *device.Layout) {
		if called(p, x, name) {
			part, lay = p, x
			all = append(all, whole(p, x))
		}
	})
	received := slices.ContainsFunc(l.Parts(), func(p *operation.Part) bool {
		return slices.ContainsFunc(p.Layouts, func(x *device.Layout) bool { return called(p, x, name) })
	})
	switch known := Messages(l); {
	case len(all) == 1:
		return part, lay, nil
	case len(all) > 1:
		return nil, nil, fmt.Errorf("several parts have a message %s: write one of %s", name, strings.Join(all, ", "))
	case known == nil:
		return nil, nil, fmt.Errorf("no device file of %s describes a message that the MCU sends", l.Name)
	case received:
		return nil, nil, fmt.Errorf("the part sends %s; the MCU can send %s", name, strings.Join(known, ", "))
	default:
		return nil, nil, fmt.Errorf("%s has no message %q that the MCU sends; it has %s", l.Name, name, strings.Join(known, ", "))
	}
}
