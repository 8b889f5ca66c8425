package condition

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Error says where in a condition something is wrong, and how to mend it.
type Error struct {
	Offset int    // bytes from the start of the condition
	What   string // what is wrong
	Mend   string // how to mend it
}

func (e *Error) Error() string { return e.What + "; " + e.Mend }

type tokenKind uint8

const (
	end    tokenKind = iota
	word             // letters, digits and _ - @ . / : +
	quoted           // "…"
	symbol           // ( ) , < <= > >=
)

type token struct {
	kind   tokenKind
	text   string // a word as written, a string without quotes and escapes, a symbol
	offset int
}

// is tells whether t is the keyword, in any letter case.
func (t token) is(keyword string) bool { return t.kind == word && strings.EqualFold(t.text, keyword) }

// String returns t as an error names it.
func (t token) String() string {
	switch t.kind {
	case end:
		return "the end"
	case quoted:
		return quote(t.text)
	}
	return "'" + t.text + "'"
}

// lexer cuts a condition into tokens, one ahead. The parser asks for a regular
// expression or a path where the grammar has one, since both may begin as a word does.
type lexer struct {
	text string
	at   int   // where the text after tok goes on
	tok  token // the token not yet taken
}

func isWordRune(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("_-@./:+", r)
}

func (l *lexer) skipSpace() {
	for l.at < len(l.text) {
		r, size := utf8.DecodeRuneInString(l.text[l.at:])
		if !unicode.IsSpace(r) {
			return
		}
		l.at += size
	}
}

// advance reads the next token into l.tok.
func (l *lexer) advance() {
	l.skipSpace()
	start := l.at
	if start == len(l.text) {
		l.tok = token{end, "", start}
		return
	}
	r, _ := utf8.DecodeRuneInString(l.text[start:])
	switch {
	case r == '"':
		text, next := l.stringAt(start)
		l.tok, l.at = token{quoted, text, start}, next
	case isWordRune(r):
		l.at = l.wordEnd(start)
		l.tok = token{word, l.text[start:l.at], start}
	case strings.ContainsRune("(),", r):
		l.at++
		l.tok = token{symbol, string(r), start}
	case r == '<' || r == '>':
		l.at++
		if l.at < len(l.text) && l.text[l.at] == '=' {
			l.at++
		}
		l.tok = token{symbol, l.text[start:l.at], start}
	default:
		panic(l.strange(start, r))
	}
}

func (l *lexer) wordEnd(at int) int {
	for at < len(l.text) {
		r, size := utf8.DecodeRuneInString(l.text[at:])
		if !isWordRune(r) {
			break
		}
		at += size
	}
	return at
}

// strange explains a character that the language does not have.
func (l *lexer) strange(at int, r rune) *Error {
	rest := l.text[at:]
	what := fmt.Sprintf("%q is not part of the language", r)
	for _, s := range []struct{ text, what, mend string }{
		{"==", "there is no ==", "write: is"}, {"!=", "there is no !=", "write: is not"}, {"=~", "there is no =~", "write: matches /…/"}, {"=", "there is no =", "write: is"},
		{"&&", "there is no &&", "write: and"}, {"||", "there is no ||", "write: or"}, {"!", "there is no !", "write: not"}, {"~", "there is no ~", "write: contains, or matches /…/"},
		{"'", "a string stands in double quotes, not in single ones", `write: "…"`}, {"[", "there is no [", "write a list in ( )"}, {"{", "there is no {", "write a list in ( )"},
		{"*", "there is no * for any text", "write: starts with, ends with, contains, or matches /…/"},
	} {
		if strings.HasPrefix(rest, s.text) {
			return &Error{at, s.what, s.mend}
		}
	}
	return &Error{at, what, `put values with such characters in double quotes`}
}

// stringAt reads the string whose opening quote is at start.
func (l *lexer) stringAt(start int) (text string, next int) {
	var b strings.Builder
	for at := start + 1; at < len(l.text); at++ {
		switch c := l.text[at]; c {
		case '"':
			return b.String(), at + 1
		case '\\':
			at++
			if at == len(l.text) || l.text[at] != '"' && l.text[at] != '\\' {
				panic(&Error{at - 1, `in a string only \" and \\ are escapes`, `write \\ for a backslash`})
			}
			b.WriteByte(l.text[at])
		default:
			b.WriteByte(c)
		}
	}
	panic(&Error{start, "the string has no end", "close it with a double quote"})
}

// expression reads /…/flags where l.tok begins.
func (l *lexer) expression() (source, flags string, offset int) {
	start := l.tok.offset
	if start >= len(l.text) || l.text[start] != '/' {
		panic(&Error{start, "a regular expression is expected, not " + l.tok.String(), "write it between slashes: matches /…/"})
	}
	var b strings.Builder
	at := start + 1
	for ; at < len(l.text) && l.text[at] != '/'; at++ {
		if l.text[at] == '\\' && at+1 < len(l.text) {
			if l.text[at+1] != '/' {
				b.WriteByte('\\')
			}
			at++
		}
		b.WriteByte(l.text[at])
	}
	if at == len(l.text) {
		panic(&Error{start, "the regular expression has no end", `close it with a slash; a slash inside is \/`})
	}
	flagsAt := at + 1
	l.at = l.wordEnd(flagsAt)
	flags = l.text[flagsAt:l.at]
	if flags != "" && flags != "i" {
		panic(&Error{flagsAt, fmt.Sprintf("%q is no flag of a regular expression", flags), "the one flag is i, to ignore letter case"})
	}
	l.advance()
	return b.String(), flags, start
}

// path reads the dotted path of a field where l.tok begins.
func (l *lexer) path() Path {
	if l.tok.kind != word && l.tok.kind != quoted {
		panic(&Error{l.tok.offset, "the name of a field is expected, not " + l.tok.String(), `write: field NAME, such as field "tank@32473".ph`})
	}
	at := l.tok.offset
	var p Path
	for {
		if at < len(l.text) && l.text[at] == '"' {
			text, next := l.stringAt(at)
			p, at = append(p, pathPart{text, true}), next
		} else {
			start := at
			for at < len(l.text) {
				r, size := utf8.DecodeRuneInString(l.text[at:])
				if r == '.' || !isWordRune(r) {
					break
				}
				at += size
			}
			if start == at {
				panic(&Error{start, "a part of the field's path is empty", `write the parts with one dot between them, and put a name with dots in quotes`})
			}
			p = append(p, pathPart{l.text[start:at], false})
		}
		if at == len(l.text) || l.text[at] != '.' {
			break
		}
		at++
	}
	l.at = at
	l.advance()
	return p
}

// ParsePath reads the dotted path of a field. The error, if any, is an *[Error].
func ParsePath(text string) (p Path, err error) {
	defer func() {
		if e := recover(); e != nil {
			problem, ok := e.(*Error)
			if !ok {
				panic(e)
			}
			err = problem
		}
	}()
	l := lexer{text: text}
	l.advance()
	p = l.path()
	if l.tok.kind != end {
		return nil, &Error{l.tok.offset, "something stands behind the path", "write one path, such as tank@32473.ph"}
	}
	return p, nil
}

// keywords may not stand as a value without quotes.
var keywords = strings.Fields("and or not any condition facility intake stream severity is in at least most between host agent app procid msgid text field " +
	"starts ends with contains has word matches exists missing peer within ignoring case")

func isKeyword(s string) bool {
	for _, k := range keywords {
		if strings.EqualFold(s, k) {
			return true
		}
	}
	return false
}

// quote writes s as a string of the language.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
