// Package bus defines what each kind of bus must be able to do. The kinds
// themselves are packages below this one; package all lists them.
package bus

import (
	"gavrix/core/doc"
	"gavrix/core/finding"
	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/wire"
)

// Decoder turns line levels into records. It is fed windows that follow each
// other without a gap, one for each line of the bus and all over the same
// stretch of time; how the stretch is cut never changes the records.
type Decoder interface {
	Feed(lines []wire.Window, out record.Sink)
	// Wake gives the earliest time up to which the decoder must be fed so
	// that silence alone yields something; quantity.Forever when it will not.
	Wake() quantity.Time
	// Flush ends the capture and puts out what is still unfinished.
	Flush(out record.Sink)
}

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

// Kind is one kind of bus.
type Kind struct {
	Name  string
	Mark  string // one letter for lists
	About string
	Lines []string // roles of the lines, in the order in which a Decoder takes them

	// Schema lists the frame settings of an end in a bench file.
	Schema *doc.Type
	// Parse reads the settings of an end from its node, which satisfies
	// Schema.
	Parse func(n *doc.Node) (Settings, []finding.Finding)
	// Compare lists the differences between two ends.
	Compare func(a, b Settings, nameA, nameB string) []Difference
	// Decoder gives the decoder of an ideal tap on the lines, with the
	// settings of the end that drives each line.
	Decoder func(link uint16, drivers []Settings) Decoder
	// Duration is the time that the data takes on the wire, back to back.
	Duration func(s Settings, data []byte) quantity.Time
	// Labels gives the meaning of each stretch of one character or frame.
	Labels func(s Settings, value uint16) []Label
}

// Label is the meaning of a stretch of a frame.
type Label struct {
	Name     string // `start`, `b0`, `parity`, `stop`
	From, To quantity.Time
	High     bool
}
