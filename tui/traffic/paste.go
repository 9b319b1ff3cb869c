package traffic

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/sending"
	"gavrix.org/gavrix/tui/ui"
)

// firstPace is the pause behind each line that is pasted, at first.
const firstPace = 20 * quantity.Millisecond

// mostPasted bounds the lines that are sent one after the other.
const mostPasted = 10_000

// PasteLines implements ui.LinePaster: several lines are sent one after the other, each with
// the line end that is chosen; of one alone it may be changed before it goes.
func (v *View) PasteLines(text string, h ui.Host) (tea.Cmd, bool) {
	s := v.send
	lines := textLines(text)
	if s == nil || s.hex || len(lines) < 2 {
		return nil, false
	}
	return v.sendLines(h, fmt.Sprintf("%d pasted lines", len(lines)), lines, s.endings[s.ending].bytes), true
}

// textLines takes a text apart; an empty end is no line.
func textLines(text string) []string {
	lines := strings.Split(strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n"), "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// sendLines sends lines one after the other: the next one begins a pause behind the time that
// the one before takes on the wire.
func (v *View) sendLines(h ui.Host, what string, lines []string, ending string) tea.Cmd {
	l := h.Link()
	switch {
	case l == nil:
		h.Warn("no link is selected")
		return nil
	case len(lines) > mostPasted:
		h.Warn("%d lines: at most %d go at once", len(lines), mostPasted)
		return nil
	}
	info := h.Session().Info(l.Index)
	if why := info.Refuses(link.Send{}); why != "" {
		h.Warn("not sent: %s", why)
		return nil
	}
	pace := v.pace
	if pace == 0 {
		pace = firstPace
	}
	var items []sending.Item
	at := quantity.Time(0)
	for _, line := range lines {
		data := []byte(line + ending)
		if len(data) == 0 {
			continue
		}
		items = append(items, sending.Item{After: at, Link: l.Index, Intent: link.Send{Data: data}, Text: safe.Bytes(data)})
		// A character takes 13 bits at most: start, nine data, parity, two stop.
		at += quantity.Time(len(data))*13*l.Model.Bit() + pace
	}
	p := &sending.Plan{Items: items, Times: 1, Spaced: true}
	if err := p.Valid(); err != nil {
		h.Warn("not sent: %v", err)
		return nil
	}
	return v.begin(h, fmt.Sprintf("%s, %s apart", what, pace), func() (*sending.Plan, error) { return p, nil })
}

// mostText bounds the size of a file of text that is sent.
const mostText = 1 << 20

// pasteCommands are those about lines of text.
func (v *View) pasteCommands(h ui.Host) []ui.Command {
	return []ui.Command{
		{Name: "send-lines", Args: "FILE", Help: "send a file of text line by line, each with the link's line end", Complete: ui.Files, Run: func(path string) tea.Cmd {
			info, err := os.Stat(path)
			switch {
			case path == "":
				h.Warn("name a file of text: send-lines setup.txt")
				return nil
			case err != nil:
				h.Warn("not sent: %v", err)
				return nil
			case info.Size() > mostText:
				h.Warn("not sent: %s has %d kB; at most %d go at once", path, info.Size()>>10, mostText>>10)
				return nil
			}
			text, err := regular.Read(path, mostText)
			if err != nil {
				h.Warn("not sent: %v", err)
				return nil
			}
			if bytes.IndexByte(text, 0) >= 0 {
				h.Warn("not sent: %s is no text; send-hex sends bytes", path)
				return nil
			}
			s := v.newSender(h)
			return v.sendLines(h, filepath.Base(path), textLines(string(text)), s.endings[s.ending].bytes)
		}},
		{Name: "pace", Args: "[TIME]", Help: "the pause behind each line that is pasted or sent from a file", Run: func(arg string) tea.Cmd {
			if arg == "" {
				now := v.pace
				if now == 0 {
					now = firstPace
				}
				h.Say("%s behind each line", now)
				return nil
			}
			t, err := quantity.ParseSpan(arg)
			if err != nil || t < quantity.Microsecond || t > 100*quantity.Second {
				h.Warn("pace %s: write 1 us to 100 s", arg)
				return nil
			}
			v.pace = t
			h.Say("%s behind each line", t)
			return nil
		}},
	}
}
