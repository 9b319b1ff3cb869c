package uart

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

const planHelp = `mcu "L=?\r" 0A ..   who sends (mcu, device, or shared), then texts in quotes, characters in hex, .. for any`

// plannedLine takes the word for who sends off a plan: the line that is driven, as
// an index into the kind's roles, and the rest. Without the word it is the shared
// line.
func plannedLine(text string) (line int, rest string) {
	text = strings.TrimSpace(text)
	for i, role := range roles[:3] {
		if rest, ok := strings.CutPrefix(text, role.Name+" "); ok {
			return i, rest
		}
	}
	return 2, text
}

// plan gives the levels of characters back to back.
func plan(ends []bus.Settings, text string, _ quantity.Time, fill bool) ([]wire.Window, error) {
	line, text := plannedLine(text)
	s := bus.At(ends, driver(line)).(Settings)
	if s.Rate <= 0 {
		return nil, errors.New("without a rate nothing can be planned")
	}
	chars, err := plannedChars(text, s.Frame, fill)
	if err != nil {
		return nil, err
	}
	p := quantity.PeriodOf(s.Rate)
	start := p.Times(2)
	tog, end := Encode(nil, s.Frame, p, start, chars...)
	out := make([]wire.Window, len(roles))
	for i := range out {
		out[i] = wire.Window{To: end + 3*s.Frame.Time(p), High: !s.Frame.Inverted}
	}
	out[line].Toggles = tog
	return out, nil
}

// ParseCharacters reads what the MCU is to send, in the words of a plan: texts in quotes
// and characters in hex.
func ParseCharacters(text string) ([]byte, error) {
	line, text := plannedLine(text)
	if roles[line].Name == "device" {
		return nil, errors.New("the MCU sends, not the device")
	}
	chars, err := plannedChars(text, Frame{Data: 8}, false)
	if err != nil {
		return nil, err
	}
	out := make([]byte, len(chars))
	for i, c := range chars {
		out[i] = byte(c)
	}
	return out, nil
}

// plannedChars reads quoted texts and characters in hex.
func plannedChars(text string, f Frame, fill bool) ([]uint16, error) {
	var out []uint16
	for text = strings.TrimSpace(text); text != ""; text = strings.TrimSpace(text) {
		if text[0] == '"' {
			quoted, err := strconv.QuotedPrefix(text)
			if err != nil {
				return nil, fmt.Errorf("%s: the quote is not closed, or has an escape that is none of \\n \\r \\t \\\\ \\xNN", text)
			}
			plain, _ := strconv.Unquote(quoted)
			for i := range len(plain) {
				if c := uint16(plain[i]); c > f.Mask() {
					return nil, fmt.Errorf("%q: %02X does not fit %d data bits", plain, c, f.Data)
				}
				out = append(out, uint16(plain[i]))
			}
			text = text[len(quoted):]
			continue
		}
		word, rest, _ := strings.Cut(text, " ")
		v, err := bus.PlannedByte(word, f.Data, fill)
		if err != nil {
			return nil, fmt.Errorf("%w; texts stand in quotes", err)
		}
		out, text = append(out, uint16(v)), rest
	}
	if len(out) == 0 {
		return nil, errors.New("no characters are planned")
	}
	return out, nil
}
