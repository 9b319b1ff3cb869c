package device

import (
	"slices"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/packet"
	"gavrix.org/gavrix/core/quantity"
)

// packetKeys say how messages stand on a character link.
func packetKeys() []doc.Key {
	order := doc.Key{Name: "order", Doc: "which byte goes first", Type: doc.Enum("low-first", "high-first"), Default: "low-first"}
	return []doc.Key{
		{Name: "packet", Doc: "what frames a message; absent: it is a line that ends as the behaviour's do", Type: doc.Map(
			doc.Key{Name: "begin", Doc: "bytes in front", Type: bytesType},
			doc.Key{Name: "end", Doc: "bytes after", Type: bytesType},
			doc.Key{Name: "most", Doc: "greatest number of content bytes, where there is no length", Type: doc.Int(1, 4096), Default: "256"},
			doc.Key{Name: "length", Doc: "a field after begin that says how many content bytes follow", Type: doc.Map(
				doc.Key{Name: "bytes", Doc: "its size", Type: doc.Int(1, 2), Default: "1"},
				doc.Key{Name: "adds", Doc: "what it counts beyond the content", Type: doc.Int(-4096, 4096), Default: "0"},
				doc.Key{Name: "least", Doc: "the least content", Type: doc.Int(0, 4096), Default: "0"},
				doc.Key{Name: "greatest", Doc: "the greatest content", Type: doc.Int(0, 4096), Default: "255"},
				order,
			)},
			doc.Key{Name: "escape", Doc: "bytes after begin that are sent as two", Type: doc.Map(
				doc.Key{Name: "byte", Doc: "the one that is sent in front", Type: bytesType, Required: true},
				doc.Key{Name: "of", Doc: "those that are hidden, itself among them", Type: bytesType, Required: true},
				doc.Key{Name: "xor", Doc: "what they are then exclusive or", Type: numberType, Required: true},
			)},
			doc.Key{Name: "check", Doc: "a field after the content that tells damage", Type: doc.Map(append(checkSums(),
				doc.Key{Name: "over", Doc: "what is checked: length and content, content, or all", Type: doc.Enum("length", "content", "all"), Default: "length"},
				doc.Key{Name: "mark", Doc: "bytes that stand in front of it and are not checked, in hex or as a text: \"*\"", Type: bytesType},
				doc.Key{Name: "form", Doc: "as bytes, or as hex digits", Type: doc.Enum("bytes", "hex"), Default: "bytes"},
				order,
			)...)},
		)},
		withinKey(), refusalsKey(), textsKey(),
	}
}

// packets binds what frames messages of a part on a character link.
func packets(x *mapper, d *Device, root *doc.Node) {
	talk := &Dialogue{Within: doc.Of[quantity.Time](root, "within"), Lag: quantity.Millisecond}
	x.m.Dialogue = talk
	f := &packet.Format{}
	talk.Packet = f
	n := root.Get("packet")
	if n == nil {
		f.End, f.Most = []byte(doc.Of[string](root.Map("behaviour"), "line-end")), 256
		return
	}
	bytesOf := func(n *doc.Node, key string) []byte {
		if at := n.Get(key); at != nil {
			return doc.As[[]byte](at)
		}
		return nil
	}
	f.Begin, f.End, f.Most = bytesOf(n, "begin"), bytesOf(n, "end"), doc.Of[int](n, "most")
	if l := n.Get("length"); l != nil {
		f.Length = &packet.Length{Bytes: doc.Of[int](l, "bytes"), LowFirst: doc.Of[string](l, "order") == "low-first", Adds: doc.Of[int](l, "adds"), Least: doc.Of[int](l, "least"), Most: doc.Of[int](l, "greatest")}
		if m := n.Get("most"); m != nil {
			x.fault("bad-packet", m, "write `greatest` below length", "the length says how much content there is: most has no effect")
		}
	}
	if e := n.Get("escape"); e != nil {
		one := bytesOf(e, "byte")
		xor := doc.Of[uint64](e, "xor")
		if len(one) != 1 || xor > 255 {
			x.fault("bad-packet", e, "write one byte in hex", "an escape is one byte, and what it is exclusive or another")
			return
		}
		f.Escape = &packet.Escape{Byte: one[0], Of: bytesOf(e, "of"), Xor: byte(xor)}
	}
	if c := n.Get("check"); c != nil {
		f.Check = checkOf(x, c)
		f.Check.LowFirst, f.Check.Hex = doc.Of[string](c, "order") == "low-first", doc.Of[string](c, "form") == "hex"
		f.Check.Mark = bytesOf(c, "mark")
		f.Check.Over = packet.Over(slices.Index([]string{"length", "content", "all"}, doc.Of[string](c, "over")))
	}
	if err := f.Valid(); err != nil {
		x.fault("bad-packet", n, "correct the packet", "%v", err)
	}
}
