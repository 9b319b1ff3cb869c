package ui

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/draw/cells"
)

// Braces draws a register large, bit by bit, with a brace under each field and its
// meaning below where it differs from reset. Where next is another content, its bits that
// differ stand in a row of their own. It gives the row behind it; nothing is drawn where
// there is no room.
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
	for i := range w.Fields {
		f := &w.Fields[i]
		left, right := at(f.Low+f.Bits-1), at(f.Low)
		style := cells.Quiet
		if f.Of(value) != f.Of(w.Reset) {
			style = cells.Plain
		}
		if left == right {
			a.Put(left, y+1, style, '╵')
			continue
		}
		for x := left; x <= right; x++ {
			a.Put(x, y+1, style, '─')
		}
		a.Put(left, y+1, style, '╰')
		a.Put(right, y+1, style, '╯')
	}
	return y + 3 + labels(a, y+2, w, value, at)
}

// labelRows is how many rows the meanings below the braces may take.
const labelRows = 4

// labels writes the meanings of fields that differ from reset below their braces,
// each on the first row on which it fits, with a leader down to it. It gives the
// rows that it took.
func labels(a cells.Area, y int, w *register.Register, value uint64, at func(bit int) int) int {
	var start [labelRows]int // where the label at the right of this one begins
	for row := range start {
		start[row] = a.W + 1
	}
	used := 0
	fields := slices.Clone(w.Fields)
	slices.SortFunc(fields, func(a, b register.Field) int { return cmp.Compare(a.Low, b.Low) })
	for i := range fields { // from the least significant on
		f := &fields[i]
		if f.Of(value) == f.Of(w.Reset) {
			continue
		}
		text := f.Name + " " + f.Meaning(f.Of(value))
		x := at(f.Low + f.Bits - 1)
		for row := range labelRows {
			if x+cells.Width(text) >= start[row] {
				continue
			}
			for above := range row {
				a.Put(x, y+above, cells.Quiet, '│')
				start[above] = x
			}
			a.Text(x, y+row, cells.Plain, text)
			start[row] = x
			used = max(used, row+1)
			break
		}
	}
	return used
}
