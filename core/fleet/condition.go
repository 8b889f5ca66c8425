// Package fleet decides which plan a host gets: by conditions on its labels, with the
// values that its plan's places stand for, and in which wave of a roll-out.
//
// It knows no hosts and keeps nothing: [Decide], [Values] and [Waves] are given all
// that they judge. What they return may be used by several goroutines at a time.
package fleet

import (
	"fmt"
	"slices"
	"strings"
)

// Condition is a condition on the labels of hosts, such as
// "role is gate and site in (north, south)". Its words are those of conditions on
// records; what stands before "is" is a label, or host for the host's name.
type Condition struct {
	text string
	root node
}

// Error tells what is wrong with a condition, and at which byte.
type Error struct {
	Offset     int
	What, Mend string
}

func (e *Error) Error() string { return e.What + "; " + e.Mend }

// String returns the condition as it was written.
func (c *Condition) String() string { return c.text }

// Match tells whether a host meets the condition, and how exactly it speaks of it: the
// number of tests that hold of it, where one on the host's name counts as a hundred.
func (c *Condition) Match(host string, labels map[string]string) (met bool, exact int) {
	return c.root.match(func(name string) (string, bool) {
		if strings.EqualFold(name, "host") {
			return strings.ToLower(host), true
		}
		value, ok := labels[name]
		return value, ok
	})
}

type node interface {
	match(value func(name string) (string, bool)) (met bool, exact int)
}

type (
	always struct{}
	all    []node
	either []node
	not    struct{ of node }
	test   struct {
		name   string
		values []string
		starts bool
	}
	exists struct{ name string }
)

func (always) match(func(string) (string, bool)) (bool, int) { return true, 0 }

func (n all) match(value func(string) (string, bool)) (bool, int) {
	sum := 0
	for _, of := range n {
		met, exact := of.match(value)
		if !met {
			return false, 0
		}
		sum += exact
	}
	return true, sum
}

func (n either) match(value func(string) (string, bool)) (met bool, most int) {
	for _, of := range n {
		if m, exact := of.match(value); m {
			met, most = true, max(most, exact)
		}
	}
	return met, most
}

func (n not) match(value func(string) (string, bool)) (bool, int) {
	if met, _ := n.of.match(value); met {
		return false, 0
	}
	return true, 1
}

func (n test) match(value func(string) (string, bool)) (bool, int) {
	is, _ := value(n.name)
	exact := 1
	ofHost := strings.EqualFold(n.name, "host")
	if ofHost && !n.starts {
		exact = 100
	}
	return slices.ContainsFunc(n.values, func(v string) bool {
		if ofHost {
			v = strings.ToLower(v)
		}
		return is == v || n.starts && strings.HasPrefix(is, v)
	}), exact
}

func (n exists) match(value func(string) (string, bool)) (bool, int) {
	_, there := value(n.name)
	return there, 1
}

// Bounds of a condition, so that none takes the reader's stack.
const (
	maxCondition = 4096 // bytes
	maxDepth     = 64
)

const howToTest = "write LABEL is X, LABEL in (X, Y), LABEL starts with X, LABEL exists, or any"

// Parse reads a condition. The error is an *[Error].
func Parse(text string) (*Condition, error) {
	if len(text) > maxCondition {
		return nil, &Error{0, fmt.Sprintf("the condition has more than %d bytes", maxCondition), "label the hosts, and ask for the label"}
	}
	p := &parser{text: text}
	if err := p.split(); err != nil {
		return nil, err
	}
	root, err := p.or(0)
	if err == nil && p.at < len(p.tokens) {
		err = p.wrong(fmt.Sprintf("%q is not expected here", p.tokens[p.at].text), "put and, or or between two tests")
	}
	if err != nil {
		return nil, err
	}
	return &Condition{text, root}, nil
}

type token struct {
	text   string
	at     int
	quoted bool
}

type parser struct {
	text   string
	tokens []token
	at     int
}

func isWordByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("_-@./:+", c) >= 0
}

// split takes the text apart.
func (p *parser) split() error {
	for i := 0; i < len(p.text); {
		c := p.text[i]
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
		case c == '(' || c == ')' || c == ',':
			p.tokens = append(p.tokens, token{text: string(c), at: i})
			i++
		case c == '"':
			end := strings.IndexByte(p.text[i+1:], '"')
			if end < 0 {
				return &Error{i, "a quote is not closed", "end the text with a quote"}
			}
			p.tokens = append(p.tokens, token{p.text[i+1 : i+1+end], i, true})
			i += end + 2
		case isWordByte(c):
			end := i
			for end < len(p.text) && isWordByte(p.text[end]) {
				end++
			}
			p.tokens = append(p.tokens, token{text: p.text[i:end], at: i})
			i = end
		default:
			return &Error{i, fmt.Sprintf("%q is not expected here", []rune(p.text[i:])[0]), "put the text into quotes"}
		}
	}
	return nil
}

func (p *parser) wrong(what, mend string) *Error {
	at := len(p.text)
	if p.at < len(p.tokens) {
		at = p.tokens[p.at].at
	}
	return &Error{at, what, mend}
}

// take takes words, if they come next.
func (p *parser) take(words ...string) bool {
	for i, w := range words {
		if p.at+i >= len(p.tokens) || p.tokens[p.at+i].quoted || !strings.EqualFold(p.tokens[p.at+i].text, w) {
			return false
		}
	}
	p.at += len(words)
	return true
}

func (p *parser) or(depth int) (node, error) {
	var of either
	for {
		n, err := p.and(depth)
		if err != nil {
			return nil, err
		}
		if of = append(of, n); !p.take("or") {
			break
		}
	}
	if len(of) == 1 {
		return of[0], nil
	}
	return of, nil
}

func (p *parser) and(depth int) (node, error) {
	var of all
	for {
		n, err := p.one(depth)
		if err != nil {
			return nil, err
		}
		if of = append(of, n); !p.take("and") {
			break
		}
	}
	if len(of) == 1 {
		return of[0], nil
	}
	return of, nil
}

func (p *parser) one(depth int) (node, error) {
	switch {
	case depth > maxDepth:
		return nil, p.wrong("the condition is nested too deep", "take brackets away")
	case p.take("not"):
		n, err := p.one(depth + 1)
		return not{n}, err
	case p.take("("):
		n, err := p.or(depth + 1)
		if err == nil && !p.take(")") {
			err = p.wrong("a bracket is not closed", "write )")
		}
		return n, err
	case p.take("any"):
		return always{}, nil
	}
	return p.test()
}

func (p *parser) test() (node, error) {
	if p.at == len(p.tokens) || !p.tokens[p.at].quoted && strings.ContainsAny(p.tokens[p.at].text, "(),") {
		return nil, p.wrong("a test is missing", howToTest)
	}
	name := p.tokens[p.at].text
	p.at++
	switch {
	case p.take("is", "not"):
		n, err := p.values(name, false, false)
		return not{n}, err
	case p.take("is"):
		return p.values(name, false, false)
	case p.take("not", "in"):
		n, err := p.values(name, true, false)
		return not{n}, err
	case p.take("in"):
		return p.values(name, true, false)
	case p.take("not", "starts", "with"):
		n, err := p.values(name, false, true)
		return not{n}, err
	case p.take("starts", "with"):
		return p.values(name, false, true)
	case p.take("exists"):
		return exists{name}, nil
	case p.take("missing"):
		return not{exists{name}}, nil
	}
	return nil, p.wrong(fmt.Sprintf("what is asked of %s is missing", name), howToTest)
}

// values reads one value, or a list in brackets.
func (p *parser) values(name string, list, starts bool) (node, error) {
	t := test{name: name, starts: starts}
	if list && !p.take("(") {
		return nil, p.wrong("a list is missing", fmt.Sprintf("write %s in (X, Y)", name))
	}
	for {
		if p.at == len(p.tokens) || !p.tokens[p.at].quoted && strings.ContainsAny(p.tokens[p.at].text, "(),") {
			return nil, p.wrong("a value is missing", howToTest)
		}
		t.values = append(t.values, p.tokens[p.at].text)
		p.at++
		if !list || !p.take(",") {
			break
		}
	}
	if list && !p.take(")") {
		return nil, p.wrong("a list is not closed", "write )")
	}
	return t, nil
}
