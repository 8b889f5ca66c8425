package block

import (
	"encoding/binary"
	"math/bits"
	"slices"
)

// Log texts repeat themselves more than a compressor of bytes can see: the
// words of a program's message are the same, its numbers and ids are not. So a
// column of texts is held as the shapes that they have, which of them each text
// has, and the variable parts, those of one place in one shape together.
//
// A shape is a text with a hole for each variable part:
//
//	holeNumber  digits, up to 18 of them: its value, and how many where it begins with 0
//	holeLower   an id in hexadecimal, with digits and small letters: packed
//	holeUpper   likewise, with capitals
//	holeMixed   another run of letters and digits, such as a random key
//	holePlain   no variable part: the next byte stands for itself
const (
	holePlain byte = iota
	holeNumber
	holeLower
	holeUpper
	holeMixed
	shapeHoles
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

func (s *shaper) addMissing() { s.ids = append(s.ids, 0) }

// add takes a text apart.
func (s *shaper) add(text []byte) {
	s.total += len(text)
	before := len(s.sizes)
	s.write(text)
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
	isOther    = 0
	isDigit    = 1
	isHexLower = 2 // a to f
	isHexUpper = 4
	isLetter   = 8
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

const ones = 0x0101010101010101 // a one in each byte

// ordinary returns how many bytes at the start of b are neither a digit nor
// one that stands for a hole. Eight are looked at together: of those that are
// flagged the first is right, a borrow may flag those above it.
func ordinary(b []byte) (n int) {
	for ; n+8 <= len(b); n += 8 {
		x := binary.LittleEndian.Uint64(b[n:])
		digits := x ^ '0'*ones
		if found := ((digits-10*ones)&^digits | (x-uint64(shapeHoles)*ones)&^x) & (0x80 * ones); found != 0 {
			return n + bits.TrailingZeros64(found)/8
		}
	}
	for n < len(b) && kinds[b[n]] != isDigit && b[n] >= shapeHoles {
		n++
	}
	return n
}

// write writes the shape of a text and its variable parts.
func (s *shaper) write(text []byte) {
	shape := s.shape[:0]
	for done := 0; done < len(text); {
		at := done + ordinary(text[done:])
		if at == len(text) || kinds[text[at]] != isDigit {
			shape = append(shape, text[done:at]...)
			if at < len(text) {
				shape = append(shape, holePlain, text[at])
			}
			done = at + 1
			continue
		}
		start, letters := at, byte(0)
		for start > done && kinds[text[start-1]] != isOther {
			start--
			letters |= kinds[text[start]]
		}
		v, end := uint64(0), at
		for ; end < len(text) && text[end]-'0' <= 9; end++ {
			v = v*10 + uint64(text[end]-'0')
		}
		// Digits behind letters that can be no id, or behind none, as most are.
		if (end == len(text) || kinds[text[end]] == isOther) && end-at <= mostDigits && (end-start < leastHex || letters != isHexLower && letters != isHexUpper) {
			shape = append(append(shape, text[done:at]...), holeNumber)
			s.addNumber(v, text[at:end])
			done = end
			continue
		}
		shape = append(shape, text[done:start]...)
		shape, done = s.run(shape, text, start)
	}
	s.shape = shape
}

// run takes the run of letters and digits that begins at text[i], with a digit
// in it, and returns where it ends.
func (s *shaper) run(shape, text []byte, i int) ([]byte, int) {
	seen, end := byte(0), i
	for ; end < len(text); end++ {
		kind := kinds[text[end]]
		if kind == isOther {
			break
		}
		seen |= kind
	}
	run := text[i:end]
	start := len(s.stream)
	switch {
	case seen == isDigit || len(run) < leastHex:
		return s.numbers(shape, run), end
	case seen == isDigit|isHexLower:
		shape = append(shape, holeLower)
		s.stream = appendHex(s.stream, run, 'a')
	case seen == isDigit|isHexUpper:
		shape = append(shape, holeUpper)
		s.stream = appendHex(s.stream, run, 'A')
	case len(run) >= leastMixed && changes(run) > 1:
		shape = append(shape, holeMixed)
		s.stream = append(binary.AppendUvarint(s.stream, uint64(len(run))), run...)
	default:
		return s.numbers(shape, run), end
	}
	s.sizes = append(s.sizes, uint32(len(s.stream)-start))
	return shape, end
}

// changes returns how often letters follow digits in a run, or digits letters.
func changes(run []byte) (n int) {
	for i := 1; i < len(run); i++ {
		if (kinds[run[i]] == isDigit) != (kinds[run[i-1]] == isDigit) {
			n++
		}
	}
	return n
}

// numbers takes the digits out of a run of letters and digits.
func (s *shaper) numbers(shape, run []byte) []byte {
	for i := 0; i < len(run); {
		v, end := uint64(0), i
		for ; end < len(run) && run[end]-'0' <= 9 && end-i < mostDigits; end++ {
			v = v*10 + uint64(run[end]-'0')
		}
		if end == i {
			shape = append(shape, run[i])
			i++
			continue
		}
		shape = append(shape, holeNumber)
		s.addNumber(v, run[i:end])
		i = end
	}
	return shape
}

// addNumber adds a variable part that is a number, as twice its value; where
// its digits begin with 0, and there are more, one more, and how many behind it.
func (s *shaper) addNumber(v uint64, digits []byte) {
	start := len(s.stream)
	if len(digits) > 1 && digits[0] == '0' {
		s.stream = append(appendUvarint(s.stream, v<<1|1), byte(len(digits)))
	} else {
		s.stream = appendUvarint(s.stream, v<<1)
	}
	s.sizes = append(s.sizes, uint32(len(s.stream)-start))
}

// appendUvarint is that of encoding/binary, without a branch between one byte and two.
func appendUvarint(dst []byte, v uint64) []byte {
	if v >= 1<<14 {
		return binary.AppendUvarint(dst, v)
	}
	more := (v>>7 + 0x7f) >> 7 // 1 for two bytes, else 0
	return append(dst, byte(v)&0x7f|byte(more)<<7, byte(v>>7))[:len(dst)+1+int(more)]
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
