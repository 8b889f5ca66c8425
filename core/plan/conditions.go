package plan

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/token"

	"oakbarrel/core/condition"
	"oakbarrel/core/nearest"
)

// namedCondition is a condition under conditions, compiled when it is first asked for.
type namedCondition struct {
	entry
	compiled *condition.Condition
	reading  bool
}

func (r *planReader) readConditions(e entry) {
	r.conditions = map[string]*namedCondition{}
	named := r.names(e.value, e.at, "conditions", "conditions: {NAME: severity at least error}")
	for _, n := range named {
		r.conditions[n.key] = &namedCondition{entry: n}
	}
	for _, n := range named {
		r.Condition(n.key)
	}
}

// Condition returns a condition by its name, for those that refer to it.
func (r *planReader) Condition(name string) (*condition.Condition, *condition.Error) {
	c, ok := r.conditions[name]
	if !ok {
		var known []string
		for name := range r.conditions {
			known = append(known, name)
		}
		slices.Sort(known)
		mend := "write one under conditions"
		if word, near := nearest.Word(name, known); near {
			mend = fmt.Sprintf("did you mean %s?", word)
		} else if len(known) > 0 {
			mend = "known are " + strings.Join(known, ", ")
		}
		return nil, &condition.Error{What: fmt.Sprintf("there is no condition %q", name), Mend: mend}
	}
	if c.reading {
		return nil, &condition.Error{What: fmt.Sprintf("condition %s refers to itself", name), Mend: "write out what is meant in one of them"}
	}
	if c.compiled == nil {
		c.reading = true
		c.compiled, _ = r.condition(c.entry)
		c.reading = false
	}
	return c.compiled, nil
}

// condition compiles the condition that is the value of e.
func (r *planReader) condition(e entry) (*condition.Condition, bool) {
	s, ok := r.text(e, "a condition, such as severity at least warning")
	if !ok {
		return always, false
	}
	c, err := condition.Parse(s.text, r)
	if err == nil {
		for _, in := range c.Intakes() {
			r.checkIntakeName(in, s)
		}
		return c, true
	}
	problem := err.(*condition.Error)
	r.fail(s.locate(problem.Offset), problem.What, mendCondition(s, problem))
	return always, false
}

// mendCondition tells how to mend a condition; where YAML took a part of it
// away, that is what is to be mended.
func mendCondition(s scalar, problem *condition.Error) string {
	quoted := func(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }
	if !s.plain() {
		if s.token.Type != token.LiteralType && s.token.Type != token.FoldedType && problem.Offset == 0 && !strings.Contains(s.text, `"`) {
			return fmt.Sprintf("YAML takes one pair of quotes away: to look for this text write %s", quoted(`"`+s.text+`"`))
		}
		return problem.Mend
	}
	cut := problem.Offset >= len(strings.TrimRight(s.text, " ")) || strings.Count(s.text, "(") > strings.Count(s.text, ")") || strings.Count(s.text, `"`)%2 == 1
	if !cut {
		return problem.Mend
	}
	behind := s.behind()
	switch trimmed := strings.TrimLeft(behind, " \t"); {
	case strings.HasPrefix(trimmed, "#") && trimmed != behind:
		return fmt.Sprintf("in YAML ' #' begins a comment, which cut the condition short: put the whole condition in quotes: %s", quoted(s.text+behind))
	case strings.HasPrefix(trimmed, ","):
		return "between { and } a comma ends a value in YAML, which cut the condition short: put the whole condition in quotes: '…'"
	}
	return problem.Mend
}

func (r *planReader) checkIntakeName(in condition.IntakeName, s scalar) {
	var known []string
	for _, i := range r.intakes {
		known = append(known, i.Name)
	}
	if slices.Contains(known, in.Name) {
		return
	}
	mend := "the plan has no intakes yet"
	if word, near := nearest.Word(in.Name, known); near {
		mend = fmt.Sprintf("did you mean %s?", word)
	} else if len(known) > 0 {
		mend = "the intakes are " + strings.Join(known, ", ")
	}
	r.warn(s.locate(in.Offset), fmt.Sprintf("no intake is named %q, so this test never holds", in.Name), mend)
}
