// Package packet knows how messages stand in a stream of characters: what begins and
// ends them, how long they are, which bytes are hidden, and what checks them.
//
// A packet is
//
//	begin | length | content | check | end
//
// of which everything but the content may be missing, as long as its end can be told.
// Behind begin, bytes that have a meaning of their own may be escaped; length and check
// are those of the bytes before that. A Reader takes packets out of a stream that is
// damaged, cut, and full of other things.
package packet

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
)

// Format is how packets look.
type Format struct {
	Begin, End []byte
	Length     *Length // nil: the end tells
	Check      *Check  // nil: none
	Escape     *Escape // nil: no byte is hidden
	// Most is the greatest number of content bytes.
	Most int
}

// Length is a field that says how long a packet is.
type Length struct {
	Bytes    int // 1 or 2
	LowFirst bool
	// Adds is what the field holds beyond the number of content bytes.
	Adds int
	// Least and Most bound the content; outside of them a packet is dropped at once.
	Least, Most int
}

// Escape hides bytes: each of them is sent as Byte and itself exclusive or Xor.
type Escape struct {
	Byte byte
	Of   []byte // the bytes that are hidden; Byte is one of them
	Xor  byte
}

// mostContent bounds a content whatever a format says.
const mostContent = 4096

// ErrFormat says that a format can't work.
var ErrFormat = errors.New("packets can't be told apart")

// Valid says what is wrong with a format.
func (f *Format) Valid() error {
	switch {
	case len(f.End) == 0 && f.Length == nil:
		return fmt.Errorf("%w: nothing says where one ends: give `end` or `length`", ErrFormat)
	case f.Length != nil && f.Length.Bytes != 1 && f.Length.Bytes != 2:
		return fmt.Errorf("%w: a length has 1 or 2 bytes", ErrFormat)
	case f.Length != nil && (f.Length.Least < 0 || f.Length.Most < f.Length.Least || f.Length.Most > mostContent):
		return fmt.Errorf("%w: a content has 0 to %d bytes", ErrFormat, mostContent)
	case f.Length != nil && (f.Length.Least+f.Length.Adds < 0 || (f.Length.Most+f.Length.Adds)>>(8*f.Length.Bytes) != 0):
		return fmt.Errorf("%w: %d to %d content bytes don't fit a length of %d bytes", ErrFormat, f.Length.Least, f.Length.Most, f.Length.Bytes)
	case f.Length == nil && (f.Most < 1 || f.Most > mostContent):
		return fmt.Errorf("%w: a content has at most 1 to %d bytes", ErrFormat, mostContent)
	case f.Length != nil && len(f.Begin) == 0 && len(f.End) == 0:
		return fmt.Errorf("%w: nothing says where one begins after damage: give `begin` or `end`", ErrFormat)
	}
	if e := f.Escape; e != nil {
		switch {
		case !slices.Contains(e.Of, e.Byte):
			return fmt.Errorf("%w: the escape byte %02X must be hidden too", ErrFormat, e.Byte)
		case bytes.Contains(f.End, []byte{e.Byte}) || bytes.Contains(f.Begin, []byte{e.Byte}):
			return fmt.Errorf("%w: the escape byte %02X stands in `begin` or `end`", ErrFormat, e.Byte)
		case e.Xor == 0:
			return fmt.Errorf("%w: exclusive or with 00 hides nothing", ErrFormat)
		}
		for _, b := range e.Of {
			if slices.Contains(e.Of, b^e.Xor) {
				return fmt.Errorf("%w: %02X is sent as %02X, which is hidden itself", ErrFormat, b, b^e.Xor)
			}
		}
	}
	if f.Check != nil {
		if err := f.Check.Valid(); err != nil {
			return fmt.Errorf("%w: %w", ErrFormat, err)
		}
	}
	return nil
}

// Framed says whether packets are more than lines with an end.
func (f *Format) Framed() bool { return len(f.Begin) > 0 || f.Length != nil || f.Check != nil }

// Wrap gives the bytes of a packet. The error says why there is none with that content.
func (f *Format) Wrap(content []byte) ([]byte, error) { return f.wrap(content, 0) }

// Damage gives the same with a bit of the check turned, where there is one.
func (f *Format) Damage(content []byte) ([]byte, error) {
	if f.Check == nil {
		return f.wrap(content, 0)
	}
	return f.wrap(content, 1)
}

// wrap is Wrap with bits of the check turned.
func (f *Format) wrap(content []byte, turned uint32) ([]byte, error) {
	if l := f.Length; l != nil {
		if n := len(content); n < l.Least || n > l.Most {
			return nil, fmt.Errorf("%d content bytes: packets have %d to %d", n, l.Least, l.Most)
		}
	} else if len(content) > f.Most {
		return nil, fmt.Errorf("%d content bytes: packets have at most %d", len(content), f.Most)
	}
	body := f.body(content, turned)
	if e := f.Escape; e != nil {
		body = e.hide(body)
	}
	n := len(body)
	if body = append(body, f.End...); f.Length == nil && bytes.Index(body, f.End) < n {
		return nil, errors.New("the content holds the bytes that end a packet")
	}
	return append(slices.Clone(f.Begin), body...), nil
}

// body is what stands between begin and end before bytes are hidden.
func (f *Format) body(content []byte, turned uint32) []byte {
	body := append(f.LengthOf(len(content)), content...)
	return append(body, f.checkOf(content, turned)...)
}

// LengthOf gives the field for the length of a content; none where there is no such.
func (f *Format) LengthOf(n int) []byte {
	if f.Length == nil {
		return nil
	}
	return appendNumber(nil, uint64(n+f.Length.Adds), f.Length.Bytes, f.Length.LowFirst)
}

// CheckOf gives the check of the packet with a content; none where there is no such.
func (f *Format) CheckOf(content []byte) []byte { return f.checkOf(content, 0) }

func (f *Format) checkOf(content []byte, turned uint32) []byte {
	if f.Check == nil {
		return nil
	}
	return f.Check.bytes(f.Check.Of(f.checked(append(f.LengthOf(len(content)), content...))) ^ turned)
}

// Hidden gives the bytes of the packet with a content that are sent as two.
func (f *Format) Hidden(content []byte) []byte {
	if f.Escape == nil {
		return nil
	}
	return slices.DeleteFunc(f.body(content, 0), func(b byte) bool { return !slices.Contains(f.Escape.Of, b) })
}

// checked gives the bytes that the check is over, of length and content.
func (f *Format) checked(body []byte) []byte {
	switch f.Check.Over {
	case OverContent:
		if f.Length != nil {
			return body[f.Length.Bytes:]
		}
	case OverAll:
		return append(slices.Clone(f.Begin), body...)
	}
	return body
}

func (e *Escape) hide(body []byte) []byte {
	out := make([]byte, 0, len(body)+4)
	for _, b := range body {
		if slices.Contains(e.Of, b) {
			out = append(out, e.Byte, b^e.Xor)
		} else {
			out = append(out, b)
		}
	}
	return out
}

func appendNumber(out []byte, v uint64, n int, lowFirst bool) []byte {
	for i := range n {
		k := n - 1 - i
		if lowFirst {
			k = i
		}
		out = append(out, byte(v>>(8*k)))
	}
	return out
}

func number(b []byte, lowFirst bool) uint64 {
	v := uint64(0)
	for i := range b {
		k := i
		if lowFirst {
			k = len(b) - 1 - i
		}
		v = v<<8 | uint64(b[k])
	}
	return v
}
