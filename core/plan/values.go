package plan

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/nearest"
)

// valuePlace is where a value stands in a string, @{NAME}; @@{ stands for @{ itself.
var valuePlace = regexp.MustCompile(`@?@\{([^{}]*)\}`)

// mostValue bounds the text of a value, in bytes.
const mostValue = 1024

// WrongValue tells why a text cannot be a value, "" where it can.
func WrongValue(text string) string {
	switch {
	case len(text) > mostValue:
		return fmt.Sprintf("a value has at most %d bytes", mostValue)
	case strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return "a value has no control characters"
	}
	return ""
}

// readValues reads what @{NAME} stands for: of the parts in their order, the later ones
// for the earlier ones, so that a plan changes what its parts have as default, and a
// host what its plan has.
func (r *planReader) readValues(docs []document) map[string]string {
	values := map[string]string{}
	r.ownValues = map[string]string{}
	for _, d := range docs {
		for _, v := range valuesOf(d.body) {
			key, ok := r.scalarOf(v.Key)
			if !ok || !strings.EqualFold(key.text, "values") {
				continue
			}
			for _, n := range r.names(v.Value, positionOf(v.Key), "values", "values: {site: north}") {
				s, ok := r.text(n, "a value, such as north")
				if !ok {
					continue
				}
				if wrong := WrongValue(s.text); wrong != "" {
					r.fail(n.valueAt(), wrong, "choose a shorter one, of one line")
				}
				values[n.key] = s.text
				if d.part == HostPart {
					r.ownValues[n.key] = s.text
				}
			}
		}
	}
	return values
}

// putValues puts values into the places of all strings.
func (r *planReader) putValues(docs []document, values map[string]string) {
	r.changed = map[ast.Node]bool{}
	for _, d := range docs {
		for _, v := range valuesOf(d.body) {
			if key, _ := r.scalarOf(v.Key); strings.EqualFold(key.text, "values") {
				continue // they are texts, and no places
			}
			ast.Walk(places{r, values}, v)
		}
	}
}

// places puts values into the strings that a walk comes to; keys stay as they are.
type places struct {
	r      *planReader
	values map[string]string
}

// Visit implements [ast.Visitor].
func (p places) Visit(n ast.Node) ast.Visitor {
	switch v := n.(type) {
	case *ast.MappingValueNode:
		ast.Walk(p, v.Value)
		return nil
	case *ast.StringNode:
		p.put(n, &v.Value)
	case *ast.LiteralNode:
		p.put(n, &v.Value.Value)
		return nil
	}
	return p
}

func (p places) put(n ast.Node, text *string) {
	if !strings.Contains(*text, "@{") {
		return
	}
	p.r.changed[n] = true
	*text = valuePlace.ReplaceAllStringFunc(*text, func(place string) string {
		if strings.HasPrefix(place, "@@") {
			return place[1:]
		}
		name := place[2 : len(place)-1]
		value, known := p.values[name]
		if !known {
			p.r.fail(positionOf(n), fmt.Sprintf("there is no value for @{%s}", shorten(name)), p.mend(name))
		}
		return value
	})
}

func (p places) mend(name string) string {
	var known []string
	for name := range p.values {
		known = append(known, name)
	}
	slices.Sort(known)
	if word, near := nearest.Word(name, known); near {
		return fmt.Sprintf("did you mean @{%s}?", word)
	}
	if !isName(name) {
		return "write the name of a value, such as @{site}; @@{ stands for @{ itself"
	}
	return fmt.Sprintf("give the host one, or the plan a default: values: {%s: …}", name)
}

// PartOfValues returns the part that says what the places of a plan stand for on a host.
// What cannot be the name of a value, as the labels that hosts give themselves, is left out.
func PartOfValues(values map[string]string) Part {
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if IsPartName(name) {
			fmt.Fprintf(&b, "  %s: %s\n", name, strconv.Quote(values[name]))
		}
	}
	if b.Len() == 0 {
		return Part{Name: ValuesPart}
	}
	return Part{ValuesPart, []byte("values:\n" + b.String())}
}

// StandIn is what a host's own file says, as far as it matters for whether a plan that is
// served to it is in order: with the values that it gives itself.
func StandIn(values map[string]string) []byte {
	const text = "plan: served\nservice: {url: 'https://store.example', token_file: /etc/oakbarrel/token}\n"
	return append([]byte(text), PartOfValues(values).Text...)
}

// readOwnLabels reads what a host says of itself.
func (r *planReader) readOwnLabels(e entry) (labels []Label) {
	for _, l := range r.names(e.value, e.at, "labels", "labels: {role: gate}") {
		s, ok := r.text(l, "a text, such as gate")
		if !ok {
			continue
		}
		if wrong := WrongLabel(l.key, s.text); wrong != "" {
			r.fail(l.at, wrong, "write labels: {role: gate}")
		}
		labels = append(labels, Label{l.key, s.text})
	}
	return labels
}

var isLabel = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_-]{0,31}$`)

// WrongLabel tells why a host cannot have a label, "" where it can.
func WrongLabel(name, value string) string {
	switch {
	case !isLabel.MatchString(name):
		return fmt.Sprintf("a label cannot be named %q: a name begins with a letter, and has letters, digits, - and _, at most 32", shorten(name))
	case value == "" || len(value) > 64 || WrongValue(value) != "":
		return fmt.Sprintf("the label %s cannot be %q: it has 1 to 64 bytes, and no control characters", name, shorten(value))
	}
	return ""
}
