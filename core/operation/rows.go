package operation

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/objects"
	"gavrix.org/gavrix/core/packet"
)

// Row is some bits of a planned step, and what they mean.
type Row struct {
	// Span counts transactions and what stands between a start and the next; of parts
	// that are asked 0 is the request and 1 the answer.
	Span       int
	From, Bits int // of the span, as sent before bytes are hidden
	Line       access.Line
	Sent       string // of the line out: the bits, or the characters
	Cell       access.What
	Meaning    string
}

// Rows gives the bits of a step with their meaning.
func (s Step) Rows() []Row {
	if s.Plan == nil {
		return nil
	}
	d := s.part.Map.Dialogue
	switch {
	case d == nil:
		return s.cells(0)
	case d.Objects:
		return s.objectRows()
	case d.Packet != nil:
		return s.packetRows(d.Packet)
	}
	return s.cells(0)
}

// cells gives the cells of a pattern, of messages with a number of bits in front.
func (s Step) cells(front int) []Row {
	var out []Row
	for k, span := range s.Plan.Spans {
		for i := range span.Items {
			it := &span.Items[i]
			if it.What == access.Skip {
				continue
			}
			r := Row{Span: k, From: front + it.At, Bits: it.Bits, Line: it.Line, Cell: it.What, Meaning: it.Describe()}
			switch {
			case it.Line == access.In:
			case it.What == access.Chars || it.Text != "":
				r.Sent = fmt.Sprintf("%q", it.Text)
			default:
				r.Sent = fmt.Sprintf("%0*b", it.Bits, it.Sent)
			}
			switch it.What {
			case access.Number:
				r.Meaning = "register " + s.name(s.Plan.Number)
			case access.Value:
				r.Meaning = "content of " + s.name(s.Plan.NumberOf(it.Unit))
			case access.Count:
				r.Meaning = fmt.Sprintf("how many: %d", s.Plan.Units)
			}
			out = append(out, r)
		}
	}
	return out
}

// name gives the name of the register with a number, where it has one.
func (s Step) name(number uint64) string {
	m := s.part.Map
	words := m.Dialogue.Words(number)
	for _, r := range s.Registers {
		if r.Numbered && r.Address == number {
			return r.Name + ", " + words
		}
	}
	if r := m.At(number); r != nil {
		return r.Name + ", " + words
	}
	if t := m.TextAt(number); t != nil {
		return t.Name + ", " + words
	}
	return words
}

// packetRows puts what frames the messages around them.
func (s Step) packetRows(f *packet.Format) []Row {
	front := 8 * len(f.Begin)
	if f.Length != nil {
		front += 8 * f.Length.Bytes
	}
	var out []Row
	cells := s.cells(front)
	for k, span := range s.Plan.Spans {
		line := access.Out
		if span.Reads {
			line = access.In
		}
		content := len(span.Out) / 8
		add := func(from int, bytes []byte, meaning string) {
			r := Row{Span: k, From: from, Bits: 8 * len(bytes), Line: line, Meaning: meaning}
			if line == access.Out {
				r.Sent = fmt.Sprintf("% X", bytes)
			}
			out = append(out, r)
		}
		if len(f.Begin) > 0 {
			add(0, f.Begin, "begins the packet")
		}
		if f.Length != nil {
			meaning := "how long it is"
			if line == access.Out {
				meaning = fmt.Sprintf("how long it is: %s of content", bytesNoun(content))
			}
			add(8*len(f.Begin), f.LengthOf(content), meaning)
		}
		for _, c := range cells {
			if c.Span == k {
				out = append(out, c)
			}
		}
		end := front + 8*content
		if c := f.Check; c != nil {
			bytes := make([]byte, c.Size())
			if line == access.Out {
				bytes = f.CheckOf(access.Bytes(span.Out))
			}
			add(end, bytes, "check")
			end += 8 * len(bytes)
		}
		if len(f.End) > 0 {
			add(end, f.End, "ends the packet")
		}
	}
	if hidden := f.Hidden(s.Plan.Request()); len(hidden) > 0 {
		i := slices.IndexFunc(out, func(r Row) bool { return r.Span > 0 })
		if i < 0 {
			i = len(out)
		}
		out = slices.Insert(out, i, Row{Line: access.Out, Sent: fmt.Sprintf("% X", hidden), Meaning: fmt.Sprintf("these are hidden: %02X is sent in front of each, and it exclusive or %02X", f.Escape.Byte, f.Escape.Xor)})
	}
	return out
}

// objectRows gives the frames of a transfer: all that are sent, and what comes back.
func (s Step) objectRows() []Row {
	var out []Row
	o := objects.ObjectOf(s.Plan.Number)
	content := s.Plan.Request()
	write := content[0] == writeObject
	client := transfer(s.Plan)
	server := objects.NewServer(planned{client.Data, s.Plan.Pattern.Text != nil})
	at := 0
	for {
		f, has := client.Next()
		if !has {
			break
		}
		add := func(from, n int, line access.Line, meaning string) {
			r := Row{Span: len(out), From: 8 * (at + from), Bits: 8 * n, Line: line, Meaning: meaning}
			if line == access.Out {
				r.Sent = fmt.Sprintf("% X", f[from:from+n])
			}
			r.Span = int(line)
			out = append(out, r)
		}
		data, segment := objects.SegmentOf(f)
		switch {
		case objects.Opens(f) && write:
			add(0, 1, access.Out, "write an object")
			add(1, 3, access.Out, "index and sub-index, "+s.name(o.Number()))
			if objects.Segmented(f) {
				add(4, 4, access.Out, fmt.Sprintf("how much follows in segments: %s", bytesNoun(len(client.Data))))
			} else {
				add(4, len(client.Data), access.Out, "content")
			}
		case objects.Opens(f):
			add(0, 1, access.Out, "read an object")
			add(1, 3, access.Out, "index and sub-index, "+s.name(o.Number()))
		case write && segment:
			add(0, 1, access.Out, "a segment")
			add(1, len(data), access.Out, "content")
		}
		at += len(f)
		answer, answers := server.Take(f)
		if !answers {
			break
		}
		if !write {
			out = append(out, Row{Span: 1, Bits: 8, Line: access.In, Meaning: "how many bytes it has, or that they follow in segments"},
				Row{Span: 1, From: 8, Bits: 24, Line: access.In, Meaning: "index and sub-index again"},
				Row{Span: 1, From: 32, Bits: 32, Line: access.In, Meaning: "content of " + s.name(o.Number())})
			break
		}
		client.Take(answer)
	}
	if write {
		out = append(out, Row{Span: 1, Bits: 8, Line: access.In, Meaning: "done, after each frame"})
	}
	return out
}

// planned is a dictionary in which everything goes well.
type planned struct {
	data     []byte
	segments bool
}

func (p planned) Read(objects.Object) ([]byte, bool, objects.Code) { return p.data, p.segments, 0 }
func (p planned) Write(objects.Object, []byte) objects.Code        { return 0 }
func (p planned) MayWrite(objects.Object, int) objects.Code        { return 0 }
