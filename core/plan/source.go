package plan

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// source is the text of a plan, and where its parts stand.
type source struct {
	text    string
	lines   []int             // where each line starts
	parts   []document        // that it is made of, none for one plan by itself
	changed map[ast.Node]bool // strings that values were put into
}

func newSource(text string) *source {
	s := &source{text: text, lines: []int{0}}
	for i, c := range text {
		if c == '\n' {
			s.lines = append(s.lines, i+1)
		}
	}
	s.parts = s.markers()
	return s
}

// offset returns the byte at a position.
func (s *source) offset(p Position) int {
	if p.Line < 1 || p.Line > len(s.lines) {
		return len(s.text)
	}
	at := s.lines[p.Line-1]
	for range p.Column - 1 {
		_, size := utf8.DecodeRuneInString(s.text[at:])
		at += size
	}
	return at
}

// position returns where a byte stands.
func (s *source) position(offset int) Position {
	offset = min(offset, len(s.text))
	line := 1
	for line < len(s.lines) && s.lines[line] <= offset {
		line++
	}
	return Position{line, utf8.RuneCountInString(s.text[s.lines[line-1]:offset]) + 1}
}

// line returns a line, from 1, without its end.
func (s *source) line(n int) string {
	if n < 1 || n > len(s.lines) {
		return ""
	}
	line, _, _ := strings.Cut(s.text[s.lines[n-1]:], "\n")
	return strings.TrimSuffix(line, "\r")
}

func positionOf(n ast.Node) Position {
	switch n := n.(type) {
	case *ast.MappingNode:
		if !n.IsFlowStyle && len(n.Values) > 0 {
			return positionOf(n.Values[0].Key)
		}
	case *ast.MappingValueNode:
		return positionOf(n.Key)
	}
	t := n.GetToken()
	return Position{t.Position.Line, t.Position.Column}
}

// scalar is a value that is no list and no mapping.
type scalar struct {
	node  ast.Node
	token *token.Token
	text  string
	start int // where its text starts in the source, behind a quote
	src   *source
}

// scalarOf returns n as a scalar; ok is false for lists, mappings and null.
func (s *source) scalarOf(n ast.Node) (scalar, bool) {
	switch v := n.(type) {
	case *ast.StringNode:
		return s.newScalar(n, v.Token, v.Value), true
	case *ast.LiteralNode:
		return s.newScalar(n, v.Start, v.Value.Value), true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return s.newScalar(n, n.GetToken(), n.GetToken().Value), true
	}
	return scalar{}, false
}

func (s *source) newScalar(n ast.Node, t *token.Token, text string) scalar {
	v := scalar{node: n, token: t, text: text, src: s, start: s.offset(Position{t.Position.Line, t.Position.Column})}
	switch t.Type {
	case token.DoubleQuoteType, token.SingleQuoteType:
		v.start++
	case token.LiteralType, token.FoldedType:
		v.start = s.offset(Position{t.Position.Line + 1, 1}) + v.indent()
	}
	return v
}

// indent returns how far the lines of a block are indented.
func (v scalar) indent() int {
	for n := v.token.Position.Line + 1; n <= len(v.src.lines); n++ {
		if line := v.src.line(n); strings.TrimSpace(line) != "" {
			return len(line) - len(strings.TrimLeft(line, " "))
		}
	}
	return 0
}

func (v scalar) plain() bool {
	return v.token.Type != token.DoubleQuoteType && v.token.Type != token.SingleQuoteType && v.token.Type != token.LiteralType && v.token.Type != token.FoldedType
}

// locate returns where byte offset of the text stands in the source: YAML has
// escapes, and joins lines.
func (v scalar) locate(offset int) Position {
	if v.src.changed[v.node] {
		return v.src.position(v.start)
	}
	at, text := v.start, v.src.text
	for k := 0; k < offset && k < len(v.text) && at < len(text); {
		_, size := utf8.DecodeRuneInString(v.text[k:])
		switch run := spaces(text[at:]); {
		case v.token.Type == token.LiteralType && text[at] == '\n':
			at += 1 + min(v.indent(), len(spaces(text[at+1:])))
		case v.token.Type != token.LiteralType && strings.Contains(run, "\n"):
			at += len(run)
			size = max(size, len(spaces(v.text[k:])))
		case v.token.Type == token.DoubleQuoteType && text[at] == '\\':
			at += escapeLen(text[at:])
		case v.token.Type == token.SingleQuoteType && strings.HasPrefix(text[at:], "''"):
			at += 2
		default:
			_, same := utf8.DecodeRuneInString(text[at:])
			at += same
		}
		k += size
	}
	return v.src.position(at)
}

// spaces returns the white space that s starts with.
func spaces(s string) string { return s[:len(s)-len(strings.TrimLeft(s, " \t\r\n"))] }

// escapeLen returns the length of the escape of a double-quoted scalar at the start of s.
func escapeLen(s string) int {
	if len(s) > 1 {
		switch s[1] {
		case 'x':
			return 4
		case 'u':
			return 6
		case 'U':
			return 10
		}
	}
	return 2
}

// behind returns what stands behind a plain scalar on its last line.
func (v scalar) behind() string {
	end := v.src.offset(v.locate(len(v.text)))
	rest, _, _ := strings.Cut(v.src.text[end:], "\n")
	return rest
}

// emptyPlan is what is found of a plan in which nothing stands.
const emptyPlan = "the plan is empty"

// parseYAML reads the one document of a plan, or one for each of its parts. What is
// wrong stands alone.
func (s *source) parseYAML() (docs []document, problem *Finding) {
	defer func() {
		if e := recover(); e != nil {
			docs, problem = nil, &Finding{Position: Position{1, 1}, What: "this cannot be read as YAML", Mend: "check the indentation, the quotes and the brackets"}
		}
	}()
	if !utf8.ValidString(s.text) {
		at := strings.IndexFunc(s.text, func(r rune) bool { return r == utf8.RuneError })
		return nil, &Finding{Position: s.position(at), What: "this is not UTF-8", Mend: "save the file as UTF-8"}
	}
	if problem := s.tooLarge(); problem != nil {
		return nil, problem
	}
	for _, d := range s.sections() {
		if d.body, problem = s.parseOne(d); problem != nil {
			return nil, problem
		}
		if d.body != nil {
			docs = append(docs, d)
		}
	}
	if len(docs) == 0 {
		return nil, &Finding{Position: Position{1, 1}, What: emptyPlan, Mend: "begin with oakbarrel: 1"}
	}
	return docs, nil
}

// sections returns the parts of the text, without their bodies; what stands before the
// first marker, or all where there is none, is of no part.
func (s *source) sections() []document {
	if len(s.parts) > 0 && s.parts[0].from == 1 {
		return s.parts
	}
	return append([]document{{}}, s.parts...)
}

// parseOne parses a part by itself, nil where nothing stands in it. Read as a whole, an
// empty one would take the next with it.
func (s *source) parseOne(d document) (body ast.Node, problem *Finding) {
	start, end := 0, len(s.text)
	if d.from > 0 {
		start = min(s.lineStart(d.from+1), end)
	}
	if next := slices.IndexFunc(s.parts, func(p document) bool { return p.from > d.from }); next >= 0 {
		end = s.lineStart(s.parts[next].from)
	}
	tokens := lexer.Tokenize(s.text[start:end])
	for _, t := range tokens {
		t.Position.Line += d.from
		t.Position.Offset += start
	}
	file, err := parser.Parse(tokens, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		return nil, s.syntaxFinding(err)
	}
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		if body != nil {
			return nil, &Finding{Position: positionOf(doc.Body), What: "a second document begins here", Mend: "a plan is one document; take away the ---"}
		}
		body = doc.Body
	}
	return body, nil
}

// lineStart returns where a line begins, from 1; behind the last it is the end.
func (s *source) lineStart(n int) int {
	if n > len(s.lines) {
		return len(s.text)
	}
	return s.lines[n-1]
}

// Bounds of a plan, so that none takes the reader's memory.
const (
	maxDepth = 64
	maxNodes = 100_000
)

// tooLarge finds where a plan has more in it than is read.
func (s *source) tooLarge() *Finding {
	if strings.Count(s.text, "[")+strings.Count(s.text, "{")+strings.Count(s.text, "\n") > maxNodes {
		return &Finding{Position: Position{1, 1}, What: fmt.Sprintf("the plan has more than %d lines and brackets", maxNodes), Mend: "make it smaller: lists of paths can be patterns, and rules conditions with in (…)"}
	}
	depth, nodes := 0, 0
	var columns []int // at which the keys and list items around a place begin
	for _, t := range lexer.Tokenize(s.text) {
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			depth++
		case token.SequenceEndType, token.MappingEndType:
			depth--
		case token.SequenceEntryType, token.MappingValueType:
			for len(columns) > 0 && columns[len(columns)-1] >= t.Position.IndentNum {
				columns = columns[:len(columns)-1]
			}
			columns = append(columns, t.Position.IndentNum)
		}
		at := Position{t.Position.Line, t.Position.Column}
		if depth+len(columns) > maxDepth {
			return &Finding{Position: at, What: fmt.Sprintf("the plan is nested deeper than %d", maxDepth), Mend: "no part of a plan needs that; take brackets away"}
		}
		if nodes++; nodes > 3*maxNodes {
			return &Finding{Position: at, What: fmt.Sprintf("the plan has more than %d parts", maxNodes), Mend: "make it smaller: lists of paths can be patterns, and rules conditions with in (…)"}
		}
	}
	return nil
}

var (
	keyAndValue = regexp.MustCompile(`^(\s*(?:- +)*[^\s:#][^:#]*:\s+)(.*)$`)
	inQuotes    = regexp.MustCompile(`^("(?:[^"\\]|\\.)*"|'(?:[^']|'')*')\s+[^\s#]`)
)

// syntaxFinding explains an error of the YAML reader. The mistakes that a
// condition without quotes leads to are told as such.
func (s *source) syntaxFinding(err error) *Finding {
	f := &Finding{Position: Position{1, 1}, What: "this is not YAML: " + err.Error(), Mend: "check the indentation, the quotes and the brackets near here"}
	var syntax *yaml.SyntaxError
	if !errors.As(err, &syntax) {
		return f
	}
	f.What = "this is not YAML: " + syntax.GetMessage()
	if t := syntax.GetToken(); t != nil && t.Position != nil {
		f.Position = Position{t.Position.Line, t.Position.Column}
	}
	for n := f.Line; n >= 1; n-- {
		if i := commentInBraces(s.line(n)); i >= 0 {
			f.Position = s.position(s.lines[n-1] + i)
			f.What, f.Mend = "' #' begins a comment in YAML and cuts this line short", "put the whole condition in quotes: '…'"
			return f
		}
	}
	if m := keyAndValue.FindStringSubmatchIndex(s.line(f.Line)); m != nil {
		value := s.line(f.Line)[m[4]:]
		at := func(index int) Position { return s.position(s.lines[f.Line-1] + m[4] + index) }
		mend := fmt.Sprintf("put the whole value in quotes: '%s'", strings.ReplaceAll(value, "'", "''"))
		if i := strings.Index(value, ": "); i > 0 && !strings.ContainsAny(value[:1], `"'{[|>`) {
			f.Position, f.What, f.Mend = at(i), "': ' begins a value in YAML and breaks this one", mend
		} else if inQuotes.MatchString(value) {
			f.Position, f.What, f.Mend = at(0), "in YAML a value that begins with a quote ends with it, and here more follows", mend
		}
	}
	if strings.HasPrefix(strings.TrimLeft(s.line(f.Line), " "), "\t") {
		f.What, f.Mend = "a tab may not indent in YAML", "indent with spaces"
	}
	return f
}

// commentInBraces returns where a comment begins within a text between { and
// }, which was most likely not meant as one, -1 if nowhere.
func commentInBraces(line string) int {
	i := strings.Index(line, " #")
	if i < 0 || strings.Count(line[:i], "{") <= strings.Count(line[:i], "}") || strings.Count(line[:i], `"`)%2 == 0 {
		return -1
	}
	return i + 1
}
