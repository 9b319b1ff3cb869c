package registers

import (
	"fmt"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// ofLink gives the registers that the link's settings go into.
func ofLink(b *bench.Bench, l *bench.Link) ([]bench.SharedWord, error) {
	words, err := b.Words()
	if err != nil {
		return nil, err
	}
	var out []bench.SharedWord
	for _, w := range words {
		for _, name := range w.Links {
			if name == l.Name {
				out = append(out, w)
			}
		}
	}
	return out, nil
}

// longest gives the first of some texts that fits in a width, else the last.
func longest(w int, texts ...string) string {
	for _, t := range texts {
		if cells.Width(t) <= w {
			return t
		}
	}
	return texts[len(texts)-1]
}

// drawWords shows the MCU's control registers for the link, one taken apart.
func (v *View) drawWords(a cells.Area, h ui.Host, l *bench.Link) {
	b := h.Bench()
	x := a.Text(0, 0, cells.Head, "REGISTERS")
	x = a.Text(x+2, 0, cells.Strong, l.Name)
	x = a.Text(x+2, 0, cells.Strong, b.MCU.Name)
	a.Text(x+2, 0, cells.Quiet, longest(a.W-x-2, "values to write, from the settings of unit "+l.Unit.Name, "from the settings of "+l.Unit.Name, "as set up"))
	if len(parts(h)) == 0 {
		a.Text(1, 1, cells.Quiet, longest(a.W-1, "no part on this link has registers that its device file describes: docs/device-files.md shows how", "no part here has registers: docs/device-files.md shows how", "no part has registers"))
	}
	words, err := ofLink(b, l)
	switch {
	case err != nil:
		a.Paragraph(1, 2, cells.Bad, err.Error(), 0)
		return
	case len(words) == 0:
		a.Paragraph(1, 2, cells.Plain, "No setting goes into a described register. Name a .csv table or a .svd below mcu.registers, and say below the unit's `control:` where its settings go.", 0)
		if len(parts(h)) > 0 {
			a.Paragraph(1, 5, cells.Quiet, "n goes on to the parts of the link.", 0)
		}
		return
	}
	v.word = min(max(v.word, 0), len(words)-1)
	seen := map[uint64]uint64{}
	for _, s := range h.Dump().Seen {
		seen[s.Address] = s.Value
	}
	for address, value := range v.typed {
		seen[address] = value
	}
	w := &words[v.word]
	scratch := cells.New(a.W, 200)
	need := apart(scratch.All(), w, seen)
	rows := min(max(a.H-3-need, 3), len(words))
	top := min(max(v.word-rows/2, 0), len(words)-rows)
	for i := range rows {
		listed(a.Part(0, 2+i, a.W, 1), &words[top+i], top+i == v.word, seen)
	}
	if rows < len(words) {
		a.Right(a.W, 2+rows, cells.Quiet, fmt.Sprintf("%d of %d registers", rows, len(words)))
	}
	body := a.Part(0, 3+rows, a.W, max(a.H-3-rows, 0))
	if more := need - body.H; more > 0 && body.H > 0 {
		body.Right(a.W, body.H-1, cells.Doubt, quantity.Count(more+1, "row")+" more in a higher window")
		body = body.Part(0, 0, body.W, body.H-1)
	}
	apart(body, w, seen)
}

// listed shows one of the registers in a row.
func listed(a cells.Area, w *bench.SharedWord, chosen bool, seen map[uint64]uint64) {
	style := cells.Plain
	if chosen {
		a.Text(0, 0, cells.Strong, "▸")
		style = cells.Strong
	}
	x := a.Text(2, 0, style, fmt.Sprintf("%-10s", w.Name))
	x = a.Text(x+1, 0, cells.Quiet, fmt.Sprintf("0x%08X", w.Address))
	x = a.Text(x+2, 0, style, fmt.Sprintf("%-12s", w.Hex(w.Value)))
	note := ""
	if w.AtReset {
		note = "as after reset  "
	}
	if len(w.Links) > 1 {
		note += "shared by " + strings.Join(w.Links, ", ")
	}
	switch got, ok := seen[w.Address]; {
	case ok && got == w.Value:
		a.Text(x, 0, cells.Good, "the same was seen")
	case ok:
		a.Text(x, 0, cells.Bad, "seen or typed: "+w.Hex(got))
	default:
		a.Text(x, 0, cells.Quiet, longest(a.W-x, note, fmt.Sprintf("shared by %d links", len(w.Links)), fmt.Sprintf("%d links", len(w.Links))))
	}
}

// apart shows a register large, and its fields below. It gives the row behind it.
func apart(a cells.Area, w *bench.SharedWord, seen map[uint64]uint64) int {
	y := ui.Braces(a, 0, w.Register, w.Value, w.Value)
	source := map[string]string{}
	for _, c := range w.Choices {
		source[c.Field.Name] = c.Setting + ", " + c.Source
	}
	reset := 0
	for _, p := range w.Apart(w.Value) {
		if p.AtReset && source[p.Name] == "" {
			reset++
			continue
		}
		a.Right(5, y, cells.Quiet, p.Range())
		x := a.Text(7, y, cells.Plain, fmt.Sprintf("%-10s", p.Name))
		style := cells.Strong
		if p.AtReset {
			style = cells.Plain
		}
		x = a.Text(x+1, y, style, fmt.Sprintf("%-8s", p.Meaning))
		note := source[p.Name]
		if p.AtReset {
			note += ", as after reset"
		}
		x = a.Text(x+1, y, cells.Quiet, note)
		if got, ok := seen[w.Address]; ok && p.Of(got) != p.Value {
			x = a.Text(x+2, y, cells.Bad, "≠ "+p.Field.Meaning(p.Of(got)))
		}
		if cells.Width(p.About) < a.W-x-3 {
			a.Right(a.W, y, cells.Quiet, p.About)
		}
		y++
	}
	if reset > 0 {
		a.Text(7, y, cells.Quiet, fmt.Sprintf("%d more as after reset", reset))
		y++
	}
	if w.About != "" {
		y = a.Paragraph(2, y+1, cells.Quiet, w.Name+": "+w.About, 0)
	}
	return y
}

// wordCommands move through the registers.
func (v *View) wordCommands(h ui.Host) []ui.Command {
	move := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			v.word = max(v.word+by, 0)
			return nil
		}
	}
	return []ui.Command{
		{Name: "dump", Args: "[FILE]", Help: "judge from a dump; alone: the simulated", Run: func(name string) tea.Cmd { return ui.LoadDump(h, name, nil) }},
		{Name: "register-above", Keys: []string{"up", "k"}, Help: "the register above", Run: move(-1)},
		{Name: "register-below", Keys: []string{"down", "j"}, Help: "the register below", Short: "register", Run: move(1)},
		{Name: "value", Args: "[V]", Help: "hold a value against it; alone: no more", Run: v.hold(h)},
	}
}

// hold holds a typed value against what the register under the cursor should have.
func (v *View) hold(h ui.Host) func(string) tea.Cmd {
	return func(text string) tea.Cmd {
		l := h.Link()
		if l == nil {
			return nil
		}
		words, err := ofLink(h.Bench(), l)
		if err != nil || len(words) == 0 {
			h.Say("there is no register to compare with")
			return nil
		}
		w := words[min(v.word, len(words)-1)]
		if text == "" {
			delete(v.typed, w.Address)
			return nil
		}
		n, err := strconv.ParseUint(text, 0, 64)
		if err != nil || w.Bits < 64 && n>>w.Bits != 0 {
			h.Warn("write a number of %d bits, as 0x1A, 26 or 0b11010", w.Bits)
			return nil
		}
		if v.typed == nil {
			v.typed = map[uint64]uint64{}
		}
		v.typed[w.Address] = n
		if bad := (n ^ w.Reset) & w.Reserved(); bad != 0 {
			h.Warn("%s: reserved bits %s differ from reset", w.Hex(n), register.Bits(bad))
		}
		return nil
	}
}
