package bench

import (
	"gavrix/core/operation"
	"gavrix/core/record"
)

// Meanings says what transactions are, by the device files of a bench. A nil one knows
// nothing.
type Meanings struct{ parts map[string][]*operation.Part }

// Meanings gives what the device files of the bench say of transactions.
func (b *Bench) Meanings() *Meanings {
	if b == nil {
		return nil
	}
	m := &Meanings{map[string][]*operation.Part{}}
	for _, l := range b.Links {
		m.parts[l.Name] = l.Parts()
	}
	return m
}

// Of gives what a record of the link with a name means; false where it is none of the
// operations that a device file describes.
func (m *Meanings) Of(link string, r *record.Record) (*operation.Meaning, bool) {
	if m == nil || r.Kind != record.Transaction {
		return nil, false
	}
	return operation.Of(m.parts[link], r)
}

// Text gives what a record means as a sentence; "" where that is not known.
func (m *Meanings) Text(link string, r *record.Record) string {
	if x, known := m.Of(link, r); known {
		return x.Sentence()
	}
	return ""
}

// Sentence gives a record in the words of its bus, with its meaning in front where it
// has one, and says when they are what the MCU read in place of what was on the wire.
func (m *Meanings) Sentence(link, bus string, r *record.Record) string {
	if text := m.Text(link, r); text != "" {
		bus = text + "   " + bus
	}
	if r.Kind == record.Transaction {
		return Otherwise(bus, r.Seen)
	}
	return bus
}

// Otherwise marks the words of what the MCU's unit read in place of what was on the wire.
func Otherwise(words string, seen record.End) string {
	if seen == record.MCU {
		return "the MCU reads: " + words
	}
	return words
}
