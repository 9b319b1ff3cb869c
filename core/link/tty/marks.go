package tty

import "gavrix.org/gavrix/core/record"

// markParser undoes the marking that the line discipline puts into the stream
// of received bytes (PARMRK): FF FF is the byte FF, FF 00 x is the byte x
// with an error, FF 00 00 is a break or a NUL with an error. The stream may be
// cut anywhere.
type markParser struct {
	state uint8 // how many bytes of a mark are seen
}

// feed calls out for each received byte.
func (p *markParser) feed(b []byte, out func(c byte, f record.Flags)) {
	for _, c := range b {
		switch {
		case p.state == 0 && c == 0xff:
			p.state = 1
		case p.state == 0:
			out(c, 0)
		case p.state == 1 && c == 0x00:
			p.state = 2
		case p.state == 1:
			// FF FF is the byte itself. Anything else is no mark: a driver
			// that does not double its FF.
			p.state = 0
			out(0xff, 0)
			if c != 0xff {
				out(c, 0)
			}
		default:
			p.state = 0
			if c == 0 {
				out(0, record.Break)
			} else {
				out(c, record.ParityOrFraming)
			}
		}
	}
}

// counts are the driver's own error counters, where it has any.
type counts struct {
	known                           bool
	framing, parity, overrun, brake uint32
}

// tell says which error a mark stands for, from what the driver counted while
// the marked bytes came in.
func tell(f record.Flags, before, after counts) record.Flags {
	if f&record.ParityOrFraming == 0 || !before.known || !after.known {
		return f
	}
	framing, parity := after.framing != before.framing, after.parity != before.parity
	switch {
	case framing && !parity:
		return f&^record.ParityOrFraming | record.Framing
	case parity && !framing:
		return f&^record.ParityOrFraming | record.Parity
	}
	return f
}
