package tail

import (
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/memo"
)

// What a follower writes down is a memo: of each source what it is, under its
// id, and how far it was read, under the id and placeMark; and in which start of
// the machine that was.
const (
	bootKey   = "boot" // a device's number holds within one start
	placeMark = "@"
)

// place is how far a source was read.
type place struct {
	Position int64       `json:"position"`
	Tail     fingerprint `json:"tail"`
}

// How long what is known of a source may differ from what is written down.
const (
	noteTime = time.Minute
	noteSize = 1 << 20 // bytes read
)

// mostSources is how many sources are remembered at most, with those that no file has.
const mostSources = 2 * mostFiles

// registry is what was read from a memo.
type registry struct {
	boot    string
	sources []*source
	found   memo.Found
	damaged int  // facts that cannot be read
	old     bool // it was written by the version before
}

func readRegistry(path string) (r registry, err error) {
	r.found, err = memo.Read(path)
	if errors.Is(err, fs.ErrNotExist) {
		return readOldRegistry(path)
	}
	if err != nil {
		return r, err
	}
	r.boot = r.found.Facts[bootKey]
	for _, key := range r.found.Keys() {
		if key == bootKey || strings.HasSuffix(key, placeMark) {
			continue
		}
		s, at := &source{}, place{}
		if json.Unmarshal([]byte(r.found.Facts[key]), s) != nil || s.ID != key {
			r.damaged++
			continue
		}
		if text, known := r.found.Facts[key+placeMark]; known && json.Unmarshal([]byte(text), &at) != nil {
			r.damaged++
		}
		s.Position, s.Tail, s.noted = max(at.Position, s.Begin), at.Tail, at.Position
		r.sources = append(r.sources, s)
	}
	slices.SortFunc(r.sources, func(a, b *source) int { return strings.Compare(a.Path, b.Path) })
	return r, nil
}

// readOldRegistry reads what the version before wrote, one JSON object beside the memo.
func readOldRegistry(path string) (r registry, err error) {
	b, err := disk.ReadFile(oldRegistry(path))
	if err != nil {
		return r, err
	}
	r.old = true
	var old struct {
		Boot    string `json:"boot"`
		Sources []struct {
			source
			place
		} `json:"sources"`
	}
	if err := json.Unmarshal(b, &old); err != nil {
		r.damaged++
		r.found.Damaged = []string{oldRegistry(path)}
		return r, nil
	}
	r.boot = old.Boot
	for _, o := range old.Sources {
		s := o.source
		s.Position, s.Tail, s.Born = o.place.Position, o.place.Tail, s.Path
		r.sources = append(r.sources, &s)
	}
	return r, nil
}

func oldRegistry(path string) string { return strings.TrimSuffix(path, filepath.Ext(path)) + ".json" }

// Damage is what was damaged of what a follower has written down.
type Damage struct {
	Files []string // that are damaged
	Lost  bool     // something is known from nowhere else: files may be read again
}

func (f *Follower) load() error {
	r, err := readRegistry(f.file)
	f.memo = memo.New(f.disk, f.file)
	if errors.Is(err, fs.ErrNotExist) {
		f.first = true
		return nil
	}
	if err != nil {
		return err
	}
	f.memo.Continue(r.found)
	f.old = r.old
	f.Damage = Damage{Files: r.found.Damaged, Lost: r.found.Lost || r.damaged > 0}
	for _, s := range r.sources {
		if r.boot != f.boot {
			s.Device = 0
		}
		s.number = f.number
		f.number++
		f.sources = append(f.sources, s)
		if key := (s.inode()); s.Gone == nil || f.byInode[key] == nil { // inodes are given anew
			f.byInode[key] = s
		}
		for _, name := range f.streamNames(s) {
			f.positions[name] = max(s.Begin, s.Position)
		}
	}
	f.altered = true
	return nil
}

// alter has what is known of a source written down anew.
func (f *Follower) alter(s *source) { s.altered, f.altered = true, true }

// save writes down what has changed of the sources, so that they are known again.
func (f *Follower) save() error { return f.saveNotes(false) }

func (f *Follower) saveNotes(last bool) error {
	f.forgetGone()
	now := f.now()
	for _, s := range f.sources {
		// The place first: of what is torn by a kill the end is missing, and a source
		// that is said to be done must be known to have been read.
		late := last || now.Sub(s.notedAt) >= noteTime
		moved := s.passed() - s.noted
		if moved >= noteSize || moved > 0 && (late || s.noted == 0) || s.altered && (moved > 0 || s.Tail != s.tailPrint()) {
			f.memo.Set(s.ID+placeMark, s.place())
			s.Tail, s.noted, s.notedAt = s.tailPrint(), s.passed(), now
		}
		if s.altered || s.renamed && late {
			f.memo.Set(s.ID, s.facts())
			s.altered, s.renamed = false, false
		}
	}
	err := f.memo.Save(f.urgent, func(note func(key, value string)) {
		note(bootKey, f.boot)
		for _, s := range f.sources {
			if s.passed() > 0 || s.Tail.Length > 0 {
				note(s.ID+placeMark, s.place())
			}
			note(s.ID, s.facts())
		}
	})
	if err == nil {
		f.saved, f.altered, f.urgent, f.moved = now, false, false, false
		if f.old {
			f.old = false
			f.disk.Remove(oldRegistry(f.file)) // what it said stands in the memo now
		}
	}
	return err
}

func (s *source) facts() string {
	b, err := json.Marshal(s)
	if err != nil {
		panic(err) // numbers, times and texts always can be written
	}
	return string(b)
}

func (s *source) place() string {
	b, _ := json.Marshal(place{s.passed(), s.tailPrint()})
	return string(b)
}

// saveIsDue returns when something is to be written down, if anything is.
func (f *Follower) saveIsDue() (due time.Time, is bool) {
	switch {
	case f.unsaved != "":
		due = f.tried.Add(pollTime)
	case f.urgent:
		due = f.tried
	default:
		due = f.saved.Add(saveTime)
	}
	return due, f.urgent || f.altered || f.moved
}

// isKnown tells whether each source is written down that is new: else none is
// read, so that those that come first are read first, and all are known again.
func (f *Follower) isKnown() bool {
	if f.urgent {
		f.saveAtTimes()
	}
	return !f.urgent
}

// saveAtTimes writes down what is to be, and tells once where it cannot.
func (f *Follower) saveAtTimes() {
	if due, is := f.saveIsDue(); !is || f.now().Before(due) {
		return
	}
	f.tried = f.now()
	why := ""
	if err := f.save(); err != nil {
		if why = err.Error(); f.unsaved == "" {
			f.log.Error("how far files are followed cannot be written down; it is tried again each second", "why", why)
		}
	}
	f.unsaved = why
}

// passed returns the least offset to which a source was passed on.
func (s *source) passed() int64 {
	if len(s.streams) == 0 {
		return s.Position
	}
	least := s.streams[0].mark.Offset
	for i := range s.streams {
		least = min(least, s.streams[i].mark.Offset)
	}
	return least
}

// forgetGone forgets the sources of which nothing can come any more.
func (f *Follower) forgetGone() {
	var kept []*source
	var gone []string
	for i, s := range f.sources {
		if !f.isOver(s) && len(f.sources)-i <= mostSources || s.file != nil {
			kept = append(kept, s)
			continue
		}
		f.drop(s)
		f.memo.Forget(s.ID)
		f.memo.Forget(s.ID + placeMark)
		gone = append(gone, f.streamNames(s)...)
		f.mu.Lock()
		delete(f.caughtUp, s.ID)
		f.mu.Unlock()
	}
	if len(gone) == 0 {
		return
	}
	f.sources = kept
	f.sink.Forget(gone)
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, name := range gone {
		delete(f.positions, name)
	}
}

// isOver tells whether no file has a source any more, nor will: its file was
// seen to be gone for long enough for a copy or a compressed one to show, all
// outlets have what was read of it, and the file system that it was on is there.
func (f *Follower) isOver(s *source) bool {
	switch {
	case s.Gone == nil || slices.ContainsFunc(s.streams, func(st stream) bool { return st.handed }):
		return false
	case s.Head.Length == 0:
		return true
	case f.now().Sub(*s.Gone) > longestTime:
		return true
	case f.now().Sub(*s.Gone) < forgetTime:
		return false
	}
	return f.allHave(s) && s.isMounted()
}

// allHave tells whether all outlets have taken what was passed on of a source.
func (f *Follower) allHave(s *source) bool {
	for i, name := range f.streamNames(s) {
		passed := s.Position
		if i < len(s.streams) {
			passed = s.streams[i].mark.Offset
		}
		if slices.ContainsFunc(f.sink.Taken(name, s.Begin), func(taken int64) bool { return taken < passed }) {
			return false
		}
	}
	return true
}

// isMounted tells whether the file system is there on which a source stood.
func (s *source) isMounted() bool {
	st, err := disk.Stat(disk.Existing(filepath.Dir(s.Path)))
	return err == nil && s.Device != 0 && disk.FactsOf(st).Device == s.Device
}

// drop takes a source out of what is looked up.
func (f *Follower) drop(s *source) {
	if key := (s.inode()); f.byInode[key] == s {
		delete(f.byInode, key)
	}
	if f.byPath[s.real] == s {
		delete(f.byPath, s.real)
	}
}
