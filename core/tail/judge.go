package tail

import (
	"cmp"
	"slices"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/roll"
)

// aside is a file that is not read, or not yet.
type aside struct {
	candidate
	decision
	since  time.Time // when it was first found to be like a source
	copied int64     // its size when it was last decided to be a copy
}

// judgeAll decides what files are, the oldest first. What was rolled before it
// could be opened is found again by the next look: until then nothing is read of
// what was written later under the same name. Where they are many it leaves the
// rest to the next look, so that no folder full of files keeps all others from
// being read, or takes all descriptors.
func (f *Follower) judgeAll(strangers []*probe, l *looking) {
	if f.left { // first what it has left
		slices.SortStableFunc(strangers, func(a, b *probe) int { return cmp.Compare(f.wasJudged(a), f.wasJudged(b)) })
	}
	f.left = false
	begun := time.Now()
	held := map[string]bool{}
	for _, p := range strangers {
		if f.opened > f.settings.Open || time.Since(begun) > judgeTime {
			f.left, l.blurred = true, true
			return
		}
		if set := setOf(p.path); !held[set] {
			f.judge(p, l)
			held[set] = p.moved
		}
	}
}

// wasJudged is 1 for a file of which an earlier look has decided, else 0.
func (f *Follower) wasJudged(p *probe) int {
	if f.asides[p.stat.inode()] == nil {
		return 0
	}
	return 1
}

// judgeTime is for how long one look decides what files are.
const judgeTime = 200 * time.Millisecond

// judge decides what a file is that is no source yet, and carries it out.
func (f *Follower) judge(p *probe, l *looking) {
	key := p.stat.inode()
	if f.byPath[p.real] != nil { // a source that was cut has gone on in it
		return
	}
	p.keeps = true
	defer p.release()
	last := f.asides[key]
	if last != nil && last.real != p.real && last.stat.Changed != p.stat.Changed {
		last = nil // the inode was given to another file
	}
	if last != nil && f.stands(last, p, l) {
		last.candidate = p.candidate
		if !last.again.IsZero() {
			f.lookBy(last.again)
		}
		return
	}
	a := &aside{candidate: p.candidate, since: f.looked}
	if last != nil {
		a.since, a.copied = last.since, last.copied
	}
	seen := p.seen()
	seen.since, seen.copied = a.since, a.copied
	if seen.content == lessThan && f.first && f.settings.FromEnd {
		seen.content = aLine
	}
	likes, all := f.likes(p, l, a.since)
	seen.crowded = !all
	a.decision = decide(seen, likes, f.settings, f.now())
	f.carryOut(p, a)
}

// stands tells whether what was decided of a file holds still.
func (f *Follower) stands(a *aside, p *probe, l *looking) bool {
	if a.stat != p.stat || !a.again.IsZero() && !f.now().Before(a.again) {
		return false
	}
	switch {
	case a.fate == leaveOut:
		return true
	case a.of == nil:
		return a.fate == wait && l.families[l.kinOf(p.path)] == nil
	}
	return a.of.known && !l.cut[a.of]
}

// likes gathers the sources that a file could be, those first that are asked
// first; all tells that they were not too many to ask each.
func (f *Follower) likes(p *probe, l *looking, since time.Time) (found []like, all bool) {
	var sources []*source
	all = true
	if k := l.families[l.kinOf(p.path)]; k != nil {
		sources, all = k.of(p)
	}
	if s := f.atInode(p.candidate); s != nil && !slices.Contains(sources, s) {
		sources = append(slices.Clone(sources), s)
	}
	for _, s := range sources {
		if k := f.likeOf(s, p, l, since); k.content != different {
			found = append(found, k)
		}
	}
	slices.SortStableFunc(found, func(a, b like) int {
		return cmp.Or(cmp.Compare(b.name, a.name), cmp.Compare(b.source.Head.Length, a.source.Head.Length), cmp.Compare(a.source.number, b.source.number))
	})
	return found, all
}

// likeOf compares a file with a source.
func (f *Follower) likeOf(s *source, p *probe, l *looking, since time.Time) like {
	k := like{
		source: s, inode: s.is(p.stat), has: s.known && !l.cut[s], cut: l.cut[s], moved: s.former == p.path,
		older: s.begun.Before(since), renaming: f.settings.Wrapping != Bare, read: s.read, size: s.lastSize,
	}
	if k.content = p.compare(s); k.content == different {
		return k
	}
	if k.content == begunAlike {
		telling, later := l.isTelling(s, p)
		if k.later = later; telling {
			k.content = same
		}
	}
	k.strong = p.packed || s.Head.Length >= strongPrint
	k.name = relationOf(s.Path, p.path)
	if !k.has {
		k.name = max(k.name, relationOf(s.Born, p.path))
	}
	if s.file != nil {
		if st, err := s.file.Stat(); err == nil {
			k.size = st.Size()
			if disk.FactsOf(st).Links == 0 { // somebody has removed it, or put another in its place
				k.has, k.leaving = k.size > s.read, k.size > s.read
			}
		}
	}
	if k.content == same && k.has && !k.inode {
		k.content = p.compareCopy(s)
	}
	return k
}

// isTelling tells whether the beginning of a source, of which no more is known, is
// enough to know it again in a file: a line ends there where it was read up to, and
// the file can be no other source, nor another file be the source. Where one that
// could be cannot be read, that shows later.
func (l *looking) isTelling(s *source, p *probe) (telling, later bool) {
	if !p.hasLineEnd(s.read) {
		return false, false
	}
	if k := l.families[l.kinOf(p.path)]; k != nil {
		for _, other := range slices.Concat(k.begun[s.Head], k.behind) {
			if other != s && other.Head == s.Head && p.compare(other) != different {
				return false, false
			}
		}
	}
	for _, other := range l.found {
		if other.path == p.path || l.kinOf(other.path) != l.kinOf(p.path) || l.renaming && !roll.IsCompressed(other.real) {
			continue
		}
		other.load()
		begins, err := other.begins(s.Head)
		switch {
		case err != nil:
			later = true
		case begins && other.hasLineEnd(s.read):
			return false, false
		}
	}
	return !later, later
}

// carryOut does what was decided of a file, if it was there to be compared.
func (f *Follower) carryOut(p *probe, a *aside) {
	if p.moved {
		return
	}
	key := p.stat.inode()
	switch a.fate {
	case begins:
		delete(f.asides, key)
		f.beginFile(p, a.decision)
	case goesOn:
		delete(f.asides, key)
		f.goOn(a.of, p, a.short)
	default:
		if a.fate == passOver {
			a.copied = p.stat.Size
		}
		f.asides[key] = a
		if !a.again.IsZero() {
			f.lookBy(a.again)
		}
	}
}

// beginFile makes a source of a file, which is open from then on: as long as
// nothing of it is written down, it could not be known again.
func (f *Follower) beginFile(p *probe, d decision) {
	content, err := p.open()
	if p.moved {
		return
	}
	s := &source{ID: newID(), Begin: d.begin, Packed: p.packed}
	if err == nil {
		if f.first && f.settings.FromEnd {
			s.Begin = lineBefore(content)
		}
		if s.Packed = content.packed(); s.Packed {
			s.Head = printOf(0, p.head)
			content.close()
		} else {
			s.file, p.kept, content.kept = content.file, nil, false
			f.opened++
		}
	}
	if d.twice {
		f.log.Info("a file is read though it begins as another does: if it is a copy, its lines come twice", "path", p.path)
	}
	f.start(s, p.candidate)
}

// goOn has a source that is known go on in a file.
func (f *Follower) goOn(s *source, p *probe, short bool) {
	if s.is(p.stat) && !short && s.Packed == p.packed {
		f.place(s, p.candidate)
		return
	}
	s.close()
	s.used, s.Packed = f.now(), p.packed
	f.place(s, p.candidate)
	s.Done, s.Short, s.Size, s.dirty = short, short, p.stat.Size, !short
	f.alter(s)
	f.urgent = true
	f.log.Debug("a source goes on in another file", "path", s.Path, "source", s.ID, "from", s.read, "done", s.Done)
}

// lineBefore returns where the last line begins that has no end yet, or the end of the file.
func lineBefore(content *content) int64 {
	if content.packed() {
		b := make([]byte, 64<<10)
		var err error
		for err == nil {
			_, err = content.read(b, content.at)
		}
		return content.at
	}
	start := max(0, content.size-1<<20) &^ 1
	b := make([]byte, content.size-start)
	n, _ := content.read(b, start)
	head := make([]byte, 2*surely)
	known, _ := content.read(head, 0)
	return start + int64(encodingOf(head[:known]).lastLine(b[:n]))
}
