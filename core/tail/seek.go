package tail

import (
	"cmp"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"oakbarrel/core/disk"
)

// seek looks in the folder of a source that no pattern finds for where it is
// now, and for what was made and rolled away there before anybody looked.
func (f *Follower) seek(s *source, l *looking) {
	if f.byPath[s.real] == s || s.Gone != nil && (s.Done || f.looked.Sub(*s.Gone) > time.Second) || s.file != nil && s.known {
		return
	}
	if s.missed.IsZero() {
		s.missed = f.looked
	}
	mayBeThere := l.blurred && f.looked.Sub(s.missed) < settleTime // where names change on and on it is said
	if f.goOnIn(s, f.neighbours(s, l), l) {
		f.beginMissed(s, l)
		if f.isUnwanted(s) { // what stands there still is read, and then it is let go of
			f.lookBy(f.looked.Add(pollTime))
		}
	} else if s.Gone == nil && !mayBeThere {
		f.lose(s)
	}
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
	f.alter(s)
	f.log.Debug("no file has a source any more", "path", s.Path, "source", s.ID, "read", s.read)
	f.release(s)
}

// linger reads on what was renamed to where no pattern finds it: until nobody
// has written to it for some time, or until its end where it was removed. What stands
// where it stood, and is of no pattern any more, is read to where its end was then.
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
		if disk.FactsOf(st).Links == 0 {
			if !s.dirty && idle >= time.Second {
				s.close()
				s.known = false // there may be a copy, or a compressed one
			}
			continue
		}
		if path, err := disk.PathOf(s.file); err == nil && path != s.real {
			s.former, s.Path, s.real, s.age = s.Path, path, path, rolledAge(path)
			f.alter(s)
			f.beginMissed(s, l)
		}
		if f.isUnwanted(s) && s.enough == 0 {
			s.enough = st.Size()
		}
		if !s.dirty && idle > lingerTime || s.enough > 0 && s.read >= s.enough {
			f.finish(s)
		}
	}
}

// isUnwanted tells whether a file stands where it stood, and the plan does not want it any
// more; it goes on from where it is where it does so again.
func (f *Follower) isUnwanted(s *source) bool {
	return f.settings.Wrapping == Bare && s.Path == s.Born && (!f.matches(s.Path) || f.excluded(s.Path))
}

// beginMissed begins files that were made where a source stood before, and
// rolled away like it before anybody looked.
func (f *Follower) beginMissed(s *source, l *looking) {
	if s.former == "" {
		return
	}
	for _, p := range f.neighbours(s, l) {
		if f.byPath[p.real] != nil || f.matches(p.path) || s.is(p.stat) || f.excluded(p.path) || setOf(s.former) != setOf(p.path) || p.stat.Written.Before(s.Written) {
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
		if facts, err := disk.FactsAt(path); err == nil && facts.Regular {
			all = append(all, &probe{candidate: candidate{path, path, stat{facts}}, look: l})
		}
		return len(all) <= mostFolders
	})
	if err != nil || len(all) > mostFolders {
		return nil
	}
	slices.SortFunc(all, func(a, b *probe) int { return b.stat.Written.Compare(a.stat.Written) })
	return all
}
