// Package bus defines what each kind of bus must be able to do. The kinds
// themselves are packages below this one; package all lists them.
package bus

import (
	"fmt"
	"strconv"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Decoder turns line levels into records. It is fed windows that follow each
// other without a gap, one for each line of the bus and all over the same
// stretch of time; how the stretch is cut never changes the records.
type Decoder interface {
	Feed(lines []wire.Window, out record.Sink)
	// Wake gives the earliest time up to which the decoder must be fed so
	// that silence alone yields something; quantity.Forever when it will not.
	Wake() quantity.Time
	// Flush ends the capture and puts out what is still unfinished; what broke off
	// is marked record.CutOff.
	Flush(out record.Sink)
}

// Rester is a Decoder for which silence has a meaning. Rest, before Flush, says that the
// capture ended with a change of one of the lines, as captures do that keep only
// changes: lines that rest go on resting.
type Rester interface{ Rest(out record.Sink) }

// Settings are the frame settings of one end of a link.
type Settings interface {
	// Describe gives the settings in the trade's short form, as `7E1`.
	Describe() string
}

// Difference is one setting in which two ends differ.
type Difference struct {
	Code     string // stable, in words: `parity-differs`
	What     string // the setting
	Harmless bool   // both directions work all the same
	Effects  []string
}

// Role is the part that a line plays on a bus.
type Role struct {
	Name     string // as a line is named in a link's description: `clock`
	Optional bool
	High     bool // the level of an absent line
}

// Kind is one kind of bus.
type Kind struct {
	Name string
	// Title is the name in prose.
	Title string
	Mark  string // one letter for lists
	Hue   int    // by which it is told from others, 1 to 5
	Lines []Role // in the order in which a Decoder takes them
	// Selects: each part has a line that selects it, and what goes over the bus from one
	// release of it to the next is a transaction of its own.
	Selects bool

	// Records is what its traffic is: runs of characters, transactions, or frames.
	Records record.Kind
	// Steps are the start-up steps that units of this kind have beyond those of
	// all (startup.Role.Own).
	Steps []string
	// Schema lists the frame settings of an end.
	Schema *doc.Type
	// Parse reads the settings from a node that satisfies Schema.
	Parse func(n *doc.Node) (Settings, error)
	// EndSchema lists what a device file says of its end on this bus, ParseEnd
	// reads it: an end as the part's sheet words it, of the kind's own type.
	EndSchema *doc.Type
	ParseEnd  func(n *doc.Node, name string) (any, error)
	// Compare lists the settings in which two ends differ, with their effects.
	Compare func(a, b Settings, nameA, nameB string) []Difference
	// Variant gives the next of the settings that are worth trying where an exchange
	// isn't understood, round and round, with its name; nil where there are none.
	Variant func(s Settings) (next Settings, name string)
	// Roles gives the lines of a link with devices of these names, where they
	// depend on them; nil: they are Lines.
	Roles func(devices []string) []Role
	// Receivers gives what the receiver of each end reads from the lines of a Decoder with its
	// own settings; nil for a bus on which all ends read what a tap does.
	Receivers func(link uint16, ends []Settings) Decoder
	// Decoder gives the decoder of an ideal tap on the lines. The settings are
	// those of the ends, the MCU's first; a single one holds for all.
	Decoder func(link uint16, ends []Settings) Decoder
	// Labels gives the meaning of the levels under a record: it is made anew for
	// what is drawn, and kept nowhere. The lines' windows reach over the record;
	// absent lines are windows without toggles.
	Labels func(ends []Settings, r *record.Record, lines []wire.Window) []Label
	// LineOf gives the role of the line that a record went over; nil where all
	// lines of the bus carry it together.
	LineOf func(r *record.Record) int
	// Driver gives the end that drives a line alone, as its index among the ends;
	// nil or -1 where several may.
	Driver func(role int) int
	// Measure says in words how what a record's sender drives compares with what
	// its reader wants, from the records of a line and the line's toggles; nil
	// where nothing is measured.
	Measure func(ends []Settings, role int, rs []*record.Record, lines []wire.Window) string
	// Plan gives the levels of one transaction that is planned in words, from the
	// time 0 on, one window a role; PlanHelp says how it is written. A byte
	// written as .. is open: it is filled with zeros or with ones. Unit is the
	// bit time of buses that a clock drives.
	Plan     func(ends []Settings, text string, unit quantity.Time, fill bool) ([]wire.Window, error)
	PlanHelp string
	// Sends says why a planned transaction can't be sent, beyond what Plan says; nil: all
	// can. Follows names fields whose bits follow from all others: they are open where
	// any is.
	Sends   func(text string) error
	Follows []string
	// Packet is how records of this bus stand in capture files in a form that others
	// know; nil where there is none.
	Packet *Packet
	// Sentence gives a record of this bus in words.
	Sentence func(r *record.Record) string
	// Byte says what the bus makes of a character of a sender, beyond its value; nil
	// where that is nothing.
	Byte func(ends []Settings, from record.End, v uint16) string
	// EndNotes gives what a record tells of the state of single ends, as error
	// counters; nil where records tell of none.
	EndNotes func(r *record.Record) []EndNote
	// Fields gives what a record of this bus says beyond what all records
	// do, as documented in docs/formats.md.
	Fields func(r *record.Record) map[string]any
}

// EndNote is the state of one end, the MCU's being 0, in words.
type EndNote struct {
	End  int
	Text string
	Bad  bool // worth a look
}

// RolesFor gives the lines of a link with devices of these names.
func (k *Kind) RolesFor(devices []string) []Role {
	if k.Roles == nil {
		return k.Lines
	}
	return k.Roles(devices)
}

// RolesOf gives the lines of a link with these ends.
func (k *Kind) RolesOf(ends []Settings) []Role {
	return k.RolesFor(make([]string, max(len(ends)-1, 0)))
}

// At gives the settings of the end with the index; a single one holds for all.
func At(ends []Settings, i int) Settings {
	switch {
	case len(ends) == 0:
		return nil
	case i < 0 || i >= len(ends):
		return ends[0]
	}
	return ends[i]
}

// Packet is a form of packets in pcapng files that others know.
type Packet struct {
	LinkType uint16
	// Encode gives the packets of a record, one or more. They need not say all.
	Encode func(r *record.Record) [][]byte
	// Decode reads a packet that something else wrote into a record, which has its
	// time and its link already.
	Decode func(b []byte, r *record.Record) error
}

// Node is one party on a bus whose lines all parties share: a line is high
// only while nobody pulls it low.
type Node interface {
	// Step gives the node the levels that it sees on its lines from the time t
	// on, in the order of the kind's roles. The node writes to release what it
	// lets the lines be from t on (false: it pulls the line low) and returns
	// the time at which it must be called again if no level changes before;
	// quantity.Forever when only a change can matter to it. It is called with
	// rising times, again with the same time where a level changes at it.
	Step(t quantity.Time, high []bool, release []bool) (wake quantity.Time)
}

// LabelKind says what a Label names.
type LabelKind uint8

// The kinds of labels.
const (
	FieldLabel  LabelKind = iota // several bits with one meaning: an address, a word
	BitLabel                     // one bit
	StuffLabel                   // a bit without a meaning of its own
	EventLabel                   // a start, a stop, an error
	SampleLabel                  // the instant at which a receiver looks
)

// Label is the meaning of a stretch of one line.
type Label struct {
	Kind     LabelKind
	Line     int // index into the kind's roles
	From, To quantity.Time
	Text     string
	High     bool // of a bit: the level that it has on the wire
}

// Open is how a plan writes a byte that may be anything.
const Open = ".."

// PlannedByte reads a byte or word of a plan in hex, with as many digits as bits
// need; an open one is filled.
func PlannedByte(w string, bits int, fill bool) (uint32, error) {
	most := uint32(1)<<bits - 1
	if w == Open {
		if fill {
			return most, nil
		}
		return 0, nil
	}
	v, err := strconv.ParseUint(w, 16, 32)
	if err != nil || uint32(v) > most {
		return 0, fmt.Errorf("%q: write a value of %d bits in hex, or %s for any", w, bits, Open)
	}
	return uint32(v), nil
}
