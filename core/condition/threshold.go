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
	root := replace(c.root, func(t *severityTest) node {
		thresholds++
		for from = record.Severity(7); !t.holds(from); from-- {
		}
		all := &severityTest{least: true, text: "severity at least " + to.String()}
		for s := range to + 1 {
			all.add(s)
		}
		return all
	})
	switch {
	case thresholds == 0:
		return nil, 0, errors.New("its condition has no severity at least")
	case thresholds > 1:
		return nil, 0, errors.New("its condition has more than one severity at least")
	case to <= from:
		return nil, from, errors.New("its threshold is " + from.String() + ", and nothing is added by " + to.String())
	}
	return &Condition{root: root, text: root.String(), intakes: c.intakes}, from, nil
}

// replace returns n with each threshold replaced by what f returns. Below a not
// a threshold keeps records out: it is none of those.
func replace(n node, f func(*severityTest) node) node {
	switch n := n.(type) {
	case *severityTest:
		if n.least {
			return f(n)
		}
	case *and:
		return &and{replaceAll(n.parts, f)}
	case *or:
		return &or{replaceAll(n.parts, f)}
	case *named:
		return &named{n.name, replace(n.node, f)}
	}
	return n
}

func replaceAll(parts []node, f func(*severityTest) node) (replaced []node) {
	for _, part := range parts {
		replaced = append(replaced, replace(part, f))
	}
	return replaced
}
