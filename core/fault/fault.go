// Package fault says in our words what the libraries that read tables and XML found
// wrong, with its place and how to mend it.
package fault

import (
	"encoding/csv"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// CSV gives an error of encoding/csv; others as they are, io.EOF too.
func CSV(err error) error {
	var pe *csv.ParseError
	if !errors.As(err, &pe) {
		return err
	}
	said := "this row can't be read; look at its quotes and commas"
	switch {
	case errors.Is(pe.Err, csv.ErrQuote):
		said = "a text in double quotes is not closed, or goes on after its quotes; double a quote that is meant"
	case errors.Is(pe.Err, csv.ErrBareQuote):
		said = "a double quote stands inside a text without quotes; put the whole in quotes and double it"
	case errors.Is(pe.Err, csv.ErrFieldCount):
		said = "this row has another number of columns than the first one"
	}
	return fmt.Errorf("line %d, column %d: %s", pe.Line, pe.Column, said)
}

// XML gives an error of encoding/xml found at a line and a column.
func XML(err error, line, column int) error {
	said := "this is no XML; look at the tags here and above"
	var se *xml.SyntaxError
	switch {
	case errors.Is(err, io.EOF):
		said = "the file holds no element"
	case errors.As(err, &se) && strings.Contains(se.Msg, "EOF"):
		said = "the file ends before all tags are closed"
	case errors.As(err, &se) && strings.Contains(se.Msg, "closed by"):
		said = "a tag is closed by another one's name"
	case errors.As(err, &se) && strings.Contains(se.Msg, "entity"):
		said = "an entity that XML does not know; write &amp; for &"
	case errors.As(err, &se) && strings.Contains(se.Msg, "UTF-8"):
		said = "bytes that are no UTF-8 text; save the file as UTF-8"
	}
	return fmt.Errorf("line %d, column %d: %s", line, column, said)
}
