// Package bench puts a board's description together: the MCU with its clocks
// and units, the links with the settings of both ends, the devices and the
// checks. The text of the bench file is the truth; a Bench is what it means.
package bench

import (
	"fmt"
	"io/fs"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/transfer"
)

// Bench is a loaded bench file.
type Bench struct {
	Name, About string
	Seed        uint64
	MCU         MCU
	Links       []*Link // in the order of the file
	Observed    []*Observed
	// Transfers are the plans of all links, and what the MCU offers to them.
	Transfers *transfer.Setup

	dir  fs.FS
	file *doc.File
	disk []byte // the bytes last read from or written to the file
	kept *keptFiles
}

// Load reads the bench file with the name in dir; device files are looked for
// in the same folder tree. With an error among the findings there is no
// bench.
func Load(dir fs.FS, name string) (*Bench, []finding.Finding) {
	text, err := doc.ReadFile(dir, name)
	if err != nil {
		return nil, []finding.Finding{{
			Severity: finding.Error, Code: "bench-unreadable", Where: finding.Place{File: name},
			Seen: fmt.Sprintf("the bench can't be read: %v", err), Change: "check the name and the permissions",
		}}
	}
	return Parse(dir, name, text)
}

// Parse is Load for a text that is already read.
func Parse(dir fs.FS, name string, text []byte) (*Bench, []finding.Finding) {
	file, faults := doc.Parse(name, text)
	if file == nil {
		return nil, faults
	}
	b := &Bench{dir: dir, file: file, disk: text, kept: newKeptFiles()}
	if faults := b.bind(); len(faults) > 0 {
		return nil, faults
	}
	return b, nil
}

// binder collects the faults of one pass over the nodes.
type binder struct {
	dir     fs.FS
	kept    *keptFiles
	faults  []finding.Finding
	options []*option
}

// option is a lasting option word.
type option struct {
	*register.Register
	name               string
	place              finding.Place
	programmed, wanted uint64
	clocks             bool // a clock hangs on it
}

func (x *binder) fault(code string, where finding.Place, change, seen string, args ...any) {
	f := finding.Finding{Severity: finding.Error, Code: code, Where: where, Seen: fmt.Sprintf(seen, args...), Change: change}
	for _, old := range x.faults {
		if old.Where == f.Where && old.Seen == f.Seen {
			return // several units share the clock that is at fault
		}
	}
	x.faults = append(x.faults, f)
}

// bind gives the nodes their meaning. On faults b is left as it was.
func (b *Bench) bind() []finding.Finding {
	root := b.file.Root
	if faults := Schema.Validate(root); len(faults) > 0 {
		return faults
	}
	x := &binder{dir: b.dir, kept: b.kept}
	n := &Bench{Name: root.Text("bench"), About: root.Text("about"), Seed: uint64(doc.Of[int](root, "seed")), dir: b.dir, file: b.file, disk: b.disk, kept: b.kept}
	registers := x.registers(root.Get("mcu", "registers"))
	x.readOptions(root.Get("mcu", "options"), registers)
	n.MCU = x.mcu(root.Get("mcu"))
	n.MCU.Registers, n.MCU.options = registers, x.options
	used := map[string]string{}
	for _, l := range root.Get("links").All() {
		n.Links = append(n.Links, x.link(n, l))
		unit := l.Text("unit")
		made := n.Links[len(n.Links)-1]
		other, twice := used[unit]
		// A unit of another kind is said already.
		if twice && (made == nil || made.Unit == nil || made.Unit.Kind == made.Kind) {
			x.fault("unit-twice", l.Get("unit").Place(), "give each link a unit of its own", "unit %s is already used by link %s", unit, other)
		}
		used[unit] = l.Key
	}
	x.transfers(n, root)
	for _, o := range root.Get("observed").All() {
		n.Observed = append(n.Observed, x.observed(o))
	}
	for _, l := range n.Links {
		l.peers = n.Links
	}
	if len(n.Links) == 0 {
		x.fault("no-links", root.Get("links").Place(), "add a link below `links:`", "the bench has no links")
	}
	if len(x.faults) > 0 {
		return x.faults
	}
	*b = *n
	return nil
}

// Link gives the link with a name, or nil.
func (b *Bench) Link(name string) *Link {
	for _, l := range b.Links {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// Text gives the bench file's bytes as they are now, edits included.
func (b *Bench) Text() []byte { return b.file.Text() }

// Lint gives everything that the description itself shows to be wrong or
// worth knowing.
func (b *Bench) Lint() []finding.Finding {
	var out []finding.Finding
	for _, l := range b.Links {
		out = append(out, l.Lint()...)
	}
	return out
}
