package transfer

import (
	"bytes"
	"slices"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

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

// harms says what can be seen to be wrong.
func (x *running) harms() []Harm {
	r, p := x.run, x.p
	var out []Harm
	add := func(seen bool, h Harm) {
		if seen && !slices.Contains(out, h) {
			out = append(out, h)
		}
	}
	word := p.Stream.Bytes()
	add(r.State == IsHung, Hangs)
	add(r.State == IsEndless, Endless)
	add(r.State == IsBroken, BusError)
	add(x.ch != nil && p.FromUnit != p.Receive && r.Moved > 0, FlowsBackwards)
	add(r.Moved == 0 && x.words > 0 && r.State != IsHung && r.State != IsBroken && r.State != IsEndless && p.Means == DMA, NothingMoves)
	add(x.early, WrongDataAtOnce)
	add(r.State == Repeating, RepeatsForEver)
	add(p.Goal != Fixed && x.ch != nil && !x.ch.Enabled && x.ch.Laps > 0, StopsAfterFirst)
	add(!x.live && p.Goal == Fixed && r.State == IsDone && r.Moved < p.Words(), EndsEarly)
	add(r.State == TimedOut && p.Receive && r.Moved >= p.Words(), NeverCompletes)
	add(r.State == TimedOut && r.Moved > 0 && r.Moved < p.Words(), Aborted)
	happened := p.Means == Interrupt || x.ch != nil && (x.ch.Laps > 0 || x.ch.HalfFlag && p.TellHalf || x.port.IdleFlag)
	add((p.Tells == ByInterrupt || p.Means == Interrupt) && r.Calls == 0 && happened && r.State != IsHung, NeverTold)
	add(x.foreign, ForeignMemory)
	if p.Kernel && p.Urgency < x.s.Part.Kernel && r.Calls != 0 {
		add(true, KernelCorrupted)
	}
	reg := x.s.Part.Region(p.Memory)
	add(p.Means == DMA && p.Receive && reg != nil && reg.Cached && p.Cache != Invalidate && r.Moved > 0, StaleRead)
	add(p.Goal == Messages && p.Tells == ByInterrupt && r.Calls >= 0 && (!x.live || r.Moved > 2*p.Words()) && x.idleCalls == 0 && r.Moved > 0 && r.State == IsRunning, EndUnnoticed)
	first := x.port.LostSerials
	add(len(first) > 0 && first[0] == 0 && x.armed > x.enabled || len(first) > 0 && x.lostBeforeArmed(), FirstLost)
	add(len(first) > 0 && (r.State == IsRunning || r.State == TimedOut && r.Calls > 0) && !slices.Contains(out, FirstLost), WordsLost)
	unread := 0
	for i := range min(p.Bytes, len(x.buf.Cells)) {
		unread += x.buf.Cells[i].Lost
	}
	add(p.Goal.Rings() && unread > 0 && r.Calls > 0 && p.Means == DMA, UnreadOverwritten)
	if p.Consumer != Consumers[0].Name { // what a wrong consumer does; the right one is spoilt by what comes before it
		lost, doubled := 0, 0
		switch {
		case r.Account != nil:
			lost, doubled = r.Account.LostBytes(), r.Account.DoubledBytes()
		case r.Ring != nil:
			lost, doubled = r.Ring.Sums()
		}
		add(lost > 0, LostInRing)
		add(doubled > 0, TakenTwice)
	}
	if !p.Receive {
		x.sentHarms(add, word)
	} else {
		x.keptHarms(add, word)
	}
	add(!p.Receive && r.Moved > 0 && (p.Release == AtRegisterEmpty || p.Release == AtDMADone), LastCut)
	return out
}

// lostBeforeArmed says whether what was lost was lost while nothing was armed yet.
func (x *running) lostBeforeArmed() bool {
	n := x.port.LostSerials[len(x.port.LostSerials)-1]
	return x.enabled+x.p.Stream.Word()*quantity.Time(n+1) <= x.armed && x.armed > x.enabled
}

// sentHarms looks at what went out.
func (x *running) sentHarms(add func(bool, Harm), word int) {
	wire, p := x.run.Wire, x.p
	if len(wire) == 0 {
		return
	}
	var want, got []byte
	for k := range min(len(wire), p.Words()) {
		for b := range word {
			want = append(want, Data(k*word+b))
			got = append(got, byte(wire[k]>>(8*b)))
		}
	}
	n := len(got)
	add(n > word && x.run.Moved > 1 && bytes.Equal(got, bytes.Repeat(want[:word], n/word)) && !p.Filler, FirstRepeated)
	add(len(wire) == 1 && x.run.Moved > 1 && bytes.Equal(got, want), OnlyFirstSent)
	add(n > 3 && everySecond(got, want), EverySecond)
	past := false
	for _, w := range wire {
		for b := range word {
			past = past || byte(w>>(8*b)) == machine.Foreign
		}
	}
	add(past && (len(wire) > p.Words() || p.Bytes < p.Length || bytes.IndexByte(got, machine.Foreign) >= 0 && bytes.IndexByte(want, machine.Foreign) < 0), PastBuffer)
	add(n > 1 && bytes.Equal(got, bytes.Repeat([]byte{machine.Untouched}, n)), StaleSent)
}

// keptHarms looks at what memory holds.
func (x *running) keptHarms(add func(bool, Harm), word int) {
	p := x.p
	got := x.buf.Values()
	for _, c := range x.buf.Cells[x.buf.Bytes:] {
		add(c.Written >= 0, PastBuffer)
	}
	if x.run.Moved < 2 || p.Goal.Rings() && x.run.Moved >= p.Words() {
		if p.Goal.Rings() {
			x.ringHarms(add, got, word)
		}
		return
	}
	var want []byte
	for i := range min(x.run.Moved*word, x.buf.Bytes) {
		want = append(want, Data(i))
	}
	got = got[:min(len(want), x.buf.Bytes)]
	want = want[:len(got)]
	add(everySecond(got, want), EverySecond)
	lastWord := []byte{}
	for b := range word {
		lastWord = append(lastWord, Data((x.run.Moved-1)*word+b))
	}
	add(len(got) > word && bytes.Equal(got[:word], lastWord) && got[word] == machine.Untouched, OnlyLastKept)
	add(len(got) > word && bytes.Equal(got[:word], want[:word]) && got[word] == machine.Neighbour, OnlyFirstRight)
}

// ringHarms looks at a ring that has been round.
func (x *running) ringHarms(add func(bool, Harm), got []byte, word int) {
	got = got[:x.buf.Bytes]
	if len(got) <= 2*word || x.run.Moved < 2 {
		return
	}
	untouched, beside, zero := 0, 0, 0
	for i, v := range got {
		switch {
		case x.buf.Cells[i].Written < 0:
			untouched++
		case v == machine.Neighbour:
			beside++
		case v == 0 && i%2 == 1:
			zero++
		}
	}
	thinned := word == 2 && x.p.MemoryWidth == 8 && x.ch != nil && x.p.MemorySteps
	for i := range min(x.p.Count, len(got)) {
		if w := x.run.Moved - 1 - (x.run.Moved-1-i+x.p.Count)%x.p.Count; w >= 0 {
			thinned = thinned && got[i] == Data(w*word)
		}
	}
	add(thinned, EverySecond)
	add(untouched >= len(got)-word && x.run.Moved > 1, OnlyLastKept)
	add(beside >= len(got)-2*word, OnlyFirstRight)
	// Real traffic may hold as many zeros by itself.
	wide := x.ch != nil && x.p.MemoryWidth > 8*word
	add(zero >= len(got)/2-1 && (!x.live || wide), EverySecond)
}

// everySecond says whether of the bytes got every second one is zero, or every second one of
// those wanted is missing.
func everySecond(got, want []byte) bool {
	n := len(got)
	if n < 4 || bytes.Equal(got, want) {
		return false
	}
	spread, thinned, halved := true, true, true
	for i := range n {
		if i%2 == 0 {
			spread = spread && got[i] == want[i/2]
			halved = halved && got[i] == want[i]
		} else {
			spread = spread && got[i] == 0
			halved = halved && got[i] == 0
		}
		if 2*i < n {
			thinned = thinned && got[i] == want[2*i]
		}
	}
	return spread || thinned || halved
}
