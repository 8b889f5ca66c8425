package condition

import "slices"

// Nothing is the condition that never holds.
var Nothing = func() *Condition {
	c, err := Parse("not any", nil)
	if err != nil {
		panic(err) // it can be read
	}
	return c
}()

// Asks returns what the condition asks of a record: severity, facility, intake, stream,
// peer, host, agent, app, procid, msgid, text, shape, or "field PATH"; each once, in order.
func (c *Condition) Asks() []string {
	asked := asks(nil, c.root)
	slices.Sort(asked)
	return slices.Compact(asked)
}

func asks(all []string, n node) []string {
	switch n := n.(type) {
	case *and:
		for _, part := range n.parts {
			all = asks(all, part)
		}
	case *or:
		for _, part := range n.parts {
			all = asks(all, part)
		}
	case *not:
		all = asks(all, n.part)
	case *named:
		all = asks(all, n.of.root)
	case *severityTest:
		all = append(all, "severity")
	case *facilityTest:
		all = append(all, "facility")
	case *intakeTest:
		all = append(all, "intake")
	case *streamTest:
		all = append(all, "stream")
	case *peerTest:
		all = append(all, "peer")
	case *shapeTest:
		all = append(all, "shape")
	case *textTest:
		all = append(all, n.prop.String())
	case *expressionTest:
		all = append(all, n.prop.String())
	case *existsTest:
		all = append(all, n.prop.String())
	case *numberTest:
		all = append(all, n.prop.String())
	}
	return all
}
