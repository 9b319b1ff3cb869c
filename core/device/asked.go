package device

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/objects"
	"gavrix.org/gavrix/core/packet"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
)

// Dialogue is how a part is asked and answers.
type Dialogue struct {
	// Packet is what frames messages on a character link; nil on others.
	Packet *packet.Format
	// Request and Response are the identifiers of the frames on can; Objects: they carry
	// transfers of objects, else messages.
	Request, Response Identifier
	Objects           bool
	// Within is the time that the part has for its answer, behind the request.
	Within quantity.Time
	// Refusal is what it answers in place of an answer; nil: nothing.
	Refusal *access.Refusal
	When    map[access.Reason]uint64
	// Lag is how long the simulated part takes to answer, After how long where an
	// operation says so itself.
	Lag   quantity.Time
	After map[*access.Pattern]quantity.Time
}

// Identifier is that of a can frame.
type Identifier struct {
	ID       uint32
	Extended bool
}

func (i Identifier) String() string {
	if i.Extended {
		return fmt.Sprintf("%08X", i.ID)
	}
	return fmt.Sprintf("%03X", i.ID)
}

// Text is a content of characters.
type Text struct {
	Name, About string
	Number      uint64
	Numbered    bool
	Most        int
	Access      register.Access
	Holds       string // after power-up
}

// Readable says whether the text can be read, Writable whether it can be written.
func (t *Text) Readable() bool { return t.Access != register.WriteOnly }

// Writable says whether the text can be written.
func (t *Text) Writable() bool { return t.Access != register.ReadOnly }

// Words gives the number of a register or text as files write it.
func (d *Dialogue) Words(number uint64) string {
	if d != nil && d.Objects {
		return objects.ObjectOf(number).String()
	}
	return fmt.Sprintf("0x%02X", number)
}

// bytesType are bytes in hex, or a text.
var bytesType = doc.Scalar("bytes in hex, as A5 5A, or a text, as \"\\r\\n\"", func(s string) ([]byte, error) {
	if b, err := hex.DecodeString(strings.ReplaceAll(s, " ", "")); err == nil && len(b) > 0 {
		return b, nil
	}
	if s == "" || len(s) > 16 {
		return nil, fmt.Errorf("%q: write 1 to 16 bytes", s)
	}
	return []byte(s), nil
})

func withinKey() doc.Key {
	return doc.Key{Name: "within", Doc: "time that the part has for its answer", Type: doc.TimeType, Default: "100 ms"}
}

// refusalsKey says what a part answers to what it can't do.
func refusalsKey() doc.Key {
	var when []doc.Key
	for _, r := range access.Reasons() {
		when = append(when, doc.Key{Name: r, Doc: "the number that stands for it", Type: numberType})
	}
	return doc.Key{Name: "refusals", Doc: "what the part answers in place of an answer", Type: doc.Map(
		doc.Key{Name: "in", Doc: "the message, with why for its reason: 1 echo.7 why.8", Type: doc.AnyText, Required: true},
		doc.Key{Name: "codes", Doc: "numbers of reasons and their meaning", Type: doc.MapOf(doc.AnyText)},
		doc.Key{Name: "when", Doc: "which number the simulated part gives for what", Type: doc.Map(when...)},
	)}
}

func textsKey() doc.Key {
	return doc.Key{Name: "texts", Doc: "contents of characters, by name", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "number", Doc: "the number by which it is reached; absent: it stands in patterns by its name", Type: numberType},
		doc.Key{Name: "characters", Doc: "how many there are at most", Type: doc.Int(1, 1024), Required: true},
		doc.Key{Name: "access", Doc: "what may be done with it", Type: doc.Enum("read-write", "read-only", "write-only"), Default: "read-write"},
		doc.Key{Name: "holds", Doc: "its content after power-up", Type: doc.AnyText},
		doc.Key{Name: "about", Doc: "what it is", Type: doc.AnyText},
	))}
}

// refusals binds what a part answers to what it can't do.
func (x *mapper) refusals(rules access.Rules, root *doc.Node) {
	n := root.Get("refusals")
	if n == nil {
		return
	}
	talk := x.m.Dialogue
	r, err := access.ParseRefusal(n.Text("in"), rules)
	if err != nil {
		x.fault("bad-pattern", n.Get("in"), "correct the pattern", "refusals: %v", err)
		return
	}
	r.Codes = map[uint64]string{}
	for _, c := range n.Get("codes").All() {
		code, err := strconv.ParseUint(c.Key, 0, 64)
		if err != nil || code&^ones(r.WhyBits) != 0 {
			x.fault("bad-code", c, "write a number of the bits that why has", "refusals: %q", c.Key)
			continue
		}
		r.Codes[code] = c.Scalar
	}
	talk.When = map[access.Reason]uint64{}
	for _, w := range n.Get("when").All() {
		code := doc.As[uint64](w)
		if code&^ones(r.WhyBits) != 0 {
			x.fault("bad-code", w, "write a number of the bits that why has", "refusals: %d", code)
		}
		talk.When[access.Reason(w.Key)] = code
	}
	talk.Refusal = r
}

// text reads a content of characters.
func (x *mapper) text(n *doc.Node) {
	t := &Text{Name: n.Key, About: n.Text("about"), Most: doc.Of[int](n, "characters"), Holds: n.Text("holds")}
	t.Access, _ = register.ParseAccess(doc.Of[string](n, "access"))
	if !x.named(n) {
		return
	}
	if x.m.Value(n.Key) != nil || x.m.TextNamed(n.Key) != nil {
		x.fault("name-twice", n, "take another name", "%s is the name of something else", n.Key)
	}
	if len(t.Holds) > t.Most {
		x.fault("text-too-long", n.Get("holds"), "fix it", "%s has %d characters; it holds %d", t.Name, t.Most, len(t.Holds))
	}
	if at := n.Get("number"); at != nil {
		t.Numbered, t.Number = true, doc.As[uint64](at)
		if x.m.TextAt(t.Number) != nil || x.m.At(t.Number) != nil {
			x.fault("number-twice", at, "give it a number of its own", "%s: another has the number 0x%X", t.Name, t.Number)
		}
	}
	x.m.Texts = append(x.m.Texts, t)
}

// TextNamed gives the text with a name; nil where there is none.
func (m *Map) TextNamed(name string) *Text {
	for _, t := range m.Texts {
		if strings.EqualFold(t.Name, name) {
			return t
		}
	}
	return nil
}

// TextAt gives the text with a number; nil where there is none.
func (m *Map) TextAt(number uint64) *Text {
	for _, t := range m.Texts {
		if t.Numbered && t.Number == number {
			return t
		}
	}
	return nil
}

// unused holds what only parts that are asked have against a part that is not.
func unused(root *doc.Node) []finding.Finding {
	for _, key := range []string{"refusals", "texts", "objects", "frames"} {
		if n := root.Get(key); n != nil {
			return []finding.Finding{{Severity: finding.Error, Code: "no-registers", Where: n.KeyPlace(), Seen: key + " without registers or access", Change: "add `registers:` and `access:`"}}
		}
	}
	return nil
}
