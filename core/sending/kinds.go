package sending

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/setpoint"
	"gavrix.org/gavrix/core/values"
)

// again gives what sends a record of a kind of bus once more, as the MCU would; nil where it is
// nothing that the MCU sends.
var again = map[string]func(r *record.Record) link.Intent{
	"uart": func(r *record.Record) link.Intent {
		if r.Kind != record.Chars || r.Wide || r.From != record.MCU {
			return nil
		}
		return link.Send{Data: slices.Clone(r.Data)}
	},
	"can": func(r *record.Record) link.Intent {
		if r.Kind != record.Frame || r.Attr&record.Incomplete != 0 || r.AllFlags() != 0 {
			return nil
		}
		form := "%03X"
		if r.Attr&record.Extended != 0 {
			form = "%08X"
		}
		words := []string{fmt.Sprintf(form, r.ID)}
		switch {
		case r.Attr&record.Switched != 0:
			words = append(words, "switch")
		case r.Attr&record.FD != 0:
			words = append(words, "fd")
		case r.Attr&record.Remote != 0:
			words = append(words, fmt.Sprintf("remote %d", r.Bits))
		}
		return link.Transact{Text: strings.TrimSpace(strings.Join(words, " ") + " " + hexWords(r.Data))}
	},
	"spi": func(r *record.Record) link.Intent {
		if r.Kind != record.Transaction || r.From < record.Device || len(r.Data) == 0 || r.AllFlags()&(record.Short|record.CutOff) != 0 {
			return nil
		}
		words := []string{fmt.Sprintf("select %d out", r.From-record.Device+1)}
		for _, w := range r.Words(r.Data) {
			words = append(words, fmt.Sprintf("%0*X", (int(r.Bits)+3)/4, w))
		}
		return link.Transact{Text: strings.Join(words, " ")}
	},
	"i2c": func(r *record.Record) link.Intent {
		if r.Kind != record.Transaction || r.Attr&record.Stopped == 0 || r.AllFlags()&(record.CutOff|record.StopInByte|record.Stuck) != 0 {
			return nil
		}
		var words []string
		for k, x := range i2c.Parts(r) {
			start := "start"
			if k > 0 {
				start = "restart"
			}
			if x.Address == i2c.NoAddress {
				return nil
			}
			words = append(words, start)
			address := i2c.Address(x.Address)
			if x.Ten {
				address |= i2c.TenBit
			}
			for _, b := range address.Wire(x.Read) {
				words = append(words, fmt.Sprintf("%02X ack", b))
			}
			for i, b := range x.Data {
				switch {
				case !x.Read:
					words = append(words, fmt.Sprintf("%02X ack", b))
				case i+1 < len(x.Data):
					words = append(words, ".. ack")
				default:
					words = append(words, ".. nack")
				}
			}
		}
		return link.Transact{Text: strings.Join(append(words, "stop"), " ")}
	},
	"pulse": func(r *record.Record) link.Intent {
		if r.Kind != record.Transaction || len(r.Data) == 0 || r.AllFlags() != 0 {
			return nil
		}
		var words []string
		for _, w := range r.Words(r.Data) {
			words = append(words, fmt.Sprintf("%0*X", (int(r.Bits)+3)/4, w))
		}
		return link.Transact{Text: strings.Join(words, " ")}
	},
}

func hexWords(data []byte) string {
	if len(data) == 0 {
		return ""
	}
	return fmt.Sprintf("% X", data)
}

// OfCapture gives what the MCU sent in a stretch of a capture, on the links that a session has by
// the same name, with the times that lay between. Of CAN frames, whose sender levels do not tell,
// all count where all is wanted, else those of the MCU. Change, which may be nil, gives what is
// sent in place of a record.
func OfCapture(s *capture.Snapshot, to *capture.Meta, wants func(r *record.Record) bool, from, until quantity.Time, all bool, change *setpoint.Change) ([]Item, error) {
	var out []Item
	meta := s.Meta()
	for i := s.First(); i < s.Len(); i++ {
		h := s.Head(i)
		if h.Start < from || h.Start >= until || int(h.Link) >= len(meta.Links) || !h.Traffic() {
			continue
		}
		r := s.At(i)
		l := &meta.Links[r.Link]
		at := slices.IndexFunc(to.Links, func(x capture.Link) bool { return x.Name == l.Name && x.Kind == l.Kind })
		make := again[l.Kind]
		if at < 0 || make == nil || !values.Once(l, r) || !wants(r) || r.Kind == record.Frame && !all && r.From != record.MCU {
			continue
		}
		x := make(r)
		if x != nil && change != nil {
			changed, err := change.Intent(l.Name, r)
			if err != nil {
				return nil, err
			}
			if changed != nil {
				x = changed
			}
		}
		if x != nil {
			out = append(out, Item{After: r.Start, Link: uint16(at), Intent: x, Text: l.Name + " at " + r.Start.String()})
		}
	}
	slices.SortStableFunc(out, func(a, b Item) int {
		switch {
		case a.After < b.After:
			return -1
		case a.After > b.After:
			return 1
		}
		return 0
	})
	if len(out) > 0 {
		first := out[0].After
		for i := range out {
			out[i].After -= first
		}
	}
	return out, nil
}
