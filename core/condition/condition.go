// Package condition is the routing language: it reads conditions on records,
// tells whether a record meets one, and why.
//
// It knows records and nothing else of the project. Its central type is
// [Condition]; docs/conditions.md describes the language.
package condition

import (
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"oakbarrel/core/record"
)

// Condition is a compiled condition. It may be used by several goroutines at a time.
type Condition struct {
	root    node
	text    string
	intakes []IntakeName

	// Conditions that name others are a graph, whose expansion may be far larger
	// than it: what can be said of each is worked out once.
	form        string
	verdicts    [record.Priorities]Verdict
	contradicts bool
	names       bool // see AsksNames
	weight      int  // of its expansion, in nodes, as far as it is counted
}

// heavy is the weight from which on a condition that is named by others is judged
// once for a record, not at each place.
const heavy = 200

// longestForm is how long the normal form of a condition may be; a longer one is
// stood for by its hash.
const longestForm = 4096

func newCondition(root node, text string, intakes []IntakeName) *Condition {
	c := &Condition{root: root, text: text, intakes: intakes, form: root.String(), contradicts: root.contradicts(), names: asksNames(root), weight: min(weigh(root), heavy)}
	if len(c.form) > longestForm {
		c.form = fmt.Sprintf("condition %x", sha256.Sum256([]byte(c.form)))
	}
	for p := range c.verdicts {
		c.verdicts[p] = root.on(record.Priority(p))
	}
	return c
}

// weigh returns how many nodes the expansion of a part has, up to about heavy.
func weigh(n node) int {
	parts, total := []node(nil), 1
	switch n := n.(type) {
	case *and:
		parts = n.parts
	case *or:
		parts = n.parts
	case *not:
		parts = []node{n.part}
	case *named:
		return n.of.weight
	}
	for _, part := range parts {
		if total += weigh(part); total > heavy {
			break
		}
	}
	return total
}

// IntakeName is an intake that a condition asks for, and where it does.
type IntakeName struct {
	Name   string
	Offset int // bytes from the start of the condition
}

// Match tells whether r meets the condition. It allocates nothing.
func (c *Condition) Match(r *record.Record) bool { return c.root.match(r) }

// Explain tells whether r meets the condition, and the part of the condition
// that decided it beside what the record says there. The text may hold what a
// sender wrote; it is made harmless for a terminal.
func (c *Condition) Explain(r *record.Record) (matched bool, because string) {
	return c.root.explain(r)
}

// Text returns the condition as it was written.
func (c *Condition) Text() string { return c.text }

// String returns the condition in one normal form: two conditions with the
// same form hold for the same records.
func (c *Condition) String() string { return c.form }

// Intakes returns the intakes that the condition asks for by name.
func (c *Condition) Intakes() []IntakeName { return c.intakes }

// Verdict is what can be said of a condition before the rest of a record is seen.
type Verdict uint8

// The verdicts.
const (
	Never  Verdict = iota // it does not hold
	Maybe                 // it depends
	Always                // it holds
)

// On returns the verdict for all records of a priority.
func (c *Condition) On(p record.Priority) Verdict { return c.verdicts[p] }

// Contradicts tells whether the condition can hold for no record: because no
// priority is left, or because a property would have to have two values.
func (c *Condition) Contradicts() bool {
	return c.contradicts || !slices.ContainsFunc(allPriorities[:], func(p record.Priority) bool { return c.On(p) != Never })
}

var allPriorities = func() (all [record.Priorities]record.Priority) {
	for i := range all {
		all[i] = record.Priority(i)
	}
	return
}()

// Implies tells whether every record that meets c surely meets other. It sees
// only what the forms show: false means that it is not known.
func (c *Condition) Implies(other *Condition) bool {
	mine := conjuncts(nil, c.root)
	for _, want := range conjuncts(nil, other.root) {
		form := want.String()
		if form != "any" && !slices.ContainsFunc(mine, func(n node) bool { return n.String() == form }) {
			return false
		}
	}
	return true
}

// Apps returns the apps one of which a record must have to meet the condition;
// ok is false where the condition does not demand that.
func (c *Condition) Apps() (apps []string, ok bool) {
	for _, part := range conjuncts(nil, c.root) {
		if t, is := part.(*textTest); is && t.prop.which == app && t.op == equal && !t.fold {
			return t.values, true
		}
	}
	return nil, false
}

// Texts returns texts one of which the text of a record must contain, letter
// case aside, to meet the condition; ok is false where it does not demand that.
// All are ASCII, of three bytes or more.
func (c *Condition) Texts() (texts []string, ok bool) {
	for _, part := range conjuncts(nil, c.root) {
		t, is := part.(*textTest)
		if is && t.prop.which == text && !slices.ContainsFunc(t.search, func(s Searcher) bool { return !s.ascii || len(s.want) < 3 }) {
			return t.values, true
		}
	}
	return nil, false
}

// node is a part of a condition.
type node interface {
	match(r *record.Record) bool
	explain(r *record.Record) (bool, string)
	on(p record.Priority) Verdict
	contradicts() bool
	String() string
}

type any struct{}

func (any) match(*record.Record) bool             { return true }
func (any) explain(*record.Record) (bool, string) { return true, "any" }
func (any) on(record.Priority) Verdict            { return Always }
func (any) contradicts() bool                     { return false }
func (any) String() string                        { return "any" }

type and struct{ parts []node }

func (n *and) match(r *record.Record) bool {
	for _, part := range n.parts {
		if !part.match(r) {
			return false
		}
	}
	return true
}

func (n *and) explain(r *record.Record) (bool, string) {
	var because []string
	for _, part := range n.parts {
		matched, why := part.explain(r)
		if !matched {
			return false, why
		}
		because = append(because, why)
	}
	return true, strings.Join(because, "; ")
}

func (n *and) on(p record.Priority) Verdict {
	v := Always
	for _, part := range n.parts {
		v = min(v, part.on(p))
	}
	return v
}

func (n *and) String() string { return join(n.parts, " and ") }

type or struct{ parts []node }

func (n *or) match(r *record.Record) bool {
	for _, part := range n.parts {
		if part.match(r) {
			return true
		}
	}
	return false
}

func (n *or) explain(r *record.Record) (bool, string) {
	var because []string
	for _, part := range n.parts {
		matched, why := part.explain(r)
		if matched {
			return true, why
		}
		because = append(because, why)
	}
	return false, strings.Join(because, "; ")
}

func (n *or) on(p record.Priority) Verdict {
	v := Never
	for _, part := range n.parts {
		v = max(v, part.on(p))
	}
	return v
}

func (n *or) contradicts() bool {
	return !slices.ContainsFunc(n.parts, func(part node) bool { return !part.contradicts() })
}

func (n *or) String() string { return join(n.parts, " or ") }

func join(parts []node, between string) string {
	var texts []string
	for _, part := range parts {
		text := part.String()
		switch part.(type) {
		case *and, *or:
			text = "(" + text + ")"
		}
		texts = append(texts, text)
	}
	return strings.Join(texts, between)
}

type not struct{ part node }

func (n *not) match(r *record.Record) bool { return !n.part.match(r) }

func (n *not) explain(r *record.Record) (bool, string) {
	matched, why := n.part.explain(r)
	return !matched, why
}

func (n *not) on(p record.Priority) Verdict { return Always - n.part.on(p) }
func (n *not) contradicts() bool            { return false }

func (n *not) String() string {
	switch n.part.(type) {
	case *and, *or:
		return "not (" + n.part.String() + ")"
	}
	return "not " + n.part.String()
}

// named is a condition that stands elsewhere under a name.
type named struct {
	name string
	of   *Condition
}

// match judges a heavy condition once for a record.
func (n *named) match(r *record.Record) bool {
	if n.of.weight < heavy {
		return n.of.root.match(r)
	}
	if answer, known := r.Judged(n.of); known {
		return answer
	}
	answer := n.of.root.match(r)
	r.Judge(n.of, answer)
	return answer
}

func (n *named) explain(r *record.Record) (bool, string) {
	if n.of.weight >= heavy { // its parts would be told again and again
		return n.match(r), "condition " + n.name
	}
	matched, why := n.of.root.explain(r)
	return matched, "condition " + n.name + ", " + why
}

func (n *named) on(p record.Priority) Verdict { return n.of.verdicts[p] }
func (n *named) contradicts() bool            { return n.of.contradicts }
func (n *named) String() string               { return "(" + n.of.form + ")" }

// conjuncts returns the parts of n that must all hold. One that is named at
// several places is taken apart once.
func conjuncts(list []node, n node) []node { return appendConjuncts(list, n, map[*Condition]bool{}) }

func appendConjuncts(list []node, n node, seen map[*Condition]bool) []node {
	switch n := n.(type) {
	case *and:
		for _, part := range n.parts {
			list = appendConjuncts(list, part, seen)
		}
		return list
	case *named:
		if seen[n.of] {
			return list
		}
		seen[n.of] = true
		return appendConjuncts(list, n.of.root, seen)
	}
	return append(list, n)
}

// contradicts finds a property that is said to be one of some values, none of
// which meets what else is said of it.
func (n *and) contradicts() bool {
	parts := conjuncts(nil, n)
	for _, part := range parts {
		if part.contradicts() {
			return true
		}
		t, ok := part.(*textTest)
		if !ok || t.op != equal || t.prop.which == field || t.fold && !t.prop.isHost() {
			continue
		}
		if !slices.ContainsFunc(t.values, func(v string) bool { return meetsAll(parts, t.prop, v) }) {
			return true
		}
	}
	return false
}

// meetsAll tells whether a property with value v meets every test of it among parts.
func meetsAll(parts []node, prop property, v string) bool {
	for _, part := range parts {
		want := true
		if n, ok := part.(*not); ok {
			part, want = n.part, false
		}
		if t, ok := part.(valueTest); ok && t.property().String() == prop.String() && t.matchText([]byte(v)) != want {
			return false
		}
	}
	return true
}
