package objects

import "slices"

// Transfer is one that was seen.
type Transfer struct {
	Object
	Write bool
	Data  []byte // that was read or written; of one that was ended what came until then
	// Code says why it was ended; 0: it was not. ByClient says who did.
	Code     Code
	ByClient bool
}

// Follower reads along with one client and one server.
type Follower struct {
	now    Transfer
	asked  bool // a transfer is on its way
	open   bool // its segments are
	last   bool // the last segment of a writing was seen
	toggle bool
}

// Take takes a frame; fromClient says who sent it. It gives what the frame begins,
// continues or ends; over says that it is over.
func (w *Follower) Take(fromClient bool, f Frame) (t Transfer, over, known bool) {
	cmd := command(f)
	switch {
	case cmd == abort:
		if !w.asked || object(f) != w.now.Object {
			w.now = Transfer{Object: object(f)}
		}
		w.now.Code, w.now.ByClient = codeOf(f), fromClient
		return w.end()
	case fromClient && (cmd == askRead || cmd == askWrite):
		w.now, w.asked, w.open, w.last, w.toggle = Transfer{Object: object(f), Write: cmd == askWrite}, true, false, false, false
		if cmd == askWrite {
			data, _, segments := carried(f)
			w.now.Data, w.open = slices.Clone(data), segments
		}
		return w.now, false, true
	case !w.asked:
		return Transfer{}, false, false
	case fromClient && cmd == askSegmentOut && w.open && !w.now.Write:
		return w.now, false, true
	case fromClient && cmd == askSegmentIn && w.open && w.now.Write:
		if toggled(f) == w.toggle {
			data, last := part(f)
			w.now.Data, w.last, w.toggle = append(w.now.Data, data...), last, !w.toggle
		}
		return w.now, false, len(w.now.Data) <= most
	case fromClient:
		return Transfer{}, false, false
	case cmd == gave && !w.now.Write && !w.open && object(f) == w.now.Object:
		data, _, segments := carried(f)
		if w.open = segments; segments {
			return w.now, false, true
		}
		w.now.Data = slices.Clone(data)
		return w.end()
	case cmd == gaveSegment && !w.now.Write && w.open:
		if toggled(f) != w.toggle {
			return w.now, false, true // the client will say so
		}
		data, last := part(f)
		w.now.Data, w.toggle = append(w.now.Data, data...), !w.toggle
		if last || len(w.now.Data) > most {
			return w.end()
		}
		return w.now, false, true
	case cmd == took && w.now.Write && object(f) == w.now.Object:
		if w.open {
			return w.now, false, true
		}
		return w.end()
	case cmd == tookSegment && w.now.Write && w.open:
		if w.last {
			return w.end()
		}
		return w.now, false, true
	}
	return Transfer{}, false, false
}

func (w *Follower) end() (Transfer, bool, bool) {
	t := w.now
	w.asked, w.open = false, false
	return t, true, true
}
