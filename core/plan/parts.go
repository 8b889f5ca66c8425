package plan

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/disk"
)

// A plan may be made of parts. Assembled it is one text, in which each part is a
// document of YAML that follows a line "--- # part NAME"; the plan's own text is the
// last. What a host adds to a plan that is served to it stands in the part HostPart.
const (
	partMarker = "--- # part "
	mostParts  = 64

	// HostPart and ValuesPart are no names for a part or a plan: the one is the host's own
	// file, and the other the values that the service has for the host, which is behind the
	// plan, and before the file.
	HostPart   = "host"
	ValuesPart = "values"
)

// IsPartName tells whether a plan, or a part of plans, may have a name.
func IsPartName(name string) bool { return isName(name) && name != HostPart && name != ValuesPart }

// Part is a text that plans are made of.
type Part struct {
	Name string
	Text []byte
}

// Join puts parts together to one text, in their order.
func Join(parts []Part) []byte {
	var b bytes.Buffer
	for _, p := range parts {
		fmt.Fprintf(&b, "%s%s\n%s", partMarker, p.Name, p.Text)
		if !bytes.HasSuffix(p.Text, []byte("\n")) {
			b.WriteByte('\n')
		}
	}
	return b.Bytes()
}

// IsJoined tells whether a text is one that Join made.
func IsJoined(text []byte) bool { return bytes.HasPrefix(text, []byte(partMarker)) }

// PartsOf returns the parts that a plan says it is made of, in its order; what is wrong
// with the list is a finding. A text that is no YAML has none: who reads it finds that.
func PartsOf(file string, text []byte) ([]string, Findings) {
	r := &planReader{reader: reader{source: newSource(string(text)), file: file}}
	docs, problem := r.parseYAML()
	if problem != nil || len(docs) != 1 {
		return nil, nil
	}
	var names []string
	for _, v := range valuesOf(docs[0].body) {
		if key, ok := r.scalarOf(v.Key); ok && strings.EqualFold(key.text, "parts") {
			names = r.readParts(entry{"parts", positionOf(v.Key), v.Value})
		}
	}
	return names, r.findings
}

func (r *planReader) readParts(e entry) (names []string) {
	for _, s := range r.texts(e, "a part", "parts: [ground, web]") {
		switch {
		case !IsPartName(s.text):
			r.fail(positionOf(s.node), fmt.Sprintf("%q cannot be the name of a part", shorten(s.text)), "a name has letters, digits and - _ . and at most 64 of them, and is not host or values")
		case slices.Contains(names, s.text):
			r.fail(positionOf(s.node), fmt.Sprintf("the part %s stands here twice", s.text), "take one away")
		default:
			names = append(names, s.text)
		}
	}
	if len(names) > mostParts {
		r.fail(e.at, fmt.Sprintf("the plan has %d parts, and may have %d", len(names), mostParts), "put parts together that always go together")
	}
	return names
}

// Assemble puts a plan and its parts together to one text; a plan without parts is
// returned as it is. get returns the text of a part; an error says why there is none.
func Assemble(name, file string, text []byte, get func(part string) ([]byte, error)) ([]byte, Findings) {
	names, findings := PartsOf(file, text)
	if len(names) == 0 || findings.Refused() {
		return text, findings
	}
	var parts []Part
	for _, part := range names {
		of, err := get(part)
		if err != nil {
			findings = append(findings, Finding{File: file, Position: Position{1, 1}, What: fmt.Sprintf("the part %s cannot be read: %v", part, err), Mend: "write it, or take it out of parts"})
			continue
		}
		parts = append(parts, Part{part, of})
	}
	for _, p := range append(parts, Part{name, text}) {
		findings = append(findings, oneDocument(p, file)...)
	}
	if findings.Refused() {
		return text, findings
	}
	return Join(append(parts, Part{name, text})), nil
}

// CheckPart finds what is wrong with a part as YAML: in the whole it could seem to be in
// another one.
func CheckPart(p Part) Findings { return oneDocument(p, p.Name+".yaml") }

func oneDocument(p Part, file string) Findings {
	if strings.Contains("\n"+string(p.Text), "\n"+partMarker) {
		return Findings{{File: partFile(file, p.Name), Position: Position{1, 1}, What: "this is assembled from parts already", Mend: "give the parts themselves"}}
	}
	s := newSource(string(p.Text))
	if strings.TrimSpace(s.text) == "" {
		return nil
	}
	if _, problem := s.parseYAML(); problem != nil && problem.What != emptyPlan {
		problem.File = partFile(file, p.Name)
		return Findings{*problem}
	}
	return nil
}

// partFile returns the name under which findings tell of a part of the plan in a file.
func partFile(file, part string) string {
	if own := filepath.Base(file); own == part || own == part+".yaml" {
		return file
	}
	return filepath.Join(filepath.Dir(file), part+".yaml")
}

// ReadFile reads the plan in a file, with the parts that stand in files beside it. The
// findings are those of the parts as such.
func ReadFile(file string) (text []byte, findings Findings, err error) {
	if text, err = readSmall(file); err != nil {
		return nil, nil, err
	}
	name := strings.TrimSuffix(filepath.Base(file), ".yaml")
	text, findings = Assemble(name, file, text, func(part string) ([]byte, error) {
		of, err := readSmall(filepath.Join(filepath.Dir(file), part+".yaml"))
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("there is no file %s.yaml beside the plan", part)
		}
		return of, err
	})
	return text, findings, nil
}

func readSmall(file string) ([]byte, error) {
	f, err := disk.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if st.IsDir() || st.Size() > maxSize {
		return nil, &fs.PathError{Op: "read", Path: file, Err: fmt.Errorf("a plan is a file of at most %d KiB", maxSize>>10)}
	}
	return disk.ReadFile(file)
}

// document is a part of a plan as it was parsed.
type document struct {
	part string // "" of a plan that has none
	from int    // the line of its marker, 0 for none
	body ast.Node
}

// markers returns the parts that a text is made of, without their bodies.
func (s *source) markers() (all []document) {
	for i := range s.lines {
		if part, ok := strings.CutPrefix(s.line(i+1), partMarker); ok {
			all = append(all, document{part: part, from: i + 1})
		}
	}
	return all
}

// partAt returns the part that a line stands in, nil in a plan that has none.
func (s *source) partAt(line int) *document {
	for i := len(s.parts) - 1; i >= 0; i-- {
		if s.parts[i].from < line {
			return &s.parts[i]
		}
	}
	return nil
}

// place tells where something stands, for a finding about something else.
func (r *reader) place(at Position) string {
	if of := r.partAt(at.Line); of != nil {
		return fmt.Sprintf("line %d of %s", at.Line-of.from, filepath.Base(partFile(r.file, of.part)))
	}
	return fmt.Sprintf("line %d", at.Line)
}

// inParts has each finding tell the part that it is about, and the line in it.
func (r *reader) inParts() {
	for i := range r.findings {
		f := &r.findings[i]
		if of := r.partAt(f.Line); of != nil {
			f.File, f.Line = partFile(r.file, of.part), f.Line-of.from
		}
	}
}

// valuesOf returns the entries of a mapping, none of what is no mapping.
func valuesOf(n ast.Node) []*ast.MappingValueNode {
	switch v := n.(type) {
	case *ast.MappingNode:
		return v.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{v}
	}
	return nil
}

// merged are the keys whose entries the parts share out; the others stand once.
var merged = []string{"conditions", "intakes", "outlets", "tend"}

// ofPart are the keys that are of a part itself.
var ofPart = []string{"oakbarrel", "parts", "before", "after", "values"}

// merge makes one body of those of the parts. Entries merge by name; rules follow in
// the order of the parts, each part's where its before and after want them.
func (r *planReader) merge(docs []document) ast.Node {
	if len(docs) == 1 {
		return docs[0].body
	}
	whole := &ast.MappingNode{BaseNode: &ast.BaseNode{}}
	rules := map[int]*ast.MappingValueNode{}
	for i, d := range docs {
		if valuesOf(d.body) == nil {
			r.wrongType(d.body, Position{d.from + 1, 1}, "the part "+d.part, "keys with values", "oakbarrel: 1 and what the part adds")
			continue
		}
		for _, v := range valuesOf(d.body) {
			key, _ := r.scalarOf(v.Key)
			name := strings.ToLower(key.text)
			switch {
			case name == "parts" && i < len(docs)-1 && d.part != r.ownPart(docs):
				r.fail(positionOf(v.Key), "a part has no parts of its own", "name them in the plan")
			case slices.Contains(ofPart, name) && name != "oakbarrel":
			case name == "rules":
				rules[i] = v
			case slices.Contains(merged, name):
				r.mergeEntry(whole, v, name)
			case name == "oakbarrel" && r.has(whole, name):
				r.version(mapping{r: &r.reader, entries: []entry{{"oakbarrel", positionOf(v.Key), v.Value}}})
			default:
				whole.Values = append(whole.Values, v)
			}
		}
	}
	whole.Start = docs[0].body.GetToken()
	r.mergeRules(whole, docs, rules)
	return whole
}

// ownPart returns the plan among its parts: the last, but for what the host adds.
func (r *planReader) ownPart(docs []document) string {
	for i := len(docs) - 1; i >= 0; i-- {
		if docs[i].part != HostPart && docs[i].part != ValuesPart {
			return docs[i].part
		}
	}
	return ""
}

func (r *planReader) has(whole *ast.MappingNode, name string) bool {
	return r.entryOf(whole, name) != nil
}

func (r *planReader) entryOf(whole *ast.MappingNode, name string) *ast.MappingValueNode {
	for _, v := range whole.Values {
		if key, ok := r.scalarOf(v.Key); ok && strings.EqualFold(key.text, name) {
			return v
		}
	}
	return nil
}

// mergeEntry adds the entries of a key to those that other parts have.
func (r *planReader) mergeEntry(whole *ast.MappingNode, v *ast.MappingValueNode, name string) {
	known := r.entryOf(whole, name)
	values := valuesOf(v.Value)
	if known == nil || values == nil { // what is no mapping is told when the whole is read
		whole.Values = append(whole.Values, v)
		return
	}
	all, isMapping := known.Value.(*ast.MappingNode)
	if !isMapping {
		one, ok := known.Value.(*ast.MappingValueNode)
		if !ok {
			return
		}
		all = &ast.MappingNode{BaseNode: &ast.BaseNode{}, Start: one.GetToken(), Values: []*ast.MappingValueNode{one}}
	}
	joined := *all
	joined.Values = append(slices.Clone(all.Values), values...)
	known.Value = &joined
}

// mergeRules puts the rules of the parts into their order.
func (r *planReader) mergeRules(whole *ast.MappingNode, docs []document, rules map[int]*ast.MappingValueNode) {
	var first *ast.MappingValueNode
	var items []ast.Node
	for _, i := range r.order(docs) {
		v := rules[i]
		if v == nil {
			continue
		}
		list, ok := v.Value.(*ast.SequenceNode)
		if !ok { // told when the whole is read
			whole.Values = append(whole.Values, v)
			return
		}
		first = cmp.Or(first, v)
		items = append(items, list.Values...)
	}
	if first == nil {
		return
	}
	list := *first.Value.(*ast.SequenceNode)
	list.Values = items
	entry := *first
	entry.Value = &list
	whole.Values = append(whole.Values, &entry)
}

// order returns the numbers of the parts in the order in which their rules follow: as
// they are named, but for what before and after say.
func (r *planReader) order(docs []document) []int {
	behind := make([][]int, len(docs)) // whom each comes behind
	number := func(name string) int {
		return slices.IndexFunc(docs, func(d document) bool { return d.part == name })
	}
	for i, d := range docs {
		for _, v := range valuesOf(d.body) {
			key, _ := r.scalarOf(v.Key)
			word := strings.ToLower(key.text)
			if word != "before" && word != "after" {
				continue
			}
			for _, s := range r.partNames(entry{word, positionOf(v.Key), v.Value}) {
				other := number(s.text)
				switch {
				case other < 0: // it is not of this plan
				case word == "before":
					behind[other] = append(behind[other], i)
				default:
					behind[i] = append(behind[i], other)
				}
			}
		}
	}
	var order []int
	for len(order) < len(docs) {
		next := slices.IndexFunc(docs, func(d document) bool {
			i := number(d.part)
			return !slices.Contains(order, i) && !slices.ContainsFunc(behind[i], func(o int) bool { return !slices.Contains(order, o) })
		})
		if next < 0 {
			r.failOrder(docs, order)
			return order
		}
		order = append(order, next)
	}
	return order
}

func (r *planReader) failOrder(docs []document, order []int) {
	var round []string
	at := 0
	for i, d := range docs {
		if !slices.Contains(order, i) {
			round = append(round, d.part)
			at = cmp.Or(at, d.from+1)
		}
	}
	r.fail(Position{at, 1}, "before and after lead in a circle: "+strings.Join(round, ", "), "take one of them away")
}

// partNames reads the name of a part, or a list of them.
func (r *planReader) partNames(e entry) []scalar {
	if s, ok := r.scalarOf(e.value); ok {
		return []scalar{s}
	}
	return r.texts(e, "a part", e.key+": [web]")
}
