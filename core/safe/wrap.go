package safe

import (
	"strings"

	"github.com/mattn/go-runewidth"
)

// Wrap makes a text safe and breaks it into lines of at most w columns, at blanks where it can.
func Wrap(text string, w int) []string {
	if w < 1 {
		return nil
	}
	var out []string
	line := ""
	for _, word := range strings.Fields(Text(text)) {
		for runewidth.StringWidth(word) > w {
			if line != "" {
				out = append(out, line)
				line = ""
			}
			head := runewidth.Truncate(word, w, "")
			if head == "" {
				return out
			}
			out = append(out, head)
			word = word[len(head):]
		}
		switch {
		case line == "":
			line = word
		case runewidth.StringWidth(line)+1+runewidth.StringWidth(word) <= w:
			line += " " + word
		default:
			out = append(out, line)
			line = word
		}
	}
	if line != "" {
		out = append(out, line)
	}
	return out
}
