package condition

import (
	"slices"
	"strings"
	"unicode/utf8"

	"oakbarrel/core/record"
	"oakbarrel/core/shape"
)

// shapeTest holds for texts of some shapes.
type shapeTest struct {
	shapes []string
	keys   []uint64
}

// shape reads a test of the shape of the text. Any text of a kind stands for its shape.
func (p *parser) shape() node {
	op, negated := p.operator("shape", "is", "in")
	n := &shapeTest{}
	add := func(t token) {
		of := shape.Append(nil, []byte(t.text))
		n.shapes, n.keys = append(n.shapes, string(of)), append(n.keys, shape.KeyOf(of))
	}
	if op == "is" {
		add(p.value("the text of a record, or its shape"))
	} else {
		p.values("the text of a record, or its shape", add)
	}
	return negate(n, negated)
}

func (t *shapeTest) match(r *record.Record) bool {
	return slices.Contains(t.keys, shape.Key(r.Text))
}

func (t *shapeTest) on(record.Priority) Verdict { return Maybe }
func (t *shapeTest) contradicts() bool          { return false }

func (t *shapeTest) String() string {
	var shapes []string
	for _, s := range t.shapes {
		shapes = append(shapes, quote(s))
	}
	return oneOf("shape", shapes)
}

func (t *shapeTest) explain(r *record.Record) (bool, string) {
	return decided(t.match(r), t.String(), says("shape", shape.Append(nil, r.Text), true))
}

// hasFixedWords tells whether all words of a shape may be there that are the same in all of
// its texts: those that nothing left out stands beside.
func hasFixedWords(of string, in Contents) bool {
	all := true
	record.EachWord([]byte(of), func(start, end int, hash uint64) {
		cut := end == len(of) && len(of) > shape.Most-utf8.UTFMax
		if cut || strings.HasPrefix(of[end:], shape.Mark) || strings.HasSuffix(of[:start], shape.Mark) {
			return
		}
		all = all && in.HasWord(hash)
	})
	return all
}
