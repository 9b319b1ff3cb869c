package objects

import "slices"

// Client is one transfer as the one who asks for it does it: what Next gives is to be
// sent; each frame that comes is given to Take; and so on until it is Over.
type Client struct {
	Object
	Write bool
	// Data is the content that was read, or is written.
	Data []byte
	// Code says why it was ended; Mine: by this side.
	Code Code
	Mine bool
	over bool

	rest   []byte // of what is written
	size   int    // that was announced; -1: none was
	toggle bool
	open   bool // segments follow
	next   *Frame
}

// Read begins to read an object.
func Read(o Object) *Client {
	f := opening(askRead<<5, o)
	return &Client{Object: o, next: &f}
}

// Write begins to write an object: what fits one frame in one, unless segments are
// wanted.
func Write(o Object, data []byte, segments bool) *Client {
	c := &Client{Object: o, Write: true, Data: slices.Clone(data)}
	var f Frame
	if len(data) > 4 || len(data) == 0 || segments {
		c.rest, c.open = c.Data, true
		f = announcing(askWrite, o, len(data))
	} else {
		f = carrying(askWrite, o, data)
	}
	c.next = &f
	return c
}

// Next gives the frame that is to be sent now; false where there is none.
func (c *Client) Next() (Frame, bool) {
	if c.next == nil {
		return Frame{}, false
	}
	f := *c.next
	c.next = nil
	return f, true
}

// Pending says whether Next has a frame.
func (c *Client) Pending() bool { return c.next != nil }

// Over says whether the transfer is over, well or not.
func (c *Client) Over() bool { return c.over && c.next == nil }

func (c *Client) end(code Code, mine bool) {
	c.Code, c.Mine, c.over = code, mine, true
	if mine {
		f := Aborting(c.Object, code)
		c.next = &f
	}
	if code != 0 && !c.Write {
		c.Data = nil
	}
}

// Took says what was made of a frame that came.
type Took uint8

// The answers of Take.
const (
	Foreign Took = iota // it belongs to another transfer
	Taken
)

// Take takes a frame of the server.
func (c *Client) Take(f Frame) Took {
	cmd := command(f)
	if (cmd == abort || cmd == gave || cmd == took) && object(f) != c.Object || c.over || c.next != nil {
		return Foreign
	}
	switch {
	case cmd == abort:
		c.end(codeOf(f), false)
	case !c.Write && cmd == gave && !c.open:
		data, size, segments := carried(f)
		if !segments {
			c.Data = slices.Clone(data)
			c.end(0, false)
			break
		}
		c.open, c.size = true, size
		c.ask()
	case !c.Write && cmd == gaveSegment && c.open:
		if toggled(f) != c.toggle {
			c.end(NoToggle, true)
			break
		}
		data, last := part(f)
		c.Data = append(c.Data, data...)
		c.toggle = !c.toggle
		switch {
		case last && c.size >= 0 && c.size != len(c.Data), len(c.Data) > most:
			c.end(WrongLength, true)
		case last:
			c.end(0, false)
		default:
			c.ask()
		}
	case c.Write && cmd == took && !(c.open && len(c.rest) < len(c.Data)):
		if !c.open {
			c.end(0, false)
			break
		}
		c.send()
	case c.Write && cmd == tookSegment && c.open:
		if toggled(f) == c.toggle { // c.toggle is that of the next one
			c.end(NoToggle, true)
			break
		}
		if len(c.rest) == 0 {
			c.end(0, false)
			break
		}
		c.send()
	default:
		return Foreign
	}
	return Taken
}

// ask asks for the next segment.
func (c *Client) ask() {
	f := Frame{askSegmentOut << 5}
	if c.toggle {
		f[0] |= 1 << 4
	}
	c.next = &f
}

// send sends the next segment.
func (c *Client) send() {
	f, rest := segment(askSegmentIn, c.toggle, c.rest)
	c.rest, c.toggle = rest, !c.toggle
	c.next = &f
}
