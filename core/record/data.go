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

// SetData gives the record other structured data, which must be well formed.
func (r *Record) SetData(data []byte) { r.Data, r.parsed = data, false }

// AppendDataMapped writes well-formed structured data with each value v
// replaced by what f appends to its first argument. Values go through f
// unescaped.
func AppendDataMapped(dst, data []byte, f func(dst, v []byte) []byte) []byte {
	var t Tree
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
