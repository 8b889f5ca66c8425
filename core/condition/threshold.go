package condition

import (
	"errors"

	"oakbarrel/core/record"
)

// WithThreshold returns the condition with its threshold, which must be the
// only test "severity at least" in it, lowered to another severity, and the
// threshold that it has. An error says why it cannot be lowered.
func (c *Condition) WithThreshold(to record.Severity) (lowered *Condition, from record.Severity, err error) {
	thresholds := 0
	l := lowering{done: map[*Condition]*Condition{}, lower: func(t *severityTest) node {
		thresholds++
		for from = record.Severity(7); !t.holds(from); from-- {
		}
		all := &severityTest{least: true, text: "severity at least " + to.String()}
		for s := range to + 1 {
			all.add(s)
		}
		return all
	}}
	root := l.replace(c.root)
	switch {
	case thresholds == 0:
		return nil, 0, errors.New("its condition has no severity at least")
	case thresholds > 1:
		return nil, 0, errors.New("its condition has more than one severity at least")
	case to <= from:
		return nil, from, errors.New("its threshold is " + from.String() + ", and nothing is added by " + to.String())
	}
	return newCondition(root, root.String(), c.intakes), from, nil
}

// lowering replaces thresholds, once in each condition that is named.
type lowering struct {
	lower func(*severityTest) node
	done  map[*Condition]*Condition
}

// replace returns n with each threshold lowered. Below a not a threshold keeps
// records out: it is none of those.
func (l lowering) replace(n node) node {
	switch n := n.(type) {
	case *severityTest:
		if n.least {
			return l.lower(n)
		}
	case *and:
		return &and{l.replaceAll(n.parts)}
	case *or:
		return &or{l.replaceAll(n.parts)}
	case *named:
		if l.done[n.of] == nil {
			l.done[n.of] = newCondition(l.replace(n.of.root), n.of.text, n.of.intakes)
		}
		return &named{n.name, l.done[n.of]}
	}
	return n
}

func (l lowering) replaceAll(parts []node) (replaced []node) {
	for _, part := range parts {
		replaced = append(replaced, l.replace(part))
	}
	return replaced
}
