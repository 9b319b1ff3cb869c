package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/core/safe"
)

// fewLines are weighed at once.
const fewLines = 12

// recognised gives links for the lines of a file that no link takes, and prints
// what was found to standard error.
func (o *decodeOptions) recognised(ctx context.Context, path string, links []decode.Link) ([]decode.Link, error) {
	src, f, err := openLevels(path, o.rate)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	names := src.Names()
	lines, err := decode.Gather(ctx, src, decode.Unlinked(links, names), progress(f))
	switch {
	case lines == nil:
		return nil, fmt.Errorf("%s: %w", path, err)
	case err != nil:
		// Decoding says so again, with what stood before it.
		fmt.Fprintf(os.Stderr, "gavrix: %s: %s; what comes before it is looked at\n", safe.Text(path), safe.Text(err.Error()))
	case len(names) == 0:
		return nil, fmt.Errorf("%s: there are no lines in the file", path)
	}
	var weighed func(int)
	if tell := percent("weighing lines", func(n quantity.Time) float64 { return float64(n) / float64(len(lines)) }); tell != nil && len(lines) > fewLines {
		weighed = func(n int) { tell(quantity.Time(n + 1)) }
	}
	r, err := recognise.Lines(ctx, lines, weighed)
	if err != nil {
		return nil, err
	}
	var taken []string
	for _, l := range links {
		taken = append(taken, l.Name)
	}
	best, err := decode.Guesses(r.Best, lines, names, taken)
	others, errOthers := decode.Guesses(r.Others, lines, names, taken)
	if err := errors.Join(err, errOthers); err != nil {
		fmt.Fprintln(os.Stderr, "left out:", safe.Text(err.Error()))
	}
	if o.asJSON {
		if err := printGuessesJSON(os.Stderr, best, others); err != nil {
			return nil, err
		}
	} else {
		printGuesses(os.Stderr, best, others, lines, &r)
	}
	var out []decode.Link
	for _, g := range best {
		out = append(out, g.Link)
	}
	return out, nil
}

func printGuesses(w io.Writer, best, others []decode.Guess, lines []recognise.Line, r *recognise.Result) {
	say := func(g *decode.Guess) {
		fmt.Fprintf(w, "--link '%s'\n", safe.Text(g.Text))
		fmt.Fprintf(w, "    %s: %.0f %% of %d %s without an error, %.0f bits saved\n", g.Confidence(), 100*g.Fit(), g.Units, g.Unit, g.Gain)
		if len(g.Class) > 1 {
			fmt.Fprintf(w, "    the same on the wire: %s\n", strings.Join(g.Class, ", "))
		}
		for _, x := range g.Reasons {
			fmt.Fprintf(w, "    %s\n", safe.Text(x))
		}
		for _, x := range g.Raise {
			fmt.Fprintf(w, "    surer by: %s\n", x)
		}
	}
	for i := range best {
		say(&best[i])
	}
	if len(others) > 0 {
		fmt.Fprintln(w, "or, with less likelihood:")
	}
	for i := range others {
		say(&others[i])
	}
	if r.Left > 0 {
		fmt.Fprintf(w, "%d lines with the fewest edges are left out: %d at most are weighed; name others with --link\n", r.Left, recognise.MostLines)
	}
	used := map[int]bool{}
	for _, g := range best {
		for _, l := range g.Lines {
			used[l] = true
		}
	}
	said, more := 0, 0
	tell := func(format string, args ...any) {
		if said++; said > mostUnused {
			more++
			return
		}
		fmt.Fprintf(w, format+"\n", args...)
	}
	for i := range lines {
		if k := r.Seen[i].Copy; k > 0 {
			tell("%s is another name of %s", safe.Text(lines[i].Name), safe.Text(lines[k-1].Name))
		} else if p := r.Seen[i].Steady; p > 0 && !used[i] {
			tell("%s repeats the same every %s: a clock, a counter's bit, a pulse width, or one character over and over", safe.Text(lines[i].Name), p.Round(3))
		} else if !used[i] {
			tell("%s is not recognised: %s, %d edges looked at", safe.Text(lines[i].Name), r.Seen[i].Activity, r.Seen[i].Edges)
		}
	}
	if more > 0 {
		fmt.Fprintf(w, "%s more belong to no bus\n", quantity.Count(more, "line"))
	}
}

// mostUnused is of how many lines that belong to no bus it is said what they are.
const mostUnused = 40

// guessJSON is the form of a proposal, one object a line.
type guessJSON struct {
	Proposal   string   `json:"proposal"`
	First      bool     `json:"first"`
	Bus        string   `json:"bus"`
	Class      []string `json:"class,omitempty"`
	Units      int      `json:"units"`
	Unit       string   `json:"unit"`
	Bad        int      `json:"bad"`
	Bits       float64  `json:"bits_saved"`
	Confidence string   `json:"confidence"`
	Reasons    []string `json:"reasons"`
	Raise      []string `json:"surer_by,omitempty"`
}

func printGuessesJSON(w io.Writer, best, others []decode.Guess) error {
	enc := json.NewEncoder(safe.JSONWriter(w))
	for i, g := range append(best[:len(best):len(best)], others...) {
		err := enc.Encode(guessJSON{
			Proposal: g.Text, First: i < len(best), Bus: g.Kind.Name, Class: g.Class, Units: g.Units, Unit: g.Unit, Bad: g.Bad,
			Bits: g.Gain, Confidence: g.Confidence(), Reasons: g.Reasons, Raise: g.Raise,
		})
		if err != nil {
			return err
		}
	}
	return nil
}
