package operation

import (
	"bytes"
	"fmt"
	"gavrix.org/gavrix/core/layout"
	"strconv"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/packet"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// uartWire: a message is a packet of characters.
var uartWire = wire{
	texts: uartTexts,
	asks: func(p *Part, plan *access.Plan) Asking {
		return &asksCharacters{part: p, plan: plan, text: uartTexts(p, plan)[0], talk: characterTalkWith(p)}
	},
	talk:       characterTalkWith,
	characters: uart.ParseCharacters,
}

func characterTalkWith(p *Part) *Talk {
	x := &characterTalk{Talk: &Talk{part: p}, streams: newStreams(p.Map.Dialogue.Packet)}
	x.follow = x.take
	return x.Talk
}

// uartTexts gives the packet; of a request that fits none the words are no plan, so that
// it is refused with them.
func uartTexts(p *Part, plan *access.Plan) []string {
	raw, err := p.Map.Dialogue.Packet.Wrap(plan.Request())
	if err != nil {
		return []string{"mcu"}
	}
	return []string{"mcu " + characters(raw)}
}

// characters gives bytes in the words of a character link: as text where all of them can
// be shown.
func characters(raw []byte) string {
	for _, b := range raw {
		if (b < ' ' || b > '~') && b != '\r' && b != '\n' {
			return fmt.Sprintf("% X", raw)
		}
	}
	return strconv.Quote(string(raw))
}

// stream is what one receiver saw of one side.
type stream struct {
	from, seen record.End
}

// reading takes packets out of a stream.
type reading struct {
	*packet.Reader
	starts []quantity.Time // of the bytes since the last packet
	ends   []quantity.Time
	found  []packet.Event
}

// streams takes the packets out of what is sent on a character link, each way as each
// receiver saw it.
type streams struct {
	format  *packet.Format
	readers map[stream]*reading
}

func newStreams(f *packet.Format) *streams {
	return &streams{format: usualFraming(f), readers: map[stream]*reading{}}
}

// take gives the messages that end in a record; those that are none have Dropped.
func (x *streams) take(r *record.Record) []Message {
	if r.Kind != record.Chars || r.Wide || r.From != record.MCU && r.From != record.Device {
		return nil
	}
	key := stream{r.From, r.Seen}
	rd := x.readers[key]
	if rd == nil {
		rd = &reading{}
		rd.Reader = packet.NewReader(x.format, func(e packet.Event) { rd.found = append(rd.found, e) })
		x.readers[key] = rd
	}
	var out []Message
	for i, b := range r.Data {
		start := r.Start
		if i < len(r.Offsets) {
			start += r.Offsets[i]
		}
		first := rd.At() - len(rd.starts)
		rd.starts, rd.ends = append(rd.starts, start), append(rd.ends, start+r.Each)
		rd.Reader.Take(b, r.FlagsAt(i) != 0)
		for _, e := range rd.found {
			m := Message{FromPart: r.From == record.Device, Seen: r.Seen, Start: rd.starts[e.From-first], End: rd.ends[e.To-1-first], Content: e.Content, From: max(i+1-(e.To-e.From), 0), To: i + 1}
			if e.Why != packet.Good {
				m.Dropped = fmt.Sprintf("%s: %s", e.Why, bytesNoun(e.To-e.From))
			}
			out = append(out, m)
		}
		if len(rd.found) > 0 {
			left := rd.Taken()
			rd.starts = append(rd.starts[:0], rd.starts[len(rd.starts)-left:]...)
			rd.ends = append(rd.ends[:0], rd.ends[len(rd.ends)-left:]...)
			rd.found = rd.found[:0]
		}
	}
	return out
}

type characterTalk struct {
	*Talk
	streams *streams
}

func (x *characterTalk) take(r *record.Record) []Message {
	out := x.streams.take(r)
	for i := range out {
		switch m := &out[i]; {
		case m.Dropped != "":
		case m.FromPart:
			x.answer(m)
		default:
			x.request(m)
		}
	}
	return out
}

// usualFraming is that of lines.
func usualFraming(f *packet.Format) *packet.Format {
	if f == nil {
		return &packet.Format{End: []byte("\n"), Most: 256}
	}
	return f
}

func bytesNoun(n int) string { return quantity.Count(n, "byte") }

// asksCharacters is a request on a character link.
type asksCharacters struct {
	part    *Part
	plan    *access.Plan
	talk    *Talk
	text    string
	sent    bool
	heard   bool
	heardAt quantity.Time
	late    quantity.Time
	answer  access.Answer
	over    bool
	dropped string
	came    []byte // since the request, or since the last whole message
	notes   []Note
}

func (a *asksCharacters) Next() (string, bool) {
	if a.sent {
		return "", false
	}
	a.sent = true
	return a.text, true
}

func (a *asksCharacters) Take(r *record.Record) (mine bool) {
	if r.From == record.Device && r.Seen == record.Tap {
		return false // the MCU has to do with what it receives itself
	}
	if a.heard && r.From == record.Device && r.Kind == record.Chars {
		a.came = append(a.came, r.Data...)
		mine = true
	}
	for _, m := range a.talk.Take(r) {
		if m.FromPart && !m.Again {
			a.came = r.Data[min(m.To, len(r.Data)):]
		}
		switch {
		case m.Again || a.over:
		case !m.FromPart && m.Dropped == "":
			own := bytes.Equal(m.Content, a.plan.Request())
			if own && !a.heard {
				a.heard, a.heardAt, mine = true, m.End, true
				a.over = !a.plan.Pattern.Answers()
			}
		case !a.heard || !m.FromPart:
		case m.Dropped != "":
			a.dropped, mine = m.Dropped, true
			a.notes = append(a.notes, Note{"what came was dropped: " + m.Dropped, true})
		case m.Answer == nil || !bytes.Equal(m.Plan.Request(), a.plan.Request()):
			a.notes = append(a.notes, Note{Text: fmt.Sprintf("a message came that is no answer to it: % X", m.Content)})
		default:
			a.answer, a.over, a.late, mine = *m.Answer, true, m.Start-a.heardAt, true
		}
	}
	return mine
}

func (a *asksCharacters) Heard() (quantity.Time, bool)  { return a.heardAt, a.heard }
func (a *asksCharacters) Ready() bool                   { return a.over || !a.sent }
func (a *asksCharacters) Late() quantity.Time           { return a.late }
func (a *asksCharacters) Over() bool                    { return a.over }
func (a *asksCharacters) Answer() (access.Answer, bool) { return a.answer, a.over }
func (a *asksCharacters) Notes() []Note                 { return a.notes }
func (a *asksCharacters) Problem() string {
	if a.dropped != "" {
		return "the answer is damaged (" + a.dropped + "): no value is taken from it"
	}
	if len(a.came) > 0 {
		return fmt.Sprintf("the answer broke off: %s came (%s), and no end of it", characters(a.came), bytesNoun(len(a.came)))
	}
	return ""
}

// laidCharacters: a packet, or a line, is a message.
func laidCharacters(p *Part) func(r *record.Record) []exchange {
	x := newStreams(p.Framing)
	return func(r *record.Record) []exchange {
		var out []exchange
		for _, m := range x.take(r) {
			e := exchange{words: layout.Words(m.Content), fromPart: m.FromPart, start: m.Start, end: m.End, from: m.From, to: m.To, dropped: m.Dropped}
			e.begins = e.words
			out = append(out, e)
		}
		return out
	}
}
