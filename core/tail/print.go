package tail

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"oakbarrel/core/disk"
	"oakbarrel/core/event"
	"oakbarrel/core/roll"
)

// printSize is how much of a file tells it from others, in bytes: at its
// beginning, and before the place up to which it was read.
const printSize = 1 << 10

// strongPrint is how many bytes two files must have alike at their beginning
// before one is taken for a copy of the other on that ground alone. Shorter
// ones, such as a line that every start of a program writes, need more evidence.
const strongPrint = 256

// fingerprint knows a piece of a file again.
type fingerprint struct {
	At     int64  `json:"at"` // bytes from the beginning
	Length int    `json:"length"`
	Sum    string `json:"sum"` // SHA-256, the first half, in hexadecimal
}

func printOf(at int64, b []byte) fingerprint {
	sum := sha256.Sum256(b)
	return fingerprint{at, len(b), hex.EncodeToString(sum[:16])}
}

func (p fingerprint) end() int64 { return p.At + int64(p.Length) }

// content is a file's content, decompressed where what stands in it is
// compressed, whatever its name says. A compressed one is read from the
// beginning on.
type content struct {
	file    *disk.Handle
	reader  io.ReadCloser // nil for a plain file, which is read at any place
	kept    bool          // close leaves it open
	foreign string        // the compression that is not read, "" for none
	size    int64         // of a plain file
	at      int64         // how far a compressed one was read
}

// openContent opens a regular file for reading. Links are not followed, and a
// named pipe does not block.
func openContent(path string) (*content, error) {
	f, st, err := disk.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	return contentOf(f, st)
}

// openIs opens a file as [openContent] does, if the one at the path is still the
// one that was found there. Else the error is [fs.ErrNotExist]: a path is
// another file's as soon as somebody rolls.
func openIs(path string, known identity) (*content, error) {
	f, st, err := openFile(path, known)
	if err != nil {
		return nil, err
	}
	return contentOf(f, st)
}

func openFile(path string, known identity) (*disk.Handle, fs.FileInfo, error) {
	f, st, err := disk.OpenRegular(path)
	if err != nil {
		return nil, nil, err
	}
	if !known.is(identity{statOf(st).inode(), disk.BirthOf(f)}) {
		f.Close()
		return nil, nil, errMoved
	}
	return f, st, nil
}

// errMoved says that a file stands elsewhere than where it was found.
var errMoved = fmt.Errorf("it was moved: %w", fs.ErrNotExist)

// contentOf looks how a file is compressed. It closes the file where it fails.
func contentOf(f *disk.Handle, st fs.FileInfo) (*content, error) {
	c := &content{file: f, size: st.Size()}
	var first [48]byte
	n, _ := f.ReadAt(first[:], 0)
	if event.IsFile(first[:n]) {
		if !event.FileIsWhole(first[:], st.Size()) {
			return nil, fmt.Errorf("%w: it says that it is larger", errPacked)
		}
		c.reader = events{event.NewFileReader(f), f}
		return c, nil
	}
	kind, foreign := roll.Sniff(first[:n])
	c.foreign = foreign
	if kind == roll.NoCompression {
		return c, nil
	}
	reader, err := roll.DecompressAs(f, kind)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", errPacked, err)
	}
	c.reader = reader
	return c, nil
}

// events is an event file of Windows, which is read as lines of XML.
type events struct {
	io.Reader
	io.Closer
}

// errPacked says that a file is compressed, and cannot be decompressed.
var errPacked = errors.New("it cannot be decompressed, or is not all there yet")

// mayBePacked tells whether a file has too little yet to tell whether it is read as it stands.
func mayBePacked(head []byte) bool { return roll.MayBePacked(head) || event.MayBeFile(head) }

func (c *content) packed() bool { return c.reader != nil }

func (c *content) close() {
	if c.kept {
		return
	}
	if c.reader != nil {
		c.reader.Close()
		return
	}
	c.file.Close()
}

// read reads the bytes at an offset, which must not lie before those that were
// read last. Where there are less it returns io.EOF; another error says that
// the content cannot be read, or is not all there yet.
func (c *content) read(b []byte, at int64) (n int, err error) {
	if c.reader == nil {
		return c.file.ReadAt(b, at)
	}
	if skip := at - c.at; skip > 0 {
		skipped, err := io.CopyN(io.Discard, c.reader, skip)
		if c.at += skipped; err != nil {
			return 0, err
		}
	}
	for n < len(b) && err == nil {
		var more int
		more, err = c.reader.Read(b[n:])
		n += more
	}
	c.at += int64(n)
	return n, err
}

// has tells whether a piece of the content has a fingerprint; short tells that
// the content ends before.
func (c *content) has(p fingerprint) (same, short bool, err error) {
	b := make([]byte, p.Length)
	n, err := c.read(b, p.At)
	switch {
	case n == p.Length:
		return printOf(p.At, b) == p, false, nil
	case err == io.EOF:
		return false, true, nil
	}
	return false, false, err
}

// hasTail tells whether what was read last of a source stands in the content;
// short tells that it ends before.
func (c *content) hasTail(s *source) (same, short bool, err error) {
	if len(s.tail) == 0 {
		return c.has(s.Tail)
	}
	b := make([]byte, len(s.tail))
	n, err := c.read(b, s.read-int64(len(b)))
	switch {
	case n == len(b):
		return bytes.Equal(b, s.tail), false, nil
	case err == io.EOF:
		return false, true, nil
	}
	return false, false, err
}
