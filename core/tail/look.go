package tail

import (
	"slices"
	"time"
)

// looking is one look at all files.
type looking struct {
	found    []*probe         // files that are no source yet
	cut      map[*source]bool // whose file is there and holds something else
	families map[string]*kin
	folders  map[string][]*probe // files of folders that no pattern finds
	renaming bool                // logs of containers: each folder is one's own, and plain files are not copied
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
	l := f.newLooking()
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
	case f.left && f.unsaved == "":
		f.lookBy(f.now().Add(f.lookCost)) // so that what is known is read half of the time
	case l.blurred:
		f.lookBy(f.now().Add(max(gatherTime, 10*f.lookCost)))
	}
}

func (f *Follower) newLooking() *looking {
	return &looking{cut: map[*source]bool{}, families: map[string]*kin{}, folders: map[string][]*probe{}, renaming: f.settings.Wrapping != Bare}
}

// kinOf returns what the paths of files have in common that are compared.
func (l *looking) kinOf(path string) string {
	if l.renaming {
		return setOf(path)
	}
	return familyOf(path)
}

// gather has files be compared with the sources, as they begin now.
func (f *Follower) gather(l *looking) {
	for _, s := range f.sources {
		l.add(s)
	}
}

// add has files be compared with a source, by all names that it had.
func (l *looking) add(s *source) {
	var added []string
	for _, path := range []string{s.Path, s.Born} {
		name := l.kinOf(path)
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
		file := File{Path: a.path, Size: a.stat.Size, State: NotRead, Why: a.why}
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
		if s.follows() && s.dirty || f.holdsBegun(s) || f.isMissing(s) {
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
