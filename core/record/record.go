// Package record defines what a decoder or a port yields: one decoded thing
// with its time, who sent it, whose receiver saw it and what went wrong.
package record

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/quantity"
)

// Kind says what a record is.
type Kind uint8

// The kinds of records.
const (
	Chars       Kind = iota // a run of characters on a character link, bounded by idle
	Opened                  // a port or a simulated link began to be watched
	Lost                    // the port went away
	Gap                     // a stretch in which nothing could be seen
	Returned                // the port came back
	Changed                 // a setting was changed; Text says which
	Input                   // something put into the simulated world; Text is the input
	Verdict                 // the outcome of a check; Text says which
	Transaction             // spi: from select to release; i2c: from start to stop
	Frame                   // one can frame, error frame or overload frame
	Flow                    // uart: an end says whether it can receive
	Note                    // what somebody wrote down about a moment; Text is it
)

var kindNames = [...]string{"chars", "opened", "lost", "gap", "returned", "changed", "input", "verdict", "transaction", "frame", "flow", "note"}

func (k Kind) String() string {
	if int(k) < len(kindNames) {
		return kindNames[k]
	}
	return fmt.Sprintf("kind %d", k)
}

// ParseKind is the inverse of String for the defined kinds.
func ParseKind(s string) (Kind, bool) {
	for i, n := range kindNames {
		if n == s {
			return Kind(i), true
		}
	}
	return 0, false
}

// Origin says how a record came to be known.
type Origin uint8

// The origins.
const (
	FromLevels     Origin = iota // decoded from line levels
	FromKernel                   // delivered by the operating system's driver
	Reconstructed                // put together from bytes, without levels
	FromFile                     // read from a capture that does not say more
	FromGavrix                   // made by Gavrix itself: an input, a setting, a verdict
	originSentinel               // keep last
)

var originNames = [...]string{"levels", "kernel", "reconstructed", "file", "gavrix"}

func (o Origin) String() string {
	if o < originSentinel {
		return originNames[o]
	}
	return fmt.Sprintf("origin %d", o)
}

// End is one party on a link.
type End uint8

// The ends. Devices are numbered in the order of the bench file.
const (
	Nobody End = 0
	Tap    End = 1 // an ideal receiver on the line, with the sender's settings
	MCU    End = 2
	Device End = 3 // the first device; the nth is Device+n
)

// Flags are the error marks of one character or word, or of a frame.
type Flags uint32

// The marks.
const (
	Framing         Flags = 1 << iota // the stop bit was low
	Parity                            // the parity bit did not fit
	Break                             // all bits low, the stop bit too
	Noise                             // the samples of one bit disagreed
	Overrun                           // a character completed that found the receive register full, and was lost
	ParityOrFraming                   // the operating system does not say which
	Glitch                            // a low pulse too short for a start bit
	Floating                          // the line was not driven at a sample
	Short                             // spi: select was released inside a word
	CutOff                            // the capture ended inside of it
	StopInByte                        // i2c: a stop inside a byte
	Stuff                             // can: six equal bits where stuffing forbids them
	Form                              // can: a bit of fixed form was wrong
	CheckSequence                     // can: the check sequence or the stuff count did not fit
	NotAcknowledged                   // can: nobody acknowledged
	ErrorFlag                         // can: an error flag without a fault before it: a bit error, or a node's local error
	Overload                          // can: an overload flag
	Stuck                             // i2c: a line was held low for too long
	Stretched                         // i2c: the clock was held low for longer than the limit
	Clash                             // spi: another device was selected at the same time
	Collision                         // two ends drove the line against each other
)

var flagNames = []string{
	"framing", "parity", "break", "noise", "overrun", "parity or framing", "glitch", "floating line",
	"released inside a word", "cut off", "stop inside a byte", "stuff", "form", "check sequence", "not acknowledged", "error flag", "overload", "bus stuck", "clock stretched too long", "two devices selected", "collision",
}

// Names gives the names of the raised marks.
func (f Flags) Names() []string {
	var out []string
	for i, n := range flagNames {
		if f&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

func (f Flags) String() string { return strings.Join(f.Names(), " + ") }

// MarksText gives marks with the characters that they belong to, as `3 parity; 7
// framing + break`; an index equal to the number of characters stands for something
// behind the last one.
func MarksText(marks []Mark) string {
	var out []string
	for _, m := range marks {
		out = append(out, fmt.Sprintf("%d %s", m.Index, m.Flags))
	}
	return strings.Join(out, "; ")
}

// ParseFlags is the inverse of String; unknown words are left out.
func ParseFlags(s string) Flags {
	var f Flags
	for w := range strings.SplitSeq(s, " + ") {
		for i, n := range flagNames {
			if n == w {
				f |= 1 << i
			}
		}
	}
	return f
}

// Mark puts flags on the character with the given index. An index equal to
// the number of characters marks something behind the last one.
type Mark struct {
	Index int
	Flags Flags
}

// Record is one decoded thing. Whoever gets a record from a Sink call must
// copy what it keeps: slices belong to the caller and are used again.
type Record struct {
	Kind   Kind
	Link   uint16 // index into the capture's table of links
	Seen   End    // whose receiver saw it
	From   End    // who sent it
	Origin Origin
	More   bool // the run goes on in the next record without an idle gap

	Start, End quantity.Time // of a run: start bit of the first to the end of the last stop bit

	// Data are the characters of a run, one byte each up to 8 data bits,
	// else two bytes each, least significant first.
	Data []byte
	Wide bool // two bytes a character

	// Offsets are the starts of the characters relative to Start. It is nil
	// where the source gives no time for each character.
	Offsets []quantity.Time
	Each    quantity.Time // duration of one character; 0 where unknown
	Marks   []Mark        // in order of their index
	Text    string

	// Bits is the size of a word on spi in bits; a word takes as many bytes
	// of Data as it needs, least significant first. On can it is the length code,
	// NoLength where the frame broke off before it.
	Bits uint8
	// Back is, on spi, what the device sent in the same positions as Data;
	// on i2c a byte for each of Data with the bits Acked and Addressing.
	Back []byte
	// ID is the identifier of a can frame.
	ID   uint32
	Attr Attr
	// Facts are what records of some kinds of bus say beyond that.
	Facts []Fact
}

// Alike says whether two records tell of the same, at whatever times.
func (r *Record) Alike(o *Record) bool {
	return r.Kind == o.Kind && r.Link == o.Link && r.Seen == o.Seen && r.From == o.From && r.ID == o.ID && r.Attr == o.Attr && r.Bits == o.Bits &&
		r.Wide == o.Wide && r.More == o.More && r.Text == o.Text && bytes.Equal(r.Data, o.Data) && bytes.Equal(r.Back, o.Back) && slices.Equal(r.Marks, o.Marks)
}

// NoLength stands for a length code that was not sent.
const NoLength = 0xff

// Fact is a number that a record of some kinds of bus has beyond what all have.
type Fact struct {
	What  FactKind
	Index int // of the character, byte or word that it belongs to
	Value int64
}

// FactKind says what a Fact is.
type FactKind uint8

// The facts. Times are in picoseconds.
const (
	BreakLength FactKind = iota // uart: how long the line was low
	LastSample                  // spi: of a word, relative to the record's start
	CutBits                     // spi, i2c: how many bits there are of a word or byte that was cut off
	CutOut                      // spi, i2c: these bits, the first one the most significant
	CutIn                       // spi: likewise of the other direction
	StartAt                     // i2c: of the start before a byte, relative to the record's start
	CheckValue                  // can: the check sequence as it was sent
	StuffBits                   // can: bits put in by stuffing, up to where the frame was read
	FlagAt                      // can: the error flag behind the frame, relative to the record's start
	Answer                      // can: of a frame that broke off behind its acknowledge slot: 1 if somebody answered
	WonOver                     // can: identifier of a frame that lost the arbitration against this one, bit 29 for 29 bits; Index is the deciding bit, from 1
	HeldBack                    // can: how long the frame had to wait since it lost an arbitration
	ErrorCounts                 // can: of the end that is Index behind it: receive errors in the low 16 bits, transmit errors above
	Undriven                    // spi: the bits of a word at which nobody drove the line back, as a mask
	factKinds                   // keep last
)

// Known says whether the number of a fact has a meaning.
func (k FactKind) Known() bool { return k < factKinds }

// Fact gives a fact of the character with an index.
func (r *Record) Fact(what FactKind, index int) (v int64, ok bool) {
	for _, f := range r.Facts {
		if f.What == what && f.Index == index {
			return f.Value, true
		}
	}
	return 0, false
}

// Bits of Back on i2c.
const (
	Acked      = 1 << iota // the byte was acknowledged
	Addressing             // the byte follows a start
)

// Attr are the properties of a can frame.
type Attr uint8

// The properties.
const (
	Extended   Attr = 1 << iota // 29-bit identifier
	Remote                      // remote frame: Data is empty, Bits its length code
	FD                          // flexible data rate format
	Switched                    // the data phase at its own rate
	Passive                     // error-state indicator: the sender is error passive
	Stopped                     // i2c: the transaction ended with a stop
	Addressed                   // uart: the ninth bit of a character marks an address
	Incomplete                  // can: the frame broke off before its identifier was complete
)

// Len is the number of characters.
func (r *Record) Len() int {
	if r.Wide {
		return len(r.Data) / 2
	}
	if r.Bits > 8 && r.Kind == Transaction {
		return len(r.Data) / ((int(r.Bits) + 7) / 8)
	}
	return len(r.Data)
}

// Char gives the character with the index i.
func (r *Record) Char(i int) uint16 {
	if r.Wide {
		return uint16(r.Data[2*i]) | uint16(r.Data[2*i+1])<<8
	}
	return uint16(r.Data[i])
}

// Words takes bytes of the record, Data or Back, apart into words of Bits bits.
func (r *Record) Words(data []byte) []uint32 {
	n := max((int(r.Bits)+7)/8, 1)
	var out []uint32
	for i := 0; i+n <= len(data); i += n {
		w := uint32(0)
		for k := n - 1; k >= 0; k-- {
			w = w<<8 | uint32(data[i+k])
		}
		out = append(out, w)
	}
	return out
}

// Traffic says whether the record is of what went over a bus.
func (r *Record) Traffic() bool {
	return r.Kind == Chars || r.Kind == Transaction || r.Kind == Frame || r.Kind == Flow
}

// FlagsAt gives the marks of the character with the index i.
func (r *Record) FlagsAt(i int) Flags {
	var f Flags
	for _, m := range r.Marks {
		if m.Index == i {
			f |= m.Flags
		}
	}
	return f
}

// AllFlags gives the marks of the whole record.
func (r *Record) AllFlags() Flags {
	var f Flags
	for _, m := range r.Marks {
		f |= m.Flags
	}
	return f
}

// Clone gives a copy that shares nothing with r.
func (r *Record) Clone() (c Record) {
	r.CloneTo(&c)
	return c
}

// CloneTo makes c a copy that shares nothing with r, in the memory that c has.
func (r *Record) CloneTo(c *Record) {
	data, offsets, back, marks, facts := c.Data[:0], c.Offsets[:0], c.Back[:0], c.Marks[:0], c.Facts[:0]
	*c = *r
	c.Data = append(data, r.Data...)
	c.Offsets = append(offsets, r.Offsets...)
	c.Back = append(back, r.Back...)
	c.Marks = append(marks, r.Marks...)
	c.Facts = append(facts, r.Facts...)
}

// Sink takes records as they are decoded.
type Sink interface {
	// Put takes a finished record; what it keeps of it is to be a copy.
	Put(r *Record)
	// Open shows the present state of a run that is not finished yet. The
	// next Open or Put for the same link, sender and receiver replaces it.
	Open(r *Record)
}

// List is a Sink that keeps copies, for tests and one-off decoding.
type List struct {
	Done    []Record
	Running map[[3]int]Record // by link, sender and receiver
}

func key(r *Record) [3]int { return [3]int{int(r.Link), int(r.From), int(r.Seen)} }

// Put implements Sink.
func (l *List) Put(r *Record) {
	l.Done = append(l.Done, r.Clone())
	delete(l.Running, key(r))
}

// Open implements Sink.
func (l *List) Open(r *Record) {
	if l.Running == nil {
		l.Running = map[[3]int]Record{}
	}
	l.Running[key(r)] = r.Clone()
}
