package operate

import (
	"fmt"

	"gavrix/core/access"
	"gavrix/core/device"
	"gavrix/core/link"
	"gavrix/core/operation"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

// patient does a step on a memory, which does not answer while it writes: it is asked
// again until its time for that is over.
func (x *run) patient(s operation.Step) (access.Answer, bool) {
	m := x.op.Part.Map.Memory
	limit := x.Session.Now() + 2*m.Write + 5*quantity.Millisecond
	asked := 0
	for m.Write > 0 {
		out, err := x.Session.Do(x.ctx, x.Link.Index, link.Transact{Text: s.Texts[0]})
		if err != nil {
			x.err = err
			return access.Answer{}, false
		}
		asked++
		if out.OK || !silentAddress(out.Record) || x.Session.Now() >= limit {
			return x.took(s, out, asked)
		}
		if x.err = x.wait(x.Session.Now() + max(m.Write/16, quantity.Microsecond)); x.err != nil {
			return access.Answer{}, false
		}
	}
	return x.do(s)
}

// silentAddress says whether nobody acknowledged the address.
func silentAddress(r *record.Record) bool {
	return r != nil && len(r.Back) == 1 && r.Back[0]&record.Acked == 0
}

// took takes the outcome of a step that was one transaction.
func (x *run) took(s operation.Step, out link.Outcome, asked int) (access.Answer, bool) {
	x.r.Exchanges = append(x.r.Exchanges, Exchange{s.Texts[0], out.OK, out.Text, out.Record, out.At})
	switch {
	case !out.OK && asked > 1:
		x.r.say(Fault, "%s does not answer: asked %d times, longer than writing takes", x.op.Part.Name, asked)
		return access.Answer{}, false
	case !out.OK || out.Record == nil:
		x.r.say(Fault, "%s", out.Text)
		return access.Answer{}, false
	}
	spans, _ := x.op.Part.Seen(out.Record)
	return s.Plan.Answer(operation.In(spans)), true
}

// fetch reads bytes of the memory.
func (x *run) fetch(from, count int) ([]byte, bool) {
	steps, err := x.op.Part.ReadBytes(from, count)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return nil, false
	}
	var out []byte
	for _, s := range steps {
		a, ok := x.patient(s)
		if !ok {
			return nil, false
		}
		for i, v := range a.Values {
			if !a.Known[i] {
				x.r.say(Fault, "nobody drives the line while byte 0x%X should come back", from+len(out))
				return nil, false
			}
			out = append(out, byte(v))
		}
	}
	return out, true
}

func (x *run) readBytes() {
	data, ok := x.fetch(x.op.At, x.op.Count)
	if !ok {
		return
	}
	x.r.Bytes, x.r.At = data, x.op.At
	erased := true
	for _, b := range data {
		erased = erased && b == device.Erased
	}
	if erased {
		x.r.say(OK, "all of it reads FF, as after erasing: it was never written, or with that")
	}
}

// writeBytes writes page by page, reads back, and compares.
func (x *run) writeBytes() {
	m := x.op.Part.Map.Memory
	steps, err := x.op.Part.WriteBytes(x.op.At, x.op.Data)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return
	}
	before, ok := x.fetch(x.op.At, x.op.Count)
	if !ok {
		return
	}
	same := string(before) == string(x.op.Data)
	began := x.Session.Now()
	for _, s := range steps {
		if _, ok := x.patient(s); !ok {
			return
		}
	}
	after, ok := x.fetch(x.op.At, x.op.Count)
	if !ok {
		return
	}
	if at := unlike(after, x.op.Data); at >= 0 {
		x.r.say(Fault, "byte 0x%X reads %02X where %02X was written, and so do %d of %d bytes", x.op.At+at, after[at], x.op.Data[at], differing(after, x.op.Data), len(after))
		return
	}
	x.r.say(OK, "%d bytes in %d pages are written and read back, in %s", len(after), len(steps), (x.Session.Now() - began).Round(3))
	if same {
		x.r.say(Warn, "they were there already: reading them back proves nothing")
	}
	if m.Endurance > 0 {
		x.r.say(OK, "each page stands %d writings: at one an hour that is %s", m.Endurance, years(m.Endurance))
	}
}

// years says how long a page lasts that is written every hour.
func years(n int) string {
	y := float64(n) / 24 / 365.25
	if y < 2 {
		return fmt.Sprintf("%.0f days", y*365.25)
	}
	return fmt.Sprintf("%.0f years", y)
}

func (x *run) compareBytes() {
	data, ok := x.fetch(x.op.At, x.op.Count)
	if !ok {
		return
	}
	x.r.Bytes, x.r.At = data, x.op.At
	if at := unlike(data, x.op.Data); at >= 0 {
		x.r.say(Fault, "byte 0x%X is %02X, not %02X; %d of %d bytes differ", x.op.At+at, data[at], x.op.Data[at], differing(data, x.op.Data), len(data))
		return
	}
	x.r.say(OK, "all %d bytes are alike", len(data))
}

// unlike gives the first place at which bytes differ; -1 where they are alike.
func unlike(a, b []byte) int {
	for i := range a {
		if a[i] != b[i] {
			return i
		}
	}
	return -1
}

func differing(a, b []byte) (n int) {
	for i := range a {
		if a[i] != b[i] {
			n++
		}
	}
	return n
}
