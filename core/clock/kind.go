package clock

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
)

// GeneratorKind is a kind of rate generator as files describe it: its key, the keys
// below it, and what they make. Each stands in the file of its generator.
type GeneratorKind struct {
	Name, Doc string
	Schema    *doc.Type
	Mend      string // what to do about a description that makes no sense
	// Parse reads a node that was validated with Schema; oversampling are the
	// receiver samples a bit that the unit can choose from.
	Parse func(n *doc.Node, oversampling []int) (Generator, error)
}

// GeneratorKinds are the known kinds. A new one is a file and a row here.
var GeneratorKinds = []GeneratorKind{dividerKind, fractionalKind, reloadKind, chainKind, formulaKind}

// GeneratorKeys are the keys of a unit that describe its rate generator.
func GeneratorKeys() []doc.Key {
	keys := []doc.Key{{Name: "oversampling", Doc: "receiver samples per bit that can be chosen", Type: doc.ListOf(doc.OneOf(16, 8, 4), 1), Default: "[16]"}}
	for _, k := range GeneratorKinds {
		keys = append(keys, doc.Key{Name: k.Name, Doc: k.Doc, Type: k.Schema})
	}
	return keys
}

// ParseGenerator reads the generator of a unit, of which just one must be given; with
// a fault it is nil.
func ParseGenerator(unit *doc.Node) (Generator, *finding.Finding) {
	fault := func(code string, at finding.Place, change, seen string) *finding.Finding {
		return &finding.Finding{Severity: finding.Error, Code: code, Where: at, Seen: "unit " + unit.Key + ": " + seen, Change: change}
	}
	samples := doc.List[int](unit, "oversampling")
	if len(samples) == 0 {
		samples = []int{16}
	}
	var given *doc.Node
	var kind GeneratorKind
	n := 0
	var names []string
	for _, k := range GeneratorKinds {
		names = append(names, k.Name)
		if d := unit.Get(k.Name); d != nil {
			given, kind = d, k
			n++
		}
	}
	if n != 1 {
		return nil, fault("rate-generator", unit.KeyPlace(), "give one of "+strings.Join(names, ", "), fmt.Sprintf("it has %d rate generators", n))
	}
	g, err := kind.Parse(given, samples)
	if err == nil {
		err = g.Check()
	}
	if err != nil {
		return nil, fault("bad-"+kind.Name, given.Place(), kind.Mend, err.Error())
	}
	return g, nil
}

// placed are the keys that say where a value goes.
func placed(register, field, what string) []doc.Key {
	return []doc.Key{
		{Name: register, Doc: "register that takes " + what, Type: doc.NameType},
		{Name: field, Doc: "bit field that takes " + what, Type: doc.NameType},
	}
}
