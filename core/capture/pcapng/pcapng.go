// Package pcapng writes captures to and reads them from pcapng files. The
// form of the packets is described in docs/formats.md.
package pcapng

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/gopacket/gopacket/layers"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
)

// linkUser is the first link type of the range that is free for private use.
const linkUser layers.LinkType = 147

// version of the packets of the private link type, and the first one whose packets end with
// a checksum.
const (
	version = 3
	sealed  = 3
)

// sectionMark is the comment of the section by which a file is known, sectionMarkBefore that of
// the form before, which is read too.
const (
	sectionMark       = "gavrix capture, form 3"
	sectionMarkBefore = "gavrix capture, form 2"
)

// description is what a capture's first packets hold, as JSON in pieces.
type description struct {
	Seed    uint64            `json:"seed"`
	Started string            `json:"started,omitempty"`
	Lines   []string          `json:"lines,omitempty"`
	Links   []capture.Link    `json:"links"`
	Bench   string            `json:"bench,omitempty"`
	Files   map[string]string `json:"files,omitempty"`
	Part    int               `json:"part,omitempty"`
}

// perPiece is the size of a piece of a description, perComment of a comment.
const (
	perPiece   = 1 << 18
	perComment = 48_000
)

// packetOf gives the form that others know for a link; nil where there is none.
func packetOf(l *capture.Link) *bus.Packet {
	if k := all.ByName(l.Kind); k != nil {
		return k.Packet
	}
	return nil
}

// ports gives the interface for the traffic of each link whose bus has a form that
// others know, behind those of all links, by the link's index.
func ports(links []capture.Link) map[uint16]int {
	out := map[uint16]int{}
	for i := range links {
		if packetOf(&links[i]) != nil {
			out[uint16(i)] = len(links) + len(out)
		}
	}
	return out
}

// What our comments begin with: the whole record, more of it, and a packet that
// belongs to the record before.
const (
	wholeMark = "gavrix: "
	moreMark  = "gavrix+ "
	goesOn    = "gavrix: goes on"
)

// wholeText gives bytes as comments.
func wholeText(b []byte) []string {
	text, mark := base64.StdEncoding.EncodeToString(b), wholeMark
	var out []string
	for {
		n := min(len(text), perComment)
		out = append(out, mark+text[:n])
		text, mark = text[n:], moreMark
		if text == "" {
			return out
		}
	}
}

// parseWhole is the inverse of wholeText; nil where no comment is ours.
func parseWhole(comments []string) ([]byte, error) {
	text := ""
	for _, c := range comments {
		if part, ok := strings.CutPrefix(c, wholeMark); ok {
			text = part
		} else if part, ok := strings.CutPrefix(c, moreMark); ok {
			text += part
		}
	}
	if text == "" {
		return nil, nil
	}
	b, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, errors.New("its comment is damaged")
	}
	return b, nil
}

// marksMark is what a comment of error marks begins with.
const marksMark = "errors: "

// marksPerComment keeps a comment below the size of one option.
const marksPerComment = 500

func marksText(marks []record.Mark) []string {
	var out []string
	for len(marks) > 0 {
		n := min(len(marks), marksPerComment)
		var parts []string
		for _, m := range marks[:n] {
			parts = append(parts, fmt.Sprintf("%d %s", m.Index, m.Flags))
		}
		out = append(out, marksMark+strings.Join(parts, ", "))
		marks = marks[n:]
	}
	return out
}

func parseMarks(comment string, n int) []record.Mark {
	list, ok := strings.CutPrefix(comment, marksMark)
	if !ok {
		return nil
	}
	var out []record.Mark
	for p := range strings.SplitSeq(list, ", ") {
		index, flags, _ := strings.Cut(p, " ")
		i, err := strconv.Atoi(index)
		if f := record.ParseFlags(flags); err == nil && i >= 0 && i <= n && f != 0 {
			out = append(out, record.Mark{Index: i, Flags: f})
		}
	}
	return out
}
