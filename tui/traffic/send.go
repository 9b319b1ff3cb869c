package traffic

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// ending is what follows a typed line.
type ending struct{ name, bytes string }

// usualEndings are the choices on any link.
var usualEndings = []ending{{"↵ LF", "\n"}, {"⇤↵ CR LF", "\r\n"}, {"⇤ CR", "\r"}, {"no ending", ""}}

// sender is the line to send from: what will go out is shown, byte by byte
// and with its time on the line, before Enter.
type sender struct {
	entry  ui.Entry
	hex    bool
	ending int
	// endings are the choices: the device's own, if it is an odd one, and the usual.
	endings []ending
	link    string
	last    map[string]int // the line ends used last, by link
}

// newSender opens the line. The line end is the one that was used last on the link,
// else the device's own.
func (v *View) newSender(h ui.Host) *sender {
	s := &sender{entry: ui.NewEntry(), last: v.endings, endings: usualEndings}
	l := h.Link()
	if l == nil {
		return s
	}
	s.link = l.Name
	if l.Talker != nil {
		own := string(l.Talker.LineEnd)
		at := slices.IndexFunc(s.endings, func(e ending) bool { return e.bytes == own })
		if at < 0 {
			s.endings, at = append([]ending{{safe.Bytes([]byte(own)) + " as the device", own}}, usualEndings...), 0
		}
		s.ending = at
	}
	if used, known := v.endings[l.Name]; known && used < len(s.endings) {
		s.ending = used
	}
	return s
}

func (s *sender) height() int { return 4 }

// bytes gives what would be sent.
func (s *sender) bytes() ([]byte, error) {
	if s.hex {
		return hexBytes(s.entry.Text())
	}
	b, err := check.ParseText(s.entry.Text())
	return append(b, s.endings[s.ending].bytes...), err
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
		behind = s.endings[s.ending].name
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
			if d, err := intent.Duration(l.Kind, l.Model.Tap(), fmt.Sprintf("mcu % X", data), l.Model.Bit()); err == nil {
				text = fmt.Sprintf("%d %s, %s on the line: % X", n, word, d.Round(4), data)
			}
		}
		a.Text(0, 2, cells.Plain, text)
	}
	a.Text(0, 3, cells.Quiet, "Enter sends   Tab line ending   Ctrl+X text or hex   ↑ ↓ earlier   Esc leaves")
}

// key handles a key; true closes the line.
func (s *sender) key(k tea.KeyPressMsg, h ui.Host) (bool, tea.Cmd) {
	switch k.String() {
	case "esc":
		return true, nil
	case "tab":
		s.ending = (s.ending + 1) % len(s.endings)
	case "ctrl+x":
		s.hex = !s.hex
	case "enter":
		data, err := s.bytes()
		cmd := sendNow(h, data, err)
		if cmd != nil {
			s.entry.Keep()
			s.last[s.link] = s.ending
		}
		return false, cmd
	default:
		s.entry.Key(k)
	}
	return false, nil
}

// sendNow sends on the selected link and says what became of it; nil where there is
// nothing that can be sent.
func sendNow(h ui.Host, data []byte, err error) tea.Cmd {
	switch {
	case err != nil:
		h.Warn("not sent: %v", err)
		return nil
	case len(data) == 0:
		h.Warn("not sent: there is nothing to send")
		return nil
	}
	return h.Do(link.Send{Data: data}, func(link.Outcome) { h.Say("sent %s", safe.Bytes(data)) })
}
