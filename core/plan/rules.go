package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/limit"
	"oakbarrel/core/nearest"
	"oakbarrel/core/route"
)

// ruleSource is a rule and where it stands.
type ruleSource struct {
	route.Rule
	at, whenAt Position
}

func (r *planReader) readRules(e entry) {
	items, _ := r.list(e, "a list of rules, or [] for none")
	for i, item := range items {
		r.rules = append(r.rules, r.readRule(item, i))
	}
}

func (r *planReader) readRule(n ast.Node, i int) (rule ruleSource) {
	rule.at = positionOf(n)
	rule.Name = fmt.Sprintf("rule %d", i+1)
	what := "the rule"
	rule.When = always
	if r.cutByComma(n) {
		return rule
	}
	m, ok := r.mapping(n, rule.at, what, "{when: CONDITION, send: [OUTLET]}", "name", "when", "limit", "fold", "decode", "severity", "label", "mask", "send", "drop", "then")
	if !ok {
		return rule
	}
	if e, ok := m.get("name"); ok {
		if s, ok := r.text(e, "a name for the rule"); ok {
			rule.Name = s.text
		}
	}
	if e, ok := m.require("when", "write when: CONDITION, or when: any"); ok {
		rule.whenAt = e.valueAt()
		rule.When, _ = r.condition(e)
	}
	if e, ok := m.get("limit"); ok {
		if rate, ok := r.limit(e); ok {
			rule.Limit = &limit.Shared{Rate: rate}
		}
	}
	if e, ok := m.get("fold"); ok {
		rule.Fold = &route.Fold{Window: r.duration(e, time.Second, time.Hour, "10s")}
	}
	changes := r.readChange(m, &rule.Change)
	rule.Send, rule.Drop = r.action(m, changes)
	if e, ok := m.get("then"); ok {
		rule.Done = r.word(e, []string{"done"}) != ""
	}
	return rule
}

// cutByComma reports a rule between { and } whose condition was cut at a comma:
// "{when: severity in (error, alert), …}" leaves a key "alert)" without a value.
func (r *planReader) cutByComma(n ast.Node) bool {
	m, ok := n.(*ast.MappingNode)
	if !ok || !m.IsFlowStyle {
		return false
	}
	for _, v := range m.Values {
		key, isScalar := r.scalarOf(v.Key)
		if _, null := v.Value.(*ast.NullNode); !null || !isScalar || !strings.Contains(key.text, ")") {
			continue
		}
		r.fail(positionOf(v.Key), "between { and } a comma ends a value in YAML, which cut the condition short", "put the whole condition in quotes: '…'")
		return true
	}
	return false
}

// action reads send or drop, one of which must be there unless it is optional.
func (r *planReader) action(m mapping, optional bool) (send []int, drop bool) {
	sendEntry, hasSend := m.get("send")
	dropEntry, hasDrop := m.get("drop")
	if hasSend {
		send = r.outletNumbers(sendEntry)
	}
	if hasDrop {
		drop = r.yes(dropEntry)
	}
	switch {
	case hasSend && hasDrop:
		second := dropEntry
		if sendEntry.at.Line > dropEntry.at.Line || sendEntry.at.Line == dropEntry.at.Line && sendEntry.at.Column > dropEntry.at.Column {
			second = sendEntry
		}
		r.fail(second.at, m.what+" has both send and drop", "take one away")
	case optional:
	case !hasSend && !hasDrop && !slices.Contains(m.meant, "send") && !slices.Contains(m.meant, "drop"):
		r.fail(m.at, m.what+" has neither send nor drop", "write send: [OUTLET], or drop: true")
	}
	return send, drop
}

func (r *planReader) outletNumbers(e entry) (numbers []int) {
	for _, s := range r.texts(e, "an outlet", "a list of outlets: send: [OUTLET]") {
		number := slices.IndexFunc(r.outlets, func(o Outlet) bool { return o.Name == s.text })
		if number < 0 {
			r.unknownOutlet(positionOf(s.node), s.text)
			continue
		}
		numbers = append(numbers, number)
	}
	return numbers
}

func (r *planReader) unknownOutlet(at Position, name string) {
	var known []string
	for _, o := range r.outlets {
		known = append(known, o.Name)
	}
	mend := "write it under outlets"
	if word, near := nearest.Word(name, known); near {
		mend = fmt.Sprintf("did you mean %s?", word)
	} else if len(known) > 0 {
		mend = "the outlets are " + strings.Join(known, ", ")
	}
	r.fail(at, fmt.Sprintf("there is no outlet %q", shorten(name)), mend)
}

func (r *planReader) readOtherwise(e entry) route.Otherwise {
	m, ok := r.mapping(e.value, e.at, "otherwise", "otherwise: {send: [OUTLET]}, or {drop: true}", "send", "drop")
	if !ok {
		return route.Otherwise{}
	}
	send, drop := r.action(m, false)
	o := route.Otherwise{Send: send, Drop: drop, Passing: r.passing()}
	if len(send) > 0 && !slices.ContainsFunc(send, func(i int) bool { return i < 0 || !slices.Contains(o.Passing, i) }) {
		r.warn(e.at, "what comes to otherwise is told to somebody, and kept nowhere", "send it to a file or a store, too")
	}
	return o
}

// warnOfRules tells of rules that do nothing.
func (r *planReader) warnOfRules(t *route.Table) {
	for _, rule := range r.rules {
		if rule.When.Contradicts() {
			r.warn(rule.whenAt, "this condition can never hold", "look which of its parts exclude each other")
		}
	}
	for _, i := range t.Unreachable() {
		r.warn(r.rules[i].at, "nothing reaches this rule, because rules before it end the walk for all that it matches", "move it up, or take it away")
	}
}
