// Package journal reads entries of the system's journal in its export format, and makes
// records of them.
//
// The format is a public one (Journal Export Formats): an entry is fields, each a line
// NAME=VALUE, or a line NAME, eight bytes of a length, the value and a line feed; an empty
// line ends it. [Reader] takes entries from a stream, with bounded memory whatever they
// hold; [Entry.Fill] makes a record of one.
package journal

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Bounds of an entry.
const (
	mostName   = 64       // bytes of a name; the journal has no longer one
	mostFields = 1024     // of an entry; it has no more
	mostValue  = 4 << 10  // bytes of a value that is kept, but for the message
	mostEntry  = 64 << 10 // bytes of all values but the message that are kept
)

// ErrFormat says that what is read is no journal's export.
var ErrFormat = errors.New("this is not the export of a journal")

// Field is one field of an entry.
type Field struct {
	Name, Value []byte
	Cut         bool // it was longer
}

// Entry is one entry. Its slices are those of the memory that Next was given.
type Entry struct {
	Fields []Field
}

// Get returns the first value of a name, nil for none.
func (e *Entry) Get(name string) []byte {
	for i := range e.Fields {
		if string(e.Fields[i].Name) == name {
			return e.Fields[i].Value
		}
	}
	return nil
}

// Reader takes entries from a stream. It is for one goroutine.
type Reader struct {
	// Largest is how much of a message is kept, in bytes.
	Largest int

	in   *bufio.Reader
	size [8]byte
}

// NewReader returns a Reader of a stream.
func NewReader(in io.Reader, largest int) *Reader {
	return &Reader{Largest: largest, in: bufio.NewReaderSize(in, 64<<10)}
}

// More tells whether something of the next entry was received already.
func (r *Reader) More() bool { return r.in.Buffered() > 1 } // a line feed may be left of the last one

// Next reads the next entry. Its values are added to memory, which is returned; what
// stands there already stays. The error is [io.EOF] at the end, [io.ErrUnexpectedEOF]
// in the middle of an entry, and wraps [ErrFormat] where the stream is something else.
func (r *Reader) Next(e *Entry, memory []byte) ([]byte, error) {
	e.Fields = e.Fields[:0]
	room := mostEntry
	for {
		start := len(memory)
		var ended bool
		var err error
		if memory, ended, err = r.name(memory); err != nil {
			if err == io.EOF && len(e.Fields) > 0 {
				err = io.ErrUnexpectedEOF
			}
			return memory, err
		}
		name := memory[start:len(memory):len(memory)]
		if ended && len(name) == 0 {
			if len(e.Fields) == 0 {
				continue // between two entries
			}
			return memory, nil
		}
		if len(e.Fields) == mostFields {
			return memory, fmt.Errorf("%w: an entry has more than %d fields", ErrFormat, mostFields)
		}
		most := min(mostValue, room)
		isMessage := string(name) == "MESSAGE"
		if isMessage {
			most = r.Largest
		}
		start = len(memory)
		var cut bool
		if ended {
			memory, cut, err = r.counted(memory, most)
		} else {
			memory, cut, err = r.line(memory, most)
		}
		if err != nil {
			if err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return memory, err
		}
		if !isMessage {
			room -= len(memory) - start
		}
		e.Fields = append(e.Fields, Field{name, memory[start:len(memory):len(memory)], cut})
	}
}

// name reads the name of a field, and tells whether its line ends behind it.
func (r *Reader) name(memory []byte) (_ []byte, ended bool, err error) {
	for n := 0; ; n++ {
		c, err := r.in.ReadByte()
		switch {
		case err == io.EOF && n > 0:
			return memory, false, io.ErrUnexpectedEOF
		case err != nil:
			return memory, false, err
		case c == '\n' || c == '=':
			if c == '=' && n == 0 {
				return memory, false, fmt.Errorf("%w: a field has no name", ErrFormat)
			}
			return memory, c == '\n', nil
		case n == mostName || c <= ' ' || c >= 0x7f:
			return memory, false, fmt.Errorf("%w: no field has such a name", ErrFormat)
		}
		memory = append(memory, c)
	}
}

// line reads a value that ends with its line.
func (r *Reader) line(memory []byte, most int) (_ []byte, cut bool, err error) {
	for {
		b, err := r.in.ReadSlice('\n')
		if err != nil && err != bufio.ErrBufferFull {
			return memory, cut, err
		}
		keep := bytes.TrimSuffix(b, []byte{'\n'})
		if len(keep) > most {
			keep, cut = keep[:most], true
		}
		memory, most = append(memory, keep...), most-len(keep)
		if err == nil {
			return memory, cut, nil
		}
	}
}

// counted reads a value whose length stands before it.
func (r *Reader) counted(memory []byte, most int) (_ []byte, cut bool, err error) {
	if _, err := io.ReadFull(r.in, r.size[:]); err != nil {
		return memory, false, err
	}
	size := binary.LittleEndian.Uint64(r.size[:])
	keep := int(min(size, uint64(most)))
	start := len(memory)
	for len(memory) < start+keep { // what is announced may not come
		b, err := r.in.Peek(min(start+keep-len(memory), r.in.Size()))
		if len(b) == 0 {
			return memory, false, err
		}
		memory = append(memory, b...)
		r.in.Discard(len(b))
	}
	for left := size - uint64(keep); left > 0; {
		n, err := r.in.Discard(int(min(left, 1<<20)))
		if err != nil {
			return memory, false, err
		}
		left -= uint64(n)
	}
	if c, err := r.in.ReadByte(); err != nil || c != '\n' {
		if err == nil {
			err = fmt.Errorf("%w: a value is longer than it says", ErrFormat)
		}
		return memory, false, err
	}
	return memory, size > uint64(keep), nil
}
