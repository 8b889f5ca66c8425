package record

// Kind is the kind of a value in a tree.
type Kind uint8

// The kinds of values.
const (
	Null Kind = iota
	Bool
	Number
	String
	List
	Object
)

// Tree holds nested values in one slice, so that building one again and again
// allocates nothing. Its root is an object. The zero Tree is not ready: call
// Reset first. It is not safe for concurrent use while it is built.
type Tree struct {
	nodes   []node
	scratch []byte // texts that had to be unescaped
}

type node struct {
	kind        Kind
	key, text   []byte
	first, last int32 // children, 0 for none
	next        int32 // sibling, 0 for none
}

// Value is one value of a Tree. The zero Value is a missing one.
type Value struct {
	tree *Tree
	at   int32
}

// Reset empties the tree.
func (t *Tree) Reset() {
	t.nodes = append(t.nodes[:0], node{kind: Object})
	t.scratch = t.scratch[:0]
}

// Root returns the object that holds everything.
func (t *Tree) Root() Value { return Value{t, 0} }

func (t *Tree) add(parent int32, n node) int32 {
	at := int32(len(t.nodes))
	t.nodes = append(t.nodes, n)
	p := &t.nodes[parent]
	if p.first == 0 {
		p.first = at
	} else {
		t.nodes[p.last].next = at
	}
	p.last = at
	return at
}

func (t *Tree) find(parent int32, key []byte) int32 {
	for at := t.nodes[parent].first; at != 0; at = t.nodes[at].next {
		if string(t.nodes[at].key) == string(key) {
			return at
		}
	}
	return 0
}

// object returns the object under key, which it makes where it is new.
func (t *Tree) object(parent int32, key []byte) int32 {
	if at := t.find(parent, key); at != 0 && t.nodes[at].kind == Object {
		return at
	}
	return t.add(parent, node{kind: Object, key: key})
}

// addText adds a string under key; a name that repeats gives a list.
func (t *Tree) addText(parent int32, key, text []byte) {
	at := t.find(parent, key)
	if at == 0 {
		t.add(parent, node{kind: String, key: key, text: text})
		return
	}
	if t.nodes[at].kind != List {
		first := t.nodes[at].text
		t.nodes[at].kind, t.nodes[at].text = List, nil
		t.add(at, node{kind: String, text: first})
	}
	t.add(at, node{kind: String, text: text})
}

// Exists tells whether the value is there. Null counts as missing.
func (v Value) Exists() bool { return v.tree != nil && v.Kind() != Null }

// Kind returns the kind of v; a missing value is Null.
func (v Value) Kind() Kind {
	if v.tree == nil {
		return Null
	}
	return v.tree.nodes[v.at].kind
}

// Text returns the text of a string, the literal of a number, "true" or
// "false", and nil for other kinds.
func (v Value) Text() []byte {
	if v.tree == nil {
		return nil
	}
	return v.tree.nodes[v.at].text
}

// Key returns the name of v in its object.
func (v Value) Key() []byte { return v.tree.nodes[v.at].key }

// First returns the first child of a list or an object, or a missing value.
func (v Value) First() Value { return v.tree.value(v.tree.nodes[v.at].first) }

// Next returns the value after v in its list or object, or a missing value.
func (v Value) Next() Value { return v.tree.value(v.tree.nodes[v.at].next) }

// More tells whether v, returned by First or Next, is a value; null is one.
func (v Value) More() bool { return v.tree != nil }

// Get returns the value under key in an object, or a missing value.
func (v Value) Get(key []byte) Value {
	if v.Kind() != Object {
		return Value{}
	}
	return v.tree.value(v.tree.find(v.at, key))
}

// Len returns how many children v has.
func (v Value) Len() (n int) {
	for c := v.First(); c.More(); c = c.Next() {
		n++
	}
	return n
}

func (t *Tree) value(at int32) Value {
	if at == 0 {
		return Value{}
	}
	return Value{t, at}
}
