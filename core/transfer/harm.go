package transfer

// Harm is what is seen of a wrong plan when it runs.
type Harm string

// The harms.
const (
	NoHarm            Harm = ""
	FlowsBackwards    Harm = "the data flows backwards"
	OnlyLastKept      Harm = "only the last word is kept"
	FirstRepeated     Harm = "the first word is repeated"
	OnlyFirstRight    Harm = "only the first word is right"
	OnlyFirstSent     Harm = "only the first word is sent"
	EverySecond       Harm = "every second byte is wrong"
	PastBuffer        Harm = "it goes past the buffer"
	NeverCompletes    Harm = "it never completes"
	EndsEarly         Harm = "it ends early"
	NothingMoves      Harm = "nothing moves"
	WrongDataAtOnce   Harm = "wrong data at once"
	RepeatsForEver    Harm = "it repeats for ever"
	StopsAfterFirst   Harm = "it stops after the first time"
	NeverTold         Harm = "nobody is told"
	UnreadOverwritten Harm = "unread data is overwritten"
	EndUnnoticed      Harm = "the end is not noticed"
	Hangs             Harm = "the processor hangs"
	Endless           Harm = "the handler is called for ever"
	WordsLost         Harm = "words are lost"
	KernelCorrupted   Harm = "the kernel is corrupted"
	Aborted           Harm = "a good transfer is given up"
	WaitsForEver      Harm = "it waits for ever"
	BusError          Harm = "a bus error"
	ForeignMemory     Harm = "foreign memory is used"
	StaleRead         Harm = "stale data is read"
	StaleSent         Harm = "stale data is sent"
	FirstLost         Harm = "the first words are lost"
	LastCut           Harm = "the last words are cut"
	LostInRing        Harm = "bytes are lost in the ring"
	TakenTwice        Harm = "bytes are taken twice"
)
