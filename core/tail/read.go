package tail

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/event"
	"oakbarrel/core/lines"
	"oakbarrel/core/record"
)

const (
	chunkSize  = 64 << 10  // bytes that are read at once
	bufferSize = 256 << 10 // bytes that a line may have to be read as one
	turnSize   = 1 << 20   // bytes of a file before another has its turn
)

// readTurn reads some of a source, and tells whether its records were taken.
func (f *Follower) readTurn(s *source) bool {
	s.dirty, s.retry = false, time.Time{}
	packed := s.Packed
	switch {
	case packed && !f.unpack(s), !packed && s.file == nil && !f.open(s):
		return true
	}
	if before := s.waits; before != nil { // what comes now comes behind its last event
		s.waits = nil
		if f.settings.Wrapping != Bare {
			f.handOver(before, s)
		}
		if !f.flushAll(before) {
			return false
		}
	}
	s.used, s.trouble = f.now(), ""
	if packed {
		return f.readPacked(s)
	}
	for done := 0; done < turnSize; {
		n, end, ok := f.readChunk(s)
		switch {
		case !ok:
			return false
		case end:
			return f.flushDue(s)
		}
		done += n
	}
	s.dirty = true
	return true
}

func (f *Follower) open(s *source) bool {
	file, _, err := openFile(s.real, s.identity())
	if err != nil {
		f.missed(s, err)
		return false
	}
	s.file = file
	f.opened++
	s.learnTail(&content{file: file})
	return true
}

func (f *Follower) openPacked(s *source) *content {
	content, err := openIs(s.real, s.identity())
	if err != nil {
		f.missed(s, err)
		return nil
	}
	if s.Head.Length == 0 && !f.learnPacked(s) {
		content.close()
		return nil
	}
	return content
}

// missed notes that the file of a source cannot be opened. One that stands
// there no more has moved since the last look: until the next has found it,
// what was written later waits for it.
func (f *Follower) missed(s *source, err error) {
	f.looked = time.Time{}
	if errors.Is(err, fs.ErrNotExist) {
		s.dirty = true
		return
	}
	f.fail(s, err)
}

// fail notes why a source cannot be read, and tells it once.
func (f *Follower) fail(s *source, err error) {
	why := plainError(err)
	if s.trouble != why {
		f.log.Warn("a file cannot be read", "path", s.Path, "why", why)
	}
	s.trouble, s.retry = why, f.now().Add(settleTime)
}

// readChunk reads on and passes on what are whole lines. It returns how many
// bytes were taken and whether the end was reached; ok is false where the
// process ends.
func (f *Follower) readChunk(s *source) (taken int, end, ok bool) {
	at := s.read
	if s.long != nil {
		s.passHole()
		at = s.longEnd
	}
	buffer := f.buffer[:chunkSize]
	n, err := s.file.ReadAt(buffer, at)
	if n == chunkSize && s.long == nil && bytes.IndexByte(buffer, '\n') < 0 {
		var more int
		more, err = s.file.ReadAt(f.buffer[n:], at+int64(n))
		n += more
	}
	b := f.buffer[:n]
	if err != nil && err != io.EOF {
		f.fail(s, err)
		return 0, true, true
	}
	// What was read counts only if the file is the same still: looked at before,
	// it could be cut in between.
	st, err := s.file.Stat()
	if err != nil {
		f.fail(s, err)
		return 0, true, true
	}
	if f.becamePacked(s) {
		return 0, true, true
	}
	if s.Head.Length == 0 && mayBePacked(b) {
		return 0, true, true
	}
	if s.read == 0 && n > 0 && f.hasHole(s, st.Size()) {
		return 0, !f.skipHole(s), true
	}
	if s.Short && st.Size() <= s.read {
		f.finish(s)
		return 0, true, true
	}
	if st.Size() < at+int64(n) || st.Size() < s.read+s.partial || !f.sameHead(s) {
		f.wasCut(s, statOf(st))
		return 0, true, true
	}
	s.lastSize, s.encoding = st.Size(), encodingOf(s.head)
	if !f.isKnown() {
		s.dirty = true
		return 0, true, true
	}
	now := f.now()
	used := f.takeLines(s, b, at, now)
	if used == 0 && n == len(f.buffer) || s.long != nil {
		used = f.takeLong(s, b, at, now)
	}
	s.looked = now
	rest := int64(n - used)
	if s.long != nil {
		rest = s.longEnd - s.read
	}
	if rest != s.partial {
		s.partial, s.since = rest, now
	}
	if s.long == nil && f.lastIsDue(s) && at+int64(n) == st.Size() {
		whole := used + (n-used)/s.encoding.unitSize()*s.encoding.unitSize()
		f.line(s, b[used:whole], at+int64(used), at+int64(whole), now)
		used, s.partial = whole, 0
	}
	f.advance(s, b[:used], at)
	if !f.pass(s) {
		return used, true, false
	}
	if end = at+int64(n) == st.Size(); end {
		f.reachedEnd(s)
	}
	return used, end || used == 0 && s.long == nil, true
}

// advance notes that what stands at an offset was taken.
func (f *Follower) advance(s *source, b []byte, at int64) {
	if s.long != nil { // its end decides how far the source is read
		return
	}
	if at != s.read {
		s.tail = s.tail[:0] // what stands between was not kept
	}
	s.remember(b)
	s.read = at + int64(len(b))
}

// reachedEnd notes that a source is read to its end.
func (f *Follower) reachedEnd(s *source) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.caughtUp[s.ID] = f.now()
}

// sameHead tells whether the file begins as it did, and learns more of its
// beginning where there is more.
func (f *Follower) sameHead(s *source) bool {
	var b [printSize]byte
	n, _ := s.file.ReadAt(b[:], s.Head.At)
	if s.head == nil && s.Head.Length > 0 {
		if n < s.Head.Length || printOf(s.Head.At, b[:s.Head.Length]) != s.Head {
			return false
		}
		s.head = append([]byte{}, b[:s.Head.Length]...)
	}
	if n < len(s.head) || !bytes.Equal(b[:len(s.head)], s.head) {
		return false
	}
	if n > len(s.head) && !mayBePacked(b[:n]) && (len(s.head) > 0 || n >= strongPrint || f.lastIsDue(s) || bytes.IndexByte(b[:n], '\n') >= 0) { // less than a line tells nothing
		if len(s.head) == 0 {
			f.urgent = true // with nothing of it written down it could not be known again
		}
		s.head = append(s.head[:0], b[:n]...)
		s.Head = printOf(s.Head.At, s.head)
		f.alter(s)
	}
	return true
}

// skipHole passes over the NULs that stand at the beginning of a file whose
// writer went on where it was when the file was cut. It returns false where
// nothing else stands there yet.
func (f *Follower) skipHole(s *source) bool {
	at, found, err := disk.SkipHole(s.file, 0)
	if err != nil || !found {
		return false
	}
	for {
		n, _ := s.file.ReadAt(f.buffer, at)
		rest := bytes.TrimLeft(f.buffer[:n], "\x00")
		at += int64(n - len(rest))
		if len(rest) > 0 {
			break
		}
		if n == 0 {
			return false
		}
	}
	s.Begin, s.read, s.Head.At = at, at, at
	f.alter(s)
	f.urgent = true
	for i := range s.streams {
		s.streams[i].from = max(s.streams[i].from, at)
		s.streams[i].mark.Offset = s.streams[i].from
	}
	f.log.Info("a file begins with a hole, which its writer left that went on where it was when the file was cut", "path", s.Path, "bytes", at)
	return true
}

// passHole passes over a hole in a line of which the rest is cut off anyway: a file
// may be said to have more than all disks together.
func (s *source) passHole() {
	at, found, err := disk.SkipHole(s.file, s.longEnd)
	if err == nil && !found {
		if st, err := s.file.Stat(); err == nil {
			at = st.Size()
		}
	}
	s.longEnd = max(s.longEnd, at)
}

// takeLines takes the whole lines of b, which stands at an offset, and returns their length.
func (f *Follower) takeLines(s *source, b []byte, at int64, now time.Time) (used int) {
	f.received = record.StampOf(now)
	if s.long != nil {
		return 0
	}
	for used < len(b) {
		start := at + int64(used)
		n := 0
		if s.encoding == plain {
			n = bytes.IndexByte(b[used:], '\n') + 1 // a call less for each line
		} else {
			n = s.encoding.lineEnd(b[used:])
		}
		if f.settings.Wrapping == Bare {
			if bound := s.streams[0].bound(start); bound > 0 && bound <= at+int64(len(b)) && (n == 0 || bound < start+int64(n)) {
				n = int(bound - start) // an outlet has it up to here
			}
		}
		if n == 0 {
			break
		}
		f.line(s, b[used:used+n], start, start+int64(n), now)
		used += n
	}
	return used
}

// takeLong takes a line that is longer than the buffer: its beginning is kept
// until its end has come.
func (f *Follower) takeLong(s *source, b []byte, at int64, now time.Time) (used int) {
	if s.encoding != plain {
		b = b[:len(b)&^1] // whole characters
	}
	if s.long == nil {
		most := len(b)
		if largest := s.settings.Largest; largest > 0 {
			most = min(most, largest*s.encoding.unitSize())
		}
		s.long, s.longEnd = append([]byte{}, b[:most]...), at+int64(len(b))
		return len(b)
	}
	end := s.encoding.lineEnd(b)
	if end == 0 {
		s.longEnd += int64(len(b))
		if len(b) > 0 || s.since.IsZero() || !f.lastIsDue(s) {
			return len(b)
		}
	}
	f.endLong(s, s.longEnd+int64(end), now)
	return end
}

// line takes one line with its end mark, where it has one.
func (f *Follower) line(s *source, b []byte, start, end int64, now time.Time) {
	if s.encoding != plain || start == s.Begin {
		b = s.text(b, start)
	}
	if n := len(b); n > 0 && b[n-1] == '\n' {
		b = b[:n-1]
	}
	l := &lines.Line{Text: b, Start: start, End: end, Received: f.received}
	if f.settings.Wrapping != Bare {
		f.unwrap(s, l, now)
		return
	}
	if n := len(b); n > 0 && b[n-1] == '\r' {
		l.Text = b[:n-1]
	}
	if end > s.streams[0].from {
		f.add(s, 0, l, now)
	}
}

func (f *Follower) lastIsDue(s *source) bool {
	return s.partial > 0 && !f.now().Before(s.since.Add(f.settings.LastWait))
}

// release lets go of a source that has no file any more: what is whole of it is
// passed on. What a container's log has begun waits on, as the next log may not
// be there yet.
func (f *Follower) release(s *source) {
	if f.settings.Wrapping == Bare {
		f.flushAll(s)
	}
	s.long, s.partial = nil, 0
}

// flushAll passes on the events of a source that may go on.
func (f *Follower) flushAll(s *source) bool {
	for i := range s.streams {
		f.flush(s, i)
	}
	return len(s.streams) == 0 || f.pass(s)
}

// text returns what stands at an offset as UTF-8, without the mark that a file may begin with.
func (s *source) text(b []byte, start int64) []byte {
	b = s.encoding.text(b)
	if start == s.Begin {
		b = bytes.TrimPrefix(b, mark)
	}
	return b
}

// finish ends the reading of a file to which nobody writes any more.
func (f *Follower) finish(s *source) {
	f.release(s)
	s.close()
	now := f.now()
	s.Done, s.Size, s.Length, s.known = true, s.lastSize, s.read, false
	f.alter(s)
	if f.byPath[s.real] != s {
		s.Gone = &now
	}
}

// endLong takes a long line that ends at an offset.
func (f *Follower) endLong(s *source, end int64, now time.Time) {
	text := s.text(s.long, s.read)
	s.long, s.longEnd = nil, end
	f.add(s, 0, &lines.Line{Text: text, Start: s.read, End: end, Received: record.StampOf(now), Cut: true}, now)
}

// unpacking is a compressed file that is being read.
type unpacking struct {
	content *content
	rest    []byte // what was decompressed and is no whole line yet
}

// mostUnpacked is how many compressed files are read at a time.
const mostUnpacked = 4

// unpack opens a compressed file to be read. Where as many are as may be, it waits.
func (f *Follower) unpack(s *source) bool {
	if s.unpacking != nil {
		return true
	}
	var reading []*source
	for _, other := range f.sources {
		if other.unpacking != nil {
			reading = append(reading, other)
		}
	}
	if len(reading) >= mostUnpacked {
		i := slices.IndexFunc(reading, func(other *source) bool { return !f.readable(other) })
		if i < 0 {
			s.dirty = true
			return false
		}
		reading[i].close()
	}
	content := f.openPacked(s)
	if content == nil {
		return false
	}
	head := s.headPacked()
	if event.IsFile(head) {
		content.close()
		f.fail(s, errors.New("it is an event file that is compressed; decompress it, as it is not read from its beginning to its end"))
		return false
	}
	s.learnTail(content)
	s.unpacking, s.encoding = &unpacking{content: content}, encodingOf(head)
	return true
}

// headPacked reads how a compressed file begins.
func (s *source) headPacked() []byte {
	content, err := openIs(s.real, s.identity())
	if err != nil {
		return nil
	}
	defer content.close()
	head := make([]byte, 2*surely)
	n, _ := content.read(head, s.Begin)
	return head[:n]
}

// readPacked reads some of a compressed file, which does not grow.
func (f *Follower) readPacked(s *source) bool {
	u := s.unpacking
	held := copy(f.buffer, u.rest) // bytes at the beginning of the buffer that are no whole line yet
	at := s.read
	if s.long != nil {
		at = s.longEnd
	}
	for end := at + turnSize; at < end && f.isKnown(); {
		n, err := u.content.read(f.buffer[held:], at+int64(held))
		n += held
		now := f.now()
		b := f.buffer[:n]
		used := f.takeLines(s, b, at, now)
		if used == 0 && n == len(f.buffer) || s.long != nil {
			used = f.takeLong(s, b, at, now)
		}
		switch {
		case err == io.EOF && s.long != nil:
			f.endLong(s, at+int64(n), now)
		case err == io.EOF && used < n:
			f.line(s, b[used:], at+int64(used), at+int64(n), now)
			used = n
		}
		f.advance(s, b[:used], at)
		at += int64(used)
		if !f.pass(s) {
			return false
		}
		switch {
		case err == io.EOF:
			s.close()
			f.finishPacked(s)
			return true
		case err != nil:
			s.close()
			f.fail(s, fmt.Errorf("it cannot be decompressed, or is not all there yet: %w", err))
			return true
		}
		held = copy(f.buffer, b[used:])
	}
	u.rest = append(u.rest[:0], f.buffer[:held]...)
	s.dirty = true
	return true
}

func (f *Follower) finishPacked(s *source) {
	f.reachedEnd(s)
	f.release(s)
	s.Done, s.Size, s.Length = true, s.lastSize, s.read
	f.alter(s)
}

// learnPacked learns how a compressed file begins that is new.
func (f *Follower) learnPacked(s *source) bool {
	content, err := openIs(s.real, s.identity())
	if err != nil {
		f.missed(s, err)
		return false
	}
	defer content.close()
	b := make([]byte, printSize)
	n, _ := content.read(b, 0)
	if n > 0 {
		s.Head, f.urgent = printOf(0, b[:n]), true
		f.alter(s)
	}
	return true
}
