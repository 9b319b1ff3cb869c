package registers

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// columns are those of the list of a part.
type columns struct{ name, content, means int }

// columnsOf gives names and numbers the room that they need.
func columnsOf(p *operation.Part, rows []row, w int) columns {
	number, names, content := 4, 8, 10
	for _, r := range rows {
		switch {
		case r.text != nil:
			names = max(names, cells.Width(r.text.Name))
			number = max(number, cells.Width(numberOf(p, r)))
		case r.field != nil:
			names = max(names, cells.Width(r.field.Name)+1)
		case r.reg != nil:
			names = max(names, cells.Width(r.reg.Name))
			number = max(number, cells.Width(numberOf(p, r)))
			content = max(content, (r.reg.Bits+3)/4+2)
		default:
			names = max(names, cells.Width(r.value.Name)-number-2)
		}
	}
	c := columns{name: 2 + number + 2}
	c.content = c.name + min(names, max(w/3-c.name, 8)) + 2
	c.means = c.content + min(content, 18) + 2
	return c
}

// numberOf gives the number of a row's register or text.
func numberOf(p *operation.Part, r row) string {
	switch {
	case r.text != nil && r.text.Numbered:
		return p.Map.Dialogue.Words(r.text.Number)
	case r.reg != nil && r.field == nil && r.reg.Numbered:
		words := p.Map.Dialogue.Words(r.reg.Address)
		if r.reg.Paged {
			words = fmt.Sprintf("p%d %s", r.reg.Page, words)
		}
		return words
	}
	return ""
}

// drawPart shows the list, the register under the cursor, what is staged, and the newest
// results.
func (v *View) drawPart(a cells.Area, h ui.Host, p *operation.Part, k *ledger.Part) {
	rows := rowsOf(p.Map)
	at := min(max(v.row[v.key(h, p)], 0), max(len(rows)-1, 0))
	below := v.belowHeight(h, a)
	// The map has the room; the register under the cursor as much as most need.
	detail := 0
	switch free := a.H - below; {
	case free > 30:
		detail = 12
	case free > 14:
		detail = 6
	}
	room := max(a.H-below-detail-1, 3)
	list := min(len(rows), room)
	v.top = max(min(v.top, at), at-list+1, 0)
	v.top = min(v.top, max(len(rows)-list, 0))
	v.listAt, v.listH = 3, list
	c := columnsOf(p, rows, a.W)
	for i := range list {
		v.drawRow(a, i, h, p, k, rows[v.top+i], c, v.top+i == at)
	}
	more := ""
	if v.top > 0 {
		more = "↑ more  "
	}
	if v.top+list < len(rows) {
		more += "↓ more"
	}
	a.Right(a.W, list, cells.Quiet, strings.TrimSpace(more))
	y := list + 1
	if len(rows) > 0 && detail > 0 {
		v.drawDetail(a.Part(0, y, a.W, max(a.H-below-y, 0)), h, p, k, rows[at])
	}
	v.drawBelow(a.Part(0, a.H-below, a.W, below), h, p, k)
}

// drawRow shows a register or a value: what it holds, what that means, since when.
func (v *View) drawRow(a cells.Area, y int, h ui.Host, p *operation.Part, k *ledger.Part, r row, c columns, selected bool) {
	style := cells.Plain
	if selected {
		a.Text(0, y, cells.Strong, "▸")
		style = cells.Strong
	}
	a.Text(2, y, cells.Quiet, numberOf(p, r))
	if w := v.watched(h, p, r); w != nil {
		a.Text(1, y, cells.Info, "◦")
	}
	switch {
	case r.text != nil:
		v.drawText(a, y, h, k, r.text, c, style)
	case r.reg == nil:
		v.drawValue(a, y, h, k, r.value, c, style)
	case r.field != nil:
		v.drawField(a, y, k, r, c, style)
	default:
		v.drawRegister(a, y, h, k, r, c, style)
	}
	if selected {
		a.Mark(y)
	}
}

// drawText shows a text.
func (v *View) drawText(a cells.Area, y int, h ui.Host, k *ledger.Part, t *device.Text, c columns, style cells.Style) {
	a.Part(c.name, y, c.content-c.name-1, 1).Text(0, 0, style, t.Name)
	if k == nil {
		return
	}
	e, has := k.Texts[t]
	if !has {
		x := a.Text(c.content, y, cells.Quiet, "–")
		a.Text(max(x, c.means), y, cells.Quiet, fmt.Sprintf("text, %s", t.Access))
		return
	}
	state := ui.Ago(h.Moment() - e.At)
	if e.Wrote {
		state = "as written  " + state
	}
	chars := a.Part(c.content, y, a.W-c.content-cells.Width(state)-2, 1)
	x := chars.Text(0, 0, style, fmt.Sprintf("%q", e.Chars))
	if was, remembered := v.texts[t]; remembered && was != e.Chars {
		chars.Text(x, 0, cells.Doubt, fmt.Sprintf(" ≠ %q", was))
	}
	a.Right(a.W, y, cells.Quiet, state)
}

func (v *View) drawRegister(a cells.Area, y int, h ui.Host, k *ledger.Part, r row, c columns, style cells.Style) {
	nameAt, contentAt, meansAt := c.name, c.content, c.means
	a.Part(nameAt, y, contentAt-nameAt-1, 1).Text(0, 0, style, r.reg.Name)
	e, has := content(k, r.reg)
	if !has {
		a.Text(contentAt, y, cells.Quiet, "–")
		text := access(r.reg)
		if k != nil && k.Pending[r.reg].N > 0 {
			text = fmt.Sprintf("half written, %d of %d", k.Pending[r.reg].N, r.reg.Turns())
		}
		a.Text(meansAt, y, cells.Quiet, text)
		return
	}
	st := style
	mark := ""
	if was, remembered := v.mark[r.reg]; remembered && was != e.Content {
		st, mark = cells.Doubt, " ≠ "+r.reg.Hex(was)
	}
	x := a.Text(contentAt, y, st, r.reg.Hex(e.Content))
	x = a.Text(x, y, cells.Doubt, mark)
	state := age(h, e)
	if n := k.Pending[r.reg].N; n > 0 {
		state = fmt.Sprintf("half written, %d of %d  ", n, r.reg.Turns()) + state
	}
	room := a.W - max(meansAt, x+2) - cells.Width(state) - 2
	text := r.reg.About
	if d := r.value.Format.Decode(e.Content); len(r.reg.Fields) == 0 && d.Meaning() != d.Hex() {
		text = d.Meaning()
	}
	if shown := r.value.Shown(e.Content); shown != "" && cells.Width(shown) <= room {
		text = shown
	}
	if cells.Width(text) <= room {
		a.Text(max(meansAt, x+2), y, cells.Plain, text)
	}
	a.Right(a.W, y, cells.Quiet, state)
}

// drawField shows a field below its register.
func (v *View) drawField(a cells.Area, y int, k *ledger.Part, r row, c columns, style cells.Style) {
	nameAt, contentAt, meansAt := c.name, c.content, c.means
	a.Right(nameAt-1, y, cells.Quiet, r.field.Range())
	a.Part(nameAt+1, y, contentAt-nameAt-2, 1).Text(0, 0, style, r.field.Name)
	e, has := content(k, r.reg)
	if !has {
		a.Text(contentAt, y, cells.Quiet, "–")
		if r.field.Access != r.reg.Access {
			a.Text(meansAt, y, cells.Quiet, r.field.Access.String())
		}
		return
	}
	d := r.value.Format.Decode(r.field.Of(e.Content))
	st := style
	if was, remembered := v.mark[r.reg]; remembered && r.field.Of(was) != r.field.Of(e.Content) {
		st = cells.Doubt
	}
	text := d.Meaning()
	if shown := r.value.Shown(d.Raw); shown != "" {
		text = shown
	}
	x := a.Text(contentAt, y, st, text)
	note := r.field.About
	if why := r.value.Warns[d.Raw]; why != "" {
		note = why
	} else if r.field.Of(e.Content) == r.field.Of(r.reg.Reset) {
		note = strings.TrimSuffix("at reset   "+note, "   ")
	}
	if x = max(x+2, meansAt); x+cells.Width(note) <= a.W {
		a.Text(x, y, cells.Quiet, note)
	}
}

// age says since when a content is known, how often it was written, and whether that is
// all that is known of it.
func age(h ui.Host, e *ledger.Entry) string {
	s := ui.Ago(h.Moment() - e.At)
	if e.Writes > 0 {
		least := ""
		if h.Ledger().Skipped {
			least = "≥ "
		}
		s = fmt.Sprintf("written %s%d×  ", least, e.Writes) + s
	}
	if e.Wrote {
		s = "as written  " + s
	}
	if e.Cleared != 0 {
		s = "cleared by reading  " + s
	}
	return s
}

// access says what can be done with a register.
func access(r *device.Register) string {
	all := map[register.Access]bool{}
	r.Each(func(_ uint64, a register.Access) { all[a] = true })
	if len(all) == 1 {
		for a := range all {
			return a.String()
		}
	}
	return "fields of several kinds"
}

func (v *View) drawValue(a cells.Area, y int, h ui.Host, k *ledger.Part, value *device.Value, c columns, style cells.Style) {
	contentAt, meansAt := c.content, c.means
	a.Part(2, y, contentAt-3, 1).Text(0, 0, style, value.Name)
	newest, oldest := quantity.Time(-1), quantity.Forever
	for _, r := range value.Reads() {
		e, has := content(k, r)
		if !has {
			a.Text(contentAt, y, cells.Quiet, "–")
			a.Part(meansAt, y, a.W-meansAt, 1).Text(0, 0, cells.Quiet, value.About)
			return
		}
		newest, oldest = max(newest, e.At), min(oldest, e.At)
	}
	d := value.Decode(func(r *device.Register) uint64 { e, _ := content(k, r); return e.Content })
	text := d.Meaning()
	if shown := value.Shown(d.Raw); shown != "" {
		text = shown
	}
	x := a.Text(contentAt, y, style, text)
	state := ui.Ago(h.Moment() - newest)
	if oldest != newest && value.From == nil {
		state = "its registers were read apart  " + state
	}
	if x+2 < a.W-cells.Width(state)-cells.Width(value.About)-2 {
		a.Text(max(x+2, meansAt), y, cells.Quiet, value.About)
	}
	a.Right(a.W, y, cells.Quiet, state)
}

// drawDetail shows the register under the cursor large.
func (v *View) drawDetail(a cells.Area, h ui.Host, p *operation.Part, k *ledger.Part, r row) {
	if t := r.text; t != nil {
		text := fmt.Sprintf("%s is a text of at most %d characters, %s", t.Name, t.Most, t.Access)
		if k == nil {
			return
		}
		if e, has := k.Texts[t]; has {
			text += fmt.Sprintf("; it has %d", len(e.Chars))
		}
		a.Paragraph(2, a.Paragraph(2, 0, cells.Quiet, text+".", 0), cells.Quiet, t.About, 0)
		return
	}
	regs := r.value.Reads()
	if r.reg == nil {
		if len(regs) == 0 {
			return
		}
		var names []string
		for _, x := range regs {
			names = append(names, x.Name)
		}
		text := r.value.Name + " stands in " + strings.Join(names, ", ")
		if f := &r.value.Format; r.value.From == nil {
			least, most := f.Range()
			text += fmt.Sprintf(": %d bits, %s, %s to %s", r.value.Bits, f.Coding, f.Quantity(least), f.Quantity(most))
		}
		a.Paragraph(2, 0, cells.Quiet, text, 0)
		return
	}
	e, has := content(k, r.reg)
	if !has {
		y := a.Paragraph(2, 0, cells.Quiet, r.reg.Name+" was not read yet: r reads it"+map[bool]string{true: ", R all", false: ""}[len(regs) > 0]+".", 0)
		if r.reg.About != "" {
			a.Paragraph(2, y, cells.Quiet, r.reg.About, 0)
		}
		return
	}
	next := e.Content
	for _, s := range v.staged {
		if writesValue(s.op) && s.link == int(h.LinkIndex()) && s.part.Name == p.Name {
			if w, err := s.op.Values[0].Encode(s.op.Text); err == nil {
				next, _ = s.op.Values[0].Into(r.reg, next, w.Raw)
			}
		}
	}
	y := ui.Braces(a, 0, &r.reg.Register, e.Content, next)
	if shown := r.value.Shown(e.Content); shown != "" && r.field == nil && y < a.H {
		a.Text(2, y, cells.Plain, shown)
		y++
	}
	if e.HasChanged && y < a.H {
		a.Text(2, y, cells.Quiet, fmt.Sprintf("was %s until %s", r.reg.Hex(e.Was), ui.Ago(h.Moment()-e.Changed)))
		y++
	}
	if r.reg.About != "" && y < a.H {
		a.Paragraph(2, y, cells.Quiet, r.reg.About, 0)
	}
}

// belowHeight is the number of rows that what is staged and the results take on a screen:
// a third of it, where that leaves nothing out but values and transactions.
func (v *View) belowHeight(h ui.Host, a cells.Area) int {
	n := v.belowRest(h)
	if r := v.newest(h); r != nil {
		n += min(len(told(r, h, a.W)), max(a.H/3, 2+len(r.Says)+len(r.Changes)))
	}
	return min(n, 16)
}

// belowRest is the number of rows below the result.
func (v *View) belowRest(h ui.Host) int {
	n := 0
	if v.entry != nil {
		n += 3
	}
	for _, s := range v.staged {
		if s.link == int(h.LinkIndex()) {
			n++
		}
	}
	if v.busy {
		n++
	}
	return n
}

// newest gives the newest result of the selected link.
func (v *View) newest(h ui.Host) *operate.Result {
	for i := len(v.results) - 1; i >= 0; i-- {
		for _, p := range parts(h) {
			if v.results[i].Part == p.Name || v.results[i].Part == "" {
				return v.results[i]
			}
		}
	}
	return nil
}

// drawBelow shows what came of the newest operation, what is staged, and the line being
// typed.
func (v *View) drawBelow(a cells.Area, h ui.Host, p *operation.Part, k *ledger.Part) {
	y := 0
	rest := a.H - v.belowRest(h)
	if r := v.newest(h); r != nil {
		for _, l := range told(r, h, a.W) {
			if y < rest {
				a.Text(l.x, y, l.style, l.text)
				y++
			}
		}
	}
	if v.busy {
		text := "on its way; Esc stops it"
		if n := len(v.waiting); n > 0 {
			text += fmt.Sprintf("; %d more wait", n)
		}
		a.Text(0, y, cells.Info, text)
		y++
	}
	for _, s := range v.staged {
		if s.link != int(h.LinkIndex()) {
			continue
		}
		x := a.Text(0, y, cells.Doubt, "staged  ")
		x = a.Text(x, y, cells.Plain, strings.TrimPrefix(s.text, "write "))
		a.Text(x+3, y, cells.Quiet, wireOf(s, k))
		y++
	}
	if v.entry == nil {
		return
	}
	x := a.Text(0, y, cells.Strong, "write "+v.about+" ")
	v.entry.Draw(a, x, y, "")
	text, style := v.preview(h)
	a.Text(0, y+1, style, text)
	a.Text(0, y+2, cells.Quiet, "Enter stages it   Esc leaves")
}

// preview says what becomes of what is typed.
func (v *View) preview(h ui.Host) (string, cells.Style) {
	op, err := operation.Parse("write "+v.about+" "+v.entry.Text(), parts(h))
	if err != nil || v.entry.Text() == "" {
		_, r, ok := v.current(h)
		switch {
		case v.entry.Text() != "" && err != nil:
			return err.Error(), cells.Bad
		case ok && r.text != nil:
			return fmt.Sprintf("at most %d characters", r.text.Most), cells.Quiet
		case ok:
			return choices(r.value), cells.Quiet
		}
		return "bytes in hex, as DE AD BE EF", cells.Quiet
	}
	if op.Bytes {
		n := len(op.Part.Map.Memory.Pages(uint64(op.At), len(op.Data)))
		return fmt.Sprintf("bytes: %d, pages: %d: % X", len(op.Data), n, op.Data), cells.Plain
	}
	if op.Chars != nil {
		return fmt.Sprintf("%d of %d characters", len(op.Text), op.Chars.Most), cells.Plain
	}
	w, err := op.Values[0].Encode(op.Text)
	if err != nil {
		return err.Error(), cells.Bad
	}
	text := w.Meaning() + ", bits " + w.Hex()
	if w.Rounded {
		return text + ": the nearest to " + op.Values[0].Quantity(w.Asked), cells.Doubt
	}
	return text, cells.Plain
}

// choices says what may be written: the words of a table of codes, or a quantity.
func choices(v *device.Value) string {
	var out []string
	for raw := uint64(0); raw < 256 && len(out) < 8; raw++ {
		if c := v.Codes[raw]; c != "" {
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		least, most := v.Range()
		out = append(out, v.Quantity(least)+" to "+v.Quantity(most))
	}
	return strings.Join(out, ", ") + ", or bits as 0x1F"
}

// wireOf gives what a staged operation sends, as far as that is known now.
func wireOf(s staged, k *ledger.Part) string {
	steps, err := s.op.Fixed()
	if err == nil && len(steps) > 0 {
		var out []string
		for _, st := range steps {
			out = append(out, st.Texts...)
		}
		return safe.Text(strings.Join(out, " | "))
	}
	if !writesValue(s.op) {
		return ""
	}
	var out []string
	v := s.op.Values[0]
	w, err := v.Encode(s.op.Text)
	if err != nil {
		return ""
	}
	for _, r := range v.Registers() {
		e, has := content(k, r)
		if !has {
			out = append(out, r.Name+" is read first")
			continue
		}
		to, _ := v.Into(r, e.Content, w.Raw)
		out = append(out, fmt.Sprintf("%s %s → %s", r.Name, r.Hex(e.Content), r.Hex(to)))
	}
	return strings.Join(out, ", ")
}

// line is a row of a result.
type line struct {
	x     int
	style cells.Style
	text  string
}

// told gives what came of an operation, in rows of a width.
func told(r *operate.Result, h ui.Host, w int) []line {
	style, glyph := cells.Good, "●"
	switch r.Verdict {
	case operate.Warn:
		style, glyph = cells.Doubt, "△"
	case operate.Fault, operate.Refused:
		style, glyph = cells.Bad, "▲"
	}
	var out []line
	add := func(x int, s cells.Style, text string) {
		for i, l := range safe.Wrap(text, w-x-2) {
			at := x
			if i > 0 {
				at += 2
			}
			out = append(out, line{at, s, l})
		}
	}
	add(0, style, glyph+" "+r.Text+": "+string(r.Verdict))
	for _, s := range r.Says {
		add(2, cells.Plain, s)
	}
	for i := range r.Changes {
		add(2, cells.Plain, r.Changes[i].Text())
	}
	for i, n := range r.Values {
		if i == 4 {
			add(2, cells.Quiet, fmt.Sprintf("and %d more", len(r.Values)-i))
			break
		}
		add(2, cells.Strong, n.Name+" = "+n.Meaning())
	}
	for _, x := range r.Exchanges[max(len(r.Exchanges)-4, 0):] {
		text := x.Outcome
		if l := h.Link(); l != nil {
			text = x.Words(l)
		}
		out = append(out, line{2, cells.Quiet, fmt.Sprintf("%.6f s  %s", x.At.Seconds(), text)})
	}
	return out
}
