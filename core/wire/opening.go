package wire

// Opening tells whether the first edge of a line in a file is one. What a line is before its
// first level is that level: that it comes is no edge. Where a line is let go again later,
// or nothing but that makes it rise, being let go is a level as others are, and its first
// fall is an edge.
type Opening struct {
	symbol byte // x or z, that stood before any level; 0: none did
	edge   bool // the first toggle is the first level
	again  bool // it was let go later
	one    bool // something drove it high
	rises  int  // by being let go
	level  bool // it had one
}

// Begin takes the first symbol of the line, '0', '1', 'x' or 'z'.
func (o *Opening) Begin(symbol byte) {
	if o.level = symbol == '0' || symbol == '1'; !o.level {
		o.symbol = symbol
	}
}

// Take takes what the line becomes; was is x or z that it has been, 0 for a level, and
// toggle says that it is another level now, and the first such.
func (o *Opening) Take(symbol, was byte, toggle, first bool) {
	switch {
	case symbol == '1':
		o.one = true
	case symbol == 'z':
		o.again = true
		if toggle {
			o.rises++
		}
	}
	if symbol == '0' || symbol == '1' {
		if first && toggle && !o.level {
			o.edge = o.symbol != 0 && was == o.symbol
		}
		o.level = true
	}
}

// Undo takes the first toggle back: at the same time the line went back.
func (o *Opening) Undo() { o.edge = false }

// Drops reports whether the first of a number of toggles is no edge, on a line that began
// high or low.
func (o *Opening) Drops(high bool, toggles int) bool {
	if !o.edge || toggles == 0 || o.symbol == 'z' && o.again {
		return false
	}
	rises := (toggles + 1) / 2
	if high {
		rises = toggles / 2
	}
	return o.symbol == 'x' || o.one || rises > o.rises
}
