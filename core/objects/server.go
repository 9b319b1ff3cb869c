package objects

import "slices"

// Dictionary is what a server answers from.
type Dictionary interface {
	// Read gives a content; segments says that it goes in segments however short.
	Read(o Object) (data []byte, segments bool, code Code)
	Write(o Object, data []byte) Code
	// MayWrite says before segments come whether an object with that size can be written.
	MayWrite(o Object, size int) Code
}

// Server answers what clients ask, one transfer at a time.
type Server struct {
	// Unturned: the toggle bit of its segments stays as it was first.
	Unturned bool

	dict    Dictionary
	object  Object
	writing bool
	open    bool
	data    []byte // what is left to give, or came so far
	size    int
	toggle  bool
}

// NewServer gives a server that was asked nothing yet.
func NewServer(d Dictionary) *Server { return &Server{dict: d} }

// Take takes a frame of a client; false where nothing is answered.
func (s *Server) Take(f Frame) (Frame, bool) {
	fail := func(c Code) (Frame, bool) {
		s.open = false
		return Aborting(s.object, c), true
	}
	switch cmd := command(f); {
	case cmd == askRead:
		s.object, s.open = object(f), false
		data, segments, code := s.dict.Read(s.object)
		switch {
		case code != 0:
			return fail(code)
		case len(data) > 4 || len(data) == 0 || segments:
			s.open, s.writing, s.data, s.toggle = true, false, slices.Clone(data), false
			return announcing(gave, s.object, len(data)), true
		}
		return carrying(gave, s.object, data), true
	case cmd == askWrite:
		s.object, s.open = object(f), false
		data, size, segments := carried(f)
		if segments {
			if code := s.dict.MayWrite(s.object, size); code != 0 {
				return fail(code)
			}
			s.open, s.writing, s.data, s.size, s.toggle = true, true, nil, size, false
			return opening(took<<5, s.object), true
		}
		if code := s.dict.Write(s.object, data); code != 0 {
			return fail(code)
		}
		return opening(took<<5, s.object), true
	case cmd == askSegmentOut && s.open && !s.writing:
		if toggled(f) != s.toggle {
			return fail(NoToggle)
		}
		out, rest := segment(gaveSegment, s.toggle && !s.Unturned, s.data)
		s.data, s.toggle, s.open = rest, !s.toggle, len(rest) > 0
		return out, true
	case cmd == askSegmentIn && s.open && s.writing:
		if toggled(f) != s.toggle {
			return fail(NoToggle)
		}
		data, last := part(f)
		if s.data = append(s.data, data...); len(s.data) > most || last && s.size >= 0 && s.size != len(s.data) {
			return fail(WrongLength)
		}
		out := Frame{tookSegment << 5}
		if s.toggle && !s.Unturned {
			out[0] |= 1 << 4
		}
		s.toggle = !s.toggle
		if last {
			s.open = false
			if code := s.dict.Write(s.object, s.data); code != 0 {
				return fail(code)
			}
		}
		return out, true
	case cmd == abort:
		s.open = false
		return Frame{}, false
	}
	return fail(UnknownStep)
}
