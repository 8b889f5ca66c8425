package condition

import (
	"slices"

	"oakbarrel/core/record"
)

// Contents is what can be said of many records at once. Each method may answer
// true where it does not know.
type Contents interface {
	// HasWord tells whether a text or a field may hold a word, by the hash
	// that [record.EachWord] gives.
	HasWord(hash uint64) bool
	// HasValue tells whether the property named host, agent, app, procid or msgid
	// may be v, whatever its letter case.
	HasValue(property string, v []byte) bool
	// HasText tells whether a text may contain v.
	HasText(v *Searcher) bool
}

// Possible tells whether any of the records may meet the condition; false is certain.
func (c *Condition) Possible(in Contents) bool { return possible(c.root, in) }

// Ask asks in all that Possible might ask, which must answer true each time.
func (c *Condition) Ask(in Contents) { ask(c.root, in) }

func ask(n node, in Contents) {
	switch n := n.(type) {
	case *and:
		for _, part := range n.parts {
			ask(part, in)
		}
	case *or:
		for _, part := range n.parts {
			ask(part, in)
		}
	case *named:
		ask(n.of.root, in)
	case *textTest:
		for i := range n.search {
			n.possibleValue(&n.search[i], in)
		}
	case *shapeTest:
		for _, s := range n.shapes {
			hasFixedWords(s, in)
		}
	}
}

func possible(n node, in Contents) bool {
	switch n := n.(type) {
	case *and:
		return !slices.ContainsFunc(n.parts, func(part node) bool { return !possible(part, in) })
	case *or:
		return slices.ContainsFunc(n.parts, func(part node) bool { return possible(part, in) })
	case *named:
		return possible(n.of.root, in)
	case *textTest:
		return slices.ContainsFunc(n.search, func(s Searcher) bool { return n.possibleValue(&s, in) })
	case *shapeTest:
		return slices.ContainsFunc(n.shapes, func(s string) bool { return hasFixedWords(s, in) })
	}
	return true
}

// possibleValue tells whether a record may pass the test with one of its values.
func (t *textTest) possibleValue(s *Searcher, in Contents) bool {
	if len(s.want) == 0 {
		return true // what is missing is empty too
	}
	switch {
	case t.prop.which == text && !in.HasText(s):
		return false
	case t.prop.which == text || t.prop.which == field:
		return s.hasWords(t.op, in)
	case t.op == equal:
		return in.HasValue(t.prop.String(), s.want)
	}
	return true
}

// hasWords tells whether all words are there that stand whole in what is looked
// for: at its ends, where the operator leaves open what comes there, they may
// be parts of longer ones.
func (s *Searcher) hasWords(op textOp, in Contents) bool {
	openStart := op == suffix || op == contains
	openEnd := op == prefix || op == contains
	all := true
	record.EachWord(s.want, func(start, end int, hash uint64) {
		if start == 0 && openStart || end == len(s.want) && openEnd {
			return
		}
		all = all && in.HasWord(hash)
	})
	return all
}
