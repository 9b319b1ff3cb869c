package decode

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/recognise"
)

// mostGathered bounds the edges that are read for recognising lines, however
// few some of them have.
const mostGathered = 4_000_000

// Gather reads lines of a source, as many edges of each as are enough to
// recognise it. On a fault in the file it gives what stood before it.
func Gather(ctx context.Context, src Source, lines []int, progress func(quantity.Time)) ([]recognise.Line, error) {
	out := make([]recognise.Line, len(lines))
	for i, l := range lines {
		out[i].Name = short(src.Names(), l)
	}
	if len(lines) == 0 {
		return out, nil
	}
	src.Select(lines...)
	total, first := 0, true
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		ws, err := src.Next()
		wanting := false
		for i := range ws {
			w := &out[i].Levels
			if first {
				w.From, w.High = ws[i].From, ws[i].High
			}
			if len(w.Toggles) <= recognise.MostEdges {
				w.Toggles = append(w.Toggles, ws[i].Toggles...)
				w.To = ws[i].To
				wanting = wanting || len(w.Toggles) <= recognise.MostEdges
			}
			total += len(ws[i].Toggles)
		}
		if len(ws) > 0 {
			first = false
			if progress != nil {
				progress(ws[0].To)
			}
		}
		switch {
		case errors.Is(err, io.EOF):
			return out, nil
		case err != nil:
			return out, err
		case !first && (!wanting || total > mostGathered):
			return out, nil
		}
	}
}

// short gives a line's name without its scopes where that is enough to find it.
func short(names []string, i int) string {
	last := names[i][strings.LastIndexByte(names[i], '.')+1:]
	if found, err := Index(names, last); err == nil && found == i {
		return last
	}
	return names[i]
}

// Guess is a proposal as a link.
type Guess struct {
	recognise.Proposal
	Text string // in the words of ParseLink
	Link Link
}

// Guesses makes links of proposals for gathered lines; names are those of the
// source. Links are named after their line, or their bus and a number; no name
// is one of those that are taken. Proposals whose lines have names that can't be
// written in words are left out, with an error.
func Guesses(proposals []recognise.Proposal, lines []recognise.Line, names, taken []string) ([]Guess, error) {
	taken = slices.Clone(taken)
	var out []Guess
	var errs []error
	for _, p := range proposals {
		base := p.Kind.Name
		if used := slices.DeleteFunc(slices.Clone(p.Lines), func(l int) bool { return l < 0 }); len(used) == 1 {
			name := lines[used[0]].Name
			base = strings.Map(plain, name[strings.LastIndexByte(name, '.')+1:])
		}
		name := base
		for n := 2; slices.Contains(taken, name); n++ {
			name = fmt.Sprintf("%s-%d", base, n)
		}
		taken = append(taken, name)
		g := Guess{Proposal: p, Text: name + " " + p.Text(lines)}
		var err error
		if g.Link, err = ParseLink(g.Text, names); err != nil {
			errs = append(errs, err)
			continue
		}
		out = append(out, g)
	}
	return out, errors.Join(errs...)
}

// plain keeps what a link's name can have.
func plain(r rune) rune {
	if r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '_' || r == '-' {
		return r
	}
	return '_'
}

// Unlinked gives the lines of a source that no link takes.
func Unlinked(links []Link, names []string) []int {
	used := map[int]bool{}
	for _, l := range links {
		for _, line := range l.Lines {
			for _, i := range line.inputs {
				used[i] = true
			}
		}
	}
	var out []int
	for i := range names {
		if !used[i] {
			out = append(out, i)
		}
	}
	return out
}

// Rest takes lines of a source that nobody has described as one link, whose
// levels are kept and shown.
func Rest(name string, lines []int, names []string) Link {
	l := Link{Name: name}
	var roles []string
	for _, i := range lines {
		l.Lines = append(l.Lines, Line{inputs: []int{i}})
		roles = append(roles, short(names, i))
	}
	l.Kind = all.Undescribed(roles)
	return l
}
