// Package doc holds a YAML file as text and as a tree of nodes with
// positions. The text is the truth: an edit splices bytes and parses again,
// so comments, blank lines, alignment and line ends survive.
package doc

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"gavrix.org/gavrix/core/finding"
)

// maxNodes bounds a file with all its aliases followed.
const maxNodes = 200_000

// Bounds of a file: its bytes, and how deep values may stand within each other.
const (
	MostText = 4 << 20
	maxDepth = 50
)

// NodeKind is the shape of a node.
type NodeKind uint8

// The shapes.
const (
	Null NodeKind = iota
	Value
	Mapping
	Sequence
)

func (k NodeKind) String() string {
	return [...]string{"nothing", "a value", "a map", "a list"}[k]
}

// Node is a value, a map or a list, at its place in the file. A nil *Node is
// an absent one: all its methods work and give zero values.
type Node struct {
	Kind    NodeKind
	Key     string // its key in the map above, or its index in the list above
	Path    []string
	Scalar  string  // of a Value: the text without quotes
	Entries []*Node // of a Mapping or Sequence, in order
	// Borrowed says that the node is reached through an alias or a merge key:
	// its text stands elsewhere.
	Borrowed bool

	Line, Column       int // of the value
	KeyLine, KeyColumn int // of the key, or of the value in a list

	of    *Type // what it was validated as
	value any   // of a Value: as its type reads it

	file *File
	// Byte ranges in the text; end is -1 where it could not be found.
	keyOff, off, end int
	valOff           int // behind anchor and tag
	flow             bool
	alias            string // name of the alias that stands here
	merges           bool   // a map that has a merge key
	literal          bool
}

// Get follows a path of keys.
func (n *Node) Get(path ...string) *Node {
	for _, k := range path {
		if n == nil {
			return nil
		}
		n = n.child(k)
	}
	return n
}

func (n *Node) child(k string) *Node {
	for _, e := range n.Entries {
		if e.Key == k {
			return e
		}
	}
	return nil
}

// Text gives the scalar at the path below n, or "".
func (n *Node) Text(path ...string) string {
	c := n.Get(path...)
	if c == nil || c.Kind != Value {
		return ""
	}
	return c.Scalar
}

// All gives the entries of a map or list; none for an absent node.
func (n *Node) All() []*Node {
	if n == nil {
		return nil
	}
	return n.Entries
}

// Place gives the position of the node's value.
func (n *Node) Place() finding.Place {
	if n == nil {
		return finding.Place{}
	}
	return n.file.place(n.Line, n.Column)
}

// KeyPlace gives the position of the node's key.
func (n *Node) KeyPlace() finding.Place {
	if n == nil {
		return finding.Place{}
	}
	return n.file.place(n.KeyLine, n.KeyColumn)
}

func (f *File) place(line, col int) finding.Place {
	p := finding.Place{File: f.Name, Line: line, Column: col}
	if line >= 1 && line <= len(f.lineOff) {
		from := f.lineOff[line-1]
		to := len(f.text)
		if line < len(f.lineOff) {
			to = f.lineOff[line]
		}
		p.Source = around(strings.TrimRight(string(f.text[from:to]), "\r\n"), col)
	}
	return p
}

// around cuts a long line to what stands near a column.
func around(line string, col int) string {
	const most = 160
	runes := []rune(line)
	if len(runes) <= most {
		return line
	}
	from := min(max(col-1-most/2, 0), len(runes)-most)
	out := string(runes[from : from+most])
	if from > 0 {
		out = "…" + out
	}
	if from+most < len(runes) {
		out += "…"
	}
	return out
}

// File is a parsed YAML file.
type File struct {
	Name    string
	Root    *Node
	text    []byte
	lineOff []int // byte offset of each line

	undo, redo [][]splice
}

// ReadFile reads a text file below dir: none that is longer than MostText, and nothing
// but a regular file, since others may have no end.
func ReadFile(dir fs.FS, name string) ([]byte, error) {
	info, err := fs.Stat(dir, name)
	switch {
	case err != nil:
		return nil, reason(err)
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no regular file")
	case info.Size() > MostText:
		return nil, fmt.Errorf("it is longer than %d MB", MostText>>20)
	}
	text, err := fs.ReadFile(dir, name)
	if err != nil {
		return nil, reason(err)
	}
	return text, nil
}

// reason says in our words why a file can't be read.
func reason(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("there is no such file")
	case errors.Is(err, fs.ErrPermission):
		return errors.New("reading it is not permitted")
	case errors.Is(err, fs.ErrInvalid):
		return errors.New("the name leads out of the bench's folder, or is none")
	}
	return err
}

// Parse reads a file. On a fault in the YAML itself it gives findings and no
// file.
func Parse(name string, text []byte) (*File, []finding.Finding) {
	f := &File{Name: name, text: bytes.Clone(text)}
	if err := f.parse(); err != nil {
		return nil, []finding.Finding{*err}
	}
	return f, nil
}

// Text gives the bytes of the file.
func (f *File) Text() []byte { return bytes.Clone(f.text) }

func (f *File) fault(code string, line, col int, seen, change string) *finding.Finding {
	return &finding.Finding{Severity: finding.Error, Code: code, Where: f.place(line, col), Seen: seen, Change: change}
}

// strayBreak finds the first line end that is neither LF nor CR LF: a CR alone,
// NEL, LS or PS; -1 for none.
func strayBreak(text []byte) int {
	for off := 0; off < len(text); {
		r, n := utf8.DecodeRune(text[off:])
		switch r {
		case '\r':
			if off+1 == len(text) || text[off+1] != '\n' {
				return off
			}
		case 0x85, 0x2028, 0x2029:
			return off
		}
		off += n
	}
	return -1
}

func (f *File) parse() *finding.Finding {
	f.lineOff = []int{0}
	if len(f.text) > MostText {
		f.text = nil
		return f.fault("too-large", 1, 1, fmt.Sprintf("the file is longer than %d MB", MostText>>20), "name the right file, or split it")
	}
	for i, b := range f.text {
		if b == '\n' {
			f.lineOff = append(f.lineOff, i+1)
		}
	}
	if !utf8.Valid(f.text) {
		good := 0
		for good < len(f.text) {
			r, n := utf8.DecodeRune(f.text[good:])
			if r == utf8.RuneError && n == 1 {
				break
			}
			good += n
		}
		line := bytes.Count(f.text[:good], []byte("\n")) + 1
		col := utf8.RuneCount(f.text[f.lineOff[line-1]:good]) + 1
		x := f.fault("not-text", line, col, fmt.Sprintf("byte %02X is not part of UTF-8 text", f.text[good]), "save the file as UTF-8")
		x.Where.Source = ""
		return x
	}
	// The parser takes these for ends of lines, editors and this file's lines do not.
	if off := strayBreak(f.text); off >= 0 {
		r, _ := utf8.DecodeRune(f.text[off:])
		line := bytes.Count(f.text[:off], []byte("\n")) + 1
		col := utf8.RuneCount(f.text[f.lineOff[line-1]:off]) + 1
		x := f.fault("line-end", line, col, fmt.Sprintf("character U+%04X, a line end of another kind", r), "end lines with a line feed, or carriage return and line feed")
		x.Where.Source = ""
		return x
	}
	dec := yaml.NewDecoder(bytes.NewReader(f.text))
	var top yaml.Node
	if err := dec.Decode(&top); err != nil {
		if len(bytes.TrimSpace(f.text)) == 0 || err.Error() == "EOF" {
			return f.fault("empty-file", 1, 1, "the file is empty", "start from `gavrix new`")
		}
		return f.yamlFault(err)
	}
	var second yaml.Node
	if err := dec.Decode(&second); err == nil {
		return f.fault("two-documents", second.Line, second.Column, "a second document begins here", "keep one bench a file; remove the `---` line")
	} else if err.Error() != "EOF" {
		return f.yamlFault(err)
	}
	if len(top.Content) == 0 {
		return f.fault("empty-file", 1, 1, "the file holds only comments", "add the keys of a bench")
	}
	b := builder{f: f, active: map[*yaml.Node]bool{}}
	root := b.build(top.Content[0], nil, "", false)
	if b.err != nil {
		return b.err
	}
	b.fillEnds(root, len(f.text))
	f.Root = root
	return nil
}

type builder struct {
	f      *File
	n      int
	active map[*yaml.Node]bool // aliases being followed
	err    *finding.Finding
}

func (b *builder) offset(line, col int) int {
	if line < 1 || line > len(b.f.lineOff) {
		return len(b.f.text)
	}
	off := b.f.lineOff[line-1]
	for i := 1; i < col && off < len(b.f.text); i++ {
		_, n := utf8.DecodeRune(b.f.text[off:])
		off += n
	}
	return off
}

func (b *builder) build(y *yaml.Node, path []string, key string, borrowed bool) *Node {
	b.n++
	if b.n > maxNodes && b.err == nil {
		b.err = b.f.fault("too-large", y.Line, y.Column, fmt.Sprintf("the file has more than %d values when its aliases are followed", maxNodes), "use fewer aliases within aliases")
	}
	if len(path) > maxDepth && b.err == nil {
		b.err = b.f.fault("too-deep", y.Line, y.Column, fmt.Sprintf("values stand more than %d deep within each other", maxDepth), "look for a bracket or a dash too many")
	}
	if b.err != nil {
		return &Node{}
	}
	n := &Node{
		Key: key, Path: path, Borrowed: borrowed, file: b.f,
		Line: y.Line, Column: y.Column, KeyLine: y.Line, KeyColumn: y.Column, end: -1,
	}
	n.off = b.offset(y.Line, y.Column)
	n.keyOff = n.off
	n.valOff = b.skipProperties(n.off)
	if b.err != nil {
		return n
	}
	switch y.Kind {
	case yaml.AliasNode:
		if b.active[y.Alias] {
			b.err = b.f.fault("alias-circle", y.Line, y.Column, fmt.Sprintf("alias *%s stands inside what it refers to", y.Value), "write the value out")
			return n
		}
		b.active[y.Alias] = true
		t := b.build(y.Alias, path, key, true)
		delete(b.active, y.Alias)
		own := *n
		*n = *t
		n.Borrowed, n.alias = borrowed, y.Value
		n.Line, n.Column, n.KeyLine, n.KeyColumn = own.Line, own.Column, own.KeyLine, own.KeyColumn
		n.off, n.valOff, n.keyOff = own.off, own.off, own.keyOff
		n.flow, n.literal = false, false
	case yaml.ScalarNode:
		n.Kind, n.Scalar = Value, y.Value
		if y.Tag == "!!null" && (y.Value == "" || y.Value == "~" || y.Value == "null") {
			n.Kind = Null
		}
		n.literal = y.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0
	case yaml.SequenceNode:
		n.Kind, n.flow = Sequence, y.Style&yaml.FlowStyle != 0
		for i, c := range y.Content {
			k := strconv.Itoa(i)
			n.Entries = append(n.Entries, b.build(c, join(path, k), k, borrowed))
		}
	case yaml.MappingNode:
		n.Kind, n.flow = Mapping, y.Style&yaml.FlowStyle != 0
		b.mapping(n, y, borrowed)
	}
	return n
}

func (b *builder) mapping(n *Node, y *yaml.Node, borrowed bool) {
	var merged []*yaml.Node
	places := make(map[string]*Node, len(y.Content)/2)
	for i := 0; i+1 < len(y.Content) && b.err == nil; i += 2 {
		k, v := y.Content[i], y.Content[i+1]
		if k.Tag == "!!merge" {
			n.merges = true
			merged = append(merged, v)
			continue
		}
		if k.Kind != yaml.ScalarNode {
			b.err = b.f.fault("odd-key", k.Line, k.Column, "a key must be a plain word", "write the key as a word")
			return
		}
		if old := places[k.Value]; old != nil {
			b.err = b.f.fault("key-twice", k.Line, k.Column, fmt.Sprintf("%q stands here a second time; the first is in line %d", k.Value, old.KeyLine), "remove one of the two")
			return
		}
		c := b.build(v, join(n.Path, k.Value), k.Value, borrowed)
		c.KeyLine, c.KeyColumn, c.keyOff = k.Line, k.Column, b.offset(k.Line, k.Column)
		n.Entries = append(n.Entries, c)
		places[k.Value] = c
	}
	for _, m := range merged {
		sources := []*yaml.Node{m}
		if m.Kind == yaml.SequenceNode {
			sources = m.Content
		}
		for _, s := range sources {
			t := b.build(s, n.Path, n.Key, true)
			if b.err != nil {
				return
			}
			if t.Kind != Mapping {
				b.err = b.f.fault("merge-of-no-map", s.Line, s.Column, "`<<` takes a map", "refer to an anchor that stands on a map")
				return
			}
			for _, c := range t.Entries {
				if places[c.Key] == nil {
					places[c.Key] = c
					c.setBorrowed()
					n.Entries = append(n.Entries, c)
				}
			}
		}
	}
}

func (n *Node) setBorrowed() {
	n.Borrowed = true
	for _, c := range n.Entries {
		c.setBorrowed()
	}
}

func join(path []string, k string) []string {
	return append(append(make([]string, 0, len(path)+1), path...), k)
}

// skipProperties gives the offset behind an anchor and a tag.
func (b *builder) skipProperties(off int) int {
	t := b.f.text
	for off < len(t) && (t[off] == '&' || t[off] == '!') {
		end := off
		for end < len(t) && !bytes.ContainsRune([]byte(" \t\r\n,]}"), rune(t[end])) {
			end++
		}
		next := end
		for next < len(t) && (t[next] == ' ' || t[next] == '\t') {
			next++
		}
		if next >= len(t) || t[next] == '\n' || t[next] == '\r' || t[next] == '#' {
			return end
		}
		off = next
	}
	return off
}

// fillEnds finds where each node's text ends.
func (b *builder) fillEnds(n *Node, limit int) {
	t := b.f.text
	if n.alias != "" {
		n.end = min(n.off+1+len(n.alias), limit)
		return
	}
	switch n.Kind {
	case Null:
		n.end = n.valOff
		if raw := n.Scalar; raw != "" && bytes.HasPrefix(t[n.valOff:], []byte(raw)) {
			n.end = n.valOff + len(raw)
		}
	case Value:
		n.end = b.scalarEnd(n)
	default:
		last := n.valOff
		for _, c := range n.Entries {
			if c.Borrowed {
				continue
			}
			b.fillEnds(c, limit)
			if c.end < 0 {
				last = -1
				break
			}
			last = max(last, c.end)
		}
		n.end = last
		if n.flow && last >= 0 {
			n.end = b.flowEnd(n, last)
		}
	}
}

func (b *builder) scalarEnd(n *Node) int {
	t := b.f.text
	at := n.valOff
	if at >= len(t) {
		return len(t)
	}
	switch {
	case n.literal:
		return b.literalEnd(n)
	case t[at] == '"':
		for i := at + 1; i < len(t); i++ {
			switch t[i] {
			case '\\':
				i++
			case '"':
				return i + 1
			}
		}
	case t[at] == '\'':
		for i := at + 1; i < len(t); i++ {
			if t[i] != '\'' {
				continue
			}
			if i+1 < len(t) && t[i+1] == '\'' {
				i++
				continue
			}
			return i + 1
		}
	case bytes.HasPrefix(t[at:], []byte(n.Scalar)):
		return at + len(n.Scalar)
	}
	return -1
}

// literalEnd takes all following lines that are blank or indented deeper than
// the key.
func (b *builder) literalEnd(n *Node) int {
	t := b.f.text
	indent := n.KeyColumn - 1
	end := len(t)
	for line := n.Line; line < len(b.f.lineOff); line++ { // index of the next line
		from := b.f.lineOff[line]
		to := len(t)
		if line+1 < len(b.f.lineOff) {
			to = b.f.lineOff[line+1]
		}
		text := string(t[from:to])
		trimmed := strings.TrimLeft(text, " ")
		if strings.TrimSpace(text) != "" && len(text)-len(trimmed) <= indent {
			end = from
			break
		}
	}
	for end > n.valOff && (t[end-1] == '\n' || t[end-1] == '\r') {
		end--
	}
	return end
}

// flowEnd finds the closing bracket behind the last entry. A merge key's
// alias may stand between.
func (b *builder) flowEnd(n *Node, from int) int {
	t := b.f.text
	closing := byte('}')
	if n.Kind == Sequence {
		closing = ']'
	}
	if from == n.valOff {
		from++
	}
	for i := from; i < len(t); i++ {
		switch t[i] {
		case closing:
			return i + 1
		case '#':
			for i < len(t) && t[i] != '\n' {
				i++
			}
		}
	}
	return -1
}
