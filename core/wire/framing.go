package wire

import (
	"bytes"
	"cmp"
)

// Framer splits a byte stream into messages as RFC 6587 has them, both ways on
// one connection: 1 to 7 digits, a space, then "<" begin a counted message;
// anything else goes up to a line feed or a NUL. The zero Framer is ready. It
// belongs to one connection.
type Framer struct {
	Largest  int  // bytes of a message that are taken, 0 for MaxMessage; what is over is cut off
	skipping bool // the rest of a message that was too long
}

// Frame is what Next found at the start of a buffer.
type Frame struct {
	Message []byte // nil where the buffer holds no whole message; may be empty, then it is no record
	Size    int    // how many bytes of the buffer are done with
	Cut     bool   // the message was longer than allowed and is cut
}

// Next returns the next message of b, which holds what was received and not
// yet split. Message is nil where more bytes are needed; b must have room for
// Largest+9 bytes, so that there always comes an end.
func (f *Framer) Next(b []byte) Frame {
	skipped := 0
	if f.skipping {
		end := endOfLine(b)
		if end < 0 {
			return Frame{Size: len(b)}
		}
		f.skipping = false
		skipped = end + 1
		b = b[skipped:]
	}
	frame := f.next(b)
	frame.Size += skipped
	return frame
}

func (f *Framer) next(b []byte) Frame {
	largest := f.largest()
	start, count, undecided := countedPrefix(b, largest)
	switch {
	case undecided || len(b) == 0:
		return Frame{}
	case start > 0 && len(b) < start+count:
		return Frame{}
	case start > 0:
		return Frame{Message: b[start : start+count], Size: start + count}
	}
	end := endOfLine(b[:min(len(b), largest+2)])
	if end < 0 {
		if len(b) < largest+2 {
			return Frame{}
		}
		f.skipping = true
		return Frame{Message: b[:largest], Size: largest, Cut: true}
	}
	line := b[:end]
	if b[end] == '\n' {
		line = bytes.TrimSuffix(line, []byte{'\r'})
	}
	return Frame{Message: line[:min(len(line), largest)], Size: end + 1, Cut: len(line) > largest}
}

func (f *Framer) largest() int { return cmp.Or(f.Largest, MaxMessage) }

// Rest returns the message that is left in b when the connection has ended, empty for none.
func (f *Framer) Rest(b []byte) []byte {
	if f.skipping {
		return nil
	}
	start, _, _ := countedPrefix(b, f.largest())
	return bytes.TrimSuffix(b[start:min(len(b), start+f.largest())], []byte{'\r'})
}

// countedPrefix returns where a counted message starts and how long it is;
// start is 0 where b does not begin with a count. It is undecided where b
// ends too early to tell.
func countedPrefix(b []byte, largest int) (start, count int, undecided bool) {
	n := 0
	for ; n < len(b) && b[n]-'0' <= 9; n++ {
		if n == 7 {
			return 0, 0, false
		}
		count = count*10 + int(b[n]-'0')
	}
	switch {
	case len(b) == 0 || n == 0:
		return 0, 0, false
	case n == len(b), n+1 == len(b) && b[n] == ' ':
		return 0, 0, true
	case b[n] == ' ' && b[n+1] == '<' && count > 0 && count <= largest:
		return n + 1, count, false
	}
	return 0, 0, false
}

// endOfLine returns the index of the first LF or NUL, -1 without one. It looks
// at a short stretch at a time, so that a stream with one of the two marks
// alone is not searched to its end for the other.
func endOfLine(b []byte) int {
	const stretch = 512
	for start := 0; start < len(b); start += stretch {
		part := b[start:min(len(b), start+stretch)]
		if i := bytes.IndexByte(part, '\n'); i >= 0 {
			part = part[:i+1]
		}
		if i := bytes.IndexByte(part, 0); i >= 0 {
			return start + i
		}
		if part[len(part)-1] == '\n' {
			return start + len(part) - 1
		}
	}
	return -1
}
