package bench

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// mostAfter bounds how far back the state of a part is looked for.
const mostAfter = 300

// After says what the part that a record is with does just behind it: what its bits switch
// and where it stands, as far as earlier records tell and the record itself does not.
func (m *Meanings) After(link string, r *record.Record, all []*operation.Meaning) []string {
	all = slices.DeleteFunc(slices.Clone(all), func(x *operation.Meaning) bool { return x.Laid != nil })
	if m == nil || m.reader == nil || len(all) == 0 {
		return nil
	}
	part := all[0].Part
	known := map[*device.Register]uint64{}
	at := map[*device.Register]*record.Record{}
	for _, x := range all {
		for reg := range x.Contents {
			at[reg] = r
		}
	}
	var open []*device.Value
	for _, v := range part.Map.Values {
		if (v.Switches != "" || v.Bar) && at[v.Pieces[0].Register] == nil {
			open = append(open, v)
		}
	}
	n := 0
	for i, h := range m.reader.Before(m.reader.IndexAt(r.Start), records.Query{Link: int(r.Link), Kinds: []record.Kind{r.Kind}}) {
		if n++; n > mostAfter || !lacks(open, at) {
			break
		}
		if h.End > r.Start {
			continue
		}
		before := m.reader.At(i)
		for _, x := range m.Of(link, before) {
			if x.Part != part {
				continue
			}
			for reg, c := range x.Contents {
				if at[reg] == nil {
					known[reg], at[reg] = c, before
				}
			}
		}
	}
	var out []string
	for _, v := range open {
		reg := v.Pieces[0].Register
		if at[reg] == nil || lacks([]*device.Value{v}, at) {
			out = append(out, fmt.Sprintf("still  %s: not seen yet", v.Name))
			continue
		}
		d := v.Decode(func(r *device.Register) uint64 { return known[r] })
		out = append(out, fmt.Sprintf("still  %s = %s  %s  as told %s before", v.Name, d.Meaning(), v.Shown(d.Raw), (r.Start-at[reg].End).Round(3)))
	}
	return out
}

// lacks says whether a register of one of the values was not seen.
func lacks(values []*device.Value, at map[*device.Register]*record.Record) bool {
	for _, v := range values {
		for _, p := range v.Pieces {
			if at[p.Register] == nil {
				return true
			}
		}
	}
	return false
}
