package event

import (
	"bytes"
	"strconv"
	"unicode/utf8"
)

// token is what a scanner has found.
type token uint8

const (
	broken token = iota // what stands there is no XML
	open                // <name attribute="value">
	closed              // </name>, or the end of <name/>
	words               // text between elements
	over                // the end
)

// scanner takes XML apart, as far as events need it: elements, attributes, texts, references
// and CDATA. It knows no document types. Names come without the prefix of their namespace.
type scanner struct {
	b          []byte
	at         int
	name       []byte // of the element that was opened or closed
	attributes []byte // of the element that was opened, as they stand there
	text       []byte
	alone      bool   // the element has no content: <name/>
	memory     []byte // what was put together for texts with references
}

// next finds the next token. Its slices point into the input, or into memory.
func (s *scanner) next() token {
	if s.alone {
		s.alone = false
		return closed
	}
	for s.at < len(s.b) {
		rest := s.b[s.at:]
		if rest[0] != '<' {
			n := bytes.IndexByte(rest, '<')
			if n < 0 {
				n = len(rest)
			}
			s.at += n
			s.text = s.plain(rest[:n])
			return words
		}
		switch {
		case bytes.HasPrefix(rest, []byte("<!--")):
			if !s.skip(rest[4:], 4, "-->") {
				return broken
			}
		case bytes.HasPrefix(rest, []byte("<![CDATA[")):
			start := s.at + 9
			if !s.skip(rest[9:], 9, "]]>") {
				return broken
			}
			s.text = s.b[start : s.at-3]
			return words
		case bytes.HasPrefix(rest, []byte("<?")):
			if !s.skip(rest[2:], 2, "?>") {
				return broken
			}
		case bytes.HasPrefix(rest, []byte("<!")):
			if !s.skip(rest[2:], 2, ">") {
				return broken
			}
		default:
			return s.tag(rest)
		}
	}
	return over
}

// skip goes behind the end of what begins before rest.
func (s *scanner) skip(rest []byte, before int, end string) bool {
	n := bytes.Index(rest, []byte(end))
	if n < 0 {
		return false
	}
	s.at += before + n + len(end)
	return true
}

// tag takes <name …>, <name …/> or </name>.
func (s *scanner) tag(rest []byte) token {
	end := tagEnd(rest)
	if end < 0 {
		return broken
	}
	s.at += end + 1
	inner, kind := rest[1:end], open
	if len(inner) > 0 && inner[0] == '/' {
		inner, kind = inner[1:], closed
	} else if n := len(inner); n > 0 && inner[n-1] == '/' {
		inner, s.alone = inner[:n-1], true
	}
	n := bytes.IndexAny(inner, " \t\r\n")
	if n < 0 {
		n = len(inner)
	}
	if s.name, s.attributes = local(inner[:n]), inner[n:]; len(s.name) == 0 {
		return broken
	}
	return kind
}

// tagEnd returns where the > stands that ends a tag: those in quotes do not.
func tagEnd(b []byte) int {
	var quote byte
	for i, c := range b {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '>':
			return i
		}
	}
	return -1
}

// local returns a name without the prefix of its namespace.
func local(name []byte) []byte { return name[bytes.IndexByte(name, ':')+1:] }

// eachAttribute calls f with the attributes of the element that was opened, but for those that
// declare namespaces.
func (s *scanner) eachAttribute(f func(name, value []byte)) {
	for rest := s.attributes; ; {
		name, behind, ok := bytes.Cut(rest, []byte{'='})
		behind = bytes.TrimLeft(behind, " \t\r\n")
		if name = bytes.TrimSpace(name); !ok || len(behind) < 2 || behind[0] != '"' && behind[0] != '\'' {
			return
		}
		n := bytes.IndexByte(behind[1:], behind[0])
		if n < 0 {
			return
		}
		if !bytes.HasPrefix(name, []byte("xmlns")) {
			f(local(name), s.plain(behind[1:n+1]))
		}
		rest = behind[n+2:]
	}
}

// plain returns a text with its references replaced, and each end of a line as one \n.
func (s *scanner) plain(text []byte) []byte {
	if bytes.IndexByte(text, '&') < 0 && bytes.IndexByte(text, '\r') < 0 {
		return text
	}
	start := len(s.memory)
	for len(text) > 0 {
		n := bytes.IndexAny(text, "&\r")
		if n < 0 {
			n = len(text)
		}
		s.memory = append(s.memory, text[:n]...)
		if text = text[n:]; len(text) == 0 {
			break
		}
		if text[0] == '&' {
			text = s.reference(text)
		} else if text = text[1:]; len(text) == 0 || text[0] != '\n' {
			s.memory = append(s.memory, '\n')
		}
	}
	return s.memory[start:len(s.memory):len(s.memory)]
}

// references are those that every XML knows.
var references = map[string]byte{"amp": '&', "lt": '<', "gt": '>', "quot": '"', "apos": '\''}

// reference adds what a reference at the beginning of text stands for, and returns the text
// behind it. What is none stays as it is.
func (s *scanner) reference(text []byte) []byte {
	const longest = 10
	end := bytes.IndexByte(text[:min(len(text), longest)], ';')
	if end < 2 {
		s.memory = append(s.memory, '&')
		return text[1:]
	}
	name := text[1:end]
	if c, ok := references[string(name)]; ok {
		s.memory = append(s.memory, c)
		return text[end+1:]
	}
	r, ok := numbered(name)
	switch {
	case !ok:
		s.memory = append(s.memory, '&')
		return text[1:]
	case r == '\r': // as an end of a line has it
		if rest := text[end+1:]; !bytes.HasPrefix(rest, []byte("\n")) && !bytes.HasPrefix(rest, []byte("&#10;")) && !bytes.HasPrefix(rest, []byte("&#xA;")) {
			s.memory = append(s.memory, '\n')
		}
	default:
		s.memory = utf8.AppendRune(s.memory, r)
	}
	return text[end+1:]
}

// numbered reads #10 or #xA.
func numbered(name []byte) (rune, bool) {
	digits, isNumber := bytes.CutPrefix(name, []byte{'#'})
	base := 10
	if hex, isHex := bytes.CutPrefix(digits, []byte{'x'}); isHex {
		digits, base = hex, 16
	}
	n, err := strconv.ParseUint(string(digits), base, 31)
	return rune(n), isNumber && err == nil
}
