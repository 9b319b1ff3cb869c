package transfer

import (
	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// Goal is what a transfer is for.
type Goal uint8

// The goals.
const (
	Fixed    Goal = iota // a stated length, then it is over
	Unending             // a ring that is filled for ever
	Messages             // a ring, or bytes one by one, whose end silence tells
	Repeat               // the same data sent for ever
)

// Goals are the words for the goals, in their order.
var Goals = []string{"fixed", "ring", "messages", "repeat"}

func (g Goal) String() string { return Goals[g] }

// Rings says whether the goal is a ring.
func (g Goal) Rings() bool { return g == Unending || g == Messages }

// Means is by what a transfer moves its words.
type Means uint8

// The means.
const (
	Polled Means = iota
	Interrupt
	DMA
)

// AllMeans are the words for the means, in their order.
var AllMeans = []string{"polled", "interrupt", "dma"}

func (m Means) String() string { return AllMeans[m] }

// Care is what the firmware does for a cached buffer.
type Care uint8

// The cares.
const (
	NoCare     Care = iota
	Clean           // writes the cache back before sending
	Invalidate      // drops the cache's copy after receiving
)

// Cares are the words for the cares, in their order.
var Cares = []string{"none", "clean", "invalidate"}

func (c Care) String() string { return Cares[c] }

// Telling is how the caller learns that a transfer is over.
type Telling uint8

// The ways of telling.
const (
	ByInterrupt Telling = iota
	ByWaiting           // the caller waits
	ByNothing
)

// Tellings are the words for the ways, in their order.
var Tellings = []string{"interrupt", "wait", "nothing"}

func (t Telling) String() string { return Tellings[t] }

// Release is when a select or a line driver is given back.
type Release uint8

// The moments.
const (
	NothingToRelease Release = iota
	AtLastBit                // the last bit is out
	AtLastReceived           // the last word that came in is in memory
	AtRegisterEmpty          // the send register is empty: a word is still in the shifter
	AtDMADone                // the engine wrote the last word: up to two are still on their way
)

// Releases are the words for the moments, in their order.
var Releases = []string{"none", "last-bit", "last-received", "register-empty", "dma-done"}

func (r Release) String() string { return Releases[r] }

// Stream is what a plan carries: the words of one direction of a link.
type Stream struct {
	Bits      int     // of data in a word
	WordBits  float64 // that a word takes on the line
	Rate      quantity.Rate
	Depth     int // words that the unit holds
	SendDepth int
	OnFull    machine.Policy
	Register  int  // bits of the data register; 0: as many bytes as the word needs
	Duplex    bool // what is sent clocks in what is received
	Selects   bool // a select is held while words go
	Held      bool // the line waits for a late reader
}

// Word is the time of a word.
func (s Stream) Word() quantity.Time {
	return quantity.Time(s.WordBits * 1e12 / s.Rate.Bd())
}

// Bytes is how many bytes of memory a word takes: 1, 2, 4 or 8.
func (s Stream) Bytes() int {
	n := 1
	for n*8 < s.Bits && n < 8 {
		n *= 2
	}
	return n
}

// Plan is how the words of one stream move between memory and a bus unit.
type Plan struct {
	Name   string
	Unit   string
	Stream Stream

	// What is wanted.
	Receive bool
	Goal    Goal
	Length  int // bytes of data, or of the ring
	Means   Means
	Filler  bool // one word is sent again and again

	// Where the data is.
	Memory  string
	Address uint64
	Bytes   int
	Stack   bool // it lives on the caller's stack
	Cache   Care

	// The engine's channel.
	EngineClock            bool
	Channel                int
	Request                string
	FromUnit               bool
	UnitSteps, MemorySteps bool
	UnitWidth, MemoryWidth int // bits
	Count                  int
	Mode                   machine.Mode
	Chain                  []machine.Stretch // chained: what follows the first stretch
	ChannelPriority, Burst int
	TellHalf, TellFull     bool

	// The unit.
	UnitRequest, WordInterrupt, IdleInterrupt bool
	Level                                     int // words that raise its interrupt

	// How the end is told.
	Tells    Telling
	LineOn   bool // at the interrupt controller
	Urgency  int  // 0 is the most urgent
	Global   bool // interrupts are allowed at all
	Handler  bool
	Clears   bool // the handler clears the flag
	Kernel   bool // the handler calls the kernel
	Waits    bool // the handler waits for something
	Starts   bool // the handler starts a bus transfer
	Cycles   Cycles
	Every    quantity.Time // polled: period of the looks
	Work     quantity.Time // to work off what an event reported
	Consumer string
	Timeout  quantity.Time // 0: none
	Release  Release
	EndIdle  quantity.Time // silence that raises the unit's idle event; 0: a word
	Rearms   bool
	Period   quantity.Time // of what starts it anew; 0: nothing does

	// Given are the slots that somebody chose; Why says of the others how they came about.
	Given map[string]bool
	Why   map[string]string
}

// Words is how many words of the stream the length is.
func (p *Plan) Words() int { return (p.Length + p.Stream.Bytes() - 1) / max(p.Stream.Bytes(), 1) }

// Part is what an MCU offers to transfers.
type Part struct {
	Core        quantity.Freq
	Assumed     bool // nobody stated it
	Entry, Exit int  // cycles of a handler's entry and exit
	Regions     []machine.Region
	CacheLine   int // bytes
	Channels    int // numbered from 1
	MostCount   int
	BeatCycles  int
	Requests    map[string][]int // request line to the channels that can carry it
	Least       int              // the least urgent level; 0 is the most urgent
	Kernel      int              // handlers that call the kernel need at least this number; 0: no kernel
	Others      []Other
}

// Other is another handler of the firmware.
type Other struct {
	Name    string
	Urgency int
	Worst   quantity.Time
}

// Step is one step of starting: a unit is enabled, or the channel or request of a plan.
type Step struct {
	Of   string // the unit, or the plan
	What string // enable, channel, request
}

// Setup is all that one MCU is asked to do at once.
type Setup struct {
	Part     Part
	Plans    []*Plan
	Order    []Step // nil: an order that works
	StepTime quantity.Time
}

// Steps gives the order of starting.
func (s *Setup) Steps() []Step {
	if s.Order != nil {
		return s.Order
	}
	var out, enable []Step
	seen := map[string]bool{}
	for _, receive := range []bool{true, false} {
		for _, p := range s.Plans {
			if p.Receive != receive {
				continue
			}
			if p.Means == DMA {
				out = append(out, Step{p.Name, "channel"}, Step{p.Name, "request"})
			}
			if !seen[p.Unit] {
				seen[p.Unit] = true
				enable = append(enable, Step{p.Unit, "enable"})
			}
		}
	}
	return append(out, enable...)
}

// Region gives a memory by its name; nil where there is none.
func (s *Part) Region(name string) *machine.Region {
	for i := range s.Regions {
		if s.Regions[i].Name == name {
			return &s.Regions[i]
		}
	}
	return nil
}

// Before is the worst time that handlers at least as urgent as a level take, each once.
func (s *Part) Before(urgency int) quantity.Time {
	var t quantity.Time
	for _, o := range s.Others {
		if o.Urgency <= urgency {
			t += o.Worst
		}
	}
	return t
}

// Before is the worst time that other handlers at least as urgent as a plan's take, each once:
// those that the firmware has besides, and those of the other plans.
func (s *Setup) Before(p *Plan) quantity.Time {
	t := s.Part.Before(p.Urgency)
	for _, o := range s.Plans {
		if o.Name != p.Name && o.LineOn && o.Handler && o.Urgency <= p.Urgency {
			t += time(&s.Part, o.Cycles.Entry+o.Cycles.Handler+o.Cycles.Each+o.Cycles.Exit)
		}
	}
	return t
}
