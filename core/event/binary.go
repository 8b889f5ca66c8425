package event

// The tokens of binary XML, without the flag that more follows, or that there are attributes.
const (
	endToken       = 0x00
	openToken      = 0x01
	closeOpenToken = 0x02 // >
	closeAlone     = 0x03 // />
	closeToken     = 0x04 // </name>
	valueToken     = 0x05
	attributeToken = 0x06
	cdataToken     = 0x07
	charToken      = 0x08 // a reference to a character
	entityToken    = 0x09
	targetToken    = 0x0a // of a processing instruction
	dataToken      = 0x0b
	templateToken  = 0x0c
	valueOf        = 0x0d // a value of the template
	optionalOf     = 0x0e // one that may be absent
	fragmentToken  = 0x0f
	moreFlag       = 0x40
)

const (
	mostWritten  = 1 << 20 // bytes of the XML of an event
	deepestParts = 8       // templates in the values of templates
	mostValues   = 4096    // of a template
	mostItems    = 1 << 16 // of the values of an event that are written
	always       = 0xffff  // an element depends on no value
)

// xmlWriter writes the binary XML of an event as text. What is damaged sets bad, and all goes on
// with nothing, so that nothing has to be asked at each step.
type xmlWriter struct {
	chunk []byte
	at    int
	end   int
	out   []byte
	most  int // of out
	bad   bool
	depth int // of elements
	parts int // of templates
	items int // that were written
}

// value is a value of a template, as it stands in the chunk.
type value struct {
	kind byte
	data []byte
	at   int // in the chunk
}

// write appends the XML that stands in a chunk from at to end.
func (w *xmlWriter) write(dst, chunk []byte, at, end int) ([]byte, bool) {
	*w = xmlWriter{chunk: chunk, at: at, end: end, out: dst, most: len(dst) + mostWritten}
	w.fragment(nil, false)
	return w.out, !w.bad && len(w.out) > len(dst)
}

// has tells whether n more bytes are there, and that not too much was written.
func (w *xmlWriter) has(n int) bool {
	if w.bad || n < 0 || n > w.end-w.at || len(w.out) > w.most {
		w.bad = true
	}
	return !w.bad
}

func (w *xmlWriter) byte() byte {
	if !w.has(1) {
		return endToken
	}
	w.at++
	return w.chunk[w.at-1]
}

func (w *xmlWriter) peek() byte {
	if !w.has(1) {
		return endToken
	}
	return w.chunk[w.at]
}

func (w *xmlWriter) uint16() int {
	if !w.has(2) {
		return 0
	}
	w.at += 2
	return int(le.Uint16(w.chunk[w.at-2:]))
}

func (w *xmlWriter) uint32() int {
	if !w.has(4) {
		return 0
	}
	w.at += 4
	return int(le.Uint32(w.chunk[w.at-4:]))
}

func (w *xmlWriter) bytes(n int) []byte {
	if !w.has(n) {
		return nil
	}
	w.at += n
	return w.chunk[w.at-n : w.at]
}

// name reads where in the chunk a name stands, and returns it in UTF-16. One that stands just
// here is passed over.
func (w *xmlWriter) name() []byte {
	at := w.uint32()
	const head = 8 // where the next stands, a hash, and how many characters follow
	if w.bad || at+head > len(w.chunk) {
		w.bad = true
		return nil
	}
	size := 2 * int(le.Uint16(w.chunk[at+6:]))
	if at+head+size+2 > len(w.chunk) || size == 0 {
		w.bad = true
		return nil
	}
	if at == w.at {
		w.bytes(head + size + 2)
	}
	return w.chunk[at+head : at+head+size]
}

// fragment writes what stands up to the end token. Values are those of its template; bare says
// that its elements do not say what they depend on, as in a value.
func (w *xmlWriter) fragment(values []value, bare bool) {
	for !w.bad && w.at < w.end {
		switch w.peek() &^ moreFlag {
		case endToken:
			w.at++
			return
		case fragmentToken:
			w.bytes(4)
		case templateToken:
			w.template()
		case openToken:
			w.element(values, bare)
		case targetToken:
			w.byte()
			w.name()
		case dataToken:
			w.byte()
			w.bytes(2 * w.uint16())
		default:
			w.bad = true
		}
	}
}

// template writes a template with the values that follow it.
func (w *xmlWriter) template() {
	if w.parts++; w.parts > deepestParts {
		w.bad = true
		return
	}
	w.bytes(2) // the token, and a number that is always the same
	w.uint32() // the id
	at := w.uint32()
	const head = 24 // where the next stands, its GUID, and its size
	if w.bad || at+head > len(w.chunk) {
		w.bad = true
		return
	}
	size := int(le.Uint32(w.chunk[at+20:]))
	if size > len(w.chunk)-at-head {
		w.bad = true
		return
	}
	if at == w.at {
		w.bytes(head + size)
	}
	values := w.values()
	outer := *w
	w.at, w.end = at+head, at+head+size
	w.fragment(values, false)
	w.at, w.end = outer.at, outer.end
	w.parts--
}

// values reads the values of a template.
func (w *xmlWriter) values() []value {
	n := w.uint32()
	if n > mostValues || !w.has(4*n) {
		w.bad = true
		return nil
	}
	described := w.bytes(4 * n)
	values := make([]value, n)
	for i := range values {
		at, d := w.at, described[4*i:]
		values[i] = value{kind: d[2], at: at, data: w.bytes(int(le.Uint16(d)))}
	}
	return values
}

// element writes an element, unless what it depends on is absent.
func (w *xmlWriter) element(values []value, bare bool) {
	if w.depth++; w.depth > deepest {
		w.bad = true
	}
	start := len(w.out)
	hasAttributes := w.byte()&moreFlag != 0
	depends := always
	if !bare {
		depends = w.uint16()
	}
	w.uint32() // the size
	name := w.name()
	w.out = appendText(append(w.out, '<'), name)
	if hasAttributes {
		w.uint32() // their size
		for !w.bad && w.peek()&^moreFlag == attributeToken {
			w.attribute(values)
		}
	}
	switch w.byte() {
	case closeAlone:
		w.out = append(w.out, '/', '>')
	case closeOpenToken:
		w.out = append(w.out, '>')
		w.content(values, bare, name, start)
	default:
		w.bad = true
	}
	if depends != always && (depends >= len(values) || values[depends].kind == nullKind) {
		w.out = w.out[:start]
	}
	w.depth--
}

// attribute writes an attribute, unless its only value is absent.
func (w *xmlWriter) attribute(values []value) {
	start := len(w.out)
	w.byte()
	w.out = appendText(append(w.out, ' '), w.name())
	w.out = append(w.out, '=', '"')
	filled := len(w.out)
	optional := false
	for !w.bad {
		switch token := w.peek() &^ moreFlag; token {
		case valueToken, charToken, entityToken, valueOf, optionalOf:
			optional = token == optionalOf
			for _, item := range w.text(values) {
				w.out = appendValue(w.out, item)
			}
			continue
		}
		break // of the loop
	}
	if optional && len(w.out) == filled {
		w.out = w.out[:start]
		return
	}
	w.out = append(w.out, '"')
}

// content writes what stands in an element, up to its end. A value of several repeats the element.
func (w *xmlWriter) content(values []value, bare bool, name []byte, start int) {
	head := w.out[start:len(w.out):len(w.out)]
	for !w.bad {
		switch w.peek() &^ moreFlag {
		case openToken:
			w.element(values, bare)
		case templateToken:
			w.template()
		case closeToken:
			w.byte()
			w.out = append(appendText(append(w.out, '<', '/'), name), '>')
			return
		case cdataToken:
			w.byte()
			w.out = appendText(w.out, w.bytes(2*w.uint16()))
		case targetToken:
			w.byte()
			w.name()
		case dataToken:
			w.byte()
			w.bytes(2 * w.uint16())
		default:
			for i, item := range w.text(values) {
				if i > 0 {
					w.out = append(appendText(append(w.out, '<', '/'), name), '>')
					w.out = append(w.out, head...)
				}
				w.item(item)
				if !w.has(0) {
					return
				}
			}
		}
	}
}

// text reads what stands for text, and returns the values of it.
func (w *xmlWriter) text(values []value) []value {
	switch w.byte() &^ moreFlag {
	case valueToken:
		kind := w.byte()
		if kind != stringKind {
			w.bad = true
		}
		return []value{{kind: stringKind, data: w.bytes(2 * w.uint16())}}
	case charToken:
		w.out = append(appendNumber(append(w.out, "&#"...), uint64(w.uint16())), ';')
		return nil
	case entityToken:
		w.out = append(appendText(append(w.out, '&'), w.name()), ';')
		return nil
	case valueOf, optionalOf:
		i := w.uint16()
		w.byte() // its kind, which the value says itself
		if i >= len(values) {
			w.bad = true
			return nil
		}
		items := values[i].items()
		if w.items += len(items); w.items > mostItems {
			w.bad = true
		}
		return items
	}
	w.bad = true
	return nil
}

// item writes a value in the content of an element: one of XML as that.
func (w *xmlWriter) item(v value) {
	if v.kind != binaryXMLKind {
		w.out = appendValue(w.out, v)
		return
	}
	if w.parts++; w.parts > deepestParts {
		w.bad = true
		return
	}
	outer := *w
	w.at, w.end = v.at, v.at+len(v.data)
	w.fragment(nil, true)
	w.at, w.end = outer.at, outer.end
	w.parts--
}
