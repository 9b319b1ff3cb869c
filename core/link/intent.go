package link

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Intent is something that can be asked of a link. It is a plain value; its text is
// its verb and arguments, and parses back to it.
type Intent interface {
	// Verb is the word by which a source says whether it takes such intents.
	Verb() string
	args() string
}

// The verbs.
const (
	SendVerb      = "send"
	TransactVerb  = "transact"
	CutVerb       = "cut"
	HoldVerb      = "hold"
	PowerVerb     = "power"
	ConfigureVerb = "configure"
	PresetVerb    = "preset"
	LoopVerb      = "loop"
	CrossVerb     = "cross"
)

// Send lets the MCU's end send characters.
type Send struct{ Data []byte }

// Transact does one transaction, in the words in which its kind of bus plans one.
type Transact struct{ Text string }

// Cut breaks the wire from an end, "mcu" or the name of a device, or joins it again.
type Cut struct {
	End    string
	Joined bool
}

// Hold makes the line in a role stick at its active level, or lets it go.
type Hold struct {
	Role    string
	Release bool
}

// Power takes the supply from a device, or gives it back.
type Power struct {
	Device string
	On     bool
}

// Loop joins the MCU's output with its own input, or takes the jumper away.
type Loop struct{ On bool }

// Cross exchanges the two data wires at a device, or puts them right again.
type Cross struct {
	Device string
	Right  bool
}

// Configure lets a link go on in another state, which its kind packs into a word of
// its own; whoever edits a bench makes them.
type Configure struct{ State string }

// Preset puts bits into a named value of a simulated device's registers, past what its
// bus could do: how a part was before. Of a text, or bytes of a memory, which are named by
// their number, Data are put there.
type Preset struct {
	Device, Value string
	Bits          uint64
	Data          []byte
}

// Verb implements Intent.
func (Send) Verb() string      { return SendVerb }
func (Transact) Verb() string  { return TransactVerb }
func (Cut) Verb() string       { return CutVerb }
func (Hold) Verb() string      { return HoldVerb }
func (Power) Verb() string     { return PowerVerb }
func (Configure) Verb() string { return ConfigureVerb }

// Verb implements Intent.
func (Loop) Verb() string { return LoopVerb }

// Verb implements Intent.
func (Cross) Verb() string { return CrossVerb }

// Verb implements Intent.
func (Preset) Verb() string { return PresetVerb }

func (s Send) args() string      { return hex.EncodeToString(s.Data) }
func (t Transact) args() string  { return t.Text }
func (c Cut) args() string       { return onOff(!c.Joined) + " " + c.End }
func (h Hold) args() string      { return onOff(!h.Release) + " " + h.Role }
func (p Power) args() string     { return onOff(p.On) + " " + p.Device }
func (c Configure) args() string { return c.State }
func (c Cross) args() string     { return onOff(!c.Right) + " " + c.Device }
func (p Preset) args() string {
	if p.Data != nil {
		return fmt.Sprintf("%q %q %X", p.Device, p.Value, p.Data)
	}
	return fmt.Sprintf("%q %q 0x%X", p.Device, p.Value, p.Bits)
}

func (l Loop) args() string { return onOff(l.On) }

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off"
}

// parsers read the arguments of each verb.
var parsers = map[string]func(args string) (Intent, error){
	SendVerb: func(a string) (Intent, error) {
		data, err := hex.DecodeString(a)
		if err != nil || len(data) == 0 {
			return nil, fmt.Errorf("%q: write bytes in hex, as 534E0A", a)
		}
		return Send{data}, nil
	},
	TransactVerb: func(a string) (Intent, error) {
		if strings.TrimSpace(a) == "" {
			return nil, fmt.Errorf("say which transaction")
		}
		return Transact{a}, nil
	},
	CutVerb: func(a string) (Intent, error) {
		on, name, err := switched(a)
		return Cut{name, !on}, err
	},
	HoldVerb: func(a string) (Intent, error) {
		on, name, err := switched(a)
		return Hold{name, !on}, err
	},
	PowerVerb: func(a string) (Intent, error) {
		on, name, err := switched(a)
		return Power{name, on}, err
	},
	CrossVerb: func(a string) (Intent, error) {
		on, name, err := switched(a)
		return Cross{name, !on}, err
	},
	LoopVerb: func(a string) (Intent, error) {
		if a != "on" && a != "off" {
			return nil, fmt.Errorf("%q: write on or off", a)
		}
		return Loop{a == "on"}, nil
	},
	ConfigureVerb: func(a string) (Intent, error) { return Configure{a}, nil },
	PresetVerb: func(a string) (Intent, error) {
		var p Preset
		if _, err := fmt.Sscanf(a, "%q %q 0x%X", &p.Device, &p.Value, &p.Bits); err == nil && p.args() == a {
			return p, nil
		}
		p = Preset{}
		if _, err := fmt.Sscanf(a, "%q %q %X", &p.Device, &p.Value, &p.Data); err != nil || p.args() != a {
			return nil, fmt.Errorf("%q: write device and value in quotes, and the bits, as \"leaf-angle\" \"MODE\" 0x3, or bytes in hex", a)
		}
		return p, nil
	},
}

// switched reads on or off, and what is switched.
func switched(a string) (on bool, name string, err error) {
	word, name, _ := strings.Cut(a, " ")
	if word != "on" && word != "off" || name == "" {
		return false, "", fmt.Errorf("%q: write on or off, and a name", a)
	}
	return word == "on", name, nil
}

// Text gives an intent as one line.
func Text(i Intent) string { return i.Verb() + " " + i.args() }

// ParseIntent is the inverse of Text.
func ParseIntent(text string) (Intent, error) {
	verb, args, _ := strings.Cut(text, " ")
	parse, known := parsers[verb]
	if !known {
		return nil, fmt.Errorf("%q is nothing that can be asked of a link", verb)
	}
	if strings.ContainsAny(args, "\n\r") {
		return nil, fmt.Errorf("an intent stands in one line")
	}
	return parse(args)
}

// Input is an intent with the link that it was for, and the time at which it came.
type Input struct {
	At   quantity.Time
	Link string
	Intent
}

// String gives the input as one line, as it is kept in a capture.
func (in Input) String() string {
	return fmt.Sprintf("at %d %s %s", int64(in.At), strconv.Quote(in.Link), Text(in.Intent))
}

// ParseInput is the inverse of Input.String.
func ParseInput(text string) (Input, error) {
	fail := func(why string) (Input, error) { return Input{}, fmt.Errorf("%q is no input: %s", text, why) }
	rest, begins := strings.CutPrefix(text, "at ")
	number, rest, _ := strings.Cut(rest, " ")
	at, err := strconv.ParseInt(number, 10, 64)
	if !begins || err != nil || at < 0 {
		return fail("it does not begin with `at` and a number of picoseconds")
	}
	quoted, err := strconv.QuotedPrefix(rest)
	if err != nil || quoted == "" || quoted[0] != '"' {
		return fail("the link's name does not stand in quotes")
	}
	name, err := strconv.Unquote(quoted)
	if err != nil {
		return fail("the link's name can't be read")
	}
	intent, err := ParseIntent(strings.TrimPrefix(rest[len(quoted):], " "))
	if err != nil {
		return fail(err.Error())
	}
	return Input{quantity.Time(at), name, intent}, nil
}

// Outcome is what came of an intent.
type Outcome struct {
	At   quantity.Time
	OK   bool
	Text string // what happened, in words
	// Record is the transaction as the MCU's end saw it; nil where it saw none.
	Record *record.Record
}
