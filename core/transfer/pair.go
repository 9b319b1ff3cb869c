package transfer

import (
	"slices"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// Half is one direction of a full-duplex pair.
type Half struct {
	Count   int
	Armed   quantity.Time
	Latency quantity.Time // from the request to the element
}

// Pair is a full-duplex transfer by two DMA channels: what is sent clocks in what is
// received.
type Pair struct {
	Bit           quantity.Period
	WordBits, Gap int // bits of a word, and of the pause behind each
	Send, Receive Half
	OnFull        machine.Policy // of the receive register, which holds one word
	Old           bool           // a word from before waits in it
	Hold          quantity.Time  // from the end of the last word to the release of the select
}

// PairRun is what became of the words. Times that were never reached are -1.
type PairRun struct {
	Clocked       int
	Received      []int // the words, as they stand in memory; -1: the old one
	Lost          []int
	LeftOver      int // waits in the register; -2: none
	Missing       int
	ReceiveDone   quantity.Time
	SendDone      quantity.Time // the last word is in the send register
	RegisterEmpty quantity.Time // the last word has moved to the shifter
	LastBit       quantity.Time
	Release       quantity.Time
	CutAtSendDone int // words not complete if the select were released then
	CutAtEmpty    int
	Marks         []machine.Mark
}

// PairOf runs a pair.
func PairOf(q Pair) PairRun {
	m := machine.New(quantity.FromHz(1e6)) // no processor takes part
	m.Log.Keep = 1 << 16
	m.DMA.Clock, m.DMA.Hz = true, 1e12 // its time is in the latencies
	p := m.AddPort(&machine.Port{Name: "unit", OnFull: q.OnFull, Enabled: true, WordTime: q.Bit.Times(int64(q.WordBits)), Gap: q.Bit.Times(int64(q.Gap))})
	out := PairRun{ReceiveDone: -1, SendDone: -1, RegisterEmpty: -1, LastBit: -1, Release: -1, LeftOver: -2}
	var finished []quantity.Time
	p.Echo = func(w machine.Word) machine.Word { return w }
	p.OnMoved = func(w machine.Word) {
		if w.Serial == q.Send.Count-1 {
			out.RegisterEmpty = m.Now()
		}
	}
	p.OnFinished = func(w machine.Word) { finished = append(finished, m.Now()) }
	if q.Old {
		p.Receive(machine.Word{Serial: -1})
	}
	const memory = 0x1000
	m.Memory.Regions = []machine.Region{{Name: "memory", Bytes: 1 << 40, DMA: true, Writable: true}}
	send := m.Memory.Add("send", memory, q.Send.Count)
	for i := range q.Send.Count {
		send.Cells[i].Serial = i
	}
	p.OnTaken = func(w machine.Word) {
		out.Received = append(out.Received, w.Serial)
		if len(out.Received) == q.Receive.Count {
			out.ReceiveDone = m.Now()
		}
	}
	p.ReceiveDMA, p.RoomDMA = true, true
	add := func(c *machine.Channel, h Half) {
		c.Mapped, c.Count, c.Latency = true, h.Count, h.Latency
		c.From.Width, c.To.Width = 1, 1
		m.AddChannel(c)
		m.At(h.Armed, c.Arm)
	}
	add(&machine.Channel{Request: machine.Line{Port: p}, From: machine.Cursor{Address: p.Data()}, To: machine.Cursor{Address: memory + 1<<20, Moves: true}}, q.Receive)
	tx := &machine.Channel{Request: machine.Line{Port: p, Room: true}, From: machine.Cursor{Address: memory, Moves: true}, To: machine.Cursor{Address: p.Data()}}
	add(tx, q.Send)
	for m.Next() != quantity.Forever {
		m.RunTo(m.Next())
		if tx.Moved == q.Send.Count && out.SendDone < 0 {
			out.SendDone = m.Now()
		}
	}
	out.Clocked = len(finished)
	out.Lost = slices.Clone(p.LostSerials)
	for _, w := range p.Waiting() {
		out.LeftOver = w.Serial
	}
	out.Missing = max(0, q.Receive.Count-len(out.Received))
	if out.Clocked == q.Send.Count && out.Clocked > 0 {
		out.LastBit = finished[len(finished)-1]
		out.Release = out.LastBit + q.Hold
	}
	for _, at := range finished {
		if at > out.SendDone {
			out.CutAtSendDone++
		}
		if at > out.RegisterEmpty {
			out.CutAtEmpty++
		}
	}
	out.Marks = m.Log.Marks()
	return out
}
