package operate

import (
	"fmt"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/image"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/regular"
)

// patient does a step on a memory, which does not answer while it writes: it is asked
// again until its time for that is over.
func (x *run) patient(s operation.Step) (access.Answer, bool) {
	m := x.op.Part.Map.Memory
	if x.op.Part.Asked() {
		return x.ask(s)
	}
	limit := x.Session.Now() + 2*m.Write + 5*quantity.Millisecond
	asked := 0
	for m.Write > 0 {
		out, err := x.Session.Do(x.ctx, x.Link.Index, link.Transact{Text: s.Texts[0]})
		if err != nil {
			x.err = err
			return access.Answer{}, false
		}
		asked++
		if out.OK || !operation.Silent(x.Link.Kind.Name, out.Record) || x.Session.Now() >= limit {
			return x.took(s, out, asked)
		}
		if x.err = x.wait(x.Session.Now() + max(m.Write/16, quantity.Microsecond)); x.err != nil {
			return access.Answer{}, false
		}
	}
	return x.do(s)
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
	if n := len(s.Plan.Misfits(spans)); n > 0 {
		x.r.say(Fault, "the check of what came does not fit, at %s: no value is taken from it; read it again", quantity.Count(n, "place"))
		return access.Answer{}, false
	}
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
	if x.areas(data) == 0 && erased {
		x.r.say(OK, "all of it reads FF, as after erasing: it was never written, or with that")
	}
}

// areas says of the areas that were read as a whole what their bytes say of them, and
// gives their number.
func (x *run) areas(data []byte) (n int) {
	for _, a := range x.op.Part.Map.Memory.Areas {
		from := a.At - x.op.At
		if from < 0 || from+a.Length > len(data) {
			continue
		}
		n++
		held := data[from : from+a.Length]
		mend := "its file states no default"
		if a.Default != nil {
			mend = fmt.Sprintf("'write %s.%s default' writes what its file states: % X", x.op.Part.Name, a.Name, a.Default)
		}
		switch a.State(held) {
		case device.AreaNeverWritten:
			x.r.say(Warn, "%s was never written: all of it reads FF, as after erasing; %s", a.Name, mend)
		case device.AreaDamaged:
			verdict := Warn
			if x.op.Area == a {
				verdict = Fault // it was asked for
			}
			x.r.say(verdict, "%s is damaged: it begins with % X, written once it would with % X; %s", a.Name, held[:len(a.Mark)], a.Mark, mend)
		default:
			x.r.say(OK, "%s was written%s", a.Name, begins(a.Mark))
		}
	}
	return n
}

// begins says with what an area begins that has a mark.
func begins(mark []byte) string {
	if len(mark) == 0 {
		return ""
	}
	return fmt.Sprintf(" and is valid: it begins with % X", mark)
}

// writeBytes writes page by page, reads back, and compares.
func (x *run) writeBytes(from int, data []byte) bool {
	m := x.op.Part.Map.Memory
	steps, err := x.op.Part.WriteBytes(from, data)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return false
	}
	always, perhaps := m.Protects(from, len(data))
	if always != "" && !x.op.Force {
		x.r.say(Refused, "%s; force sends it nevertheless", always)
		return false
	}
	before, ok := x.fetch(from, len(data))
	if !ok {
		return false
	}
	same := string(before) == string(data)
	began := x.Session.Now()
	for _, s := range steps {
		if _, ok := x.patient(s); !ok {
			return false
		}
	}
	after, ok := x.fetch(from, len(data))
	if !ok {
		return false
	}
	if at := unlike(after, data); at >= 0 {
		x.r.say(Fault, "byte 0x%X reads %02X where %02X was written; %d of %d bytes differ", from+at, after[at], data[at], differing(after, data), len(after))
		for _, why := range []string{always, perhaps} {
			if why != "" {
				x.r.say(Fault, "%s", why)
			}
		}
		if always == "" && perhaps == "" && after[at] == before[at] {
			x.r.say(Fault, "it holds what it held before: the byte takes nothing any more, or the part was not writing")
		}
		return false
	}
	x.r.say(OK, "%s in %s written and read back in %s", quantity.Count(len(after), "byte"), quantity.Count(len(steps), "page"), (x.Session.Now() - began).Round(3))
	if same {
		x.r.say(Warn, "they were there already: reading them back proves nothing")
	}
	if m.Endurance > 0 {
		x.r.say(OK, "each page stands %d writings: at one an hour that is %s", m.Endurance, years(m.Endurance))
	}
	return true
}

// load writes a file's bytes into the memory.
func (x *run) load() {
	form, err := image.FormOf(x.op.File)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return
	}
	f, err := regular.Open(x.op.File)
	if err != nil {
		x.r.say(Refused, "the file can't be read: %v", err)
		return
	}
	defer f.Close()
	chunks, err := image.Read(f, form)
	if err != nil {
		x.r.say(Refused, "%s: %v", x.op.File, err)
		return
	}
	size := uint64(x.op.Part.Map.Memory.Size)
	for _, c := range chunks {
		if c.At >= size || uint64(len(c.Data)) > size-c.At {
			x.r.say(Refused, "%s: %s from 0x%X on: %s has 0x0 to 0x%X", x.op.File, quantity.Count(len(c.Data), "byte"), c.At, x.op.Part.Name, size-1)
			return
		}
	}
	for _, c := range chunks {
		if !x.writeBytes(int(c.At), c.Data) {
			return
		}
	}
}

// save reads bytes of the memory into a new file.
func (x *run) save() {
	form, err := image.FormOf(x.op.File)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return
	}
	data, ok := x.fetch(x.op.At, x.op.Count)
	if !ok {
		return
	}
	f, err := regular.Create(x.op.File, 0o644)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return
	}
	if err := f.End(image.Write(f, form, []image.Chunk{{At: uint64(x.op.At), Data: data}})); err != nil {
		x.r.say(Fault, "%v", err)
		return
	}
	x.r.say(OK, "%s are in %s", quantity.Count(len(data), "byte"), x.op.File)
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
	x.r.say(OK, "%s read back, all alike", quantity.Count(len(data), "byte"))
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
