package tail

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/core/lines"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
	"oakbarrel/core/wire"
)

const (
	chunkSize  = 64 << 10  // bytes that are read at once
	bufferSize = 256 << 10 // bytes that a line may have to be read as one
	turnSize   = 1 << 20   // bytes of a file before another has its turn
)

// streamNames returns the names under which outlets know the streams of a source.
func (f *Follower) streamNames(s *source) []string {
	if f.settings.Wrapping == Bare {
		return []string{s.ID}
	}
	return []string{s.ID + "/stdout", s.ID + "/stderr"}
}

// begin finds out where a source is to be read from: each stream from where the
// outlet is that has the least of it.
func (f *Follower) begin(s *source) {
	settings := s.settings
	if settings == nil { // until its file is found
		settings = &f.settings.Lines
	}
	s.streams = s.streams[:0]
	s.read = -1
	for _, name := range f.streamNames(s) {
		st := stream{from: max(s.Begin, s.Position), maker: lines.NewMaker(settings)}
		if taken := f.sink.Taken(name, s.Begin); len(taken) > 0 {
			slices.Sort(taken)
			st.from, st.bounds = taken[0], slices.Compact(taken)[1:]
		}
		st.mark = record.Mark{Source: name, Offset: st.from}
		s.streams = append(s.streams, st)
		if s.read < 0 || st.from < s.read {
			s.read = st.from
		}
	}
	if s.Done && s.read < s.Position { // an outlet has lost what it had not written down
		s.Done = false
	}
	s.dirty = true
	f.publish(s)
}

// publish lets others see how far a source is passed on.
func (f *Follower) publish(s *source) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range s.streams {
		f.positions[s.streams[i].mark.Source] = s.streams[i].mark.Offset
	}
}

// readTurn reads some of a source, and tells whether its records were taken.
func (f *Follower) readTurn(s *source) bool {
	s.dirty, s.retry = false, time.Time{}
	packed := roll.IsCompressed(s.real)
	var content *content
	if packed {
		if content = f.openPacked(s); content == nil {
			return true
		}
		defer content.close()
	} else if s.file == nil && !f.open(s) {
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
		return f.readAll(s, content)
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
	file, st, err := openRegular(s.real)
	if err == nil && !s.is(statOf(st)) {
		file.Close()
		err = fs.ErrNotExist
	}
	if err != nil {
		f.missed(s, err)
		return false
	}
	s.file = file
	return true
}

func (f *Follower) openPacked(s *source) *content {
	content, err := openContent(s.real)
	if err != nil {
		f.missed(s, err)
		return nil
	}
	if s.Head.Length == 0 {
		f.learnPacked(s)
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
	s.lastSize = st.Size()
	if f.urgent {
		if err := f.save(); err != nil {
			f.fail(s, fmt.Errorf("what is followed cannot be written down: %w", err))
			return 0, true, true
		}
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
		f.line(s, b[used:], at+int64(used), at+int64(n), now)
		used, s.partial = n, 0
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
	if n > len(s.head) && (len(s.head) > 0 || n >= strongPrint || f.lastIsDue(s) || bytes.IndexByte(b[:n], '\n') >= 0) { // less than a line tells nothing
		if len(s.head) == 0 {
			f.urgent = true // with nothing of it written down it could not be known again
		}
		s.head = append(s.head[:0], b[:n]...)
		s.Head, f.altered = printOf(s.Head.At, s.head), true
	}
	return true
}

// skipHole passes over the NULs that stand at the beginning of a file whose
// writer went on where it was when the file was cut. It returns false where
// nothing else stands there yet.
func (f *Follower) skipHole(s *source) bool {
	at, err := unix.Seek(int(s.file.Fd()), 0, unix.SEEK_DATA)
	if err != nil {
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
	f.altered, f.urgent = true, true
	for i := range s.streams {
		s.streams[i].from = max(s.streams[i].from, at)
		s.streams[i].mark.Offset = s.streams[i].from
	}
	f.log.Info("a file begins with a hole, which its writer left that went on where it was when the file was cut", "path", s.Path, "bytes", at)
	return true
}

// takeLines takes the whole lines of b, which stands at an offset, and returns their length.
func (f *Follower) takeLines(s *source, b []byte, at int64, now time.Time) (used int) {
	f.received = record.StampOf(now)
	if s.long != nil {
		return 0
	}
	for used < len(b) {
		start := at + int64(used)
		n := bytes.IndexByte(b[used:], '\n') + 1
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

// bound returns the next place behind an offset where a record has to end, 0 for none.
func (st *stream) bound(at int64) int64 {
	for len(st.bounds) > 0 && st.bounds[0] <= at {
		st.bounds = st.bounds[1:]
	}
	if len(st.bounds) == 0 {
		return 0
	}
	return st.bounds[0]
}

// takeLong takes a line that is longer than the buffer: its beginning is kept
// until its end has come.
func (f *Follower) takeLong(s *source, b []byte, at int64, now time.Time) (used int) {
	if s.long == nil {
		most := len(b)
		if largest := s.settings.Largest; largest > 0 {
			most = min(most, largest)
		}
		s.long, s.longEnd = append([]byte{}, b[:most]...), at+int64(len(b))
		return len(b)
	}
	end := bytes.IndexByte(b, '\n')
	if end < 0 {
		s.longEnd += int64(len(b))
		if len(b) > 0 || s.since.IsZero() || !f.lastIsDue(s) {
			return len(b)
		}
	}
	text := s.long
	s.longEnd += int64(end + 1)
	s.long = nil
	f.add(s, 0, &lines.Line{Text: text, Start: s.read, End: s.longEnd, Received: record.StampOf(now), Cut: true}, now)
	return end + 1
}

// line takes one line with its end mark, where it has one.
func (f *Follower) line(s *source, b []byte, start, end int64, now time.Time) {
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

// unwrap takes a line of a container's log.
func (f *Follower) unwrap(s *source, l *lines.Line, now time.Time) {
	var w wire.Wrapped
	if f.settings.Wrapping == Docker {
		w, _ = f.unwrapper.Docker(l.Text)
		w.Text = f.out.Keep(w.Text)
	} else {
		w, _ = f.unwrapper.CRI(l.Text)
	}
	l.Text, l.Stream, l.Time = w.Text, w.Stream, w.Time
	if l.Stream == record.Stderr {
		l.Source = 1
	}
	st := &s.streams[l.Source]
	if l.End <= st.from {
		return
	}
	f.endAtBound(s, int(l.Source))
	if w.Part || st.parts {
		st.join(l, s.settings.Largest)
		if w.Part {
			st.last = now
			f.noteBound(s, int(l.Source), l.Start, l.End)
			return
		}
		st.parts = false
		*l = st.first
		l.Text = f.out.Keep(st.part)
	}
	f.add(s, int(l.Source), l, now)
}

// join puts a message together that comes in parts.
func (st *stream) join(l *lines.Line, largest int) {
	if !st.parts {
		st.parts, st.begun, st.first, st.part = true, l.Start, *l, st.part[:0]
	}
	st.part = append(st.part, l.Text...)
	if largest > 0 && len(st.part) > largest {
		st.part, st.first.Cut = st.part[:largest], true
	}
	st.first.End, st.first.Source = l.End, l.Source
}

func (f *Follower) add(s *source, stream int, l *lines.Line, now time.Time) {
	st := &s.streams[stream]
	start, end := l.Start, l.End
	st.maker.Add(&f.out, l)
	st.last = now
	if len(st.bounds) > 0 {
		f.noteBound(s, stream, start, end)
	}
}

// noteBound ends what waits in a stream where some outlet has a record that
// ends there. In a log that goes on in another that is known only where more
// comes: at its very end the record went on.
func (f *Follower) noteBound(s *source, stream int, start, end int64) {
	st := &s.streams[stream]
	if st.bound(start) != end {
		return
	}
	st.bounded = true
	if !f.goesOn(s) {
		f.endAtBound(s, stream)
	}
}

func (f *Follower) endAtBound(s *source, stream int) {
	if st := &s.streams[stream]; st.bounded {
		st.bounded = false
		f.flush(s, stream)
	}
}

// goesOn tells whether what has begun at the end of a source is handed over to another.
func (f *Follower) goesOn(s *source) bool {
	return f.settings.Wrapping != Bare && slices.ContainsFunc(f.sources, func(other *source) bool { return other.waits == s && other.follows() })
}

// pass passes on what was made of the lines, and how far the source is read.
func (f *Follower) pass(s *source) bool {
	moved := false
	for i := range s.streams {
		st := &s.streams[i]
		offset := max(st.waiting(s.read), st.mark.Offset)
		moved = moved || offset > st.mark.Offset
		f.out.Batch.Marks = append(f.out.Batch.Marks, record.Mark{Source: st.mark.Source, Offset: offset})
	}
	paid := f.payDebts(s)
	moved = moved || len(paid) > 0
	if len(f.out.Batch.Records) == 0 && !moved {
		f.out.Reset()
		return true
	}
	if !f.sink.Pass(&f.out) {
		return false
	}
	for i := range s.streams {
		s.streams[i].mark = f.out.Batch.Marks[i]
	}
	for _, d := range paid {
		st := &d.source.streams[d.stream]
		st.handed, st.mark.Offset = false, d.source.read
		f.publish(d.source)
	}
	f.out.Reset()
	f.altered = true
	f.publish(s)
	return true
}

// inherited and the number of a stream stand for the source of what was handed
// over and has not gone on, until its place among the marks is known.
const inherited = 200

// handOver has a container's message or event that has begun at the end of a
// rolled log go on in the log that follows it: the engine rolls anywhere.
func (f *Follower) handOver(from, to *source) {
	for i := range min(len(from.streams), len(to.streams)) {
		a, b := &from.streams[i], &to.streams[i]
		_, waits := a.maker.Waiting()
		if a.handed || !a.parts && !waits || b.mark.Offset != to.Begin || to.read != to.Begin {
			continue
		}
		kept := a.waiting(from.read)
		if a.parts {
			b.parts, b.begun, b.first, b.part = true, to.Begin, a.first, append(b.part[:0], a.part...)
			b.first.Start, b.first.End, b.first.Source = to.Begin, from.read, inherited+uint8(i)
			a.parts = false
		}
		a.bounded = false
		if waits {
			b.maker.Inherit(a.maker, to.Begin, inherited+uint8(i), from.read)
		}
		a.handed, a.kept, b.last = true, kept, a.last
		b.owes = append(append(b.owes, a.owes...), debt{from, i})
		a.owes = nil
	}
}

// payDebts adds the marks to the batch that are due with it: what was handed
// over is among its records, or was passed on before.
func (f *Follower) payDebts(s *source) (paid []debt) {
	for i := range s.streams {
		st := &s.streams[i]
		start, waits := st.maker.Waiting()
		if len(st.owes) == 0 || st.handed || st.parts && st.begun == s.Begin || waits && start == s.Begin {
			continue
		}
		for k := range f.out.Batch.Records {
			if r := &f.out.Batch.Records[k]; r.Source == inherited+uint8(i) {
				r.Source = uint8(len(f.out.Batch.Marks) + len(st.owes) - 1)
			}
		}
		for _, d := range st.owes {
			f.out.Batch.Marks = append(f.out.Batch.Marks, record.Mark{Source: d.source.streams[d.stream].mark.Source, Offset: d.source.read})
		}
		paid, st.owes = append(paid, st.owes...), nil
	}
	return paid
}

func (f *Follower) lastIsDue(s *source) bool {
	return s.partial > 0 && !f.now().Before(s.since.Add(f.settings.LastWait))
}

// isDue tells whether something of a source has waited for long enough.
func (f *Follower) isDue(s *source) bool {
	if f.lastIsDue(s) {
		return true
	}
	for i := range s.streams {
		if f.streamIsDue(s, &s.streams[i]) {
			return true
		}
	}
	return false
}

func (f *Follower) streamIsDue(s *source, st *stream) bool {
	if st.parts {
		return !f.now().Before(st.last.Add(f.settings.LastWait))
	}
	_, waits := st.maker.Waiting()
	return waits && !f.now().Before(st.last.Add(f.joinWait(s)))
}

// flushDue makes records of events that have waited for long enough for more.
func (f *Follower) flushDue(s *source) bool {
	for i := range s.streams {
		if st := &s.streams[i]; f.streamIsDue(s, st) {
			f.flush(s, i)
		}
	}
	return f.pass(s)
}

func (f *Follower) flush(s *source, stream int) {
	st := &s.streams[stream]
	if st.parts {
		st.parts = false
		l := st.first
		l.Text = f.out.Keep(st.part)
		st.maker.Add(&f.out, &l)
	}
	st.maker.Flush(&f.out)
}

// wasCut begins a source with what stands in a file now that was cut, and looks
// for a copy with the rest of what stood there before.
func (f *Follower) wasCut(s *source, st stat) {
	now := f.now()
	window := now.Sub(s.looked)
	if s.looked.IsZero() {
		window = 0
	}
	c := candidate{path: s.Path, real: s.real, stat: st}
	if st.links == 0 {
		c.real += " (removed)" // its name is another's now
	}
	next := &source{ID: newID(), file: s.file, cuts: s.cuts + 1, window: max(s.window, window)}
	s.file = nil
	f.drop(s)
	next.Device, next.Inode = st.device, st.number
	copied := false
	f.byPath[c.real] = next // so that it is no neighbour
	for _, d := range f.copies {
		if copied = d.of == s && f.takesOver(s, &probe{candidate: d.candidate}, true); copied {
			break
		}
	}
	if !copied {
		for _, n := range f.neighbours(s) {
			if copied = f.takesOver(s, n, true); copied {
				break
			}
		}
	}
	for _, other := range f.sources {
		if other.waits == s {
			other.waits = next
		}
	}
	if copied && !s.Done {
		next.waits = s
	}
	if !copied {
		s.Gone, s.known = &now, false
		f.release(s)
	}
	f.log.Info("a file was cut", "path", c.path, "read_up_to", s.read, "copy", copied, "looked_at_before", window.Round(time.Millisecond).String())
	f.start(next, c)
	f.sortSources()
}

// release lets go of a source that has no file any more: what is whole of it is
// passed on, unless another has to go on with it.
func (f *Follower) release(s *source) {
	if !f.goesOn(s) {
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

// finish ends the reading of a file to which nobody writes any more.
func (f *Follower) finish(s *source) {
	f.release(s)
	s.close()
	now := f.now()
	s.Done, s.Size, s.known, f.altered = true, s.lastSize, false, true
	if f.byPath[s.real] != s {
		s.Gone = &now
	}
}

// readAll reads a file that does not grow to its end.
func (f *Follower) readAll(s *source, content *content) bool {
	held := 0 // bytes at the beginning of the buffer that are no whole line yet
	for at := s.read; ; {
		n, err := content.read(f.buffer[held:], at+int64(held))
		n += held
		now := f.now()
		if f.urgent {
			if err := f.save(); err != nil {
				f.fail(s, err)
				return true
			}
		}
		b := f.buffer[:n]
		used := f.takeLines(s, b, at, now)
		if used == 0 && n == len(f.buffer) || s.long != nil {
			used = f.takeLong(s, b, at, now)
		}
		if err == io.EOF && used < n {
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
			f.finishPacked(s)
			return true
		case err != nil:
			f.fail(s, fmt.Errorf("it cannot be decompressed, or is not all there yet: %w", err))
			return true
		}
		held = copy(f.buffer, b[used:])
	}
}

func (f *Follower) finishPacked(s *source) {
	f.reachedEnd(s)
	f.release(s)
	s.Done, s.Size, f.altered = true, s.lastSize, true
}

// learnPacked learns how a compressed file begins that is new.
func (f *Follower) learnPacked(s *source) {
	content, err := openContent(s.real)
	if err != nil {
		return
	}
	defer content.close()
	b := make([]byte, printSize)
	n, _ := content.read(b, 0)
	if n > 0 {
		s.Head, f.altered, f.urgent = printOf(0, b[:n]), true, true
	}
}
