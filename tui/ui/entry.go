package ui

import (
	"unicode"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/draw/cells"
)

// Entry is a line of text being typed, with a history.
type Entry struct {
	input   textinput.Model
	history []string
	at      int // place in the history while looking through it
}

// NewEntry gives an empty line, ready for keys.
func NewEntry() Entry {
	in := textinput.New()
	in.Prompt = ""
	in.CharLimit = 2000
	// The component panics before the last character; deleteWord does it.
	in.KeyMap.DeleteWordForward.SetEnabled(false)
	in.Focus()
	return Entry{input: in}
}

// Text gives what is typed.
func (e *Entry) Text() string { return e.input.Value() }

// Set replaces what is typed.
func (e *Entry) Set(s string) {
	e.input.SetValue(s)
	e.input.CursorEnd()
}

// Keep puts the text into the history and empties the line.
func (e *Entry) Keep() {
	if t := e.Text(); t != "" && (len(e.history) == 0 || e.history[len(e.history)-1] != t) {
		e.history = append(e.history, t)
	}
	e.at = len(e.history)
	e.input.Reset()
}

// Key edits the line. Up and down go through the history.
func (e *Entry) Key(k tea.KeyPressMsg) {
	switch k.String() {
	case "up":
		if e.at > 0 {
			e.at--
			e.Set(e.history[e.at])
		}
		return
	case "down":
		if e.at < len(e.history) {
			e.at++
			if e.at == len(e.history) {
				e.Set("")
			} else {
				e.Set(e.history[e.at])
			}
		}
		return
	case "alt+d", "alt+delete":
		e.deleteWord()
		return
	}
	e.input, _ = e.input.Update(k)
}

// deleteWord deletes up to the end of the word that stands at or behind the cursor.
func (e *Entry) deleteWord() {
	text, at := []rune(e.Text()), e.input.Position()
	end := at
	for end < len(text) && unicode.IsSpace(text[end]) {
		end++
	}
	for end < len(text) && !unicode.IsSpace(text[end]) {
		end++
	}
	e.input.SetValue(string(text[:at]) + string(text[end:]))
	e.input.SetCursor(at)
}

// Draw shows the line from (x, y) on, with what stands behind it, and gives
// the column behind.
func (e *Entry) Draw(a cells.Area, x, y int, behind string) int {
	runes := []rune(e.Text())
	at := e.input.Position()
	width := a.W - x - cells.Width(behind) - 2
	from := 0
	if at > width && width > 0 {
		from = at - width
	}
	for i := from; i <= len(runes) && x < a.W-cells.Width(behind); i++ {
		style := cells.Entry
		if i == at {
			style |= cells.Selected
		}
		if i == len(runes) {
			if i == at {
				a.Put(x, y, cells.Entry, '▏')
				x++
			}
			break
		}
		x = a.Text(x, y, style, string(runes[i]))
	}
	return a.Text(x, y, cells.Quiet, behind)
}
