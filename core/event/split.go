package event

import (
	"bufio"
	"bytes"
	"io"
)

// Splitter reads a text that holds events as XML, with whatever is around them, as lines: each event is
// one. Of what is around them, declarations, comments and the list that they stand in are left
// out. It is for one goroutine.
type Splitter struct {
	in     *bufio.Reader
	inside bool   // an event has begun
	line   []byte // of what was not read yet
	at     int    // in it
	last   []byte // of the event, as long as its end tag
}

// NewSplitter returns a reader of the text that in reads.
func NewSplitter(in io.Reader) *Splitter {
	return &Splitter{in: bufio.NewReaderSize(in, 64<<10)}
}

// Read implements [io.Reader].
func (s *Splitter) Read(b []byte) (int, error) {
	for s.at == len(s.line) {
		s.line, s.at = s.line[:0], 0
		piece, err := s.in.ReadSlice('>')
		s.take(piece)
		if err == nil || err == bufio.ErrBufferFull || len(s.line) > 0 {
			continue
		}
		return 0, err
	}
	n := copy(b, s.line[s.at:])
	s.at += n
	return n, nil
}

// take takes what ends with the end of a tag.
func (s *Splitter) take(piece []byte) {
	if !s.inside {
		at := find(piece)
		if at < 0 {
			s.around(piece)
			return
		}
		s.around(piece[:at])
		piece, s.inside, s.last = piece[at:], true, s.last[:0]
	}
	for _, c := range piece {
		switch c {
		case '\n':
			s.line = append(s.line, "&#10;"...)
		case '\r':
		default:
			s.line = append(s.line, c)
		}
	}
	s.last = append(s.last, piece[max(0, len(piece)-len(ends)):]...)
	s.last = s.last[max(0, len(s.last)-len(ends)):]
	if bytes.Equal(s.last, ends) {
		s.line, s.inside = append(s.line, '\n'), false
	}
}

// around takes what stands between events: a line of its own, where it says something.
func (s *Splitter) around(b []byte) {
	b = bytes.TrimSpace(bytes.TrimPrefix(b, []byte("\ufeff")))
	for _, known := range []string{"<?", "<!", "<Events", "</Events"} {
		if bytes.HasPrefix(b, []byte(known)) {
			return
		}
	}
	if len(b) > 0 {
		s.line = append(append(s.line, b...), '\n')
	}
}
