package condition

import (
	"fmt"
	"strings"

	"oakbarrel/core/nearest"
	"oakbarrel/core/record"
)

// Limits of a condition, so that none costs more than its author can see.
const (
	maxNesting    = 100  // parentheses and nots within each other
	maxExpression = 1000 // bytes of a regular expression
)

// Names finds the conditions that others refer to as "condition NAME".
type Names interface {
	// Condition returns the condition of that name, or an error that says why there is none.
	Condition(name string) (*Condition, *Error)
}

// Parse compiles a condition. The error, if any, is an *[Error]. Names may be
// nil where no condition has a name.
func Parse(text string, names Names) (*Condition, error) {
	return parse(parser{lexer: lexer{text: text}, names: names})
}

// ParseOfEvents compiles a condition on events of Windows: level, source, id and channel are
// properties of theirs, beside those of all records. No condition has a name. The error, if any,
// is an *[Error].
func ParseOfEvents(text string) (*Condition, error) {
	return parse(parser{lexer: lexer{text: text}, names: noNames{}, events: true})
}

// noNames are the conditions where none has a name.
type noNames struct{}

func (noNames) Condition(string) (*Condition, *Error) {
	return nil, &Error{What: "conditions of the plan are not known here", Mend: "write out what is meant"}
}

func parse(p parser) (c *Condition, err error) {
	defer func() {
		if e := recover(); e != nil {
			problem, ok := e.(*Error)
			if !ok {
				panic(e)
			}
			c, err = nil, problem
		}
	}()
	p.advance()
	if p.tok.kind == end {
		p.fail(p.tok, "the condition is empty", "write: any, or a test such as severity at least warning")
	}
	root := p.or()
	if p.tok.kind != end {
		p.leftOver()
	}
	return newCondition(root, p.text, p.intakes), nil
}

type parser struct {
	lexer
	names   Names
	events  bool // properties of events have names of their own
	depth   int
	intakes []IntakeName
	before  token // the token taken last
}

func (p *parser) fail(t token, what, mend string) { panic(&Error{t.offset, what, mend}) }

func (p *parser) next() token {
	p.before = p.tok
	p.advance()
	return p.before
}

// accept takes the next token where it is the keyword.
func (p *parser) accept(keyword string) bool {
	if !p.tok.is(keyword) {
		return false
	}
	p.next()
	return true
}

func (p *parser) acceptSymbol(s string) bool {
	if p.tok.kind != symbol || p.tok.text != s {
		return false
	}
	p.next()
	return true
}

// leftOver explains what stands behind a whole condition.
func (p *parser) leftOver() {
	t := p.tok
	switch {
	case t.kind == symbol && t.text == ")":
		p.fail(t, "this ) closes nothing", "take it away, or write the ( before it")
	case p.before.kind == word && t.kind == word && !isKeyword(p.before.text) && !isKeyword(t.text):
		p.fail(t, fmt.Sprintf("%s follows a whole test", t), fmt.Sprintf("put a value of several words in double quotes: %s", quote(p.before.text+" "+t.text)))
	}
	p.fail(t, fmt.Sprintf("%s follows a whole test", t), "join tests with and, or")
}

func (p *parser) or() node {
	parts := []node{p.and()}
	for p.accept("or") {
		if hint, known := seriousness[strings.ToLower(p.tok.text)]; known && p.tok.kind == word {
			p.fail(p.tok, fmt.Sprintf("%s is no test", p.tok), "write: severity "+hint+" …")
		}
		parts = append(parts, p.and())
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &or{parts}
}

// seriousness has the words with which people say "at least" and "at most" after a severity.
var seriousness = map[string]string{"above": "at least", "higher": "at least", "worse": "at least", "more": "at least", "up": "at least", "below": "at most", "lower": "at most", "less": "at most"}

func (p *parser) and() node {
	parts := []node{p.not()}
	for p.accept("and") {
		parts = append(parts, p.not())
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &and{parts}
}

func (p *parser) not() node {
	if p.depth++; p.depth > maxNesting {
		p.fail(p.tok, "the condition is nested too deep", fmt.Sprintf("at most %d parentheses and nots may stand within each other", maxNesting))
	}
	defer func() { p.depth-- }()
	if p.accept("not") {
		return &not{p.not()}
	}
	if open := p.tok; p.acceptSymbol("(") {
		inner := p.or()
		if !p.acceptSymbol(")") {
			if p.tok.kind != end {
				p.leftOver()
			}
			p.fail(open, "this ( is not closed", "write the ) after the last test that it holds")
		}
		return inner
	}
	return p.test()
}

func (p *parser) test() node {
	t := p.next()
	switch {
	case t.kind == quoted:
		n := &textTest{prop: property{which: text}, op: contains, values: []string{t.text}, lone: true}
		n.prepare(true)
		p.ignoringCase()
		return n
	case t.is("any"):
		return any{}
	case t.is("condition"):
		return p.named()
	case t.is("severity"):
		return p.severity()
	case t.is("facility"):
		return p.facility()
	case t.is("intake"):
		return p.intake()
	case t.is("shape"):
		return p.shape()
	case t.is("stream"):
		return p.stream()
	case t.is("peer"):
		return p.peer()
	case t.is("field"):
		return p.property(property{which: field, path: p.path()})
	case t.is("unit"):
		return p.property(property{which: field, path: UnitPath, name: "unit"})
	}
	if n := p.ofEvent(t); n != nil {
		return n
	}
	for which, name := range propertyNames {
		if t.is(name) {
			return p.property(property{which: which})
		}
	}
	p.noTest(t)
	return nil
}

// noTest explains a token with which no test begins.
func (p *parser) noTest(t token) {
	const mend = `a test begins with any, condition, severity, facility, host, agent, app, procid, msgid, unit, text, shape, field, intake, stream, peer, or a "text" in quotes`
	switch {
	case t.kind == end:
		p.fail(t, "a test is expected, but the condition ends", mend)
	case t.kind == word && (t.is("and") || t.is("or")):
		p.fail(t, fmt.Sprintf("there is no test before %s", t), mend)
	case t.kind == word:
		if word, ok := nearest.Word(t.text, subjects); ok {
			p.fail(t, fmt.Sprintf("%s is not a property of a record", t), fmt.Sprintf("did you mean %s?", word))
		}
		if _, ok := record.ParseSeverity(t.text); ok {
			p.fail(t, fmt.Sprintf("%s is a severity, not a test", t), "write: severity at least "+strings.ToLower(t.text))
		}
		if _, ok := record.ParseFacility(t.text); ok {
			p.fail(t, fmt.Sprintf("%s is a facility, not a test", t), "write: facility is "+strings.ToLower(t.text))
		}
		p.fail(t, fmt.Sprintf("%s is not a property of a record", t), fmt.Sprintf("to look for a text, put it in double quotes; %s", mend))
	}
	p.fail(t, fmt.Sprintf("a test is expected, not %s", t), mend)
}

var subjects = strings.Fields("any condition severity facility host agent app procid msgid unit text shape field intake stream peer not")

func (p *parser) named() node {
	t := p.tok
	if t.kind != quoted && (t.kind != word || isKeyword(t.text)) {
		p.fail(t, fmt.Sprintf("the name of a condition is expected, not %s", t), "write: condition NAME, with a name that stands under conditions")
	}
	p.next()
	if p.names == nil {
		p.fail(t, fmt.Sprintf("there is no condition %s here", t), "only a plan has conditions with names; write the condition out")
	}
	c, problem := p.names.Condition(t.text)
	if problem != nil {
		p.fail(t, problem.What, problem.Mend)
	}
	return &named{name: t.text, of: c}
}

// operator reads [not] and one of the operators that a subject has. It returns the operator's first word.
func (p *parser) operator(subject string, ops ...string) (op string, negated bool) {
	negated = p.accept("not")
	t := p.tok
	for _, op := range ops {
		if first, _, _ := strings.Cut(op, " "); t.is(first) || t.kind == symbol && t.text == op {
			p.next()
			if op == "is" && !negated {
				negated = p.accept("not")
			}
			return op, negated
		}
	}
	list := strings.Join(ops, ", ")
	switch {
	case t.kind == end:
		p.fail(t, fmt.Sprintf("after %s a test is expected, but the condition ends", subject), "write one of: "+list)
	case subject == "severity" && t.kind == symbol && (t.text[0] == '<' || t.text[0] == '>'):
		p.fail(t, fmt.Sprintf("severities have no %s, because their numbers run the other way", t.text), "write: at least, for this one and anything worse, or at most")
	case t.kind == symbol && (t.text[0] == '<' || t.text[0] == '>'):
		p.fail(t, fmt.Sprintf("%s has no %s", subject, t.text), "only a field is compared as a number; write one of: "+list)
	case t.kind == word && isOperator(t.text):
		p.fail(t, fmt.Sprintf("%s cannot be tested by %s", subject, t), "write one of: "+list)
	}
	p.fail(t, fmt.Sprintf("after %s an operator is expected, not %s", subject, t), "write one of: "+list)
	return "", false
}

func isOperator(word string) bool {
	for _, op := range strings.Fields("is in at between starts ends contains has matches exists missing within") {
		if strings.EqualFold(word, op) {
			return true
		}
	}
	return false
}

func negate(n node, negated bool) node {
	if negated {
		return &not{n}
	}
	return n
}

// second takes the second word of an operator, such as "with".
func (p *parser) second(first string, words ...string) string {
	for _, w := range words {
		if p.accept(w) {
			return w
		}
	}
	p.fail(p.tok, fmt.Sprintf("after %s, %s is expected, not %s", first, strings.Join(words, " or "), p.tok), fmt.Sprintf("write: %s %s …", first, words[0]))
	return ""
}

// value reads one value: a string, or a word that is no keyword.
func (p *parser) value(what string) token {
	t := p.tok
	switch {
	case t.kind == quoted:
	case t.kind == word && !isKeyword(t.text):
	case t.kind == word:
		p.fail(t, fmt.Sprintf("%s is a word of the language", t), fmt.Sprintf("as a value it needs double quotes: %s", quote(t.text)))
	case t.kind == symbol && t.text == "(":
		p.fail(t, "a list may not stand here", "write: in (…)")
	default:
		p.fail(t, fmt.Sprintf("%s is expected, not %s", what, t), `a value is a word, or stands in double quotes`)
	}
	return p.next()
}

// values reads what follows "in": values between parentheses.
func (p *parser) values(what string, each func(t token)) {
	open := p.tok
	if !p.acceptSymbol("(") {
		p.fail(open, "in needs parentheses", "write: in (ONE, OTHER)")
	}
	if p.tok.kind == symbol && p.tok.text == ")" {
		p.fail(p.tok, "the list is empty", "in needs at least one value")
	}
	for {
		each(p.value(what))
		if p.acceptSymbol(")") {
			return
		}
		if !p.acceptSymbol(",") {
			if p.tok.kind == end {
				p.fail(open, "this ( is not closed", "write the ) after the last value")
			}
			p.fail(p.tok, fmt.Sprintf("a comma or a ) is expected, not %s", p.tok), "write: in (ONE, OTHER)")
		}
	}
}
