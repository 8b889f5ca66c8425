package condition

import (
	"fmt"
	"net/netip"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"

	"oakbarrel/core/nearest"
	"oakbarrel/core/record"
)

func (p *parser) severity() node {
	op, negated := p.operator("severity", "is", "in", "at least", "at most", "between")
	n := &severityTest{}
	switch op {
	case "is":
		n.add(p.severityValue())
		n.text = "severity is " + n.list()
	case "in":
		p.values("a severity", func(t token) { n.add(p.severityOf(t)) })
		n.text = "severity in (" + n.list() + ")"
	case "between":
		a := p.severityValue()
		if !p.accept("and") {
			p.fail(p.tok, fmt.Sprintf("between needs two ends, not %s", p.tok), "write: severity between warning and error")
		}
		b := p.severityValue()
		n.text = fmt.Sprintf("severity between %s and %s", a, b)
		for s := min(a, b); s <= max(a, b); s++ {
			n.add(s)
		}
	default:
		which := p.second("at", "least", "most")
		s := p.severityValue()
		n.text, n.least = fmt.Sprintf("severity at %s %s", which, s), which == "least" && !negated
		for i := range record.Severity(8) {
			if which == "least" && i <= s || which == "most" && i >= s {
				n.add(i)
			}
		}
	}
	return negate(n, negated)
}

func (p *parser) severityValue() record.Severity { return p.severityOf(p.value("a severity")) }

func (p *parser) severityOf(t token) record.Severity {
	s, ok := record.ParseSeverity(t.text)
	if !ok && p.events {
		s, ok = levels[strings.ToLower(t.text)]
	}
	if ok {
		return s
	}
	if n, err := strconv.Atoi(t.text); err == nil && n >= 0 && n <= 7 {
		p.fail(t, "a severity is written as a word, because the numbers run the other way", fmt.Sprintf("%d is %s", n, record.Severity(n)))
	}
	p.unknown(t, "severity", record.Severities[:])
	return 0
}

func (p *parser) unknown(t token, what string, known []string) {
	mend := "known are " + strings.Join(known, ", ")
	if word, ok := nearest.Word(t.text, known); ok {
		mend = fmt.Sprintf("did you mean %s?", word)
	}
	p.fail(t, fmt.Sprintf("%s is not a %s", t, what), mend)
}

func (p *parser) facility() node {
	op, negated := p.operator("facility", "is", "in")
	n := &facilityTest{}
	add := func(t token) {
		f, ok := record.ParseFacility(t.text)
		if !ok {
			p.unknown(t, "facility", record.Facilities[:])
		}
		n.set |= 1 << f
		n.names = append(n.names, f.String())
	}
	if op == "is" {
		add(p.value("a facility"))
	} else {
		p.values("a facility", add)
	}
	return negate(n, negated)
}

func (p *parser) intake() node {
	op, negated := p.operator("intake", "is", "in")
	n := &intakeTest{}
	add := func(t token) {
		n.names = append(n.names, t.text)
		p.intakes = append(p.intakes, IntakeName{t.text, t.offset})
	}
	if op == "is" {
		add(p.value("the name of an intake"))
	} else {
		p.values("the name of an intake", add)
	}
	return negate(n, negated)
}

func (p *parser) stream() node {
	op, negated := p.operator("stream", "is", "in")
	n := &streamTest{}
	add := func(t token) {
		for s := record.Stdout; s <= record.Stderr; s++ {
			if strings.EqualFold(t.text, s.String()) {
				n.set |= 1 << s
				n.names = append(n.names, s.String())
				return
			}
		}
		p.unknown(t, "stream", []string{"stdout", "stderr"})
	}
	if op == "is" {
		add(p.value("stdout or stderr"))
	} else {
		p.values("stdout or stderr", add)
	}
	return negate(n, negated)
}

func (p *parser) peer() node {
	op, negated := p.operator("peer", "is", "within")
	n := &peerTest{}
	if op == "is" {
		t := p.value("an address")
		a, err := netip.ParseAddr(t.text)
		if err != nil {
			p.fail(t, fmt.Sprintf("%s is not an address", t), "write an IP address without a port, such as 10.20.0.9 or fe80::1; for a network: peer within 10.20.0.0/16")
		}
		n.network, n.text = netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), "peer is "+a.String()
	} else {
		t := p.value("a network")
		network, err := netip.ParsePrefix(t.text)
		if err != nil {
			p.fail(t, fmt.Sprintf("%s is not a network", t), "write an address and the length of its prefix, such as 10.20.0.0/16 or fd00::/8")
		}
		n.network, n.text = network.Masked(), "peer within "+network.String()
	}
	return negate(n, negated)
}

func (p *parser) property(prop property) node {
	ops := []string{"is", "in", "starts with", "ends with", "contains", "has word", "matches", "exists", "missing"}
	if prop.which == field && prop.name == "" {
		ops = append(ops, "<", "<=", ">", ">=", "between")
	}
	op, negated := p.operator(prop.String(), ops...)
	return negate(p.propertyTest(prop, op), negated)
}

func (p *parser) propertyTest(prop property, op string) node {
	switch op {
	case "exists", "missing":
		return &existsTest{prop, op == "exists"}
	case "<", "<=", ">", ">=":
		return &numberTest{prop: prop, op: op, low: p.number()}
	case "between":
		low := p.number()
		if !p.accept("and") {
			p.fail(p.tok, fmt.Sprintf("between needs two ends, not %s", p.tok), "write: between 1 and 5")
		}
		high := p.number()
		return &numberTest{prop: prop, op: op, low: min(low, high), high: max(low, high)}
	case "matches":
		return p.expressionTest(prop)
	case "in":
		n := &textTest{prop: prop, op: equal}
		p.values("a value", func(t token) { n.values = append(n.values, t.text) })
		n.list = true
		n.prepare(p.ignoringCase())
		return n
	case "starts with":
		p.second("starts", "with")
		return p.textTest(prop, prefix, p.value("a text").text, false)
	case "ends with":
		p.second("ends", "with")
		return p.textTest(prop, suffix, p.value("a text").text, false)
	case "has word":
		p.second("has", "word")
		t := p.value("a word")
		if t.text == "" {
			p.fail(t, "the word is empty", "write the word that the text has")
		}
		return p.textTest(prop, hasWord, t.text, true)
	case "contains":
		return p.textTest(prop, contains, p.value("a text").text, false)
	}
	if p.tok.is("in") {
		p.fail(p.tok, "is may not stand before in", "write: in (…), or not in (…)")
	}
	if p.tok.is("missing") || p.tok.is("exists") {
		p.fail(p.tok, fmt.Sprintf("is may not stand before %s", p.tok), fmt.Sprintf("write: %s %s", prop, strings.ToLower(p.tok.text)))
	}
	return p.textTest(prop, equal, p.value("a value").text, false)
}

// textTest makes a test of one value; "ignoring case" may follow.
func (p *parser) textTest(prop property, op textOp, value string, fold bool) node {
	n := &textTest{prop: prop, op: op, values: []string{value}}
	n.prepare(p.ignoringCase() || fold)
	return n
}

// ignoringCase takes "ignoring case" where it follows.
func (p *parser) ignoringCase() bool {
	if !p.accept("ignoring") {
		return false
	}
	p.second("ignoring", "case")
	return true
}

func (p *parser) expressionTest(prop property) node {
	source, flags, at := p.expression()
	n := &expressionTest{prop: prop, source: source, fold: flags == "i" || p.ignoringCase()}
	if len(source) > maxExpression {
		panic(&Error{at, "the regular expression is too long", fmt.Sprintf("at most %d bytes are allowed", maxExpression)})
	}
	parse := syntax.Perl
	if n.fold || prop.isHost() {
		parse |= syntax.FoldCase
	}
	tree, err := syntax.Parse(source, parse)
	if err == nil {
		n.re, err = regexp.Compile(tree.String())
	}
	if err != nil {
		what := strings.TrimPrefix(err.Error(), "error parsing regexp: ")
		panic(&Error{at, "the regular expression cannot be read: " + what, `the syntax is RE2; a backslash before a character takes it as it is`})
	}
	return n
}

func (p *parser) number() float64 {
	t := p.tok
	if t.kind == word || t.kind == quoted {
		if n, ok := readNumber([]byte(t.text)); ok {
			p.next()
			return n
		}
	}
	p.fail(t, fmt.Sprintf("a number is expected, not %s", t), "write digits, such as 8.1 or -5")
	return 0
}
