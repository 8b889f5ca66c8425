package tail

import (
	"bytes"
	"cmp"
	"errors"
	"io"
	"io/fs"

	"oakbarrel/core/roll"
)

// probe is a file that is compared with sources. What stands in it is read when
// it is first asked for.
type probe struct {
	candidate
	look    *looking
	moved   bool // another stands at its path now, or none: nothing is known of it
	loaded  bool
	head    []byte // the beginning of its content
	err     error  // the content cannot be read, or not to its end
	packed  bool
	foreign string
	heads   map[int]fingerprint // of the beginning, by length
	keeps   bool                // a plain file stays open from open to release
	kept    *content
	ending  []byte // the end of a plain file, nil until it is asked for
}

// open opens the file, if it still stands where it was found.
func (p *probe) open() (*content, error) {
	if p.kept != nil {
		return p.kept, nil
	}
	c, err := openIs(p.real, p.stat.identity())
	if errors.Is(err, fs.ErrNotExist) {
		p.moved, p.look.blurred = true, true
	}
	if err == nil && p.keeps && !c.packed() {
		p.kept, c.kept = c, true
	}
	return c, err
}

// release closes a file that was kept open.
func (p *probe) release() {
	if p.kept != nil {
		p.kept.kept = false
		p.kept.close()
		p.kept = nil
	}
}

func (p *probe) load() {
	if p.loaded {
		return
	}
	p.loaded, p.heads = true, map[int]fingerprint{}
	content, err := p.open()
	if err != nil {
		p.err, p.packed = err, errors.Is(err, errPacked) || roll.IsCompressed(p.real)
		return
	}
	defer content.close()
	p.packed, p.foreign = content.packed(), content.foreign
	p.head = make([]byte, printSize)
	n, err := content.read(p.head, 0)
	p.head = p.head[:n]
	if err != io.EOF {
		p.err = err
	}
}

// begins tells whether the file begins as a fingerprint says.
func (p *probe) begins(print fingerprint) (bool, error) {
	if print.At > 0 { // behind a hole
		return p.holds(print)
	}
	if print.Length > len(p.head) {
		return false, p.err
	}
	return p.headOf(print.Length).Sum == print.Sum, nil
}

// headOf returns the fingerprint of so many bytes of the beginning.
func (p *probe) headOf(length int) fingerprint {
	if p.heads[length] == (fingerprint{}) {
		p.heads[length] = printOf(0, p.head[:length])
	}
	return p.heads[length]
}

func (p *probe) holds(print fingerprint) (bool, error) {
	content, err := p.open()
	if err != nil {
		return false, err
	}
	defer content.close()
	same, _, err := content.has(print)
	return same, err
}

// compare tells how the content of a file compares with that of a source.
func (p *probe) compare(s *source) likeness {
	if s.Head.Length == 0 {
		return different
	}
	p.load()
	same, err := p.begins(s.Head)
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return unknown
	case same:
		return p.compareRest(s)
	case s.Head.At == 0 && len(p.head) > 0 && len(p.head) < len(s.head) && bytes.HasPrefix(s.head, p.head):
		return shorter
	}
	return different
}

// compareRest compares what stands behind the beginning, which is the same. The
// file is the same as the source if what was read last stands in it where it was
// read; what is known of that may be older than a kill.
func (p *probe) compareRest(s *source) likeness {
	end := s.tailEnd()
	if end > s.Head.end() {
		content, err := p.open()
		if err != nil {
			return unknown
		}
		defer content.close()
		same, short, err := content.hasTail(s)
		switch {
		case err != nil:
			return unknown
		case short:
			return p.compareAll(s)
		case !same:
			return different
		}
	}
	if s.read > max(end, s.Head.end()) && !s.is(p.stat) {
		return p.compareAll(s)
	}
	return p.compareEnd(s, same)
}

// compareEnd compares the end of a plain file with what stands there in the
// source's own, where that has it.
func (p *probe) compareEnd(s *source, so likeness) likeness {
	if p.packed || s.file == nil || p.stat.Size <= s.Head.end() || s.Packed || !p.readEnding() {
		return so
	}
	var own [printSize]byte
	n, _ := s.file.ReadAt(own[:len(p.ending)], p.stat.Size-int64(len(p.ending)))
	if !bytes.Equal(p.ending[:n], own[:n]) {
		return different
	}
	return so
}

func (p *probe) readEnding() bool {
	if p.ending != nil {
		return true
	}
	content, err := p.open()
	if err != nil {
		return false
	}
	defer content.close()
	b := make([]byte, min(p.stat.Size, printSize))
	n, _ := content.read(b, p.stat.Size-int64(len(b)))
	p.ending = b[:n]
	return true
}

// mostCompared is how much of two files is compared byte by byte.
const mostCompared = 64 << 20

// compareAll compares a file, up to where a source is read, with the source's own
// file, where that is there.
func (p *probe) compareAll(s *source) likeness {
	if p.look.cut[s] { // what stood in its own is gone
		return begunAlike
	}
	own, err := ownOf(s)
	if err != nil {
		return begunAlike
	}
	defer own.close()
	if so := p.compareOwn(own, s, s.read, s.read); so != same {
		return so
	}
	return p.compareEnd(s, same)
}

// compareCopy compares a file with a source's own as far as both go: only what is
// the same may be passed over.
func (p *probe) compareCopy(s *source) likeness {
	own, err := ownOf(s)
	if err != nil { // it was moved meanwhile: the next look finds it
		p.moved, p.look.blurred = true, true
		return unknown
	}
	defer own.close()
	return p.compareOwn(own, s, mostCompared, 0)
}

// compareOwn compares a file with a source's own. Where that was cut meanwhile the
// next look compares.
func (p *probe) compareOwn(own *content, s *source, upTo, least int64) likeness {
	so := p.compareWith(own, upTo, least)
	if so != different || own.packed() {
		return so
	}
	if begins, _, err := own.has(s.Head); err == nil && begins {
		return so
	}
	p.moved, p.look.blurred = true, true
	return unknown
}

// ownOf returns what stands in a source's own file, which stays open where it is.
func ownOf(s *source) (*content, error) {
	if s.file != nil {
		return &content{file: s.file, kept: true}, nil
	}
	return openIs(cmp.Or(s.real, s.Path), s.identity())
}

// compareWith compares a file with another up to an offset. Where one ends before
// they are the same as far as both go, if they have at least some bytes.
func (p *probe) compareWith(own *content, upTo, least int64) likeness {
	mine, err := p.open()
	if err != nil {
		return unknown
	}
	defer mine.close()
	a, b := make([]byte, chunkSize), make([]byte, chunkSize)
	for at := int64(0); at < min(upTo, mostCompared); {
		n, err := mine.read(a[:min(chunkSize, upTo-at)], at)
		m, _ := own.read(b[:n], at)
		switch {
		case !bytes.Equal(a[:m], b[:m]):
			return different
		case err != nil && err != io.EOF:
			return unknown
		case m < n && at+int64(m) < least:
			return begunAlike
		case err == io.EOF && at+int64(n) < least:
			return shorter
		case m < n || err == io.EOF:
			return same
		}
		at += int64(n)
	}
	if least > mostCompared {
		return begunAlike
	}
	return same
}

// hasLineEnd tells whether a line of the file ends at an offset.
func (p *probe) hasLineEnd(offset int64) bool {
	content, err := p.open()
	if err != nil {
		return false
	}
	defer content.close()
	last := make([]byte, min(2, offset)) // the mark and a NUL, in one form of UTF-16
	n, _ := content.read(last, offset-int64(len(last)))
	return n > 0 && (last[n-1] == '\n' || n == 2 && last[0] == '\n' && last[1] == 0)
}

// amount tells how much stands in the file.
func (p *probe) amount() amount {
	p.load()
	switch {
	case len(p.head) == 0 || !p.packed && mayBePacked(p.head):
		return nothing
	case len(p.head) >= strongPrint || p.head[0] == 0 || bytes.IndexByte(p.head, '\n') >= 0:
		return aLine
	}
	return lessThan
}

// seen gathers what the decision asks for.
func (p *probe) seen() seen {
	p.load()
	return seen{size: p.stat.Size, written: p.stat.Written, packed: p.packed, foreign: p.foreign, unreadable: p.err, content: p.amount()}
}
