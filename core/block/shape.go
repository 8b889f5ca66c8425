package block

import (
	"encoding/binary"
	"math"
	"slices"
)

// Log texts repeat themselves more than a compressor of bytes can see: the
// words of a program's message are the same, its numbers and ids are not. So a
// column of texts is held as the shapes that they have, which of them each text
// has, and the variable parts, those of one place in one shape together.
//
// A shape is a text with a mark for each variable part:
//
//	markNumber  digits, up to 18 of them: its value, and how many where it begins with 0
//	markLower   an id in hexadecimal, with digits and small letters: packed
//	markUpper   likewise, with capitals
//	markMixed   another run of letters and digits, such as a random key
//	markPlain   no variable part: the next byte stands for itself
const (
	markPlain byte = iota
	markNumber
	markLower
	markUpper
	markMixed
	shapeMarks
)

// How the column of texts begins that tells how it is held.
const (
	plainTexts  = 0 // lengths here, and the bytes in the column behind
	shapedTexts = 1 // shapes
)

const (
	leastHex   = 4 // letters and digits of an id in hexadecimal
	leastMixed = 8 // of another id
	mostDigits = 18
	mostShapes = 1 << 16 // in a column; a column with more is held plain
)

// shaper takes the texts of one column apart. The zero shaper is ready.
type shaper struct {
	index  map[string]uint32
	shapes []byte   // all shapes, end to end
	ends   []uint32 // where each ends in shapes
	ids    []uint32 // of each text: 0 for missing, else its shape and 1
	total  int      // bytes of all texts
	stream []byte   // the variable parts in the order of the texts
	sizes  []uint32 // of each variable part in stream
	places []uint32 // how many variable parts the shapes up to each have, that one included
	shape  []byte   // of the text under way
	over   bool     // there are too many
}

func (s *shaper) reset() {
	clear(s.index)
	s.shapes, s.ends, s.ids, s.stream, s.over = s.shapes[:0], s.ends[:0], s.ids[:0], s.stream[:0], false
	s.sizes, s.places, s.total = s.sizes[:0], s.places[:0], 0
}

// add takes a text apart, nil for a missing one.
func (s *shaper) add(text []byte) {
	if s.over {
		return
	}
	if text == nil {
		s.ids = append(s.ids, 0)
		return
	}
	s.total += len(text)
	before := len(s.sizes)
	s.take(text)
	id, known := s.index[string(s.shape)]
	if !known {
		if len(s.ends) == mostShapes {
			s.over = true
			return
		}
		if s.index == nil {
			s.index = map[string]uint32{}
		}
		id = uint32(len(s.ends)) + 1
		s.index[string(s.shape)] = id
		s.shapes = append(s.shapes, s.shape...)
		s.ends = append(s.ends, uint32(len(s.shapes)))
		parts := uint32(len(s.sizes) - before)
		if n := len(s.places); n > 0 {
			parts += s.places[n-1]
		}
		s.places = append(s.places, parts)
	}
	s.ids = append(s.ids, id)
}

// What a byte is for shapes.
const (
	isOther = iota
	isDigit
	isHexLower // a to f
	isHexUpper
	isLetter
)

var kinds = func() (t [256]byte) {
	for c := range t {
		switch b := byte(c); {
		case b-'0' <= 9:
			t[c] = isDigit
		case b-'a' < 6:
			t[c] = isHexLower
		case b-'A' < 6:
			t[c] = isHexUpper
		case b-'a' < 26, b-'A' < 26:
			t[c] = isLetter
		}
	}
	return
}()

// take writes the shape of a text and its variable parts.
func (s *shaper) take(text []byte) {
	shape := s.shape[:0]
	for i := 0; i < len(text); {
		end := i
		for end < len(text) && kinds[text[end]] > isDigit { // a word, most often
			end++
		}
		if end < len(text) && kinds[text[end]] == isDigit {
			shape, i = s.run(shape, text, i)
			continue
		}
		shape = append(shape, text[i:end]...)
		i = end
		for i < len(text) && kinds[text[i]] == isOther {
			if text[i] < shapeMarks {
				shape = append(shape, markPlain)
			}
			shape = append(shape, text[i])
			i++
		}
	}
	s.shape = shape
}

// run takes the run of letters and digits that begins at text[i], with a digit
// in it, and returns where it ends.
func (s *shaper) run(shape, text []byte, i int) ([]byte, int) {
	var seen [isLetter + 1]int
	end, changes, digit := i, 0, false
	for ; end < len(text); end++ {
		kind := kinds[text[end]]
		if kind == isOther {
			break
		}
		seen[kind]++
		if is := kind == isDigit; is != digit {
			digit = is
			changes++
		}
	}
	run := text[i:end]
	if kinds[run[0]] == isDigit {
		changes-- // the first is none
	}
	letters := len(run) - seen[isDigit]
	start := len(s.stream)
	switch {
	case letters == 0 || len(run) < leastHex:
		return s.numbers(shape, run), end
	case letters == seen[isHexLower]:
		shape = append(shape, markLower)
		s.stream = appendHex(s.stream, run, 'a')
	case letters == seen[isHexUpper]:
		shape = append(shape, markUpper)
		s.stream = appendHex(s.stream, run, 'A')
	case changes > 1 && len(run) >= leastMixed:
		shape = append(shape, markMixed)
		s.stream = append(binary.AppendUvarint(s.stream, uint64(len(run))), run...)
	default:
		return s.numbers(shape, run), end
	}
	s.sizes = append(s.sizes, uint32(len(s.stream)-start))
	return shape, end
}

// numbers takes the digits out of a run of letters and digits.
func (s *shaper) numbers(shape, run []byte) []byte {
	for i := 0; i < len(run); {
		end := i
		for end < len(run) && run[end]-'0' <= 9 && end-i < mostDigits {
			end++
		}
		if end == i {
			shape = append(shape, run[i])
			i++
			continue
		}
		shape = append(shape, markNumber)
		start := len(s.stream)
		s.stream = appendNumber(s.stream, run[i:end])
		s.sizes = append(s.sizes, uint32(len(s.stream)-start))
		i = end
	}
	return shape
}

// appendNumber writes digits as twice their value; where they begin with 0,
// and there are more, one more, and their number behind it.
func appendNumber(dst, digits []byte) []byte {
	v := uint64(0)
	for _, c := range digits {
		v = v*10 + uint64(c-'0')
	}
	if len(digits) > 1 && digits[0] == '0' {
		return append(binary.AppendUvarint(dst, v<<1|1), byte(len(digits)))
	}
	return binary.AppendUvarint(dst, v<<1)
}

func appendHex(dst, run []byte, letter byte) []byte {
	dst = binary.AppendUvarint(dst, uint64(len(run)))
	half, high := byte(0), true
	for _, c := range run {
		v := c - '0'
		if v > 9 {
			v = c - letter + 10
		}
		if high {
			half = v << 4
		} else {
			dst = append(dst, half|v)
		}
		high = !high
	}
	if !high {
		dst = append(dst, half)
	}
	return dst
}

// size is how many bytes the column takes, about.
func (s *shaper) size() int { return len(s.shapes) + 2*len(s.ids) + len(s.stream) + 4*len(s.ends) }

// append writes the column: first which shape each text has, then the shapes
// and the variable parts, for the column behind.
func (s *shaper) append(ids, bytes []byte) (newIDs, newBytes []byte) {
	ids = binary.AppendUvarint(append(ids, shapedTexts), uint64(s.total))
	ids = binary.AppendUvarint(ids, uint64(len(s.ends)))
	for _, id := range s.ids {
		ids = binary.AppendUvarint(ids, uint64(id))
	}
	start := uint32(0)
	for _, end := range s.ends {
		bytes = append(binary.AppendUvarint(bytes, uint64(end-start)), s.shapes[start:end]...)
		start = end
	}
	places := 0
	if n := len(s.places); n > 0 {
		places = int(s.places[n-1])
	}
	at := make([]int, places+1) // where the parts of each place go, in the end where they end
	s.sum(at[1:])
	for i := range places {
		at[i+1] += at[i]
	}
	begins := slices.Clone(at)
	sorted := make([]byte, len(s.stream))
	s.sort(sorted, at)
	for i := range places {
		bytes = binary.AppendUvarint(bytes, uint64(begins[i+1]-begins[i]))
		bytes = append(bytes, sorted[begins[i]:begins[i+1]]...)
	}
	return ids, bytes
}

// placesOf returns the places of a shape.
func (s *shaper) placesOf(id uint32) (first, end uint32) {
	if id > 1 {
		first = s.places[id-2]
	}
	return first, s.places[id-1]
}

// sum adds up the sizes of the parts of each place.
func (s *shaper) sum(sizes []int) {
	next := 0
	for _, id := range s.ids {
		if id == 0 {
			continue
		}
		first, end := s.placesOf(id)
		for place := first; place < end; place++ {
			sizes[place] += int(s.sizes[next])
			next++
		}
	}
}

// sort copies the parts of each place to where at says.
func (s *shaper) sort(to []byte, at []int) {
	next, from := 0, 0
	for _, id := range s.ids {
		if id == 0 {
			continue
		}
		first, end := s.placesOf(id)
		for place := first; place < end; place++ {
			n := int(s.sizes[next])
			next++
			if n == 1 {
				to[at[place]] = s.stream[from]
			} else {
				copy(to[at[place]:], s.stream[from:from+n])
			}
			at[place] += n
			from += n
		}
	}
}

// partSize returns how many bytes the variable part takes with which b begins,
// -1 where it is none.
func partSize(mark byte, b []byte) int {
	v, n := binary.Uvarint(b)
	switch {
	case n <= 0:
		return -1
	case mark == markNumber:
		n += int(v & 1)
	case v > math.MaxInt32:
		return -1
	case mark == markMixed:
		n += int(v)
	default:
		n += int(v+1) / 2
	}
	if n > len(b) {
		return -1
	}
	return n
}

// unshape puts the texts of a column together again: their lengths and their
// bytes, as a plain column has them, at most most bytes.
func unshape(ids, bytes []byte, most int) (lengths, texts []byte, err error) {
	total, n := binary.Uvarint(ids)
	if n <= 0 || total > uint64(most) {
		return nil, nil, damaged("the size of its texts")
	}
	ids = ids[n:]
	count, n := binary.Uvarint(ids)
	if n <= 0 || count > mostShapes {
		return nil, nil, damaged("its number of shapes")
	}
	ids = ids[n:]
	shapes := make([]shapeParts, count)
	for i := range shapes {
		size, n := binary.Uvarint(bytes)
		if n <= 0 || size > uint64(len(bytes)-n) || !shapes[i].read(bytes[n:n+int(size)]) {
			return nil, nil, damaged("a shape")
		}
		bytes = bytes[n+int(size):]
	}
	for i := range shapes {
		for k := range shapes[i].pieces {
			if shapes[i].pieces[k].mark == markPlain {
				continue
			}
			size, n := binary.Uvarint(bytes)
			if n <= 0 || size > uint64(len(bytes)-n) {
				return nil, nil, damaged("the parts of a shape")
			}
			shapes[i].pieces[k].parts = bytes[n : n+int(size)]
			bytes = bytes[n+int(size):]
		}
	}
	if len(bytes) > 0 {
		return nil, nil, damaged("something follows the parts of its shapes")
	}
	texts, lengths = make([]byte, total), make([]byte, 0, len(ids)*2)
	at := 0
	for len(ids) > 0 {
		id, n := uint64(ids[0]), 1
		if id >= 0x80 {
			id, n = binary.Uvarint(ids)
		}
		if n <= 0 || id > count {
			return nil, nil, damaged("a shape that is not there")
		}
		ids = ids[n:]
		if id == 0 {
			lengths = append(lengths, 0)
			continue
		}
		end := shapes[id-1].write(texts, at)
		if end < 0 {
			return nil, nil, damaged("a variable part")
		}
		lengths = binary.AppendUvarint(lengths, uint64(end-at)+1)
		at = end
	}
	for i := range shapes {
		for _, p := range shapes[i].pieces {
			if len(p.parts) > 0 {
				return nil, nil, damaged("variable parts that no text has")
			}
		}
	}
	if at != len(texts) {
		return nil, nil, damaged("the size of its texts")
	}
	return lengths, texts, nil
}

// shapeParts is a shape with its variable parts that are left.
type shapeParts struct{ pieces []piece }

// piece is a run of bytes that stand for themselves, and the variable parts
// behind it, markPlain for none.
type piece struct {
	literal []byte
	mark    byte
	parts   []byte
}

// read takes a shape apart, and tells whether it is one.
func (s *shapeParts) read(shape []byte) bool {
	var literal []byte
	for i := 0; i < len(shape); i++ {
		switch c := shape[i]; {
		case c == markPlain:
			if i++; i == len(shape) {
				return false
			}
			literal = append(literal, shape[i])
		case c < shapeMarks:
			s.pieces = append(s.pieces, piece{literal: literal, mark: c})
			literal = nil
		default:
			literal = append(literal, c)
		}
	}
	if len(literal) > 0 {
		s.pieces = append(s.pieces, piece{literal: literal})
	}
	return true
}

// write writes the next text of the shape to dst from at on, and returns where
// it ends, -1 where a part does not fit.
func (s *shapeParts) write(dst []byte, at int) int {
	for i := range s.pieces {
		p := &s.pieces[i]
		if len(p.literal) > len(dst)-at {
			return -1
		}
		at += copy(dst[at:], p.literal)
		switch p.mark {
		case markPlain:
		case markNumber:
			if at = p.writeNumber(dst, at); at < 0 {
				return -1
			}
		default:
			n := partSize(p.mark, p.parts)
			if n < 0 {
				return -1
			}
			if at = writeID(dst, at, p.mark, p.parts[:n]); at < 0 {
				return -1
			}
			p.parts = p.parts[n:]
		}
	}
	return at
}

// pairs are the numbers from 00 to 99.
const pairs = "00010203040506070809101112131415161718192021222324252627282930313233343536373839404142434445464748495051525354555657585960616263646566676869707172737475767778798081828384858687888990919293949596979899"

func (p *piece) writeNumber(dst []byte, at int) int {
	if len(p.parts) == 0 {
		return -1
	}
	v, n := uint64(p.parts[0]), 1
	if v >= 0x80 {
		if v, n = binary.Uvarint(p.parts); n <= 0 {
			return -1
		}
	}
	padded := v&1 == 1
	v >>= 1
	digits := 1
	for limit := uint64(10); digits < mostDigits+2 && v >= limit; limit *= 10 {
		digits++
	}
	if padded {
		if n == len(p.parts) || int(p.parts[n]) < digits {
			return -1
		}
		digits = int(p.parts[n])
		n++
	}
	p.parts = p.parts[n:]
	if digits > mostDigits || digits > len(dst)-at {
		return -1
	}
	i := at + digits
	for ; v >= 10; v /= 100 {
		i -= 2
		copy(dst[i:i+2], pairs[v%100*2:])
	}
	if v > 0 || i > at && !padded {
		i--
		dst[i] = byte('0' + v)
	}
	for ; i > at; i-- {
		dst[i-1] = '0'
	}
	return at + digits
}

// writeID writes an id as it stood in its text.
func writeID(dst []byte, at int, mark byte, part []byte) int {
	v, n := binary.Uvarint(part)
	if v > uint64(len(dst)-at) {
		return -1
	}
	if mark == markMixed {
		return at + copy(dst[at:], part[n:])
	}
	digits := "0123456789abcdef"
	if mark == markUpper {
		digits = "0123456789ABCDEF"
	}
	for i, c := range part[n:] {
		dst[at+2*i] = digits[c>>4]
		if 2*i+1 < int(v) {
			dst[at+2*i+1] = digits[c&15]
		}
	}
	return at + int(v)
}
