package setpoint

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/values"
)

// Change puts values into messages that were seen, before they are sent again. It is not safe for
// use by several goroutines.
type Change struct {
	of      map[*device.Layout]map[string]string
	layings map[string][]*operation.Laying // by link
	Changed int                            // messages so far
}

// ReadChange reads what is to be changed, as `pump-command.wanted = 50 bar` each, on the links of
// a capture.
func ReadChange(b *bench.Bench, m *capture.Meta, texts []string) (*Change, error) {
	c := &Change{of: map[*device.Layout]map[string]string{}, layings: map[string][]*operation.Laying{}}
	names := values.Of(b, m)
	for _, text := range texts {
		name, to, has := strings.Cut(text, "=")
		if !has {
			return nil, fmt.Errorf("%q changes nothing: write NAME = QUANTITY, as pump-command.wanted = 50 bar", text)
		}
		n, err := names.Find(strings.TrimSpace(name))
		if err != nil {
			return nil, err
		}
		p, err := Of(b, n, m.Links[n.Link].Name)
		if err != nil {
			return nil, err
		}
		if p.layout == nil {
			return nil, fmt.Errorf("%s is held by a register: values of messages can be changed", n)
		}
		to = strings.TrimSpace(to)
		if _, err := p.field.Encode(to); err != nil {
			return nil, fmt.Errorf("%s: %w", n, err)
		}
		if c.of[p.layout] == nil {
			c.of[p.layout] = map[string]string{}
		}
		c.of[p.layout][p.field.Name] = to
	}
	for _, l := range b.Links {
		for _, p := range l.Parts() {
			if x := p.Laying(); x != nil {
				c.layings[l.Name] = append(c.layings[l.Name], x)
			}
		}
	}
	return c, nil
}

// Intent gives what sends the message that a record of a link holds with its values changed; nil
// where there is nothing to change. Records come in order.
func (c *Change) Intent(linkName string, r *record.Record) (link.Intent, error) {
	var found *operation.Laid
	var part *operation.Part
	messages := 0
	for _, x := range c.layings[linkName] {
		for _, m := range x.Take(r) {
			messages++
			if m.Laid.Layout != nil && c.of[m.Laid.Layout] != nil {
				found, part = m.Laid, x.Part()
			}
		}
	}
	switch {
	case found == nil:
		return nil, nil
	case messages > 1:
		return nil, fmt.Errorf("%s at %s holds %d messages in one piece: values can't be changed there", linkName, r.Start, messages)
	}
	given := map[string]string{}
	if operation.Characters(part.Kind.Name) {
		for i := range found.Values {
			v := &found.Values[i]
			if given[v.Field.Name] = fmt.Sprintf("0x%X", v.Raw); found.Layout.Text != nil {
				given[v.Field.Name] = v.Meaning()
			}
		}
	}
	for name, to := range c.of[found.Layout] {
		given[name] = to
	}
	c.Changed++
	return carry(part, found.Layout, given, r)
}
