// Package can builds and decodes frames of the controller area network (ISO
// 11898-1): base and extended identifiers, data and remote frames, and the
// flexible data rate format. On a line, high is recessive, low dominant.
package can

import (
	"fmt"
	"math/bits"
)

// Frame is one data or remote frame.
type Frame struct {
	ID       uint32
	Extended bool // 29-bit identifier
	Remote   bool // no data; DLC says how much is asked for
	FD       bool // flexible data rate format
	Switched bool // FD: the data phase at its own rate (BRS)
	Passive  bool // FD: error-state indicator of the sender (ESI)
	DLC      int  // length code of a remote frame; of others it follows from Data
	Data     []byte
}

// lengths are the data lengths of the codes 9 to 15 with flexible data rate.
var lengths = [...]int{0, 1, 2, 3, 4, 5, 6, 7, 8, 12, 16, 20, 24, 32, 48, 64}

// Length gives the number of data bytes of a length code.
func Length(code int, fd bool) int {
	if code < 0 || code > 15 {
		return 0
	}
	if fd {
		return lengths[code]
	}
	return min(code, 8)
}

// Code gives the smallest length code that holds n bytes, and the bytes of
// padding; ok is false where none does.
func Code(n int, fd bool) (code, padding int, ok bool) {
	if !fd && n > 8 || n < 0 {
		return 0, 0, false
	}
	for c, l := range lengths {
		if l >= n {
			return c, l - n, true
		}
	}
	return 0, 0, false
}

// Check says what is wrong with a frame.
func (f Frame) Check() error {
	most := uint32(0x7ff)
	if f.Extended {
		most = 0x1fffffff
	}
	if f.ID > most {
		return fmt.Errorf("identifier %X does not fit: at most %X", f.ID, most)
	}
	if f.Remote && (f.FD || len(f.Data) > 0) {
		return fmt.Errorf("a remote frame has no data, and no flexible data rate format")
	}
	if !f.FD && (f.Switched || f.Passive) {
		return fmt.Errorf("only the flexible data rate format has a second rate and the error-state indicator")
	}
	if _, pad, ok := Code(len(f.Data), f.FD); !ok || pad != 0 {
		return fmt.Errorf("%d data bytes: no length code says that", len(f.Data))
	}
	if f.DLC < 0 || f.DLC > 15 {
		return fmt.Errorf("length code %d: 0 to 15", f.DLC)
	}
	return nil
}

func (f Frame) code() int {
	if f.Remote {
		return f.DLC
	}
	c, _, _ := Code(len(f.Data), f.FD)
	if !f.FD && f.DLC > 8 && len(f.Data) == 8 {
		return f.DLC // codes above 8 mean 8 bytes too
	}
	return c
}

// Field is a part of a frame.
type Field uint8

// The fields, in the order of the wire.
const (
	SOF Field = iota
	Identifier
	RemoteBit // RTR, SRR or RRS
	IDE
	ExtendedID
	FDBit // FDF or a reserved bit
	Reserved
	RateSwitch
	StateIndicator
	LengthCode
	DataField
	StuffCount
	CheckField
	CheckDelimiter
	AckSlot
	AckDelimiter
	EndOfFrame
	Intermission
)

var fieldNames = [...]string{
	"start of frame", "identifier", "remote bit", "identifier extension bit", "extended identifier", "format bit", "reserved bit",
	"rate switch", "error-state indicator", "length code", "data", "stuff count", "check sequence", "check delimiter", "acknowledge slot",
	"acknowledge delimiter", "end of frame", "intermission",
}

func (f Field) String() string { return fieldNames[f] }

// Bit is one bit on the wire.
type Bit struct {
	Recessive bool
	Field     Field
	Index     int  // within the field, from 0
	Stuff     bool // a stuff bit, dynamic or fixed
	Fast      bool // sent at the rate of the data phase
}

// crc is a check sequence of a given width, bit by bit.
type crc struct {
	width uint
	poly  uint32
	value uint32
	table *[256]uint32
}

// The polynomials, without their highest term.
const (
	poly15 = 0x4599
	poly17 = 0x1685b
	poly21 = 0x102899
)

func (c *crc) add(bit bool) {
	top := c.value>>(c.width-1)&1 == 1
	c.value = c.value << 1 & (1<<c.width - 1)
	if top != bit {
		c.value ^= c.poly
	}
}

// bytes takes the n highest bytes of a word, with the table of the polynomial.
func (c *crc) bytes(w uint64, n int) {
	t, v, down := c.table, c.value, c.width-8
	for range n {
		v = v<<8 ^ t[byte(v>>down)^byte(w>>56)]
		w <<= 8
	}
	c.value = v & (1<<c.width - 1)
}

// The check sequences of each byte.
var table15, table17, table21 = table(15, poly15), table(17, poly17), table(21, poly21)

func table(width uint, poly uint32) *[256]uint32 {
	var t [256]uint32
	for i := range t {
		c := crc{width: width, poly: poly}
		for k := 7; k >= 0; k-- {
			c.add(i>>k&1 == 1)
		}
		t[i] = c.value
	}
	return &t
}

func crc15() crc { return crc{15, poly15, 0, table15} }

// The flexible data rate format starts its check sequences with the top bit
// set, so that leading dominant bits count.
func crc17() crc { return crc{17, poly17, 1 << 16, table17} }
func crc21() crc { return crc{21, poly21, 1 << 20, table21} }

// grey gives a number below 8 in Gray code, and its even parity.
func grey(n int) (code int, parity bool) {
	code = n ^ n>>1
	return code, bits.OnesCount(uint(code))%2 == 1
}

// Built is a frame bit by bit.
type Built struct {
	Bits    []Bit // from the start of frame to the end of frame
	Check   uint32
	Width   int // bits of the check sequence
	Stuffed int // dynamic stuff bits
	Fixed   int // fixed stuff bits
}

type builder struct {
	b      Built
	run    int
	last   bool
	stuff  bool // dynamic stuffing is on
	c15    crc
	c17    crc
	c21    crc
	fast   bool
	closed bool // check sequences take no more
}

func (w *builder) put(field Field, index int, recessive bool) {
	w.raw(Bit{Recessive: recessive, Field: field, Index: index, Fast: w.fast})
	if !w.closed {
		w.c15.add(recessive)
		w.c17.add(recessive)
		w.c21.add(recessive)
	}
	if !w.stuff {
		w.last = recessive
		return
	}
	if w.run > 0 && recessive == w.last {
		w.run++
	} else {
		w.run = 1
	}
	w.last = recessive
}

func (w *builder) raw(b Bit) { w.b.Bits = append(w.b.Bits, b) }

// flush puts in a dynamic stuff bit that is due. Stuff bits enter the check
// sequences of the flexible data rate format, not the classic one.
func (w *builder) flush(field Field) {
	if !w.stuff || w.run < 5 {
		return
	}
	w.last = !w.last
	w.run = 1
	w.b.Stuffed++
	w.raw(Bit{Recessive: w.last, Field: field, Stuff: true, Fast: w.fast})
	if !w.closed {
		w.c17.add(w.last)
		w.c21.add(w.last)
	}
}

func (w *builder) field(f Field, value uint64, n int) {
	for i := range n {
		w.flush(f)
		w.put(f, i, value>>(n-1-i)&1 == 1)
	}
}

// Build gives a frame bit by bit. Acknowledged says whether the acknowledge
// slot is dominant on the wire. The frame must satisfy Check.
func Build(f Frame, acknowledged bool) Built {
	w := &builder{stuff: true, c15: crc15(), c17: crc17(), c21: crc21()}
	// Room for the fields beside the data and for usual stuff bits.
	w.b.Bits = make([]Bit, 0, 96+10*len(f.Data))
	one := func(field Field, recessive bool) {
		v := uint64(0)
		if recessive {
			v = 1
		}
		w.field(field, v, 1)
	}
	one(SOF, false)
	if f.Extended {
		w.field(Identifier, uint64(f.ID>>18), 11)
		one(RemoteBit, true) // substitute remote request
		one(IDE, true)
		w.field(ExtendedID, uint64(f.ID&0x3ffff), 18)
		one(RemoteBit, f.Remote)
		one(FDBit, f.FD)
		one(Reserved, false)
	} else {
		w.field(Identifier, uint64(f.ID), 11)
		one(RemoteBit, f.Remote)
		one(IDE, false)
		one(FDBit, f.FD)
		if f.FD {
			one(Reserved, false)
		}
	}
	if f.FD {
		one(RateSwitch, f.Switched)
		w.fast = f.Switched
		one(StateIndicator, f.Passive)
	}
	w.field(LengthCode, uint64(f.code()), 4)
	for i, b := range f.Data {
		for k := range 8 {
			w.flush(DataField)
			w.put(DataField, 8*i+k, b>>(7-k)&1 == 1)
		}
	}
	if f.FD {
		w.fdCheck(len(f.Data))
	} else {
		w.closed = true
		w.b.Check, w.b.Width = w.c15.value, 15
		w.field(CheckField, uint64(w.b.Check), 15)
		w.flush(CheckField)
	}
	w.stuff = false
	w.put(CheckDelimiter, 0, true)
	w.fast = false
	w.put(AckSlot, 0, !acknowledged)
	w.put(AckDelimiter, 0, true)
	for i := range 7 {
		w.put(EndOfFrame, i, true)
	}
	return w.b
}

// fdCheck writes stuff count and check sequence with their fixed stuff bits:
// one before the first bit and after every four, each unlike the bit before
// it. The first takes the place of a dynamic one that may be due. Fixed stuff
// bits stay out of the check sequence.
func (w *builder) fdCheck(n int) {
	w.stuff = false
	position := 0
	put := func(f Field, i int, recessive bool) {
		if position%4 == 0 {
			w.last = !w.last
			w.b.Fixed++
			w.raw(Bit{Recessive: w.last, Field: f, Stuff: true, Fast: w.fast})
		}
		position++
		w.raw(Bit{Recessive: recessive, Field: f, Index: i, Fast: w.fast})
		w.last = recessive
	}
	code, parity := grey(w.b.Stuffed % 8)
	for i := range 4 {
		bit := parity
		if i < 3 {
			bit = code>>(2-i)&1 == 1
		}
		w.c17.add(bit)
		w.c21.add(bit)
		put(StuffCount, i, bit)
	}
	c := w.c17
	if n > 16 {
		c = w.c21
	}
	w.b.Check, w.b.Width = c.value, int(c.width)
	for i := range w.b.Width {
		put(CheckField, i, c.value>>(w.b.Width-1-i)&1 == 1)
	}
	w.closed = true
}

// MostStuffBits bounds the dynamic stuff bits of a frame with as many data
// bytes: after the first one, four more bits can each time bring the next. Not
// every such pattern has a fitting check sequence; for base frames with no data
// and with one byte the bound is exact, from trying all of them.
func MostStuffBits(f Frame) int {
	if !f.Extended && len(f.Data) < 2 {
		if f.FD {
			return [...]int{4, 5}[len(f.Data)]
		}
		return [...]int{6, 7}[len(f.Data)]
	}
	stuffed := 1 + 11 + 1 + 1 + 1 + 4 + 8*len(f.Data)
	if f.Extended {
		stuffed += 20
	}
	if f.FD {
		stuffed += 3 // reserved, rate switch, error-state indicator
		if f.Extended {
			stuffed-- // its reserved bit is counted above
		}
		// A stuff bit due behind the last data bit is the fixed one.
		return max((stuffed-2)/4, 0)
	}
	return (stuffed + 15 - 1) / 4
}

// LeastBits is how many bits a frame takes with the space behind it, without dynamic
// stuff bits.
func LeastBits(f Frame) int {
	b := Build(f, true)
	return len(b.Bits) - b.Stuffed + gap
}
