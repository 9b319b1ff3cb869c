// Package jsonl gives records as JSON, one object a line, as described in
// docs/formats.md.
package jsonl

import (
	"encoding/hex"
	"encoding/json"
	"fmt"

	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
)

// Mark is an error mark of one character.
type Mark struct {
	Char int      `json:"char"`
	What []string `json:"what"`
}

// Line is the JSON form of a record. Times are picoseconds since the start of
// the capture.
type Line struct {
	Start    int64   `json:"start_ps"`
	End      int64   `json:"end_ps"`
	Link     string  `json:"link"`
	Bus      string  `json:"bus"`
	Kind     string  `json:"kind"`
	From     string  `json:"from,omitempty"`
	Seen     string  `json:"seen_by,omitempty"`
	Origin   string  `json:"origin"`
	Data     string  `json:"data,omitempty"`
	Text     string  `json:"text,omitempty"`
	CharTime int64   `json:"char_ps,omitempty"`
	Offsets  []int64 `json:"offsets_ps,omitempty"`
	Marks    []Mark  `json:"errors,omitempty"`
	More     bool    `json:"continues,omitempty"`
	// Meaning is what a device file makes of a transaction.
	Meaning string `json:"meaning,omitempty"`
	// Detail is what records of this bus say beyond that.
	Detail map[string]any `json:"detail,omitempty"`
}

// Text gives a record of the kind of bus in words, fit to be shown.
func Text(bus string, r *record.Record) string {
	if kind := all.ByName(bus); kind != nil && r.Traffic() {
		return safe.Text(kind.Sentence(r))
	}
	return safe.Text(r.Text)
}

// Of gives the JSON form of a record.
func Of(meta *capture.Meta, r *record.Record) Line {
	l := capture.Link{Name: fmt.Sprint(r.Link)}
	if int(r.Link) < len(meta.Links) {
		l = meta.Links[r.Link]
	}
	out := Line{
		Start: int64(r.Start), End: int64(r.End), Link: l.Name, Bus: l.Kind, Kind: r.Kind.String(), Origin: r.Origin.String(),
		From: l.EndName(r.From), Seen: l.EndName(r.Seen), CharTime: int64(r.Each), More: r.More,
	}
	out.Text = Text(l.Kind, r)
	if kind := all.ByName(l.Kind); kind != nil && r.Traffic() {
		out.Data, out.Detail = hex.EncodeToString(r.Data), kind.Fields(r)
	}
	for _, o := range r.Offsets {
		out.Offsets = append(out.Offsets, int64(o))
	}
	for _, m := range r.Marks {
		out.Marks = append(out.Marks, Mark{m.Index, m.Flags.Names()})
	}
	return out
}

// Marshal gives a record as one line, with what a device file makes of it, which may be
// empty.
func Marshal(meta *capture.Meta, r *record.Record, meaning string) ([]byte, error) {
	l := Of(meta, r)
	l.Meaning = safe.Text(meaning)
	b, err := json.Marshal(l)
	return append(safe.JSON(b), '\n'), err
}
