package spi

import (
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Schema lists the frame settings of a device.
var Schema = doc.Map(
	doc.Key{Name: "mode", Doc: "clock idle level and sampling edge, 0 to 3", Type: doc.OneOf(0, 1, 2, 3), Default: "0"},
	doc.Key{Name: "word", Doc: "bits per word, 4 to 32", Type: doc.Int(4, 32), Default: "8"},
	doc.Key{Name: "order", Doc: "which bit comes first", Type: doc.Enum("msb", "lsb"), Default: "msb"},
	doc.Key{Name: "active", Doc: "level of the select line while selected; none: there is no select line", Type: doc.Enum("low", "high", "none"), Default: "low"},
	doc.Key{Name: "wires", Doc: "data lines: 2, or 1 that serves both directions", Type: doc.OneOf(2, 1), Default: "2"},
	doc.Key{Name: "turn", Doc: "with one data line: the number of bits after which the device drives it", Type: doc.Int(1, 1<<16)},
	doc.Key{Name: "turn-if", Doc: "the first bits after which it does, as they are on the wire: 0, 1, . for either, as 1.......; absent: always", Type: doc.AnyText},
	doc.Key{Name: "gap", Doc: "pause of the clock that ends a transfer without a select line", Type: doc.TimeType},
)

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:    "spi",
	Title:   "SPI",
	Records: record.Transaction,
	Mark:    "S",
	Hue:     2,
	Lines:   lines,
	Selects: true,

	Steps:     []string{"clock-pin", "out-pin", "in-pin", "select-pin"},
	EndSchema: EndSchema,
	ParseEnd:  func(n *doc.Node, name string) (any, error) { return ParseEnd(n, name) },
	Schema:    Schema,
	Parse:     parse,
	Roles:     rolesFor,
	Decoder:   newTap,
	Measure:   measure,
	Labels:    labels,
	Compare: func(a, b bus.Settings, nameA, nameB string) []bus.Difference {
		return Compare(a.(Settings), b.(Settings), nameA, nameB)
	},
	Variant: func(s bus.Settings) (bus.Settings, string) {
		next := s.(Settings).WithMode((s.(Settings).Mode() + 1) % 4)
		return next, fmt.Sprintf("mode %d", next.Mode())
	},
	Plan: plan, PlanHelp: planHelp,
	Sentence: sentence,
	Fields:   fields,
}

func fields(r *record.Record) map[string]any {
	out := map[string]any{"word_bits": r.Bits, "out": Words(r, r.Data), "in": Words(r, r.Back)}
	var last []int64
	undriven := map[string]string{}
	for _, f := range r.Facts {
		switch f.What {
		case record.Undriven:
			undriven[strconv.Itoa(f.Index)] = fmt.Sprintf("%0*b", r.Bits, f.Value)
		case record.LastSample:
			last = append(last, f.Value)
		case record.CutBits:
			o, _ := r.Fact(record.CutOut, f.Index)
			i, _ := r.Fact(record.CutIn, f.Index)
			out["cut_bits"] = map[string]string{"out": fmt.Sprintf("%0*b", f.Value, o), "in": fmt.Sprintf("%0*b", f.Value, i)}
		}
	}
	if last != nil {
		out["last_samples_ps"] = last
	}
	if len(undriven) > 0 {
		out["undriven_in"] = undriven
	}
	return out
}

func parse(n *doc.Node) (bus.Settings, error) {
	s := frameOf(n).WithMode(doc.Of[int](n, "mode"))
	if doc.Of[string](n, "active") == "none" {
		s.Select = NoSelect
	}
	s.Gap = doc.Of[quantity.Time](n, "gap")
	return s, s.Check()
}

// frameOf reads what ends and taps have alike.
func frameOf(n *doc.Node) Settings {
	s := Settings{Word: doc.Of[int](n, "word"), LSBFirst: doc.Of[string](n, "order") == "lsb", Shared: doc.Of[int](n, "wires") == 1, Turn: doc.Of[int](n, "turn"), TurnIf: doc.Of[string](n, "turn-if")}
	if doc.Of[string](n, "active") == "high" {
		s.Select = ActiveHigh
	}
	return s
}

// Compare lists the settings in which the MCU's unit and a device differ, with
// what each makes of the other's bits.
func Compare(a, b Settings, nameA, nameB string) []bus.Difference {
	var out []bus.Difference
	add := func(code, what string, effects ...string) {
		out = append(out, bus.Difference{Code: code, What: what, Effects: effects})
	}
	if a.Mode() != b.Mode() {
		what := fmt.Sprintf("mode: %s %d, %s %d", nameA, a.Mode(), nameB, b.Mode())
		if a.ClockIdleHigh != b.ClockIdleHigh && a.SampleSecond != b.SampleSecond {
			// The same edge of the clock samples; only the resting level differs.
			add("mode-differs", what, "both sample on the same edge of the clock: words arrive, but selecting may make one edge too many or too few")
		} else {
			add("mode-differs", what, "one end samples at the instant at which the other changes its data: "+example(a, b))
		}
	}
	if a.LSBFirst != b.LSBFirst {
		add("bit-order-differs", "bit order: one end sends the most significant bit first, the other the least", "every word is mirrored: 01 reads as "+fmt.Sprintf("%0*X", (a.Word+3)/4, uint64(1)<<(a.Word-1)))
	}
	if a.Word != b.Word {
		add("word-differs", fmt.Sprintf("word: %s %d bits, %s %d bits", nameA, a.Word, nameB, b.Word), fmt.Sprintf("the words part after the first: they meet again every %d bits", lcm(a.Word, b.Word)))
	}
	if a.Select != b.Select {
		add("select-differs", fmt.Sprintf("select: %s %s, %s %s", nameA, a.Select, nameB, b.Select), "the device listens while it is not meant, and is deaf while it is")
	}
	if a.Shared != b.Shared {
		add("wires-differ", "data lines: one end uses one for both directions", "both drive the same wire, or one listens to a wire that nobody drives")
	} else if a.Turn != b.Turn || a.TurnIf != b.TurnIf {
		add("turn-differs", fmt.Sprintf("turn: %s after %d bits, %s after %d", nameA, a.Turn, nameB, b.Turn), "between the two either both drive the wire or nobody does")
	}
	return out
}

// example says what becomes of a word.
func example(sent, read Settings) string {
	read.Word, read.LSBFirst = sent.Word, sent.LSBFirst
	word := uint32(0x6B) & (1<<sent.Word - 1)
	digits := (sent.Word + 3) / 4
	r := ReadAs(sent, read, word)
	other := fmt.Sprintf("%0*X", digits, r.New)
	if r.Open != 0 {
		other += fmt.Sprintf(" or %0*X", digits, r.New|r.Open)
	}
	return fmt.Sprintf("%0*X reads as %0*X if the old level still holds, as %s if not", digits, word, digits, r.Old, other)
}

func lcm(a, b int) int {
	x, y := a, b
	for y != 0 {
		x, y = y, x%y
	}
	return a / x * b
}

func (s Select) String() string { return [...]string{"active low", "active high", "none"}[s] }

func sentence(r *record.Record) string {
	digits := (int(r.Bits) + 3) / 4
	hex := func(words []uint32) string {
		var out []string
		for _, w := range words {
			out = append(out, fmt.Sprintf("%0*X", digits, w))
		}
		return strings.Join(out, " ")
	}
	var in []string
	for i, w := range Words(r, r.Back) {
		in = append(in, answered(r, i, w))
	}
	s := "out " + hex(Words(r, r.Data)) + "  in " + strings.Join(in, " ")
	if len(r.Offsets) == 0 && r.Text == "" {
		return "select without clocks"
	}
	if r.Text != "" {
		s += "  " + r.Text
	}
	return s
}

// answered writes a word that came back, with a dash for each digit at which nobody
// drove the line.
func answered(r *record.Record, index int, w uint32) string {
	text := []byte(fmt.Sprintf("%0*X", (int(r.Bits)+3)/4, w))
	open, _ := r.Fact(record.Undriven, index)
	for k := range text {
		low := 4 * (len(text) - 1 - k)
		if all := uint32(0xf) >> max(low+4-int(r.Bits), 0); low < 32 && all > 0 && uint32(open)>>low&0xf == all {
			text[k] = '-'
		}
	}
	return string(text)
}
