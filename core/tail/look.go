package tail

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/lines"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

// aside is a file that is not read, or not yet.
type aside struct {
	candidate
	decision
	since  time.Time // when it was first found to be like a source
	copied int64     // its size when it was last decided to be a copy
}

// looking is one look at all files.
type looking struct {
	found    []*probe         // files that are no source yet
	cut      map[*source]bool // whose file is there and holds something else
	families map[string]*kin
	folders  map[string][]*probe // files of folders that no pattern finds
	blurred  bool                // names changed while it was looked: what was not found may be there
}

// look finds the files, and for each file what it is.
func (f *Follower) look() {
	begun := time.Now()
	f.looked, f.lookAt = f.now(), time.Time{}
	found, reasons, still := f.findAll()
	for _, s := range f.sources {
		s.known = s.known && s.file != nil // unless it is found again below
	}
	clear(f.byPath)
	l := newLooking()
	l.blurred = !still
	strangers := f.placeKnown(found, l)
	for _, s := range slices.Clone(f.sources) {
		f.check(s)
	}
	f.gather(l)
	f.looking = l
	defer func() { f.looking = nil }()
	f.linger(l)
	l.found = strangers
	f.judgeAll(strangers, l)
	for _, s := range slices.Clone(f.sources) {
		f.seek(s, l)
	}
	f.forgetAsides(found)
	f.altered = f.altered || slices.ContainsFunc(f.sources, f.isOver) // then the next save forgets it
	f.first = f.first && f.left
	f.sortSources()
	f.oldestFirst()
	f.report(append(reasons, f.asideFiles()...))
	f.lookCost = time.Since(begun)
	switch {
	case f.left:
		f.lookBy(f.now().Add(f.lookCost)) // so that what is known is read half of the time
	case l.blurred:
		f.lookBy(f.now().Add(max(gatherTime, 10*f.lookCost)))
	}
}

func newLooking() *looking {
	return &looking{cut: map[*source]bool{}, families: map[string]*kin{}, folders: map[string][]*probe{}}
}

// gather has files be compared with the sources, as they begin now.
func (f *Follower) gather(l *looking) {
	for _, s := range f.sources {
		l.add(s)
	}
}

// isTelling tells whether the beginning of a source, of which no more is known, is
// enough to know it again in a file: a line ends there where it was read up to, and
// the file can be no other source, nor another file be the source. Where one that
// could be cannot be read, that shows later.
func (l *looking) isTelling(s *source, p *probe) (telling, later bool) {
	if !p.hasLineEnd(s.read) {
		return false, false
	}
	if k := l.families[familyOf(p.path)]; k != nil {
		for _, other := range append(k.begun[s.Head], k.behind...) {
			if other != s && other.Head == s.Head && p.compare(other) != different {
				return false, false
			}
		}
	}
	for _, other := range l.found {
		if other.path == p.path || familyOf(other.path) != familyOf(p.path) {
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

// add has files be compared with a source, by all names that it had.
func (l *looking) add(s *source) {
	var added []string
	for _, path := range []string{s.Path, s.Born} {
		name := familyOf(path)
		if slices.Contains(added, name) {
			continue
		}
		if l.families[name] == nil {
			l.families[name] = &kin{begun: map[fingerprint][]*source{}}
		}
		l.families[name].add(s)
		added = append(added, name)
	}
}

// placeKnown places the sources whose files are where they were, and returns
// the other files.
func (f *Follower) placeKnown(found []candidate, l *looking) (strangers []*probe) {
	for _, c := range found {
		p := &probe{candidate: c, look: l}
		s := f.atInode(c)
		switch {
		case s == nil:
			strangers = append(strangers, p)
		case f.isUnchanged(s, p):
			f.place(s, c)
		case p.moved:
		default:
			l.cut[s] = s.Head.Length > 0
			strangers = append(strangers, p)
		}
	}
	return strangers
}

// atInode returns the source that had a file's inode last, nil for none.
func (f *Follower) atInode(c candidate) *source {
	s := f.byInode[c.stat.inode()]
	if s == nil {
		s = f.byInode[inode{0, c.stat.number}] // after another start of the machine only the inode's number holds
	}
	if s != nil && !s.identity().mayBe(c.stat.identity()) { // the inode was given anew
		return nil
	}
	return s
}

// isUnchanged tells whether the file with the inode of a source is that source.
func (f *Follower) isUnchanged(s *source, p *probe) bool {
	if s.file != nil || s.changed == p.stat.changed && s.lastSize == p.stat.size {
		return true // an open file's inode is not given away
	}
	if s.Done && p.stat.size == s.Size && s.Packed {
		return true // it was compared when it was finished
	}
	return s.Head.Length > 0 && isSame(like{content: p.compare(s)})
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
	begun, known := time.Now(), len(f.sources)
	held := map[string]bool{}
	for _, p := range strangers {
		if len(f.sources)-known > f.settings.Open || time.Since(begun) > judgeTime {
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
	if last != nil && last.real != p.real && last.stat.changed != p.stat.changed {
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
		return a.fate == wait && l.families[familyOf(p.path)] == nil
	}
	return a.of.known && !l.cut[a.of]
}

// likes gathers the sources that a file could be, those first that are asked
// first; all tells that they were not too many to ask each.
func (f *Follower) likes(p *probe, l *looking, since time.Time) (found []like, all bool) {
	var sources []*source
	all = true
	if k := l.families[familyOf(p.path)]; k != nil {
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
			if statOf(st).links == 0 { // somebody has removed it, or put another in its place
				k.has, k.leaving = k.size > s.read, k.size > s.read
			}
		}
	}
	if k.content == same && k.has && !k.inode {
		k.content = p.compareCopy(s)
	}
	return k
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
			a.copied = p.stat.size
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
	s.Done, s.Short, s.Size, s.dirty = short, short, p.stat.size, !short
	f.note(s)
	f.urgent = true
	f.log.Debug("a source goes on in another file", "path", s.Path, "source", s.ID, "from", s.read, "done", s.Done)
}

// seek looks in the folder of a source that no pattern finds for where it is
// now, and for what was made and rolled away there before anybody looked.
func (f *Follower) seek(s *source, l *looking) {
	if f.byPath[s.real] == s || s.Gone != nil && (s.Done || f.looked.Sub(*s.Gone) > time.Second) || s.file != nil && s.known {
		return
	}
	if f.goOnIn(s, f.neighbours(s, l), l) {
		f.beginMissed(s, l)
	} else if s.Gone == nil && !f.mayBeThere(s, l) {
		f.lose(s)
	}
}

// mayBeThere tells whether a look was not good enough to say that no file has a
// source any more: names changed meanwhile. Where that goes on and on it is said.
func (f *Follower) mayBeThere(s *source, l *looking) bool {
	if s.missed.IsZero() {
		s.missed = f.looked
	}
	return l.blurred && f.looked.Sub(s.missed) < settleTime
}

// goOnIn has a source go on in the first of some files that has it, and tells
// whether there is one.
func (f *Follower) goOnIn(s *source, files []*probe, l *looking) bool {
	for _, p := range files {
		if f.byPath[p.real] != nil {
			continue
		}
		k := f.likeOf(s, p, l, f.looked)
		if k.content == different {
			continue
		}
		d := decide(p.seen(), []like{k}, f.settings, f.now())
		if d.fate == goesOn && !p.moved {
			f.goOn(s, p, d.short)
			return true
		}
	}
	return false
}

// lose notes that no file has a source any more.
func (f *Follower) lose(s *source) {
	now := f.now()
	s.Gone, s.known = &now, false
	f.note(s)
	f.log.Debug("no file has a source any more", "path", s.Path, "source", s.ID, "read", s.read)
	f.release(s)
}

// linger reads on what was renamed to where no pattern finds it: until nobody
// has written to it for some time, or until its end where it was removed.
func (f *Follower) linger(l *looking) {
	for _, s := range slices.Clone(f.sources) {
		if s.file == nil || f.byPath[s.real] == s {
			continue
		}
		st, err := s.file.Stat()
		if err != nil {
			continue
		}
		s.dirty = s.dirty || st.Size() != s.lastSize
		idle := f.now().Sub(s.used)
		if statOf(st).links == 0 {
			if !s.dirty && idle >= time.Second {
				s.close()
				s.known = false // there may be a copy, or a compressed one
			}
			continue
		}
		if path, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", s.file.Fd())); err == nil && path != s.real {
			s.former, s.Path, s.real, s.age = s.Path, path, path, rolledAge(path)
			f.note(s)
			f.beginMissed(s, l)
		}
		if !s.dirty && idle > lingerTime {
			f.finish(s)
		}
	}
}

// beginMissed begins files that were made where a source stood before, and
// rolled away like it before anybody looked.
func (f *Follower) beginMissed(s *source, l *looking) {
	if s.former == "" {
		return
	}
	for _, p := range f.neighbours(s, l) {
		if f.byPath[p.real] != nil || f.matches(p.path) || s.is(p.stat) || f.excluded(p.path) || setOf(s.former) != setOf(p.path) || p.stat.written.Before(s.Written) {
			continue
		}
		likes, _ := f.likes(p, l, f.looked)
		if d := decide(p.seen(), likes, f.settings, f.now()); d.fate == begins && !p.moved {
			f.beginFile(p, d)
		}
	}
}

// neighbours returns the files of the family of a source, in the folder where it
// stood, that no pattern finds or that are set aside.
func (f *Follower) neighbours(s *source, l *looking) (all []*probe) {
	dir, name := filepath.Dir(cmp.Or(s.real, s.Path)), familyOf(s.Path)
	files, known := l.folders[dir]
	if !known {
		files = f.readFolder(dir, l)
		l.folders[dir] = files
	}
	for _, p := range files {
		other := f.atInode(p.candidate) // which may be gone, and its inode given to this file
		mine := other == nil || other == s || other.file == nil && !f.isUnchanged(other, p)
		if mine && (familyOf(p.path) == name || s.is(p.stat)) {
			all = append(all, p)
		}
	}
	return all
}

// readFolder returns the files of a folder, the newest first.
func (f *Follower) readFolder(dir string, l *looking) (all []*probe) {
	err := disk.ReadFolder(dir, func(e fs.DirEntry) bool {
		path := filepath.Join(dir, e.Name())
		if !e.Type().IsRegular() || f.byPath[path] != nil {
			return true
		}
		if st, regular, err := statAt(path); err == nil && regular {
			all = append(all, &probe{candidate: candidate{path, path, st}, look: l})
		}
		return len(all) <= mostFolders
	})
	if err != nil || len(all) > mostFolders {
		return nil
	}
	slices.SortFunc(all, func(a, b *probe) int { return b.stat.written.Compare(a.stat.written) })
	return all
}

// check looks whether an open file that has changed was cut.
func (f *Follower) check(s *source) {
	if s.file == nil {
		return
	}
	st, err := s.file.Stat()
	if err != nil || st.Size() == s.lastSize && !s.dirty {
		return
	}
	s.dirty = true
	if f.becamePacked(s) {
		return
	}
	if st.Size() < s.read || !f.hasHole(s, st.Size()) && !f.sameHead(s) {
		f.wasCut(s, statOf(st))
	}
}

// becamePacked gives up a source of which nothing is known and whose file turns
// out to be a compressed one, written in the place of what was cut: what that is
// shows the next look.
func (f *Follower) becamePacked(s *source) bool {
	if s.Head.Length > 0 || s.file == nil || s.Packed {
		return false
	}
	var first [10]byte
	n, _ := s.file.ReadAt(first[:], 0)
	if kind, foreign := roll.Sniff(first[:n]); kind == roll.NoCompression && foreign == "" {
		return false
	}
	f.drop(s)
	s.close()
	f.lose(s)
	f.lookBy(f.now())
	return true
}

// hasHole tells whether the file of a source of which nothing is known begins with NULs.
func (f *Follower) hasHole(s *source, size int64) bool {
	var first [1]byte
	if s.Head.Length > 0 || size == 0 {
		return false
	}
	_, err := s.file.ReadAt(first[:], 0)
	return err == nil && first[0] == 0
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
	next.Device, next.Inode, next.Birth = st.device, st.number, s.Birth
	f.byPath[c.real] = next // so that it is no neighbour
	copied := f.findCopy(s)
	for _, other := range f.sources {
		if other.waits == s {
			other.waits = next
		}
	}
	if copied && !s.Done {
		next.waits = s
	}
	if !copied {
		f.lose(s)
	}
	f.log.Info("a file was cut", "path", c.path, "read_up_to", s.read, "copy", copied, "looked_at_before", window.Round(time.Millisecond).String())
	f.start(next, c)
	f.sortSources()
}

// findCopy looks for the copy that was made of a source before its file was cut,
// which has the rest of it.
func (f *Follower) findCopy(s *source) bool {
	l := &looking{cut: map[*source]bool{s: true}, folders: map[string][]*probe{}}
	files := f.neighbours(s, l)
	for _, a := range f.asides {
		if a.of == s {
			files = append([]*probe{{candidate: a.candidate, look: l}}, files...)
		}
	}
	return f.goOnIn(s, files, l)
}

// place notes that a source stands at a path.
func (f *Follower) place(s *source, c candidate) {
	if s.Path != c.path {
		if s.Path != "" {
			s.former = s.Path
		}
		if s.renamed = true; setOf(s.Path) != setOf(c.path) {
			f.note(s)
		}
		s.Path = c.path
	}
	if s.Born == "" {
		s.Born = c.path
	}
	s.age = rolledAge(s.Path)
	if !s.is(c.stat) || s.Birth == 0 && c.stat.birth > 0 {
		f.drop(s)
		s.Device, s.Inode, s.Birth = c.stat.device, c.stat.number, c.stat.birth
		f.note(s)
	}
	if !s.known || s.changed != c.stat.changed || s.lastSize != c.stat.size {
		s.dirty = true
	}
	if s.Done && !s.Short && c.stat.size != s.Size { // somebody writes on
		s.Done, s.dirty = false, true
	}
	if s.missed = (time.Time{}); s.Gone != nil {
		s.Gone = nil
		f.note(s)
	}
	s.known, s.real, s.changed, s.lastSize = true, c.real, c.stat.changed, c.stat.size
	if !s.Packed || s.Written.IsZero() { // a compressor changes the time, and puts it back at its end
		s.Written = c.stat.written
	}
	f.byInode[c.stat.inode()] = s
	f.byPath[c.real] = s
	delete(f.asides, c.stat.inode())
	f.mu.Lock()
	f.standing[c.stat.inode()] = s.ID
	f.mu.Unlock()
	f.describe(s)
}

// describe finds out how the lines of a source are read, or why they are not.
func (f *Follower) describe(s *source) {
	if f.settings.Describe == nil {
		if s.settings == nil {
			own := f.settings.Lines
			own.Fields = lines.NewFields(fileElement, record.Label{Name: "path", Value: s.Path}).And(own.Fields)
			s.settings = &own
		}
	} else {
		s.settings, s.reason = f.settings.Describe(s.real)
	}
	for i := range s.streams {
		if m := s.streams[i].maker; m != nil && s.settings != nil {
			m.Configure(s.settings)
		}
	}
}

// fileElement is the field that tells from which file a record is.
const fileElement = "file@32473"

// start begins a source at its Begin.
func (f *Follower) start(s *source, c candidate) {
	s.Position, s.number, s.begun = s.Begin, f.number, f.now()
	f.number++
	f.sources = append(f.sources, s)
	f.place(s, c)
	f.begin(s)
	f.note(s)
	f.urgent, s.dirty = true, true
	f.log.Debug("a file is followed", "path", s.Path, "source", s.ID, "from", s.read)
	for _, other := range f.sources {
		if other != s && other.former == c.path && other.known && !other.Done {
			s.waits = other // which stood here before
		}
	}
	if !s.Packed && (s.file != nil || f.open(s)) && !f.hasHole(s, c.stat.size) {
		f.sameHead(s)
	}
	if f.looking != nil {
		f.looking.add(s)
	}
}

// forgetAsides forgets the files set aside that are gone.
func (f *Follower) forgetAsides(found []candidate) {
	there := map[inode]bool{}
	for _, c := range found {
		there[c.stat.inode()] = true
	}
	clear(f.awaited)
	for key, a := range f.asides {
		if !there[key] {
			delete(f.asides, key)
		} else if a.fate == wait {
			f.awaited[a.real] = true
		}
	}
}

// asideFiles tells of the files set aside.
func (f *Follower) asideFiles() (files []File) {
	for _, a := range f.asides {
		file := File{Path: a.path, Size: a.stat.size, State: NotRead, Why: a.why}
		if a.why == noLine {
			file.State = AtEnd
		}
		files = append(files, file)
	}
	return files
}

// lookBy has the files looked at by a time.
func (f *Follower) lookBy(at time.Time) {
	if f.lookAt.IsZero() || at.Before(f.lookAt) {
		f.lookAt = at
	}
}

// oldestFirst has what was rolled read to its end before what was written later
// under the same name, which may go on with what it has begun.
func (f *Follower) oldestFirst() {
	sets := map[string][]*source{}
	for _, s := range f.sources {
		if s.follows() && s.dirty || f.holdsBegun(s) {
			name := setOf(s.Path)
			sets[name] = append(sets[name], s)
		}
	}
	for name, set := range sets {
		for i, s := range set {
			switch {
			case !s.dirty:
			case i > 0 && (set[i-1].dirty || s.read == s.Begin):
				s.waits = set[i-1]
			case s.waits != nil && s.waits.dirty && setOf(s.waits.Path) == name: // it was written later
				s.waits = nil
			}
		}
	}
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
	start := max(0, content.size-1<<20)
	b := make([]byte, content.size-start)
	n, _ := content.read(b, start)
	return start + int64(bytes.LastIndexByte(b[:n], '\n')) + 1
}
