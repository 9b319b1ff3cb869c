package sim

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/demo"
)

var deviceFile = regexp.MustCompile(`devices/([a-z-]+)\.yaml`)

// renamed is Lock 7 with other names for all links, parts and device files; back turns
// a text that names them into that of Lock 7.
func renamed(t require.TestingT, b *bench.Bench, other func(name string) string) (n *bench.Bench, back func(string) string) {
	var names []string
	for _, l := range b.Links {
		names = append(names, l.Name)
		if l.Kind.Name != "uart" && l.Kind.Name != "pulse" { // a single end is called as its file says
			names = append(names, l.Devices()...)
		}
	}
	slices.SortFunc(names, func(a, b string) int { return len(b) - len(a) }) // no name hides in another
	text, err := demo.Files.ReadFile(demo.Bench)
	require.NoError(t, err)
	files := fstest.MapFS{}
	plain := deviceFile.ReplaceAllStringFunc(string(text), func(m string) string {
		name := deviceFile.FindStringSubmatch(m)[1]
		content, err := demo.Files.ReadFile("devices/" + name + ".yaml")
		require.NoError(t, err)
		as := fmt.Sprintf("f%d.yaml", len(files))
		files[as] = &fstest.MapFile{Data: content}
		return as
	})
	registers, err := demo.Files.ReadFile("marlow40.csv")
	require.NoError(t, err)
	files["marlow40.csv"] = &fstest.MapFile{Data: registers}
	var there, here []string
	for _, name := range names {
		as := other(name)
		plain = regexp.MustCompile(`(^|[^a-z-])`+name+`([^a-z-]|$)`).ReplaceAllString(plain, "${1}"+as+"${2}")
		there, here = append(there, as, name), append(here, name)
	}
	require.Len(t, here, len(names))
	files[demo.Bench] = &fstest.MapFile{Data: []byte(plain)}
	n, faults := bench.Load(files, demo.Bench)
	require.Empty(t, faults, plain)
	return n, strings.NewReplacer(there...).Replace
}

// seenOf runs a bench and gives all that is seen of it: records, what they mean, and
// findings, as text.
func seenOf(b *bench.Bench, long quantity.Time, back func(string) string) []string {
	w := New(b, capture.NewStore(MetaOf(b)))
	w.RunTo(long)
	snap := w.store.Snapshot()
	m := b.Meanings()
	var out []string
	for i := range snap.Len() {
		r := snap.At(i)
		out = append(out, back(fmt.Sprintf("%v", *r)))
		if int(r.Link) < len(b.Links) {
			out = append(out, back(bench.Sentences(m.Of(b.Links[r.Link].Name, r))))
		}
	}
	for _, l := range b.Links {
		for _, f := range append(saidOf(l.Lint()), saidOf(diagnose.Link(snap, l))...) {
			out = append(out, back(f))
		}
	}
	return out
}

// TestNamesChangeNothing holds that what links, parts and files are called changes no
// byte and no finding.
func TestNamesChangeNothing(t *testing.T) {
	b := lock7(t)
	want := seenOf(b, 600*quantity.Millisecond, func(s string) string { return s })
	require.Greater(t, len(want), 100)
	rapid.Check(t, func(rt *rapid.T) {
		k := 0
		n, back := renamed(rt, b, func(string) string {
			k++
			return fmt.Sprintf("%s%dx", rapid.StringMatching("[a-z]{1,8}").Draw(rt, "name"), k)
		})
		require.Equal(rt, want, seenOf(n, 600*quantity.Millisecond, back))
	})
}
