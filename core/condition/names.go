package condition

import "slices"

// AsksNames tells whether the condition asks for the host, the app, the
// process or message id, the intake or the peer of a record. One that does not
// may be asked of a record without them.
func (c *Condition) AsksNames() bool { return c.names }

func asksNames(n node) bool {
	switch n := n.(type) {
	case *and:
		return slices.ContainsFunc(n.parts, asksNames)
	case *or:
		return slices.ContainsFunc(n.parts, asksNames)
	case *not:
		return asksNames(n.part)
	case *named:
		return n.of.names
	case *textTest:
		return n.prop.isName()
	case *expressionTest:
		return n.prop.isName()
	case *existsTest:
		return n.prop.isName()
	case any, *severityTest, *facilityTest, *streamTest, *numberTest:
		return false
	}
	return true
}

// isName tells whether a property stands beside the text, in a block; its agent is known of it as a whole.
func (p property) isName() bool { return p.which != text && p.which != field && p.which != agent }
