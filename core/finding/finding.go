// Package finding holds what every part of Gavrix can report: something that
// is wrong or worth knowing, where it is, why it matters and what to change;
// and the derivation of a computed number.
package finding

import (
	"fmt"
	"sort"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
)

// Severity orders findings by how much they matter.
type Severity uint8

// The severities. Only an Error makes a command exit with status 1.
const (
	Note Severity = iota
	Warning
	Error
)

func (s Severity) String() string {
	return [...]string{"note", "warning", "error"}[s]
}

// MarshalText makes the severity a word in JSON.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Place says where a finding is: in a file, on a link at a time, or both.
type Place struct {
	File   string        `json:"file,omitempty"`
	Line   int           `json:"line,omitempty"`   // from 1; 0: not in a line
	Column int           `json:"column,omitempty"` // in characters, from 1
	Source string        `json:"source,omitempty"` // the text of that line
	Link   string        `json:"link,omitempty"`
	At     quantity.Time `json:"at,omitempty"` // picoseconds since the capture's start
}

func (p Place) String() string {
	switch {
	case p.File != "" && p.Line > 0:
		return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
	case p.File != "":
		return p.File
	case p.Link != "" && p.At > 0:
		return fmt.Sprintf("%s at %s", p.Link, p.At.Round(6))
	}
	return p.Link
}

// Op is what an Edit does at its path.
type Op uint8

// The operations of an edit.
const (
	Set    Op = iota // give the value at the path; the key is added if it is absent
	Delete           // remove the key or list element at the path
)

// Edit changes one value of a bench file. It holds plain values only, so that
// any package can propose one.
type Edit struct {
	Op    Op       `json:"op"`
	Path  []string `json:"path"`
	Value string   `json:"value,omitempty"`
}

// Fix is a set of edits, applied together, that mends a finding.
type Fix struct {
	Label string `json:"label"` // as `MCU to 7E1`
	Edits []Edit `json:"edits"`
}

// Finding is one thing wrong or worth knowing.
type Finding struct {
	Severity Severity `json:"severity"`
	Code     string   `json:"code"` // stable, in words: `parity-differs`
	Where    Place    `json:"where"`
	Link     string   `json:"link,omitempty"` // the link that it concerns
	Seen     string   `json:"seen"`           // what is seen
	Why      string   `json:"why,omitempty"`  // why it matters
	Change   string   `json:"change,omitempty"`
	Fixes    []Fix    `json:"fixes,omitempty"`
}

// String gives the finding in the form of a compiler's message, over as many
// lines as it has parts. What it quotes is made showable.
func (f Finding) String() string {
	var b strings.Builder
	show := func(s string) string { return safe.Text(safe.Brief(s)) }
	if w := f.Where.String(); w != "" {
		b.WriteString(show(w) + ": ")
	}
	fmt.Fprintf(&b, "%s: %s [%s]", f.Severity, show(f.Seen), f.Code)
	if f.Where.Source != "" {
		fmt.Fprintf(&b, "\n    %s", show(strings.TrimSpace(f.Where.Source)))
	}
	if f.Why != "" {
		fmt.Fprintf(&b, "\n    why: %s", show(f.Why))
	}
	if f.Change != "" {
		fmt.Fprintf(&b, "\n    change: %s", show(f.Change))
	}
	for _, x := range f.Fixes {
		fmt.Fprintf(&b, "\n    fix: %s", show(x.Label))
	}
	return b.String()
}

// Worst gives the highest severity among fs; ok is false when there is none.
func Worst(fs []Finding) (s Severity, ok bool) {
	for _, f := range fs {
		s = max(s, f.Severity)
	}
	return s, len(fs) > 0
}

// Sort puts fs in order of severity, then of place.
func Sort(fs []Finding) {
	sort.SliceStable(fs, func(i, j int) bool {
		if fs[i].Severity != fs[j].Severity {
			return fs[i].Severity > fs[j].Severity
		}
		return fs[i].Where.Line < fs[j].Where.Line
	})
}

// Input is one value that went into a derivation.
type Input struct {
	Symbol string `json:"symbol"`
	Name   string `json:"name"`
	Value  string `json:"value"`
	Source string `json:"source,omitempty"`
}

// Derivation says how a number came about: the formula, the values put in,
// the formula with the values in it, and the result.
type Derivation struct {
	Name    string  `json:"name"`
	Formula string  `json:"formula"`
	Inputs  []Input `json:"inputs,omitempty"`
	Worked  string  `json:"worked"`
	Result  string  `json:"result"`
	Source  string  `json:"source,omitempty"` // where the formula comes from
}

// Lines gives the derivation as text, the same on every output.
func (d Derivation) Lines() []string {
	out := []string{
		d.Name + " = " + d.Result,
		"  " + d.Formula,
		"  = " + d.Worked,
	}
	for _, in := range d.Inputs {
		l := fmt.Sprintf("  %s: %s = %s", in.Symbol, in.Name, in.Value)
		if in.Source != "" {
			l += " (" + in.Source + ")"
		}
		out = append(out, l)
	}
	if d.Source != "" {
		out = append(out, "  from "+d.Source)
	}
	return out
}
