package record

// ScanData returns how many bytes of b the structured data at its start takes,
// RFC 5424 section 6.3: "-" or one or more elements without space between
// them. It is 0 where b does not start with structured data that is well formed.
func ScanData(b []byte) int {
	if len(b) > 0 && b[0] == '-' {
		return 1
	}
	n := 0
	for n < len(b) && b[n] == '[' {
		size := scanElement(b[n:])
		if size == 0 {
			return 0
		}
		n += size
	}
	return n
}

func scanElement(b []byte) int {
	n := scanName(b, 1)
	if n == 1 {
		return 0
	}
	for n < len(b) && b[n] == ' ' {
		name := n + 1
		n = scanName(b, name)
		if n == name || n+1 >= len(b) || b[n] != '=' || b[n+1] != '"' {
			return 0
		}
		if n = scanValue(b, n+2); n == 0 {
			return 0
		}
	}
	if n < len(b) && b[n] == ']' {
		return n + 1
	}
	return 0
}

// scanName returns the end of the name at b[n:].
func scanName(b []byte, n int) int {
	for n < len(b) && b[n] > ' ' && b[n] != '=' && b[n] != ']' && b[n] != '"' && b[n] != 0x7f {
		n++
	}
	return n
}

// scanValue returns the index after the closing quote of the value at b[n:], 0 without one.
func scanValue(b []byte, n int) int {
	for ; n < len(b); n++ {
		switch b[n] {
		case '\\':
			n++
		case '"':
			return n + 1
		}
	}
	return 0
}

// addData adds the elements of well-formed structured data.
func (t *Tree) addData(b []byte) {
	for n := 0; n < len(b) && b[n] == '['; n++ {
		end := scanName(b, n+1)
		element := t.object(0, b[n+1:end])
		for n = end; n < len(b) && b[n] == ' '; {
			name := n + 1
			end = scanName(b, name)
			n = scanValue(b, end+2)
			if n == 0 {
				return
			}
			t.addText(element, b[name:end], t.unescape(b[end+2:n-1]))
		}
	}
}

// unescape undoes \" \\ and \]; a backslash before anything else stands for itself.
func (t *Tree) unescape(b []byte) []byte {
	at := 0
	for at < len(b) && b[at] != '\\' {
		at++
	}
	if at == len(b) {
		return b
	}
	start := len(t.scratch)
	for i := 0; i < len(b); i++ {
		if b[i] == '\\' && i+1 < len(b) && (b[i+1] == '"' || b[i+1] == '\\' || b[i+1] == ']') {
			i++
		}
		t.scratch = append(t.scratch, b[i])
	}
	return t.scratch[start:len(t.scratch):len(t.scratch)]
}

// AppendDataValue appends v to dst as the value of a parameter, escaped but
// without its quotes.
func AppendDataValue(dst, v []byte) []byte {
	for _, c := range v {
		if c == '"' || c == '\\' || c == ']' {
			dst = append(dst, '\\')
		}
		dst = append(dst, c)
	}
	return dst
}

// SetData gives the record other fields, which must be well formed.
func (r *Record) SetData(data []byte) { r.Data, r.parsed = data, false }

func isObject(data []byte) bool { return len(data) > 0 && data[0] == '{' }

// DataChecker tells what can be the data of records, one after the other
// without allocating. The zero value is ready; it is for one goroutine.
type DataChecker struct{ tree Tree }

// Valid tells whether b can be the data of a record.
func (c *DataChecker) Valid(b []byte) bool {
	if isObject(b) {
		return c.tree.ParseJSON(b) == nil && c.tree.Root().Len() > 0
	}
	return len(b) > 1 && b[0] == '[' && ScanData(b) == len(b)
}

// AppendMappedData writes the data of a record with each text v in it replaced
// by what f appends to its first argument.
func AppendMappedData(dst, data []byte, f func(dst, v []byte) []byte) []byte {
	var t Tree
	t.Reset()
	if isObject(data) {
		t.ParseJSON(data) // it is well formed
		for i := range t.nodes {
			if n := &t.nodes[i]; n.kind == String {
				n.text = f(nil, n.text)
			}
		}
		return t.Root().AppendJSON(dst)
	}
	var value []byte
	for n := 0; n < len(data); n++ {
		end := scanName(data, n+1)
		dst = append(dst, data[n:end]...)
		for n = end; n < len(data) && data[n] == ' '; {
			end = scanName(data, n+1)
			dst = append(append(dst, data[n:end]...), '=', '"')
			if n = scanValue(data, end+2); n == 0 {
				return dst
			}
			t.Reset()
			value = f(value[:0], t.unescape(data[end+2:n-1]))
			dst = append(AppendDataValue(dst, value), '"')
		}
		dst = append(dst, ']')
	}
	return dst
}

// Label is a field that is added to a record.
type Label struct{ Name, Value string }

// AppendLabels writes the data of a record with fields added under an element's
// name. Where last is true the element is there already, as the last one.
func AppendLabels(dst, data []byte, element string, labels []Label, last bool) []byte {
	object := isObject(data)
	switch {
	case object && last:
		dst = append(append(dst, data[:len(data)-2]...), ',')
	case object:
		dst = append(append(dst, data[:len(data)-1]...), ',')
		dst = append(AppendJSONString(dst, []byte(element)), ':', '{')
	case last:
		dst = append(dst, data[:len(data)-1]...)
	default:
		dst = append(append(append(dst, data...), '['), element...)
	}
	for i, l := range labels {
		if object {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = append(AppendJSONString(dst, []byte(l.Name)), ':')
			dst = AppendJSONString(dst, []byte(l.Value))
			continue
		}
		dst = append(append(append(dst, ' '), l.Name...), '=', '"')
		dst = append(AppendDataValue(dst, []byte(l.Value)), '"')
	}
	if object {
		return append(dst, '}', '}')
	}
	return append(dst, ']')
}

// fieldsElement holds the fields that structured data has no form for.
const fieldsElement = "[fields@32473"

// AppendData writes the fields of the record as structured data (RFC 5424,
// section 6.3): an object of texts as an element of its own, other fields as
// parameters of one element, their names joined by dots. It writes nothing
// where there are none.
func (r *Record) AppendData(dst []byte) []byte {
	if !isObject(r.Data) {
		return append(dst, r.Data...)
	}
	root := r.Fields().Root()
	var rest []byte
	for v := root.First(); v.More(); v = v.Next() {
		if string(v.Key()) == string(cutKey) {
			continue // the mark of a record that was cut
		}
		if !isElement(v) {
			rest = appendParameters(rest, v.Key(), v)
			continue
		}
		dst = append(append(dst, '['), v.Key()...)
		for p := v.First(); p.More(); p = p.Next() {
			dst = appendParameters(dst, p.Key(), p)
		}
		dst = append(dst, ']')
	}
	if rest != nil {
		dst = append(append(append(dst, fieldsElement...), rest...), ']')
	}
	return dst
}

// isElement tells whether a field can stand as an element of structured data.
func isElement(v Value) bool {
	if v.Kind() != Object || !isDataName(v.Key()) {
		return false
	}
	for p := v.First(); p.More(); p = p.Next() {
		list := p.Kind() == List
		for e := p.First(); list && e.More(); e = e.Next() {
			list = e.Kind() == String
		}
		if p.Kind() != String && !list || !isDataName(p.Key()) {
			return false
		}
	}
	return true
}

func isDataName(name []byte) bool {
	return len(name) > 0 && scanName(name, 0) == len(name) && onlyASCII(name)
}

func onlyASCII(b []byte) bool {
	for _, c := range b {
		if c >= 0x7f {
			return false
		}
	}
	return true
}

// appendParameters writes a value as parameters: nested ones with their names
// joined by dots, a list as one parameter for each of its values.
func appendParameters(dst, name []byte, v Value) []byte {
	switch v.Kind() {
	case Object:
		for p := v.First(); p.More(); p = p.Next() {
			dst = appendParameters(dst, append(append(append([]byte{}, name...), '.'), p.Key()...), p)
		}
		return dst
	case List:
		for p := v.First(); p.More(); p = p.Next() {
			dst = appendParameters(dst, name, p)
		}
		return dst
	}
	dst = append(dst, ' ')
	start := len(dst)
	dst = append(dst, name...)
	for i := start; i < len(dst); i++ {
		if c := dst[i]; c <= ' ' || c >= 0x7f || c == '=' || c == ']' || c == '"' {
			dst[i] = '_'
		}
	}
	if len(dst) == start {
		dst = append(dst, '_')
	}
	dst = append(dst, '=', '"')
	return append(AppendDataValue(dst, v.Text()), '"')
}

// EachFieldWord calls f as [EachWord] does, with the words of all values.
func (r *Record) EachFieldWord(f func(start, end int, hash uint64)) {
	if !isObject(r.Data) {
		EachWord(r.Data, f)
		return
	}
	for _, n := range r.Fields().nodes {
		EachWord(n.text, f)
	}
}
