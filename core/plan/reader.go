package plan

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/nearest"
)

// reader reads the parts of a plan and collects what is wrong with them. After
// a finding the reading functions return zero values, and the reading goes on.
type reader struct {
	*source
	file     string
	findings Findings
}

func (r *reader) fail(at Position, what, mend string) {
	r.findings = append(r.findings, Finding{File: r.file, Position: at, What: what, Mend: mend})
}

func (r *reader) warn(at Position, what, mend string) {
	r.findings = append(r.findings, Finding{File: r.file, Position: at, Warning: true, What: what, Mend: mend})
}

// entry is a key of a mapping with its value.
type entry struct {
	key   string // as it is written
	at    Position
	value ast.Node
}

// valueAt returns where the value stands; for a missing one, where its key does.
func (e entry) valueAt() Position {
	if _, null := e.value.(*ast.NullNode); null || e.value == nil {
		return e.at
	}
	return positionOf(e.value)
}

// mapping is a mapping whose keys are known.
type mapping struct {
	r       *reader
	at      Position // of what it is the value of
	what    string   // how a finding names it
	entries []entry
	faulty  bool     // it has other keys too, which are reported
	meant   []string // what these were most likely meant to be
}

// entriesOf returns the keys and values of n.
func (r *reader) entriesOf(n ast.Node, at Position, what, example string) ([]entry, bool) {
	var values []*ast.MappingValueNode
	switch v := n.(type) {
	case *ast.MappingNode:
		values = v.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{v}
	default:
		r.wrongType(n, at, what, "keys with values", example)
		return nil, false
	}
	var entries []entry
	for _, v := range values {
		key, ok := r.scalarOf(v.Key)
		if !ok {
			r.fail(positionOf(v.Key), "this cannot be a key", "anchors, aliases and merges are not read; write the keys out")
			continue
		}
		entries = append(entries, entry{key.text, positionOf(v.Key), v.Value})
	}
	return entries, true
}

// wrongType reports a value of another type than is expected.
func (r *reader) wrongType(n ast.Node, at Position, what, expected, example string) {
	found := "something else"
	switch v := n.(type) {
	case nil, *ast.NullNode:
		r.fail(at, fmt.Sprintf("%s has no value", what), "write "+example)
		return
	case *ast.AnchorNode, *ast.AliasNode, *ast.MergeKeyNode:
		r.fail(positionOf(n), "anchors and aliases are not read", "write the value out")
		return
	case *ast.TagNode:
		r.fail(positionOf(n), "tags are not read", "write the value without one")
		return
	case *ast.SequenceNode:
		found = "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		found = "keys with values"
	default:
		if s, ok := r.scalarOf(v); ok {
			found = fmt.Sprintf("%q", shorten(s.text))
		}
	}
	r.fail(positionOf(n), fmt.Sprintf("%s is %s, not %s", what, expected, found), "write "+example)
}

func shorten(s string) string {
	if runes := []rune(s); len(runes) > 40 {
		return string(runes[:40]) + "…"
	}
	return s
}

// mapping reads a mapping that has only known keys, in any letter case.
func (r *reader) mapping(n ast.Node, at Position, what, example string, known ...string) (mapping, bool) {
	entries, ok := r.entriesOf(n, at, what, example)
	m := mapping{r: r, at: at, what: what}
	for _, e := range entries {
		i := slices.IndexFunc(known, func(k string) bool { return strings.EqualFold(k, e.key) })
		if i < 0 {
			m.faulty, m.meant = true, append(m.meant, r.unknownKey(e, what, known))
			continue
		}
		name := known[i]
		if old, twice := m.get(name); twice {
			r.fail(e.at, fmt.Sprintf("the key %s stands here a second time", name), fmt.Sprintf("take one away; the first is at %s", r.place(old.at)))
			continue
		}
		m.entries = append(m.entries, entry{name, e.at, e.value})
	}
	return m, ok
}

// unknownKey reports a key and returns the one that was most likely meant, "" for none.
func (r *reader) unknownKey(e entry, what string, known []string) string {
	word, near := nearest.Word(e.key, known)
	mend := "known here are " + strings.Join(known, ", ")
	if near {
		mend = fmt.Sprintf("did you mean %s?", word)
	}
	r.fail(e.at, fmt.Sprintf("%s has no key %q", what, shorten(e.key)), mend)
	return word
}

// names reads a mapping whose keys are names that the plan gives.
func (r *reader) names(n ast.Node, at Position, what, example string) []entry {
	entries, _ := r.entriesOf(n, at, what, example)
	var named []entry
	for _, e := range entries {
		if !isName(e.key) {
			r.fail(e.at, fmt.Sprintf("%q cannot be a name", shorten(e.key)), "a name has letters, digits and - _ . and at most 64 of them")
		}
		if i := slices.IndexFunc(named, func(o entry) bool { return o.key == e.key }); i >= 0 {
			r.fail(e.at, fmt.Sprintf("the name %s stands here a second time", e.key), fmt.Sprintf("choose another name; the first is at %s", r.place(named[i].at)))
			continue
		}
		named = append(named, e)
	}
	return named
}

func isName(s string) bool {
	return s != "" && len(s) <= 64 && s[0] != '.' && !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' || r == '.')
	})
}

func (m mapping) get(key string) (entry, bool) {
	for _, e := range m.entries {
		if e.key == key {
			return e, true
		}
	}
	return entry{}, false
}

// require returns a key that must be there; a missing one is reported at the
// parent, unless it is there and misspelt.
func (m mapping) require(key, why string) (entry, bool) {
	e, ok := m.get(key)
	if !ok && !slices.Contains(m.meant, key) {
		m.r.fail(m.at, fmt.Sprintf("%s has no %s", m.what, key), why)
	}
	return e, ok
}

// text reads a value that is one text; numbers and words count as such.
func (r *reader) text(e entry, example string) (scalar, bool) {
	s, ok := r.scalarOf(e.value)
	if !ok {
		r.wrongType(e.value, e.at, e.key, "one value", example)
	}
	return s, ok
}

// list reads a value that is a list.
func (r *reader) list(e entry, example string) ([]ast.Node, bool) {
	s, ok := e.value.(*ast.SequenceNode)
	if !ok {
		r.wrongType(e.value, e.at, e.key, "a list", example)
		return nil, false
	}
	return s.Values, true
}

// texts reads a list of texts that is not empty. What names an item in a
// finding, such as "an outlet"; example is a list.
func (r *reader) texts(e entry, what, example string) (all []scalar) {
	items, ok := r.list(e, example)
	if ok && len(items) == 0 {
		_, noun, _ := strings.Cut(what, " ")
		r.fail(e.valueAt(), fmt.Sprintf("%s names no %s", e.key, noun), "write "+example)
	}
	for _, item := range items {
		if s, ok := r.scalarOf(item); ok {
			all = append(all, s)
			continue
		}
		r.wrongType(item, e.at, what, "one text", example)
	}
	return all
}

// yes reads a value that can only be true.
func (r *reader) yes(e entry) bool {
	b, ok := e.value.(*ast.BoolNode)
	if !ok {
		r.wrongType(e.value, e.at, e.key, "true", e.key+": true")
		return false
	}
	if !b.Value {
		r.fail(e.valueAt(), fmt.Sprintf("%s: false says nothing", e.key), "write true, or take the key away")
	}
	return b.Value
}

// bool reads true or false.
func (r *reader) bool(e entry) bool {
	b, ok := e.value.(*ast.BoolNode)
	if !ok {
		r.wrongType(e.value, e.at, e.key, "true or false", e.key+": true")
		return false
	}
	return b.Value
}

// word reads a value that is one of a few words, in any letter case.
func (r *reader) word(e entry, words []string) string {
	s, ok := r.text(e, "one of "+strings.Join(words, ", "))
	if !ok {
		return ""
	}
	for _, w := range words {
		if strings.EqualFold(w, s.text) {
			return w
		}
	}
	mend := "write one of " + strings.Join(words, ", ")
	if word, ok := nearest.Word(s.text, words); ok {
		mend = fmt.Sprintf("did you mean %s?", word)
	}
	r.fail(e.valueAt(), fmt.Sprintf("%s cannot be %q", e.key, shorten(s.text)), mend)
	return ""
}
