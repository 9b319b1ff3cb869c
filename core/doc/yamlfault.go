package doc

import (
	"errors"
	"strings"

	"go.yaml.in/yaml/v4"

	"gavrix.org/gavrix/core/finding"
)

// yamlWords says in our words what the parser found, and how to mend it.
var yamlWords = []struct{ said, seen, mend string }{
	{"',' or ']'", "a list that begins with [ is not closed, or lacks a comma", "close it with ], and part its elements with commas"},
	{"',' or '}'", "a map that begins with { is not closed, or lacks a comma", "close it with }, and part its keys with commas"},
	{"mapping values are not allowed", "a second colon stands in one value, or this line is indented unlike the keys above it", "put quotes round a value that holds a colon and a blank; give the keys of one map the same indentation"},
	{"unexpected end of stream", "a text in quotes is not closed", "close the quotes"},
	{"unexpected document indicator", "a text in quotes is not closed before the next document", "close the quotes"},
	{"cannot start any token", "a character that no value can begin with", "put the value in quotes"},
	{"unknown anchor", "there is no anchor of this name above", "write &NAME on the value that *NAME refers to"},
	{"'-' indicator", "an element of the list above should stand here, and something else does", "begin it with a dash and a blank, or give the line another indentation"},
	{"did not find expected key", "this line belongs to no map above it", "give it the indentation of the keys that it belongs to"},
	{"could not find expected ':'", "a key without a colon after it", "write KEY: VALUE; indent the lines of a text that goes over several"},
	{"block sequence entries", "a list can't begin here", "put the dash on a line of its own, below the key"},
	{"block mapping", "a map can't begin here", "put the keys on lines of their own"},
	{"node content", "a value is missing, or a bracket is not closed", "write the value, or {} for an empty map; look at the brackets here and above"},
	{"control characters", "a control character", "remove it, or write it as \\xNN in double quotes"},
	{"UTF-8", "bytes that are no UTF-8 text", "save the file as UTF-8"},
	{"UTF-16", "bytes that are no UTF-16 text", "save the file as UTF-8"},
	{"escape", "an escape in double quotes that YAML does not know", "write \\n, \\r, \\t, \\xNN, or use single quotes"},
	{"tab", "a tab where only blanks may indent", "indent with blanks"},
	{"directive", "a line that begins with %", "remove it, or put the value in quotes"},
	{"anchor", "an anchor that can't be understood", "write &NAME, of letters and digits"},
	{"alias", "a reference that can't be understood", "write *NAME, of letters and digits"},
	{"tag", "a type that can't be understood", "remove what begins with !"},
	{"header", "a text over several lines that begins in a way YAML does not know", "write | alone on the line of the key, and the text below it, indented"},
	{"indentation", "a text over several lines with an indentation that can't be understood", "indent all of its lines by the same blanks"},
}

// yamlFault says where a text is no YAML, and why.
func (f *File) yamlFault(err error) *finding.Finding {
	line, col := 1, 1
	said := err.Error()
	var le *yaml.LoadError
	if errors.As(err, &le) {
		line, col, said = max(le.Mark.Line, 1), max(le.Mark.Column, 1), le.Message
	}
	line = min(line, len(f.lineOff))
	seen, mend := "this is not YAML", "check quotes, brackets and indentation here and on the line above"
	for _, w := range yamlWords {
		if strings.Contains(said, w.said) {
			seen, mend = "this is not YAML: "+w.seen, w.mend
			break
		}
	}
	if at := f.lineOff[line-1] + col - 1; at < len(f.text) && f.text[at] == '\t' {
		seen, mend = "this is not YAML: a tab where only blanks may indent", "indent with blanks"
	}
	return f.fault("not-yaml", line, col, seen, mend)
}
