package device

import (
	"bytes"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/formula"
	"gavrix.org/gavrix/core/packet"
	"gavrix.org/gavrix/core/quantity"
)

// Talker is what a part on a character link says: lines that it sends unasked, and
// answers to commands.
type Talker struct {
	packet *packet.Format // in which its messages stand; nil: lines
	// LineEnd ends each message, as `\n`.
	LineEnd []byte
	// Limit is the longest command that the part takes.
	Limit   int
	values  []value
	stream  *stream
	answers []answer
	other   *answer
}

type value struct {
	name    string
	program *formula.Formula
}

type stream struct {
	every quantity.Time
	burst
	text []piece
}

type answer struct {
	to    string
	after quantity.Time
	text  []piece
}

// piece is fixed text, or a value with a number of decimals.
type piece struct {
	text     string
	value    string
	decimals int
}

var talkerSchema = doc.Map(
	doc.Key{Name: "values", Doc: "names and expressions of t, the time in seconds", Type: doc.MapOf(exprType)},
	doc.Key{Name: "line-end", Doc: "the bytes that end a message", Type: doc.Checked("a text of 1 to 4 characters", func(s string) error {
		if len(s) < 1 || len(s) > 4 {
			return fmt.Errorf("%q has %d bytes", s, len(s))
		}
		return nil
	}), Default: "\n"},
	doc.Key{Name: "limit", Doc: "longest command in characters", Type: doc.Int(1, 4096), Default: "32"},
	doc.Key{Name: "stream", Doc: "messages sent unasked", Type: doc.Map(
		doc.Key{Name: "every", Doc: "time from burst to burst", Type: doc.TimeType, Required: true},
		doc.Key{Name: "lines", Doc: "lines a burst, as 1 to 3", Type: doc.Scalar("a number, or a range as 1 to 3", parseBurst), Default: "1"},
		doc.Key{Name: "text", Doc: "one line, values in braces with their decimals: {level .3}", Type: textType, Required: true},
	)},
	doc.Key{Name: "answers", Doc: "commands and their answers", Type: doc.ListOf(doc.Map(
		doc.Key{Name: "to", Doc: "the command without its line end", Type: doc.NameType, Required: true},
		doc.Key{Name: "after", Doc: "time from the end of the command to the answer", Type: doc.TimeType, Default: "0 ms"},
		doc.Key{Name: "text", Doc: "the answer without its line end", Type: textType, Required: true},
	), 1)},
	doc.Key{Name: "otherwise", Doc: "the answer to an unknown command", Type: textType},
	barsKey, flagsKey,
)

var textType = doc.Scalar("a text with values in braces", parseText)

var slot = regexp.MustCompile(`\{([^{}]*)\}`)
var slotForm = regexp.MustCompile(`^([a-z][a-z0-9_]*)(?: \.([0-9]))?$`)

func parseText(s string) ([]piece, error) {
	var out []piece
	at := 0
	for _, m := range slot.FindAllStringSubmatchIndex(s, -1) {
		if m[0] > at {
			out = append(out, piece{text: s[at:m[0]]})
		}
		inner := s[m[2]:m[3]]
		f := slotForm.FindStringSubmatch(inner)
		if f == nil {
			return nil, fmt.Errorf("{%s} is no value: write {name} or {name .3} for three decimals", inner)
		}
		p := piece{value: f[1]}
		if f[2] != "" {
			p.decimals = int(f[2][0] - '0')
		}
		out = append(out, p)
		at = m[1]
	}
	if rest := s[at:]; rest != "" {
		out = append(out, piece{text: rest})
	}
	for _, p := range out {
		if strings.ContainsAny(p.text, "{}") {
			return nil, fmt.Errorf("a brace stands alone in %q", s)
		}
	}
	return out, nil
}

// burst is how many lines come at once.
type burst struct{ least, most int }

func parseBurst(s string) (burst, error) {
	a, b, ranged := strings.Cut(s, " to ")
	least, err := strconv.Atoi(strings.TrimSpace(a))
	most := least
	if err == nil && ranged {
		most, err = strconv.Atoi(strings.TrimSpace(b))
	}
	if err != nil || least < 0 || most < least || most > 1000 {
		return burst{}, fmt.Errorf("%q is no number or range from 0 to 1000", s)
	}
	return burst{least, most}, nil
}

var exprType = doc.Scalar("an expression of t, the time in seconds", compile)

func compile(s string) (*formula.Formula, error) {
	f, err := formula.New(s, "t")
	if err != nil {
		return nil, err
	}
	for _, t := range []float64{0, 0.5, 1, 60, 3600} {
		if v := f.Value(t); math.IsNaN(v) || math.IsInf(v, 0) {
			return nil, fmt.Errorf("%q has no value at t = %g s", s, t)
		}
	}
	return f, nil
}

// bindTalker reads a behaviour that was validated with talkerSchema.
func bindTalker(d *Device, b *doc.Node) []finding.Finding {
	t := &Talker{LineEnd: []byte(doc.Of[string](b, "line-end")), Limit: doc.Of[int](b, "limit")}
	d.Talks = t
	var faults []finding.Finding
	if d.Map != nil {
		x := &mapper{m: d.Map}
		d.Acts = x.acts(b, b.Get("stream") != nil)
		for _, key := range []string{"answers", "otherwise", "limit"} {
			if n := b.Get(key); n != nil {
				x.fault("two-ways", n, "write it below `access` or `refusals`", "%s has no effect beside registers", key)
			}
		}
		if n := b.Get("line-end"); n != nil && b.Get("stream") == nil && string(d.Map.Dialogue.Packet.End) != string(t.LineEnd) {
			x.fault("two-ways", n, "leave it out", "line-end has no effect: the packet says how messages end")
		}
		if len(x.faults) > 0 {
			return x.faults
		}
		if b.Get("stream") == nil {
			t.LineEnd = d.Map.Dialogue.Packet.End
		}
	} else if n := b.Get("refuses"); n != nil {
		faults = append(faults, finding.Finding{Severity: finding.Error, Code: "behaviour-without-registers", Where: n.KeyPlace(), Seen: "refuses without registers", Change: "add `registers:` and `access:`"})
	}
	known := map[string]bool{}
	for _, v := range b.Get("values").All() {
		t.values = append(t.values, value{v.Key, doc.As[*formula.Formula](v)})
		known[v.Key] = true
	}
	text := func(n *doc.Node) []piece {
		out := doc.As[[]piece](n)
		for _, p := range out {
			if p.value != "" && !known[p.value] {
				var names []string
				for k := range known {
					names = append(names, k)
				}
				change := "add it to behaviour.values"
				if m := doc.Nearest(p.value, names); m != "" {
					change = fmt.Sprintf("did you mean {%s}?", m)
				}
				faults = append(faults, finding.Finding{
					Severity: finding.Error, Code: "unknown-value", Where: n.Place(),
					Seen: fmt.Sprintf("{%s} is no value of this device", p.value), Change: change,
				})
			}
		}
		return out
	}
	if s := b.Get("stream"); s != nil {
		t.stream = &stream{every: doc.Of[quantity.Time](s, "every"), burst: doc.Of[burst](s, "lines"), text: text(s.Get("text"))}
		if t.stream.every < quantity.Microsecond {
			faults = append(faults, finding.Finding{
				Severity: finding.Error, Code: "stream-too-fast", Where: s.Get("every").Place(),
				Seen: fmt.Sprintf("a burst every %s", t.stream.every), Change: "write at least 1 µs",
			})
		}
	}
	for _, a := range b.Get("answers").All() {
		t.answers = append(t.answers, answer{to: a.Text("to"), after: doc.Of[quantity.Time](a, "after"), text: text(a.Get("text"))})
	}
	if o := b.Get("otherwise"); o != nil {
		t.other = &answer{text: text(o)}
	}
	return faults
}

// Streams says whether the device sends unasked, and how often.
func (t *Talker) Streams() (every quantity.Time, ok bool) {
	if t.stream == nil {
		return 0, false
	}
	return t.stream.every, true
}

// Receive takes a character from the device's receiver.
func (r *Running) Receive(c uart.Char) {
	if r.asked != nil {
		r.asked.receive(r, c)
		return
	}
	if c.Flags != 0 {
		r.spoilt = true
	}
	r.command = append(r.command, byte(c.Value))
	if !bytes.HasSuffix(r.command, r.dev.LineEnd) {
		if len(r.command) > r.dev.Limit+len(r.dev.LineEnd) {
			r.spoilt = true
			r.command = append(r.command[:0], r.command[len(r.command)-len(r.dev.LineEnd):]...)
		}
		return
	}
	text := string(r.command[:len(r.command)-len(r.dev.LineEnd)])
	spoilt := r.spoilt
	r.command, r.spoilt = r.command[:0], false
	if spoilt {
		return
	}
	for _, a := range r.dev.answers {
		if a.to == text {
			r.answer(reply{at: c.End + a.after, text: a.text})
			return
		}
	}
	if r.dev.other != nil && text != "" {
		r.answer(reply{at: c.End, text: r.dev.other.text})
	}
}
