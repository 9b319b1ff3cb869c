package csv

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// text is a table as plain text from the row with the names on: marks of its encoding,
// remarks in front of it, and what parts its columns are found out.
type text struct {
	in    *bufio.Reader
	comma rune
	lines int // in front of the names
	last  byte
	given int64 // bytes
	ended bool
}

// mostFront bounds what stands in front of the names.
const mostFront = 1 << 16

func newText(in io.Reader) (*text, error) {
	b := bufio.NewReaderSize(in, mostFront)
	mark, _ := b.Peek(4)
	switch {
	case bytes.HasPrefix(mark, []byte("\xef\xbb\xbf")):
		_, _ = b.Discard(3)
	case bytes.HasPrefix(mark, []byte("\xff\xfe")), len(mark) == 4 && mark[0] != 0 && mark[1] == 0 && mark[3] == 0:
		b = bufio.NewReaderSize(&wide{in: b, low: true}, mostFront)
	case bytes.HasPrefix(mark, []byte("\xfe\xff")), len(mark) == 4 && mark[0] == 0 && mark[1] != 0 && mark[2] == 0:
		b = bufio.NewReaderSize(&wide{in: b}, mostFront)
	}
	t := &text{in: b, comma: ','}
	for {
		front, err := b.Peek(mostFront)
		end := bytes.IndexByte(front, '\n')
		if end < 0 {
			if end = len(front); err == nil || errors.Is(err, bufio.ErrBufferFull) {
				return nil, fmt.Errorf("line %d: it is longer than %d characters; the first line names the lines", t.lines+1, mostFront)
			}
		}
		line := strings.TrimSpace(string(front[:end]))
		named := ""
		if strings.HasPrefix(strings.ToLower(line), "sep=") && len(line) == 5 {
			named = line[4:]
		}
		switch {
		case end == len(front) && line == "":
			return t, nil
		case line == "" || named != "" || strings.HasPrefix(line, "#") || strings.HasPrefix(line, "%") || strings.HasPrefix(line, "//") || strings.HasPrefix(line, ";"):
			_, _ = b.Discard(min(end+1, len(front)))
			t.lines++
			continue
		case strings.Contains(line, "\t"):
			t.comma = '\t'
		case strings.Contains(line, ";"):
			t.comma = ';'
		}
		return t, nil
	}
}

// Read implements io.Reader.
func (t *text) Read(p []byte) (int, error) {
	n, err := t.in.Read(p)
	if n > 0 {
		t.last = p[n-1]
		t.given += int64(n)
	}
	t.ended = t.ended || errors.Is(err, io.EOF)
	return n, err
}

// cutAt reports whether the text ends at an offset, and that without a line break.
func (t *text) cutAt(offset int64) bool {
	if !t.ended {
		_, err := t.in.Peek(1)
		t.ended = errors.Is(err, io.EOF)
	}
	return t.ended && offset == t.given && t.last != '\n'
}

// wide makes UTF-8 of UTF-16.
type wide struct {
	in   io.Reader
	low  bool // the low byte comes first
	buf  []byte
	unit [2]byte
	high uint16 // the first half of a pair
}

// Read implements io.Reader.
func (w *wide) Read(p []byte) (int, error) {
	for len(w.buf) < len(p) {
		if _, err := io.ReadFull(w.in, w.unit[:]); err != nil {
			if len(w.buf) > 0 {
				break
			}
			if errors.Is(err, io.ErrUnexpectedEOF) {
				err = io.EOF
			}
			return 0, err
		}
		u := uint16(w.unit[0])<<8 | uint16(w.unit[1])
		if w.low {
			u = u<<8 | u>>8
		}
		switch r := rune(u); {
		case u == 0xFEFF:
		case utf16.IsSurrogate(r) && w.high == 0:
			w.high = u
		case w.high != 0:
			w.buf = utf8.AppendRune(w.buf, utf16.DecodeRune(rune(w.high), r))
			w.high = 0
		default:
			w.buf = utf8.AppendRune(w.buf, r)
		}
	}
	n := copy(p, w.buf)
	w.buf = w.buf[:copy(w.buf, w.buf[n:])]
	return n, nil
}
