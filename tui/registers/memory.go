package registers

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// perRow is how many bytes of a memory stand beside each other.
const perRow = 16

// onMemory says whether the bytes of the part's memory are shown, not its registers.
func (v *View) onMemory(h ui.Host) bool {
	all := slots(h)
	return len(all) > 0 && all[v.part[int(h.LinkIndex())]%len(all)].memory
}

// rowCount is how many rows the list has.
func (v *View) rowCount(h ui.Host, p *operation.Part) int {
	if v.onMemory(h) {
		return (p.Map.Memory.Size + perRow - 1) / perRow
	}
	return len(rowsOf(p.Map))
}

// byteAt is the number of the first byte of the row under the cursor.
func (v *View) byteAt(h ui.Host, p *operation.Part) int {
	return min(max(v.row[v.key(h, p)], 0), v.rowCount(h, p)-1) * perRow
}

// memoryCommands read and write bytes under the cursor.
func (v *View) memoryCommands(h ui.Host, p *operation.Part) []ui.Command {
	m := p.Map.Memory
	page := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			k := v.key(h, p)
			v.row[k] = min(max(v.row[k]+by*max(m.Page/perRow, 1), 0), v.rowCount(h, p)-1)
			return nil
		}
	}
	return []ui.Command{
		v.markCommand(h, p),
		{Name: "page-above", Keys: []string{"pgup"}, Help: "the page above", Run: page(-1)},
		{Name: "page-below", Keys: []string{"pgdown"}, Help: "the page below", Run: page(1)},
		{Name: "read", Args: "[NUMBER count N]", Keys: []string{"r"}, Help: "read the page, or these bytes", Short: "read", Run: func(arg string) tea.Cmd {
			if arg == "" {
				from := v.byteAt(h, p) / m.Page * m.Page
				if m.Page > 256 {
					from = v.byteAt(h, p)
				}
				arg = fmt.Sprintf("0x%04X count %d", from, min(m.Page, 256, m.Size-from))
			}
			return v.start(h, "read "+p.Name+" "+arg)
		}},
		{Name: "write", Args: "[NUMBER BYTES]", Keys: []string{"e", "enter"}, Help: "type bytes for the row; x sends them", Short: "write", Run: func(arg string) tea.Cmd {
			if arg != "" {
				v.stage(h, "write "+p.Name+" "+arg)
				return nil
			}
			e := ui.NewEntry()
			v.entry, v.about = &e, fmt.Sprintf("%s 0x%04X", p.Name, v.byteAt(h, p))
			return nil
		}},
	}
}

// drawMemory shows the bytes that are known, page by page.
func (v *View) drawMemory(a cells.Area, h ui.Host, p *operation.Part, k *ledger.Part) {
	m := p.Map.Memory
	text := quantity.Count(m.Size, "byte")
	if m.Page < m.Size {
		text += fmt.Sprintf(" in pages of %d", m.Page)
	}
	if m.Write > 0 {
		text += ", " + m.Write.String() + " to write one"
	}
	if m.Endurance > 0 {
		text += fmt.Sprintf(", each stands %d writings", m.Endurance)
	}
	a.Text(1, 0, cells.Quiet, text)
	x := drawAreas(a, 1, m, k)
	if n, first := v.differing(p, k); n > 0 {
		a.Text(x, 1, cells.Doubt, fmt.Sprintf("%s ≠ what was remembered, from 0x%04X on", quantity.Count(n, "byte"), first))
	}
	below := v.belowHeight(h, a)
	room := max(a.H-below-3, 3)
	n := v.rowCount(h, p)
	at := min(max(v.row[v.key(h, p)], 0), n-1)
	list := min(n, room)
	v.top = max(min(v.top, at), at-list+1, 0)
	v.top = min(v.top, max(n-list, 0))
	v.listAt, v.listH = 5, list
	for i := range list {
		v.drawBytes(a, 2+i, p, k, v.top+i, v.top+i == at)
	}
	v.drawBelow(a.Part(0, a.H-below, a.W, below), h, p, k)
}

// differing gives how many bytes differ from what was remembered, and the first of them.
func (v *View) differing(p *operation.Part, k *ledger.Part) (n int, first uint64) {
	for at, was := range v.bytes[p.Map] {
		if c, has := k.Cells[at]; has && c.Byte != was {
			if n++; n == 1 || at < first {
				first = at
			}
		}
	}
	return n, first
}

// held gives what is known of an area: nil where some of it is not.
func held(k *ledger.Part, area *device.Area) []byte {
	out := make([]byte, area.Length)
	for i := range out {
		c, has := k.Cells[uint64(area.At+i)]
		if !has {
			return nil
		}
		out[i] = c.Byte
	}
	return out
}

// drawAreas says in a row what the bytes that are known say of the areas; it gives the
// column behind.
func drawAreas(a cells.Area, y int, m *device.Memory, k *ledger.Part) int {
	x := 1
	for _, area := range m.Areas {
		text, style := "not read as a whole", cells.Quiet
		if data := held(k, area); data != nil {
			switch area.State(data) {
			case device.AreaNeverWritten:
				text, style = "never written", cells.Doubt
			case device.AreaDamaged:
				text, style = "damaged", cells.Bad
			default:
				text, style = "written", cells.Good
			}
		}
		x = a.Text(x, y, cells.Quiet, fmt.Sprintf("%s 0x%04X ", area.Name, area.At))
		x = a.Text(x, y, style, text) + 3
	}
	return x
}

func (v *View) drawBytes(a cells.Area, y int, p *operation.Part, k *ledger.Part, row int, selected bool) {
	m := p.Map.Memory
	style := cells.Plain
	if selected {
		a.Text(0, y, cells.Strong, "▸")
		style = cells.Strong
	}
	from := uint64(row * perRow)
	edge := cells.Quiet
	if from%uint64(m.Page) == 0 {
		edge = cells.Info
	}
	a.Text(2, y, edge, fmt.Sprintf("%04X", from))
	for i := range uint64(perRow) {
		if from+i >= uint64(m.Size) {
			break
		}
		x := 8 + int(3*i+i/8)
		c, has := k.Cells[from+i]
		if !has {
			a.Text(x, y, cells.Quiet, "··")
			continue
		}
		s := style
		was, remembered := v.bytes[p.Map][from+i]
		switch {
		case c.Wrote, remembered && was != c.Byte:
			s = cells.Doubt
		case c.Byte == device.Erased:
			s = cells.Quiet
		}
		a.Text(x, y, s, fmt.Sprintf("%02X", c.Byte))
		a.Text(8+3*perRow+2+int(i), y, s, string(safe.Byte(c.Byte)))
	}
	if n := k.Pages[from/uint64(m.Page)]; n > 0 && from%uint64(m.Page) == 0 {
		a.Right(a.W, y, cells.Quiet, fmt.Sprintf("written %d×", n))
	}
	if selected {
		a.Mark(y)
	}
}
