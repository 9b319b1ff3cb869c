package ui

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/draw/cells"
)

// Braces draws a register large, bit by bit, with a brace under each field that has its
// meaning below: those that differ from reset, and the others where there is room. Where
// next is another content, its bits that differ stand in a row of their own. It gives the
// row behind it; nothing is drawn where there is no room.
func Braces(a cells.Area, y int, w *register.Register, value, next uint64) int {
	// A column for each bit, with a gap between groups of four where there is room.
	wide := 3
	for wide > 1 && w.Bits*wide+w.Bits/4 > a.W-4 {
		wide--
	}
	at := func(bit int) int {
		n := w.Bits - 1 - bit
		return 2 + n*wide + n/4
	}
	if at(0)+wide > a.W {
		return y
	}
	a.Text(2, y, cells.Strong, fmt.Sprintf("%s = %s", w.Name, w.Hex(value)))
	a.Text(cells.Width(w.Name)+cells.Width(w.Hex(value))+8, y, cells.Quiet, "= "+strconv.FormatUint(value, 10))
	y += 2
	for bit := 0; bit < w.Bits; bit += 4 {
		a.Text(at(bit), y-1, cells.Quiet, strconv.Itoa(bit))
	}
	for bit := range w.Bits {
		style := cells.Plain
		if (value^w.Reset)>>bit&1 == 1 {
			style = cells.Strong
		}
		if w.Reserved()>>bit&1 == 1 {
			style = cells.Quiet
		}
		a.Text(at(bit), y, style, strconv.FormatUint(value>>bit&1, 10))
	}
	if next != value {
		y++
		for bit := range w.Bits {
			if (next^value)>>bit&1 == 1 {
				a.Text(at(bit), y, cells.Doubt, strconv.FormatUint(next>>bit&1, 10))
			}
		}
		a.Text(at(0)+wide+2, y, cells.Doubt, "to be written: "+w.Hex(next))
	}
	ls, rows := labelsOf(a.W, w, value, at)
	for _, l := range ls {
		for above := range l.row {
			a.Put(l.x, y+2+above, cells.Quiet, '│')
		}
	}
	for _, l := range ls {
		left, right := l.x, at(l.field.Low)
		for x := left; x <= right; x++ {
			a.Put(x, y+1, l.style, '─')
		}
		a.Put(left, y+1, l.style, '╰')
		a.Put(right, y+1, l.style, '╯')
		if left == right {
			a.Put(left, y+1, l.style, '╵')
		}
		a.Text(l.x, y+2+l.row, l.style, l.text)
	}
	return y + 3 + rows
}

// labelRows is how many rows the meanings below the braces may take.
const labelRows = 4

// label is the meaning of a field, in a row below its brace.
type label struct {
	field  register.Field
	x, row int
	text   string
	style  cells.Style
}

// labelsOf finds the labels of a register in so many cells, and the rows that they take. Fields at
// reset get what those that differ leave, and two rows at least.
func labelsOf(wide int, w *register.Register, value uint64, at func(bit int) int) ([]label, int) {
	fields := slices.Clone(w.Fields)
	slices.SortFunc(fields, func(a, b register.Field) int { return cmp.Compare(a.Low, b.Low) })
	differs := func(f *register.Field) bool { return f.Of(value) != f.Of(w.Reset) }
	// place puts each label on the first row on which it fits, from the least significant on,
	// with a leader down to it.
	place := func(most int, all bool) (out []label, used, told int) {
		start := slices.Repeat([]int{wide + 1}, most) // where the label at the right of this one begins
		for _, f := range fields {
			l := label{field: f, x: at(f.Low + f.Bits - 1), text: f.Name + " " + f.Meaning(f.Of(value)), style: cells.Plain}
			if !differs(&f) {
				if !all {
					continue
				}
				l.style = cells.Quiet
			}
			l.row = slices.IndexFunc(start, func(at int) bool { return l.x+cells.Width(l.text) < at })
			if l.row < 0 {
				continue
			}
			for row := range l.row + 1 {
				start[row] = l.x
			}
			out, used = append(out, l), max(used, l.row+1)
			if differs(&f) {
				told++
			}
		}
		return out, used, told
	}
	few, rows, told := place(labelRows, false)
	if every, used, also := place(max(rows, 2), true); also == told {
		return every, used
	}
	return few, rows
}
