package tail

import (
	"slices"
	"time"

	"oakbarrel/core/lines"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// stream is one flow of lines in a source. A plain file has one; the log of a
// container has two, what the program wrote to stdout and to stderr, whose lines
// stand in one file.
type stream struct {
	mark record.Mark // up to here its lines were passed on
	from int64       // lines that end here or before were taken by every outlet, and are not read again
	// bounds are the places, in order, where single outlets have stopped. A message
	// must end at each, so that an outlet gets it as a whole or not at all.
	bounds []int64
	maker  *lines.Maker // joins lines to messages
	last   time.Time    // when a line came last

	// A container's engine splits a long line of its program. While parts says that
	// more is to come, part holds what there is, begun is where it begins, and first
	// has its time and stream.
	parts bool
	part  []byte
	begun int64
	first lines.Line
	// left are the ends of the rolled logs in which the message began, as long as no
	// part of it has come from this log.
	left []record.Mark

	// A message of several lines or parts that started near the end of a rolled log
	// continues in the new log. The stream of the rolled log is handed over then: its
	// mark stays at kept, where the message starts, until the stream of the new log,
	// which holds it, has passed the message on.
	handed bool
	kept   int64
	holds  []held
}

// held is the stream of a rolled log whose last message waits in another stream.
type held struct {
	source *source
	stream int
}

// holdsBegun tells whether a container's log ends in the middle of a message, which
// the container's next log will continue.
func (f *Follower) holdsBegun(s *source) bool {
	return f.settings.Wrapping != Bare && slices.ContainsFunc(s.streams, func(st stream) bool {
		_, waits := st.maker.Waiting()
		return waits || st.parts
	})
}

// streamNames returns the names under which outlets know the streams of a source.
func (f *Follower) streamNames(s *source) []string {
	if f.settings.Wrapping == Bare {
		return []string{s.ID}
	}
	return []string{s.ID + "/stdout", s.ID + "/stderr"}
}

// beginStreams finds out where a source is to be read from: each stream from where the
// outlet is that has the least of it.
func (f *Follower) beginStreams(s *source) {
	settings := s.settings
	if settings == nil { // until its file is found
		settings = &f.settings.Lines
	}
	s.streams = s.streams[:0]
	s.read = -1
	for _, name := range f.streamNames(s) {
		st := stream{from: max(s.Begin, s.Position), maker: lines.NewMaker(name, settings)}
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
	if s.Done && !s.Short && s.read < max(s.Position, s.Length) { // an outlet has not got all of it
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

// waiting returns the least offset at which something begins that is not passed on yet.
func (st *stream) waiting(read int64) int64 {
	if st.handed {
		return st.kept
	}
	if st.parts {
		read = st.begun
	}
	if start, waits := st.maker.Waiting(); waits {
		read = min(read, start)
	}
	return read
}

// freePart gives the memory of a message back that was large.
func (st *stream) freePart() {
	if cap(st.part) > chunkSize {
		st.part = nil
	}
}

// inherited tells whether something waits that began in another log and had no
// line of this one yet.
func (st *stream) inherited() bool { return st.parts && st.left != nil || st.maker.Inherited() }

// bound returns the next place behind an offset where a record has to end, 0 for none.
func (st *stream) bound(at int64) int64 {
	for _, b := range st.bounds {
		if b > at {
			return b
		}
	}
	return 0
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
	i := 0
	if l.Stream == record.Stderr {
		i = 1
	}
	st := &s.streams[i]
	if l.End <= st.from {
		return
	}
	f.endAtBound(s, i, l.Start)
	if w.Part || st.parts {
		st.join(l, s.settings.Largest)
		if w.Part {
			st.last = now
			return
		}
		st.parts = false
		*l = st.first
		l.Text = f.out.Keep(st.part)
		st.freePart()
	}
	f.add(s, i, l, now)
}

// join puts a message together that comes in parts.
func (st *stream) join(l *lines.Line, largest int) {
	if !st.parts {
		st.parts, st.begun, st.first, st.part, st.left = true, l.Start, *l, st.part[:0], nil
	}
	st.part = append(st.part, l.Text...)
	if largest > 0 && len(st.part) > largest {
		st.part, st.first.Cut = st.part[:largest], true
	}
	st.first.In, st.first.End = "", l.End
	st.first.Through, st.left = append(st.first.Through, st.left...), nil
}

func (f *Follower) add(s *source, stream int, l *lines.Line, now time.Time) {
	f.endAtBound(s, stream, l.Start)
	st := &s.streams[stream]
	st.maker.Add(&f.out, l)
	st.last = now
}

// endAtBound ends what waits in a stream where some outlet has taken all that
// stands before a line, which begins at an offset: to that outlet it had ended.
func (f *Follower) endAtBound(s *source, stream int, start int64) {
	st := &s.streams[stream]
	ends := false
	for len(st.bounds) > 0 && st.bounds[0] <= start {
		st.bounds, ends = st.bounds[1:], true
	}
	if ends {
		f.flush(s, stream)
	}
}

// goesOn tells whether what has begun at the end of a source is handed over to another.
func (f *Follower) goesOn(s *source) bool {
	return f.settings.Wrapping != Bare && slices.ContainsFunc(f.sources, func(other *source) bool { return other.waits == s && other.follows() })
}

// hasMore tells whether a log that goes on where a source ends has something
// that was not read yet.
func (f *Follower) hasMore(s *source) bool {
	return f.settings.Wrapping != Bare && slices.ContainsFunc(f.sources, func(other *source) bool {
		return other.waits == s && other.follows() && other.dirty && other.retry.IsZero()
	})
}

// pass passes on what was made of the lines, and how far the source is read.
func (f *Follower) pass(s *source) bool {
	moved := false
	for i := range s.streams {
		st := &s.streams[i]
		offset := max(st.waiting(s.read), st.mark.Offset)
		moved = moved || offset > st.mark.Offset
		f.out.Batch.TakeTo(st.mark.Source, offset)
	}
	if len(f.out.Batch.Records) == 0 && !moved {
		f.out.Reset()
		return true
	}
	begun := f.now()
	if !f.sink.Pass(&f.out) {
		return false
	}
	if now := f.now(); now.Sub(begun) > gatherTime { // an outlet held it back
		f.resumed = now
	}
	for i := range s.streams {
		st := &s.streams[i]
		st.mark.Offset = f.out.Batch.Marks[f.out.Batch.TakeTo(st.mark.Source, 0)].Offset
	}
	f.out.Reset()
	f.moved = true
	f.publish(s)
	return f.letGo(s)
}

// mostWaiting bounds what waits of events and messages of all files for more, in
// bytes. What is over goes on as it is.
const mostWaiting = 32 << 20

// boundWaiting passes events on before their time, where too much waits.
func (f *Follower) boundWaiting() bool {
	if f.now().Sub(f.bounded) < time.Second {
		return true
	}
	f.bounded = f.now()
	total := 0
	for _, s := range f.sources {
		total += s.waitingBytes()
	}
	for _, s := range f.sources {
		if total <= mostWaiting {
			return true
		}
		if n := s.waitingBytes(); n > 0 {
			total -= n
			if !f.flushAll(s) {
				return false
			}
		}
	}
	return true
}

// waitingBytes returns how much memory waits for more of a source.
func (s *source) waitingBytes() int {
	n := len(s.long)
	for i := range s.streams {
		n += cap(s.streams[i].part) + s.streams[i].maker.Held()
	}
	return n
}

// handOver has a container's message or event that has begun at the end of a
// rolled log go on in the log that follows it: the engine rolls anywhere.
func (f *Follower) handOver(from, to *source) {
	for i := range min(len(from.streams), len(to.streams)) {
		a, b := &from.streams[i], &to.streams[i]
		_, waits := a.maker.Waiting()
		if a.handed || !a.parts && !waits || b.mark.Offset != to.Begin || to.read != to.Begin || f.hadEnded(a, b, from, to) {
			continue
		}
		a.handed, a.kept, b.last = true, a.waiting(from.read), a.last
		if a.parts {
			b.parts, b.begun, b.first, b.part = true, to.Begin, a.first, append(b.part[:0], a.part...)
			if b.first.In == "" {
				b.first.In = a.mark.Source
			}
			b.first.Start = to.Begin
			b.left = append(a.left[:len(a.left):len(a.left)], record.Mark{Source: a.mark.Source, Offset: from.read})
			a.parts = false
		}
		if waits {
			b.maker.Inherit(a.maker, from.read, to.Begin)
		}
		b.holds = append(append(b.holds, a.holds...), held{from, i})
		a.holds = nil
	}
}

// hadEnded tells whether some outlet has taken what waits at the end of a log and
// nothing of the next, or the other way round: to that outlet it had ended there.
func (f *Follower) hadEnded(a, b *stream, from, to *source) bool {
	begun, next := f.sink.Taken(a.mark.Source, from.Begin), f.sink.Taken(b.mark.Source, to.Begin)
	for k := range min(len(begun), len(next)) {
		if hasEnd, hasNext := begun[k] > a.waiting(from.read), next[k] > to.Begin; hasEnd != hasNext {
			return true
		}
	}
	return false
}

// letGo passes on how far rolled logs are read whose ends waited in a source,
// and wait there no more.
func (f *Follower) letGo(s *source) bool {
	for i := range s.streams {
		st := &s.streams[i]
		if len(st.holds) == 0 || st.handed || st.inherited() {
			continue
		}
		if start, waits := st.maker.Waiting(); waits && start == s.Begin && st.mark.Offset == s.Begin || st.parts && st.begun == s.Begin && st.mark.Offset == s.Begin {
			continue // it went on, and is not passed on yet
		}
		free := st.holds
		st.holds = nil
		for _, h := range free {
			h.source.streams[h.stream].handed = false
			if !f.pass(h.source) {
				return false
			}
		}
	}
	return true
}

// isDue tells whether something of a source has waited for long enough.
func (f *Follower) isDue(s *source) bool {
	return f.lastIsDue(s) || f.eventIsDue(s)
}

// eventIsDue tells whether an event of a source has waited for long enough.
func (f *Follower) eventIsDue(s *source) bool {
	return slices.ContainsFunc(s.streams, func(st stream) bool { return f.streamIsDue(s, &st) })
}

func (f *Follower) streamIsDue(s *source, st *stream) bool {
	due, waits := f.streamDue(s, st)
	return waits && !f.now().Before(due)
}

// streamDue returns until when something of a stream waits for more, if anything
// does. While nothing could be read, nobody knows whether more had come.
func (f *Follower) streamDue(s *source, st *stream) (due time.Time, waits bool) {
	since := st.last
	if f.resumed.After(since) {
		since = f.resumed
	}
	if st.parts {
		return since.Add(f.settings.LastWait), true
	}
	_, waits = st.maker.Waiting()
	return since.Add(f.joinWait(s)), waits
}

// flushDue makes records of events that have waited for long enough for more.
func (f *Follower) flushDue(s *source) bool {
	for i := range s.streams {
		if f.streamIsDue(s, &s.streams[i]) && !f.hasMore(s) {
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
		st.freePart()
		st.maker.Add(&f.out, &l)
	}
	st.maker.Flush(&f.out)
}
