package block

import (
	"encoding/binary"
	"math"
	"math/bits"

	"oakbarrel/core/record"
)

// shapedColumn is a column of texts that is held by shapes.
type shapedColumn struct {
	ids   []byte // which shape each text has, behind how many bytes and shapes there are
	bytes []byte // the shapes and the variable parts
}

// texts puts the texts together again, from a record on: their lengths and
// their bytes, as a plain column has them, at most most bytes. Those before are
// missing. Their words go into a filter, where there is one: those that a shape
// has once, not for every text.
func (c *shapedColumn) texts(from, most int, filter *filterBuilder) (lengths, texts []byte, err error) {
	total, n := binary.Uvarint(c.ids)
	if n <= 0 || total > uint64(most) {
		return nil, nil, damaged("the size of its texts")
	}
	ids := c.ids[n:]
	count, n := binary.Uvarint(ids)
	if n <= 0 || count > mostShapes {
		return nil, nil, damaged("its number of shapes")
	}
	ids = ids[n:]
	u := unshaper{shapes: make([]shapeParts, count), filter: filter}
	if err := u.read(c.bytes); err != nil {
		return nil, nil, err
	}
	u.texts, lengths = make([]byte, total+spare), make([]byte, 0, len(ids)*2)
	at := 0
	for i := 0; len(ids) > 0; i++ {
		id, n := uvarint(ids)
		if n <= 0 || id > count {
			return nil, nil, damaged("a shape that is not there")
		}
		ids = ids[n:]
		if id == 0 {
			lengths = append(lengths, 0)
			continue
		}
		shape := &u.shapes[id-1]
		if i < from {
			if !u.skip(shape) {
				return nil, nil, damaged("a variable part")
			}
			lengths = append(lengths, 0)
			continue
		}
		end := u.write(shape, at)
		if end < 0 {
			return nil, nil, damaged("a variable part")
		}
		if filter != nil {
			shape.variableWords(filter, u.texts, at)
		}
		lengths = binary.AppendUvarint(lengths, uint64(end-at)+1)
		at = end
	}
	if at != int(total) && from == 0 || !u.done() {
		return nil, nil, damaged("the size of its texts, or of their variable parts")
	}
	return lengths, u.texts[:at:at], nil
}

// spare is how many bytes there are behind the texts, so that a whole word may
// be written where only a part of it is wanted.
const spare = 16

// unshaper puts texts together.
type unshaper struct {
	shapes []shapeParts
	parts  []byte // variable parts; each piece knows where those of its place are
	texts  []byte // as far as they are written, and the spare bytes
	filter *filterBuilder
}

// read takes the shapes and their parts from the bytes of a column.
func (u *unshaper) read(column []byte) error {
	var reader shapeReader
	for i := range u.shapes {
		size, n := binary.Uvarint(column)
		if n <= 0 || size > uint64(len(column)-n) {
			return damaged("a shape")
		}
		var ok bool
		if u.shapes[i], ok = reader.read(column[n : n+int(size)]); !ok {
			return damaged("a shape")
		}
		column = column[n+int(size):]
		if u.filter != nil {
			u.shapes[i].fixedWords(u.filter)
		}
	}
	u.parts = column
	at := 0
	for i := range u.shapes {
		for k := range u.shapes[i].pieces {
			p := &u.shapes[i].pieces[k]
			if p.hole == holePlain {
				continue
			}
			size, n := binary.Uvarint(column[at:])
			if n <= 0 || size > uint64(len(column)-at-n) {
				return damaged("the parts of a shape")
			}
			p.next, p.last = at+n, at+n+int(size)
			at = p.last
		}
	}
	if at < len(column) {
		return damaged("something follows the parts of its shapes")
	}
	return nil
}

// done tells whether all variable parts were used.
func (u *unshaper) done() bool {
	for i := range u.shapes {
		for _, p := range u.shapes[i].pieces {
			if p.next != p.last {
				return false
			}
		}
	}
	return true
}

// shapeParts is a shape with its variable parts that are left.
type shapeParts struct{ pieces []piece }

// piece is a run of bytes that stand for themselves, and the variable parts
// behind it, holePlain for none. It does not point to them: the many pointers
// would keep the garbage collector busy.
type piece struct {
	literal    []byte
	start      [spare]byte // of literal
	hole       byte
	next, last int // where the variable parts that are left begin and end
	end        int // of the variable part in the last text that was written

	lead, trail int // bytes of words at both ends of literal, as fixedWords finds them
}

// shapeReader takes shapes apart. Their pieces share memory, as there may be many.
type shapeReader struct {
	free  []piece
	taken int // of free, by the shape that is being read
}

const piecesAtOnce = 1024

// read takes a shape apart, and tells whether it is one. It keeps the shape.
func (s *shapeReader) read(shape []byte) (parts shapeParts, ok bool) {
	s.taken = 0
	start, literal := 0, []byte(nil) // what is not in a piece yet; literal where something was left out of it
	for i := 0; i < len(shape); i++ {
		switch c := shape[i]; {
		case c >= shapeHoles:
		case c != holePlain:
			s.add(literal, shape[start:i], c)
			start, literal = i+1, nil
		case i+1 == len(shape):
			return parts, false
		default:
			i++
			literal = append(append(literal, shape[start:i-1]...), shape[i])
			start = i + 1
		}
	}
	if literal != nil || start < len(shape) {
		s.add(literal, shape[start:], holePlain)
	}
	parts.pieces = s.free[:s.taken:s.taken]
	s.free = s.free[s.taken:]
	return parts, true
}

// add adds a piece to those of the shape.
func (s *shapeReader) add(literal, more []byte, hole byte) {
	if literal == nil {
		literal = more
	} else {
		literal = append(literal, more...)
	}
	if s.taken == len(s.free) {
		more := make([]piece, max(piecesAtOnce, 2*s.taken))
		copy(more, s.free)
		s.free = more
	}
	p := &s.free[s.taken]
	*p = piece{literal: literal, hole: hole}
	copy(p.start[:], literal)
	s.taken++
}

// write writes the next text of a shape from at on, and returns where it ends,
// -1 where a part does not fit.
func (u *unshaper) write(s *shapeParts, at int) int {
	for i := range s.pieces {
		p := &s.pieces[i]
		room := u.texts[at:]
		if len(p.literal) > len(room)-spare {
			return -1
		}
		*(*[spare]byte)(room) = p.start
		if len(p.literal) > spare {
			copy(room, p.literal)
		}
		at += len(p.literal)
		switch p.hole {
		case holePlain:
		case holeNumber:
			at = u.writeNumber(p, at)
		default:
			at = u.writeID(p, at)
		}
		if at < 0 {
			return -1
		}
		p.end = at
	}
	return at
}

// skip passes over the next text of a shape, and tells whether it is there.
func (u *unshaper) skip(s *shapeParts) bool {
	for i := range s.pieces {
		p := &s.pieces[i]
		if p.hole == holePlain {
			continue
		}
		parts := u.parts[p.next:p.last]
		v, n := uvarint(parts)
		switch {
		case n <= 0 || v > math.MaxInt32 && p.hole != holeNumber:
			return false
		case p.hole == holeNumber:
			n += int(v & 1)
		case p.hole == holeMixed:
			n += int(v)
		default:
			n += int(v+1) / 2
		}
		if n > len(parts) {
			return false
		}
		p.next += n
	}
	return true
}

// fixedWords adds the words of a shape that no variable part touches.
func (s *shapeParts) fixedWords(filter *filterBuilder) {
	for i := range s.pieces {
		p := &s.pieces[i]
		record.EachWord(p.literal, func(start, end int, hash uint64) {
			if start == 0 {
				p.lead = end
			}
			if end == len(p.literal) {
				p.trail = end - start
			}
			if (start > 0 || i == 0) && (end < len(p.literal) || p.hole == holePlain) {
				filter.set(hash)
			}
		})
	}
}

// variableWords adds the words with variable parts in them of the text that
// was written last, to dst from at on.
func (s *shapeParts) variableWords(filter *filterBuilder, dst []byte, at int) {
	start := -1 // of a word with a variable part
	for i := range s.pieces {
		p := &s.pieces[i]
		if start >= 0 && p.lead < len(p.literal) {
			filter.set(record.FoldedHash(dst[start : at+p.lead]))
			start = -1
		}
		if start < 0 && p.hole != holePlain {
			start = at + len(p.literal) - p.trail
		}
		at = p.end
	}
	if start >= 0 {
		filter.set(record.FoldedHash(dst[start:at]))
	}
}

func (u *unshaper) writeNumber(p *piece, at int) int {
	parts, dst := u.parts[p.next:p.last], u.texts
	v, n := uvarint(parts)
	if n <= 0 {
		return -1
	}
	padded := v&1 == 1
	v >>= 1
	digits := digitsOf(v)
	if padded {
		if n == len(parts) || int(parts[n]) < digits {
			return -1
		}
		digits = int(parts[n])
		n++
	}
	p.next += n
	if digits > mostDigits || digits > len(dst)-spare-at {
		return -1
	}
	writeDigits(dst, at, v, digits)
	return at + digits
}

func writeDigits(dst []byte, at int, v uint64, digits int) {
	if digits > 8 {
		writeDigits(dst, at, v/1e8, digits-8)
		at, v, digits = at+digits-8, v%1e8, 8
	}
	write8(dst, at, uint32(v), digits)
}

// write8 writes the last digits of a number below 100,000,000, up to 8, and
// something behind them: two, four and eight digits are taken apart together.
func write8(dst []byte, at int, v uint32, digits int) {
	x := uint64(v/10000) | uint64(v%10000)<<32
	t := x * 10486 >> 20 & 0x7f0000007f // hundreds
	x = t + (x-100*t)<<16
	t = x * 103 >> 10 & 0x000f000f000f000f // tens
	x = t + (x-10*t)<<8 | '0'*ones
	binary.LittleEndian.PutUint64(dst[at:], x>>(8*(8-digits)))
}

// powers are those of 10.
var powers = func() (t [20]uint64) {
	t[0] = 1
	for i := 1; i < len(t); i++ {
		t[i] = 10 * t[i-1]
	}
	return
}()

// digitsOf returns how many digits a number has.
func digitsOf(v uint64) int {
	n := bits.Len64(v) * 1233 >> 12 // times the logarithm of 2: right, or one too few
	if v >= powers[n] {
		n++
	}
	return max(n, 1)
}

// writeID writes an id as it stood in its text.
func (u *unshaper) writeID(p *piece, at int) int {
	parts := u.parts[p.next:p.last]
	v, n := uvarint(parts)
	if n <= 0 || v > uint64(len(u.texts)-spare-at) {
		return -1
	}
	size := int(v)
	if p.hole != holeMixed {
		size = (size + 1) / 2
	}
	if size > len(parts)-n {
		return -1
	}
	part := parts[n : n+size]
	p.next += n + size
	if p.hole == holeMixed {
		return at + copy(u.texts[at:], part)
	}
	digits := "0123456789abcdef"
	if p.hole == holeUpper {
		digits = "0123456789ABCDEF"
	}
	dst := u.texts[at : at+int(v)]
	for i, c := range part {
		dst[2*i] = digits[c>>4]
		if 2*i+1 < len(dst) {
			dst[2*i+1] = digits[c&15]
		}
	}
	return at + len(dst)
}
