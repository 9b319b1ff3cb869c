package sending

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/uart"
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

// lineTimes give how long an intent is on the line of a link, for the kinds that ports have.
var lineTimes = map[string]func(l *bench.Link, i link.Intent) quantity.Time{
	"uart": func(l *bench.Link, i link.Intent) quantity.Time {
		send, _ := i.(link.Send)
		return uart.Duration(l.Model.(*bench.UART).MCU, len(send.Data))
	},
}

// lineTime is how long an item is on its link's line; 0 where nobody knows.
func lineTime(b *bench.Bench, it *Item) quantity.Time {
	if b == nil || int(it.Link) >= len(b.Links) {
		return 0
	}
	l := b.Links[it.Link]
	if f := lineTimes[l.Kind.Name]; f != nil {
		return f(l, it.Intent)
	}
	return 0
}

// mostRest is the longest pause within a run of characters that is sent as if there were none, in
// characters: shorter ones are the sender's stop bits.
const mostRest = 0.5

// parted cuts what is sent for a run of characters where its sender paused.
func parted(r *record.Record, it Item) []Item {
	send, is := it.Intent.(link.Send)
	if !is || len(r.Offsets) != len(send.Data) || r.Each <= 0 {
		return []Item{it}
	}
	var out []Item
	from := 0
	for i := 1; i <= len(send.Data); i++ {
		if i < len(send.Data) && r.Offsets[i]-r.Offsets[i-1]-r.Each <= quantity.Time(mostRest*float64(r.Each)) {
			continue
		}
		out = append(out, Item{
			After: it.After + r.Offsets[from], Lasts: r.Offsets[i-1] + r.Each - r.Offsets[from], Link: it.Link,
			Intent: link.Send{Data: send.Data[from:i]}, Text: it.Text,
		})
		from = i
	}
	return out
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
		if x == nil {
			continue
		}
		it := Item{After: r.Start, Link: uint16(at), Intent: x, Text: l.Name + " at " + r.Start.String(), Lasts: r.End - r.Start}
		var changed link.Intent
		if change != nil {
			var err error
			if changed, err = change.Intent(l.Name, r); err != nil {
				return nil, err
			}
		}
		if changed != nil {
			it.Intent = changed
			out = append(out, it)
			continue
		}
		out = append(out, parted(r, it)...)
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
