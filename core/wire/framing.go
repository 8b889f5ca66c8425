package wire

import (
	"bytes"
	"cmp"
)

// Framer splits a byte stream into messages as RFC 6587 has them, both ways on
// one connection: 1 to 7 digits, a space, then "<" begin a counted message;
// anything else goes up to a line feed or a NUL. The zero Framer is ready. It
// belongs to one connection.
//
// Where its Frames are [AutoFrames], a line without "<PRI>" right behind one with it belongs
// to it, and a line feed is no end for a sender that ends its messages with NUL.
type Framer struct {
	Largest  int // bytes of a message that are taken, 0 for MaxMessage; what is over is cut off
	Frames   Frames
	skipping bool // the rest of a message that was too long
	nul      bool // the sender ends messages with NUL, as it did the first
	lines    bool // or with line feeds
	open     bool // the message that the buffer begins with may go on, see Open
	seen     int  // bytes of the buffer that surely hold no end
}

// FramerState is what a Framer knows of a stream beside the bytes that are not split yet.
type FramerState struct{ Skipping, Nul, Lines, Open bool }

// State returns what is known of the stream, so that another Framer can go on with it.
func (f *Framer) State() FramerState { return FramerState{f.skipping, f.nul, f.lines, f.open} }

// Resume goes on with a stream of which another Framer knew so much.
func (f *Framer) Resume(s FramerState) {
	f.skipping, f.nul, f.lines, f.open, f.seen = s.Skipping, s.Nul, s.Lines, s.Open, 0
}

// Frames says what ends a message of a stream.
type Frames string

// The ways.
const (
	AutoFrames    Frames = ""        // what the sender does
	LineFrames    Frames = "lf"      // each line feed
	NulFrames     Frames = "nul"     // NUL alone
	CountedFrames Frames = "counted" // messages are counted
)

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
	f.open = false
	if f.skipping {
		end, _ := f.end(b)
		if f.seen = 0; end < 0 {
			return Frame{Size: len(b)}
		}
		f.skipping = false
		skipped = end + 1
		b = b[skipped:]
	}
	frame := f.next(b)
	if frame.Size > 0 {
		f.seen = 0
	}
	frame.Size += skipped
	return frame
}

func (f *Framer) next(b []byte) Frame {
	largest := f.largest()
	start, count, undecided := f.countedPrefix(b)
	switch {
	case undecided || len(b) == 0:
		return Frame{}
	case f.nul && b[0] == '\n' && f.Frames == AutoFrames: // it ends what came before
		return Frame{Message: b[:0], Size: 1}
	case start > 0 && len(b) < start+count:
		return Frame{}
	case start > 0:
		return Frame{Message: b[start : start+count], Size: start + count}
	}
	end, open := f.end(b[:min(len(b), largest+2)])
	if end < 0 {
		if len(b) < largest+2 {
			f.open = open
			return Frame{}
		}
		f.skipping = true
		return Frame{Message: b[:largest], Size: largest, Cut: true}
	}
	if end > 0 && !f.nul && !f.lines {
		f.nul = b[end] == 0
		f.lines = !f.nul
	}
	line := b[:end]
	if b[end] == '\n' || f.Frames == AutoFrames {
		line = trimEnd(line)
	}
	return Frame{Message: line[:min(len(line), largest)], Size: end + 1, Cut: len(line) > largest}
}

// trimEnd cuts the line feeds that end lines of a message, and one carriage return.
func trimEnd(line []byte) []byte {
	return bytes.TrimSuffix(bytes.TrimRight(line, "\n"), []byte{'\r'})
}

// Open tells whether what is left in the buffer is a message that is whole, unless lines
// that belong to it follow at once.
func (f *Framer) Open() bool { return f.open }

// Settle returns the message that is open, as nothing has followed.
func (f *Framer) Settle(b []byte) Frame {
	end := bytes.LastIndexByte(b, '\n')
	f.open, f.seen = false, 0
	line := trimEnd(b[:end])
	return Frame{Message: line[:min(len(line), f.largest())], Size: end + 1, Cut: len(line) > f.largest()}
}

func (f *Framer) largest() int { return cmp.Or(f.Largest, MaxMessage) }

// Rest returns the message that is left in b when the connection has ended, empty for none.
func (f *Framer) Rest(b []byte) []byte {
	if f.skipping {
		return nil
	}
	start, _, _ := f.countedPrefix(b)
	return trimEnd(b[start:min(len(b), start+f.largest())])
}

// countedPrefix returns where a counted message starts and how long it is;
// start is 0 where b does not begin with a count. It is undecided where b
// ends too early to tell.
func (f *Framer) countedPrefix(b []byte) (start, count int, undecided bool) {
	if f.Frames == LineFrames || f.Frames == NulFrames {
		return 0, 0, false
	}
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
	case b[n] == ' ' && (b[n+1] == '<' || f.Frames == CountedFrames) && count > 0 && count <= f.largest():
		return n + 1, count, false
	}
	return 0, 0, false
}

// end returns where the message ends that b begins with, -1 where its end is not in b; it
// is open where it is whole, unless it goes on at once.
func (f *Framer) end(b []byte) (end int, open bool) {
	switch {
	case f.Frames == LineFrames:
		return bytes.IndexByte(b, '\n'), false
	case f.Frames == NulFrames || f.Frames == AutoFrames && f.nul:
		return bytes.IndexByte(b, 0), false
	case f.Frames == CountedFrames || !beginsMessage(b):
		return endOfLine(b), false
	}
	for at := min(f.seen, len(b)); ; {
		next := endOfLine(b[at:])
		if next < 0 {
			f.seen = len(b)
			return -1, false
		}
		if at += next; b[at] == 0 {
			return at, false
		}
		at++
		switch is, undecided := f.headAt(b[at:]); {
		case undecided:
			f.seen = at - 1
			return -1, true
		case is:
			return at - 1, false
		}
	}
}

// beginsMessage tells whether b begins with "<PRI>".
func beginsMessage(b []byte) bool {
	_, n := parsePriority(b)
	return n > 0
}

// headAt tells whether a message begins at b, where that can be told.
func (f *Framer) headAt(b []byte) (is, undecided bool) {
	if len(b) == 0 {
		return false, true
	}
	if b[0] == '<' {
		return beginsMessage(b), len(b) < 5 && bytes.IndexByte(b, '>') < 0
	}
	start, _, undecided := f.countedPrefix(b)
	return start > 0, undecided
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
