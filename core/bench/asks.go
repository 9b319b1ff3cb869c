package bench

import (
	"gavrix/core/doc"
	"gavrix/core/operation"
	"gavrix/core/quantity"
)

// BusAsk is something that the firmware does with a device again and again.
type BusAsk struct {
	Every quantity.Time
	// Texts are its transactions, in the words of the bus.
	Texts []string
}

func asksKey() doc.Key {
	return doc.Key{Name: "asks", Doc: "what the firmware does again and again, by name", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "do", Doc: "an operation, as read leaf-tilt.tilt or raw and the words of a transaction", Type: doc.AnyText, Required: true},
		doc.Key{Name: "every", Doc: "time from one to the next", Type: doc.TimeType, Required: true},
	))}
}

// Parts are the devices of the link as operations reach them.
func (l *Link) Parts() []*operation.Part {
	var out []*operation.Part
	for i, e := range l.Ends[min(1, len(l.Ends)):] {
		if e.Part != nil {
			out = append(out, &operation.Part{Name: e.Name, Index: i, Device: e.Part})
		}
	}
	return out
}

// asks reads what the firmware does by itself, at the MCU's end; valid says what is
// wrong with a transaction in the words of the bus.
func (x *binder) asks(l *Link, m *doc.Node, valid func(text string) error) []BusAsk {
	var out []BusAsk
	for _, a := range m.Get("asks").All() {
		ask := BusAsk{Every: doc.Of[quantity.Time](a, "every")}
		if ask.Every < quantity.Millisecond {
			x.fault("ask-too-fast", a.Get("every").Place(), "write at least 1 ms", "asking every %s", ask.Every)
		}
		texts, err := askTexts(a.Text("do"), l, valid)
		if err != nil {
			// A device whose file has a fault is not there; that is said already.
			if len(l.Devices()) == len(l.node.Get("devices").All()) {
				x.fault("bad-ask", a.Get("do").Place(), "write an operation, as read PART.VALUE", "%s: %v", a.Key, err)
			}
			continue
		}
		ask.Texts = texts
		out = append(out, ask)
	}
	return out
}

// askTexts gives the transactions of an operation that needs no answer to go on.
func askTexts(text string, l *Link, valid func(string) error) ([]string, error) {
	op, err := operation.Parse(text, l.Parts())
	if err != nil {
		return nil, err
	}
	if op.Verb == operation.Raw {
		return []string{op.Text}, valid(op.Text)
	}
	steps, err := op.Fixed()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, s := range steps {
		out = append(out, s.Texts...)
	}
	return out, nil
}
