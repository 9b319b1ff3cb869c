package doc

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"gavrix.org/gavrix/core/finding"
)

// splice replaces old by new at the offset.
type splice struct {
	off      int
	old, new []byte
}

// ErrRefused is wrapped by the error of every edit that cannot be made.
var ErrRefused = errors.New("the edit is refused")

// Apply makes the edits together, as one step for Undo. Each is refused, and
// then all are, unless just the value at its path would change.
func (f *File) Apply(edits ...finding.Edit) error {
	var done []splice
	back := func(err error) error {
		f.revert(done)
		return err
	}
	for _, e := range edits {
		s, err := f.plan(e)
		if err != nil {
			return back(fmt.Errorf("%s: %w", strings.Join(e.Path, "."), err))
		}
		if bytes.Equal(s.old, s.new) {
			continue
		}
		want, err := edited(plain(f.Root), e)
		if err != nil {
			return back(fmt.Errorf("%s: %w", strings.Join(e.Path, "."), err))
		}
		f.splice(s)
		done = append(done, s)
		if x := f.parse(); x != nil {
			return back(fmt.Errorf("%s: %w: it would break the file: %s", strings.Join(e.Path, "."), ErrRefused, x.Seen))
		}
		if !reflect.DeepEqual(plain(f.Root), want) {
			return back(fmt.Errorf("%s: %w: other values would change with it", strings.Join(e.Path, "."), ErrRefused))
		}
	}
	if len(done) > 0 {
		f.undo = append(f.undo, done)
		f.redo = nil
	}
	return nil
}

func (f *File) splice(s splice) {
	out := make([]byte, 0, len(f.text)+len(s.new)-len(s.old))
	out = append(out, f.text[:s.off]...)
	out = append(out, s.new...)
	f.text = append(out, f.text[s.off+len(s.old):]...)
}

// revert takes splices back in reverse order and parses again.
func (f *File) revert(done []splice) {
	for i := len(done) - 1; i >= 0; i-- {
		f.splice(splice{done[i].off, done[i].new, done[i].old})
	}
	// The text parsed before, so it does now.
	_ = f.parse()
}

// Undo takes the last step back; it gives false if there is none.
func (f *File) Undo() bool {
	if len(f.undo) == 0 {
		return false
	}
	last := f.undo[len(f.undo)-1]
	f.undo = f.undo[:len(f.undo)-1]
	f.revert(last)
	f.redo = append(f.redo, last)
	return true
}

// Redo makes the last step that was undone again; it gives false if there is
// none.
func (f *File) Redo() bool {
	if len(f.redo) == 0 {
		return false
	}
	last := f.redo[len(f.redo)-1]
	f.redo = f.redo[:len(f.redo)-1]
	for _, s := range last {
		f.splice(s)
	}
	_ = f.parse()
	f.undo = append(f.undo, last)
	return true
}

// plain gives the tree without positions: string, map[string]any, []any, and
// nil for what is empty.
func plain(n *Node) any {
	switch n.Kind {
	case Value:
		return n.Scalar
	case Mapping:
		if len(n.Entries) == 0 {
			return nil
		}
		m := map[string]any{}
		for _, c := range n.Entries {
			m[c.Key] = plain(c)
		}
		return m
	case Sequence:
		if len(n.Entries) == 0 {
			return nil
		}
		l := make([]any, 0, len(n.Entries))
		for _, c := range n.Entries {
			l = append(l, plain(c))
		}
		return l
	}
	return nil
}

// edited gives the plain tree as it should be after the edit.
func edited(tree any, e finding.Edit) (any, error) {
	if len(e.Path) == 0 {
		return nil, fmt.Errorf("%w: the path is empty", ErrRefused)
	}
	return editedAt(tree, e.Path, e)
}

func editedAt(tree any, path []string, e finding.Edit) (any, error) {
	k := path[0]
	switch t := tree.(type) {
	case nil:
		tree = map[string]any{}
		return editedAt(tree, path, e)
	case map[string]any:
		m := make(map[string]any, len(t)+1)
		for key, v := range t {
			m[key] = v
		}
		if len(path) > 1 {
			v, err := editedAt(m[k], path[1:], e)
			if err != nil {
				return nil, err
			}
			m[k] = v
		} else if e.Op == finding.Delete {
			if _, ok := m[k]; !ok {
				return nil, fmt.Errorf("%w: there is no %q to delete", ErrRefused, k)
			}
			delete(m, k)
		} else {
			m[k] = e.Value
		}
		if len(m) == 0 {
			return nil, nil
		}
		return m, nil
	case []any:
		i, err := strconv.Atoi(k)
		if err != nil || i < 0 || i > len(t) || i == len(t) && (e.Op == finding.Delete || len(path) > 1) {
			return nil, fmt.Errorf("%w: the list has no element %q", ErrRefused, k)
		}
		l := append([]any(nil), t...)
		switch {
		case len(path) > 1:
			v, err := editedAt(l[i], path[1:], e)
			if err != nil {
				return nil, err
			}
			l[i] = v
		case e.Op == finding.Delete:
			l = append(l[:i], l[i+1:]...)
		case i == len(l):
			l = append(l, e.Value)
		default:
			l[i] = e.Value
		}
		if len(l) == 0 {
			return nil, nil
		}
		return l, nil
	}
	return nil, fmt.Errorf("%w: %q is below a plain value", ErrRefused, k)
}

// plan finds the bytes to replace.
func (f *File) plan(e finding.Edit) (splice, error) {
	if len(e.Path) == 0 {
		return splice{}, fmt.Errorf("%w: the path is empty", ErrRefused)
	}
	n, parent := f.Root, f.Root
	inFlow := false
	for i, k := range e.Path {
		inFlow = inFlow || n.flow
		next := n.child(k)
		if n.alias != "" {
			if e.Op == finding.Delete {
				return splice{}, fmt.Errorf("%w: the value comes through *%s and can't be deleted here", ErrRefused, n.alias)
			}
			return f.replace(n, "{<<: *"+n.alias+", "+scalar(k, true)+": "+overlay(next, e.Path[i+1:], e.Value)+"}")
		}
		if next == nil || next.Borrowed {
			if e.Op == finding.Delete {
				why := "there is no such key"
				if next != nil {
					why = "the value comes through a merge key and can't be deleted here"
				}
				return splice{}, fmt.Errorf("%w: %s", ErrRefused, why)
			}
			return f.insert(n, k, overlay(next, e.Path[i+1:], e.Value), e.Value, len(e.Path) == i+1, inFlow)
		}
		parent, n = n, next
	}
	if e.Op == finding.Delete {
		return f.cut(parent, n)
	}
	if n.alias == "" && (n.Kind == Mapping || n.Kind == Sequence) && len(n.Entries) > 0 {
		return splice{}, fmt.Errorf("%w: %s stands here, not a plain value", ErrRefused, n.Kind)
	}
	return f.replace(n, scalar(e.Value, inFlow))
}

// replace puts text in the place of the node's value.
func (f *File) replace(n *Node, text string) (splice, error) {
	if n.end < 0 {
		return splice{}, fmt.Errorf("%w: the value runs over several lines", ErrRefused)
	}
	if n.Kind == Null && n.end == n.valOff && n.alias == "" {
		text = " " + text
		if n.valOff > 0 && f.text[n.valOff-1] == ' ' {
			text = text[1:]
		}
	}
	if n.literal && n.alias == "" && strings.HasSuffix(string(f.text[n.valOff:n.end]), "\n") {
		text += f.newline()
	}
	return f.at(n.valOff, n.end, text), nil
}

func (f *File) at(from, to int, text string) splice {
	return splice{from, bytes.Clone(f.text[from:to]), []byte(text)}
}

// overlay writes, in flow style, a borrowed value with one value below it
// changed.
func overlay(n *Node, rest []string, value string) string {
	if len(rest) == 0 {
		return scalar(value, true)
	}
	var parts []string
	found := false
	for _, c := range n.All() {
		if c.Key == rest[0] {
			found = true
			parts = append(parts, scalar(c.Key, true)+": "+overlay(c, rest[1:], value))
			continue
		}
		parts = append(parts, scalar(c.Key, true)+": "+flowText(c))
	}
	if !found {
		parts = append(parts, scalar(rest[0], true)+": "+overlay(nil, rest[1:], value))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

func flowText(n *Node) string {
	switch n.Kind {
	case Value:
		return scalar(n.Scalar, true)
	case Mapping:
		var parts []string
		for _, c := range n.Entries {
			parts = append(parts, scalar(c.Key, true)+": "+flowText(c))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case Sequence:
		var parts []string
		for _, c := range n.Entries {
			parts = append(parts, flowText(c))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	}
	return "null"
}

// insert adds a key to a map or an element to the end of a list. nested is
// the value in flow style; a plain value outside of flow needs fewer quotes.
func (f *File) insert(n *Node, key, nested, value string, direct, inFlow bool) (splice, error) {
	text := nested
	if direct {
		text = scalar(value, inFlow)
	}
	entry := scalar(key, true) + ": " + text
	if n.Kind == Sequence {
		entry = text
	}
	var own []*Node
	for _, c := range n.Entries {
		if !c.Borrowed {
			own = append(own, c)
		}
	}
	switch {
	case n.Kind == Value:
		return splice{}, fmt.Errorf("%w: %q is below a plain value", ErrRefused, key)
	case n.Kind == Null:
		return f.replace(n, "{"+scalar(key, true)+": "+nested+"}")
	case n.end < 0:
		return splice{}, fmt.Errorf("%w: a value here runs over several lines", ErrRefused)
	case n.flow:
		at := n.end - 1
		if len(own) == 0 {
			if n.merges {
				entry = ", " + entry
			}
			for at > 0 && (f.text[at-1] == ' ') {
				at--
			}
			return f.at(at, at, entry), nil
		}
		last := own[len(own)-1].end
		return f.at(last, last, ", "+entry), nil
	}
	if n.Kind == Sequence {
		entry = "- " + entry
	}
	indent, last := "", n.valOff
	if len(own) > 0 {
		indent = f.indentOf(n, own[0])
		for _, c := range own {
			last = max(last, c.end)
		}
	} else {
		// Only a merge key: its line gives the indentation.
		indent = strings.Repeat(" ", n.Column-1)
	}
	if n.merges {
		last = max(last, f.mergeEnd(n))
	}
	at := f.lineEnd(last)
	return f.at(at, at, f.newline()+indent+entry), nil
}

// mergeEnd finds the end of the line on which the map's merge key stands.
func (f *File) mergeEnd(n *Node) int {
	from := f.lineOff[n.Line-1]
	i := bytes.Index(f.text[from:], []byte("<<:"))
	if i < 0 {
		return n.valOff
	}
	return from + i
}

// indentOf gives the white space that puts a new entry under an old one.
func (f *File) indentOf(n, entry *Node) string {
	col := entry.KeyColumn - 1
	if n.Kind == Sequence {
		// The dash stands before the element.
		from := f.lineOff[entry.Line-1]
		if i := bytes.LastIndexByte(f.text[from:entry.off], '-'); i >= 0 {
			col = i
		}
	}
	return strings.Repeat(" ", col)
}

func (f *File) lineEnd(off int) int {
	for off < len(f.text) && f.text[off] != '\n' {
		off++
	}
	if off > 0 && off <= len(f.text) && f.text[off-1] == '\r' {
		off--
	}
	return off
}

func (f *File) newline() string {
	if bytes.Contains(f.text, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// comment gives what stands from the first comment between two places on; nothing without
// one. No value stands between them.
func (f *File) comment(from, to int) string {
	text := f.text[from:to]
	for i, c := range text {
		if c == '#' && (i == 0 || bytes.IndexByte([]byte(" \t\r\n"), text[i-1]) >= 0) {
			return string(text[i:])
		}
	}
	return ""
}

// cut removes an entry from its map or list. A comment beside it stays.
func (f *File) cut(parent, n *Node) (splice, error) {
	if n.end < 0 {
		return splice{}, fmt.Errorf("%w: a value here runs over several lines", ErrRefused)
	}
	var own []*Node
	at := 0
	for _, c := range parent.Entries {
		if c.Borrowed {
			continue
		}
		if c == n {
			at = len(own)
		}
		own = append(own, c)
	}
	var next, prev *Node
	if at+1 < len(own) {
		next = own[at+1]
	}
	if at > 0 {
		prev = own[at-1]
	}
	if parent.flow {
		switch {
		case next != nil:
			return f.at(n.keyOff, next.keyOff, f.comment(n.end, next.keyOff)), nil
		case prev != nil:
			keep := f.comment(prev.end, n.keyOff)
			if keep != "" {
				keep = " " + keep
			}
			return f.at(prev.end, n.end, keep), nil
		}
		return f.at(n.keyOff, n.end, ""), nil
	}
	if len(own) == 1 && !parent.merges {
		empty := "{}"
		if parent.Kind == Sequence {
			empty = "[]"
		}
		start := n.keyOff
		if parent.Kind == Sequence {
			start = f.lineOff[n.Line-1] + len(f.indentOf(parent, n))
		}
		if parent == f.Root {
			return f.at(start, n.end, empty), nil
		}
		// Behind `key:` on the line above, or behind `- ` on the same line.
		from := start
		for from > 0 && bytes.IndexByte([]byte(" \t\r\n"), f.text[from-1]) >= 0 {
			from--
		}
		if strings.TrimSpace(string(f.text[from:start])) != "" || from == 0 || f.text[from-1] != ':' && f.text[from-1] != '-' {
			return splice{}, fmt.Errorf("%w: it is the only entry, with a comment above it; delete the whole map", ErrRefused)
		}
		return f.at(from, n.end, " "+empty), nil
	}
	lineStart := f.lineOff[n.KeyLine-1]
	before := strings.TrimSpace(string(f.text[lineStart:n.keyOff]))
	if parent.Kind == Sequence && before == "-" {
		before = ""
	}
	if before != "" {
		// The first key of a map behind a dash: the next one takes its place.
		if next == nil {
			return splice{}, fmt.Errorf("%w: it shares its line with %q", ErrRefused, before)
		}
		return f.at(n.keyOff, next.keyOff, f.comment(n.end, next.keyOff)), nil
	}
	end := f.lineEnd(n.end)
	if keep := f.comment(n.end, end); keep != "" && n.end <= f.lineEnd(n.keyOff) {
		from := n.keyOff
		if parent.Kind == Sequence {
			from = lineStart + len(f.indentOf(parent, n))
		}
		return f.at(from, end, keep), nil
	}
	switch {
	case bytes.HasPrefix(f.text[end:], []byte("\r\n")):
		end += 2
	case end < len(f.text):
		end++
	case lineStart > 0:
		// The last line has no line end: the one before it loses its own.
		lineStart--
		if lineStart > 0 && f.text[lineStart-1] == '\r' {
			lineStart--
		}
	}
	return f.at(lineStart, end, ""), nil
}

// scalar writes a text so that YAML reads the same text back, with quotes
// only where they are needed.
func scalar(s string, inFlow bool) string {
	plainOK := s != "" && s == strings.TrimSpace(s) && !strings.ContainsAny(s, "\n\r\t\"\\") && !strings.Contains(s, ": ") && !strings.Contains(s, " #") && !strings.HasSuffix(s, ":")
	plainOK = plainOK && strayBreak([]byte(s)) < 0
	if plainOK && inFlow {
		plainOK = !strings.ContainsAny(s, ",[]{}")
	}
	if plainOK {
		test := s
		if inFlow {
			test = "[" + s + "]"
		}
		var y yaml.Node
		err := yaml.Unmarshal([]byte(test), &y)
		plainOK = err == nil && len(y.Content) == 1
		if plainOK {
			v := y.Content[0]
			if inFlow && len(v.Content) == 1 {
				v = v.Content[0]
			}
			plainOK = v.Kind == yaml.ScalarNode && v.Value == s && v.Tag != "!!null" && v.Style == 0 && v.Tag != "!!merge" && v.Anchor == "" && v.LineComment == "" && v.HeadComment == ""
		}
	}
	if plainOK {
		return s
	}
	return strconv.Quote(s)
}
