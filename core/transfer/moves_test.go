package transfer

import (
	"cmp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// wordByWord is a full-duplex pair worked out by recursion over the words: when each is
// written, moves, ends, and is read. A model written apart from the machine.
func wordByWord(q Pair) (ends []quantity.Time, received, lost []int) {
	word, gap := q.Bit.Times(int64(q.WordBits)), q.Bit.Times(int64(q.Gap))
	ask := q.Send.Armed // when the send register asks
	free := quantity.Time(0)
	for range q.Send.Count {
		written := max(ask, q.Send.Armed) + q.Send.Latency
		moves := max(written, free)
		ask = moves
		ends = append(ends, moves+word)
		free = moves + word + gap
	}
	held, has := -1, q.Old
	since := quantity.Time(0)
	read := func(until quantity.Time) {
		for has && len(received) < q.Receive.Count {
			at := max(since, q.Receive.Armed) + q.Receive.Latency
			if at > until {
				return
			}
			received = append(received, held)
			has = false
		}
	}
	for k, at := range ends {
		read(at)
		switch {
		case !has:
			held, has, since = k, true, at
		case q.OnFull == machine.KeepOldest:
			lost = append(lost, k)
		default:
			lost, held = append(lost, held), k
		}
	}
	read(quantity.Forever)
	return ends, received, lost
}

// A pair of channels moves what the recursion says, in time and in content.
func TestPairsAgainstWords(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		us := func(name string, most int) quantity.Time {
			return quantity.Time(rapid.IntRange(0, most*1000).Draw(t, name)) * quantity.Nanosecond
		}
		q := Pair{Bit: quantity.PeriodOf(quantity.FromBd(1e6)), WordBits: 8, Gap: rapid.IntRange(0, 3).Draw(t, "gap"),
			Send:    Half{rapid.IntRange(1, 12).Draw(t, "send"), us("send armed", 40), us("send latency", 6) + 1},
			Receive: Half{rapid.IntRange(0, 14).Draw(t, "receive"), us("receive armed", 90) + 3, us("receive latency", 6) + 2},
			OnFull:  machine.Policy(2 * rapid.IntRange(0, 1).Draw(t, "policy")), Old: rapid.Bool().Draw(t, "old")}
		ends, received, lost := wordByWord(q)
		for _, e := range ends { // a read at the very moment of a word's end is a matter of taste
			for _, r := range []quantity.Time{q.Receive.Armed, q.Receive.Armed + q.Receive.Latency, e - q.Receive.Latency} {
				if slices.Contains(ends, r) && r != e {
					return
				}
			}
		}
		got := PairOf(q)
		require.Equal(t, len(ends), got.Clocked)
		require.InDelta(t, float64(ends[len(ends)-1]), float64(got.LastBit), 1000, "an element takes a picosecond")
		require.Equal(t, append([]int{}, received...), append([]int{}, got.Received...), "%+v", q)
		require.Equal(t, append([]int{}, lost...), append([]int{}, got.Lost...), "%+v", q)
		require.Less(t, got.SendDone, got.LastBit)
	})
}

// Armed in the wrong order, word 1 waits and word 2 finds the register full.
func TestReceiveIsArmedFirst(t *testing.T) {
	q := Pair{Bit: quantity.PeriodOf(quantity.FromBd(1e6)), WordBits: 8, Send: Half{Count: 6}, Receive: Half{Count: 6, Armed: 20 * quantity.Microsecond}}
	got := PairOf(q)
	assert.Equal(t, []int{1}, got.Lost)
	assert.Equal(t, []int{0, 2, 3, 4, 5}, got.Received)
	assert.Equal(t, 1, got.Missing)
	q.Receive.Armed = 0
	got = PairOf(q)
	assert.Empty(t, got.Lost)
	assert.Zero(t, got.Missing)
}

// at is a receive worked out by going through time in small steps: a model written apart.
func receivesByTime(bytes []Came, q Receives, step, until quantity.Time) (causes []Cause, counts []int) {
	armed, next, count, last := true, 0, 0, q.Armed
	since := q.Armed
	held := 0
	var heldMarks []bool
	again := quantity.Time(0)
	for now := quantity.Time(0); now <= until; now += step {
		cause := NotEnded
		if !armed && now >= again {
			armed, since, last, count = true, again, again, 0
			for held > 0 && cause == NotEnded {
				count++
				if heldMarks[0] {
					cause = ByEndMark
				} else if q.Rule.Count > 0 && count >= q.Rule.Count {
					cause = ByCount
				}
				held--
				heldMarks = heldMarks[1:]
			}
		}
		for next < len(bytes) && bytes[next].End <= now && cause == NotEnded {
			b := bytes[next]
			next++
			mark := q.Rule.EndMark >= 0 && int(b.Value) == q.Rule.EndMark
			if now < q.Armed {
				continue
			}
			if !armed {
				if held < q.Depth {
					held++
					heldMarks = append(heldMarks, mark)
				}
				continue
			}
			count++
			last = b.End
			if mark {
				cause = ByEndMark
			} else if q.Rule.Count > 0 && count >= q.Rule.Count {
				cause = ByCount
			}
		}
		if armed && cause == NotEnded {
			coming := next < len(bytes) && bytes[next].Start < last+q.Rule.Idle && count > 0
			switch {
			case q.Rule.Idle > 0 && count > 0 && !coming && now >= last+q.Rule.Idle:
				cause = ByIdle
			case q.Rule.Timeout > 0 && now >= since+q.Rule.Timeout:
				cause = ByTimeout
			}
		}
		if armed && cause != NotEnded {
			causes, counts = append(causes, cause), append(counts, count)
			if q.Most == len(causes) {
				return
			}
			armed, again = false, now+q.Rearm
		}
	}
	return
}

// Receives end when and why a walk through time says, where nothing is closer than a few of
// its steps.
func TestEndingsAgainstTime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const ms = quantity.Millisecond
		var bytes []Came
		at := ms / 2
		for range rapid.IntRange(0, 25).Draw(t, "bytes") {
			bytes = append(bytes, Came{at, at + ms, byte(rapid.IntRange(0, 5).Draw(t, "value"))})
			at += ms * quantity.Time(1+rapid.IntRange(0, 6).Draw(t, "gap"))
		}
		q := Receives{Most: rapid.IntRange(1, 5).Draw(t, "receives"), Rearm: ms*quantity.Time(rapid.IntRange(0, 4).Draw(t, "rearm")) + ms/4, Depth: rapid.IntRange(1, 3).Draw(t, "depth"), Rule: Rule{EndMark: -1}}
		if rapid.Bool().Draw(t, "count") {
			q.Rule.Count = rapid.IntRange(1, 8).Draw(t, "n")
		}
		if rapid.Bool().Draw(t, "mark") {
			q.Rule.EndMark = 3
		}
		if rapid.Bool().Draw(t, "idle") {
			q.Rule.Idle = ms*quantity.Time(rapid.IntRange(1, 4).Draw(t, "quiet")) + ms/3
		}
		if rapid.Bool().Draw(t, "timeout") || q.Rule.Check() != nil {
			q.Rule.Timeout = ms*quantity.Time(rapid.IntRange(2, 30).Draw(t, "limit")) + ms/7
		}
		causes, counts := receivesByTime(bytes, q, ms/200, at+200*ms)
		off := q
		off.Depth = 0
		for _, q := range []Receives{q, off} {
			got, lost, left := ReceivesOf(bytes, q)
			taken := len(lost) + len(left)
			for _, r := range got {
				taken += r.Count
			}
			require.Equal(t, len(bytes), taken, "each byte is taken, lost or left")
		}
		got, _, _ := ReceivesOf(bytes, q)
		for i, r := range got {
			if r.Cause == NotEnded {
				break
			}
			require.Less(t, i, len(causes), "%+v: %+v", q, got)
			require.Equal(t, causes[i], r.Cause, "receive %d of %+v: %v", i, q, bytes)
			require.Equal(t, counts[i], r.Count, "receive %d of %+v: %v", i, q, bytes)
		}
	})
}

// Four messages, four causes; a pause shorter than a character ends none.
func TestFourEndings(t *testing.T) {
	const ms = quantity.Millisecond
	var bytes []Came
	say := func(at quantity.Time, text string) {
		for i := range len(text) {
			bytes = append(bytes, Came{at + quantity.Time(i)*ms, at + quantity.Time(i+1)*ms, text[i]})
		}
	}
	say(0, "12345678")                                           // full
	say(20*ms, "34\n")                                           // its end mark
	say(40*ms, "5")                                              // silence, after a pause
	bytes = append(bytes, Came{41*ms + ms/2, 42*ms + ms/2, '6'}) // that is shorter than a character
	got, lost, _ := ReceivesOf(bytes, Receives{Most: 4, Rearm: ms / 10, Depth: 1, Rule: Rule{Count: 8, EndMark: '\n', Idle: 3 * ms, Timeout: 100 * ms}})
	require.Empty(t, lost)
	var causes []Cause
	var counts []int
	for _, r := range got {
		causes, counts = append(causes, r.Cause), append(counts, r.Count)
	}
	assert.Equal(t, []Cause{ByCount, ByEndMark, ByIdle, ByTimeout}, causes)
	assert.Equal(t, []int{8, 3, 2, 0}, counts)
}

// A burst of five into a queue of three loses two, and the rule says which.
func TestStatedFrames(t *testing.T) {
	var ends []quantity.Time
	for k := range 5 {
		ends = append(ends, quantity.Time(k+1)*quantity.Millisecond)
	}
	for policy, want := range map[machine.Policy][]int{machine.KeepOldest: {0, 1, 2}, machine.KeepNewest: {2, 3, 4}, machine.ReplaceLast: {0, 1, 4}} {
		assert.Equal(t, want, QueueOf(ends, nil, 3, policy).Read, policy)
	}
}

// Frames go out one at a time, none before it is queued, and whenever the bus is free the one
// goes that wins it: found by looking at every moment again.
func TestSendsAgainstTheBus(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		bit := quantity.PeriodOf(quantity.FromBd(1e6))
		id := 0
		frames := func(name string) (out []Sending) {
			for range rapid.IntRange(0, 8).Draw(t, name) {
				id += 1 + rapid.IntRange(0, 90).Draw(t, "step")
				s := Sending{ID: uint32(id) % 0x7ff, Bits: rapid.IntRange(44, 130).Draw(t, "bits"), Queued: quantity.Time(rapid.IntRange(0, 900).Draw(t, "queued")) * quantity.Microsecond, Remote: rapid.Bool().Draw(t, "remote")}
				if rapid.Bool().Draw(t, "extended") {
					s.Extended, s.ID = true, s.ID<<18|uint32(id)&0x3ffff
				}
				out = append(out, s)
			}
			return out
		}
		own, others := frames("own"), frames("others")
		for _, urgent := range []bool{false, true} {
			got := SendsOf(own, others, urgent, 0, bit)
			require.Len(t, got.Order, len(own)+len(others))
			of := func(s Started) Sending {
				if s.Foreign {
					return others[s.Frame]
				}
				return own[s.Frame]
			}
			free := quantity.Time(0)
			gone := map[Started]bool{}
			for i, s := range got.Order {
				f := of(s)
				require.GreaterOrEqual(t, s.At, f.Queued)
				require.GreaterOrEqual(t, s.At, free)
				for _, later := range got.Order[i+1:] {
					o := of(later)
					if o.Queued > s.At || (!urgent && !later.Foreign && !s.Foreign) {
						continue
					}
					mine := slices.IndexFunc(got.Order[i:], func(x Started) bool { return !x.Foreign })
					if !urgent && !later.Foreign && later != got.Order[i+mine] {
						continue // it stands behind another of its queue
					}
					require.LessOrEqual(t, slices.Compare(arbitration(f), arbitration(o)), 0, "%+v went before %+v", f, o)
				}
				free = s.At + bit.Times(int64(f.Bits))
				gone[s] = true
			}
			if !urgent {
				require.True(t, slices.IsSortedFunc(slices.DeleteFunc(slices.Clone(got.Order), func(s Started) bool { return s.Foreign }), func(a, b Started) int { return cmp.Compare(own[a.Frame].Queued, own[b.Frame].Queued) }))
			}
		}
	})
}

// arbitration is a frame's arbitration field bit by bit, as it goes over the bus.
func arbitration(s Sending) []byte {
	var out []byte
	put := func(v uint32, bits int) {
		for i := bits - 1; i >= 0; i-- {
			out = append(out, byte(v>>i&1))
		}
	}
	remote := uint32(0)
	if s.Remote {
		remote = 1
	}
	if !s.Extended {
		put(s.ID, 11)
		put(remote, 1)
		put(0, 1)
		return out
	}
	put(s.ID>>18, 11)
	put(3, 2) // the substitute bit and the extension bit
	put(s.ID, 18)
	put(remote, 1)
	return out
}

// One frame is taken back in time, one too late.
func TestCancelled(t *testing.T) {
	bit := quantity.PeriodOf(quantity.FromBd(1e6))
	own := []Sending{{Name: "a", ID: 1, Bits: 100}, {Name: "b", ID: 2, Bits: 100, Queued: 10 * quantity.Microsecond, Cancelled: 50 * quantity.Microsecond}, {Name: "c", ID: 3, Bits: 100, Queued: 20 * quantity.Microsecond, Cancelled: 150 * quantity.Microsecond}}
	got := SendsOf(own, nil, false, 0, bit)
	assert.Equal(t, []int{1}, got.Cancelled)
	assert.Len(t, got.Order, 2)
}
