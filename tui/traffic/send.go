package traffic

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"gavrix/core/bus/uart"
	"gavrix/core/check"
	"gavrix/core/safe"
	"gavrix/draw/cells"
	"gavrix/tui/ui"
)

// endings are the choices for what follows a typed line.
var endings = []struct{ name, bytes string }{
	{"↵ LF", "\n"}, {"⇤↵ CR LF", "\r\n"}, {"⇤ CR", "\r"}, {"no ending", ""},
}

// sender is the line to send from: what will go out is shown, byte by byte
// and with its time on the line, before Enter.
type sender struct {
	entry  ui.Entry
	hex    bool
	ending int
}

func newSender() *sender { return &sender{entry: ui.NewEntry()} }

func (s *sender) height() int { return 4 }

// bytes gives what would be sent.
func (s *sender) bytes() ([]byte, error) {
	if s.hex {
		return hexBytes(s.entry.Text())
	}
	b, err := check.ParseText(s.entry.Text())
	return append(b, endings[s.ending].bytes...), err
}

func hexBytes(text string) ([]byte, error) {
	c, err := check.ParseHex(text, false)
	return check.Bytes(c), err
}

func (s *sender) draw(a cells.Area, h ui.Host) {
	for x := range a.W {
		a.Put(x, 0, cells.Quiet, '─')
	}
	what := "MCU sends"
	if s.hex {
		what = "MCU sends, in hex"
	}
	x := a.Text(0, 1, cells.Strong, what+" ")
	behind := ""
	if !s.hex {
		behind = endings[s.ending].name
	}
	s.entry.Draw(a, x, 1, behind)
	data, err := s.bytes()
	switch {
	case err != nil && s.entry.Text() != "":
		a.Text(0, 2, cells.Bad, err.Error())
	case len(data) == 0:
		a.Text(0, 2, cells.Quiet, "nothing to send yet")
	default:
		n := len(data)
		word := "bytes"
		if n == 1 {
			word = "byte"
		}
		text := fmt.Sprintf("%d %s: % X", n, word, data)
		if l := h.Link(); l != nil {
			text = fmt.Sprintf("%d %s, %s on the line: % X", n, word, uart.Duration(l.MCU, n).Round(4), data)
		}
		a.Text(0, 2, cells.Plain, text)
	}
	a.Text(0, 3, cells.Quiet, "Enter sends   Tab line ending   Ctrl+X text or hex   ↑ ↓ earlier   Esc leaves")
}

// key handles a key; true closes the line.
func (s *sender) key(k tea.KeyPressMsg, h ui.Host) bool {
	switch k.String() {
	case "esc":
		return true
	case "tab":
		s.ending = (s.ending + 1) % len(endings)
	case "ctrl+x":
		s.hex = !s.hex
	case "enter":
		data, err := s.bytes()
		if sendNow(h, data, err) {
			s.entry.Keep()
		}
	default:
		s.entry.Key(k)
	}
	return false
}

// sendNow sends on the selected link and says what became of it.
func sendNow(h ui.Host, data []byte, err error) bool {
	switch {
	case err != nil:
		h.Warn("not sent: %v", err)
		return false
	case len(data) == 0:
		h.Warn("not sent: there is nothing to send")
		return false
	}
	if err := h.Session().Send(h.LinkIndex(), data); err != nil {
		h.Warn("not sent: %v", err)
		return false
	}
	h.Say("sent %s", safe.Bytes(data))
	return true
}
