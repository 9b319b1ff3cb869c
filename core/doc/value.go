package doc

import (
	"fmt"
	"slices"
)

// Map gives the map at a key of a validated map; where it is absent, an empty one
// in which all defaults hold.
func (n *Node) Map(key string) *Node {
	if c := n.child(key); c != nil {
		return c
	}
	return n.of.need(key).Type.Empty()
}

// Empty gives a map of the type with nothing in it: all defaults hold.
func (t *Type) Empty() *Node {
	return &Node{Kind: Mapping, of: t, file: &File{}}
}

// need gives a key that must be there.
func (t *Type) need(key string) *Key {
	if k := t.key(key); k != nil {
		return k
	}
	panic(fmt.Sprintf("the schema has no key %q among %s", key, t.keyList()))
}

// Of gives the value at a key of a validated map, as the key's type reads it; where
// it is absent the default of the key, without one the zero value.
func Of[T any](n *Node, key string) T {
	k := n.of.need(key)
	if c := n.child(key); c != nil {
		return As[T](c)
	}
	var zero T
	if k.Default == "" {
		return zero
	}
	v, err := k.Type.parse(k.Default)
	if err != nil {
		panic(fmt.Sprintf("the default of %s is none: %v", key, err))
	}
	return typed[T](v, key)
}

// As gives a validated plain value as its type reads it.
func As[T any](n *Node) T { return typed[T](n.value, n.Key) }

// List gives the plain values of a list at a key; none where it is absent.
func List[T any](n *Node, key string) []T {
	n.of.need(key)
	var out []T
	for _, e := range n.Get(key).All() {
		out = append(out, As[T](e))
	}
	return out
}

func typed[T any](v any, key string) T {
	t, ok := v.(T)
	if !ok {
		var want T
		panic(fmt.Sprintf("the value of %s is a %T, no %T", key, v, want))
	}
	return t
}

// Read reads a plain value that is written as text: what stands in a file after a key.
func (t *Type) Read(text string) (any, error) {
	if t.shape != scalarShape {
		return nil, fmt.Errorf("no plain value stands there")
	}
	if t.enum != nil && !slices.Contains(t.enum, text) {
		return nil, fmt.Errorf("%q is not %s", text, t.name)
	}
	return t.parse(text)
}

// Words gives the words of which one stands there; nil where it is no choice of words.
func (t *Type) Words() []string { return t.enum }
