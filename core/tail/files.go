package tail

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"oakbarrel/core/disk"
)

// State says what is done with a file.
type State string

// The states.
const (
	Reading  State = "reading"  // there is more to read
	AtEnd    State = "at end"   // all of it is read
	Finished State = "finished" // all of it is read, and no more will come
	NotRead  State = "not read"
)

// File is how far a file is read, or why it is not.
type File struct {
	Path     string        `json:"file"`
	Source   string        `json:"source"` // "" for a file that is not read
	Size     int64         `json:"size"`   // bytes; of a compressed file, as it stands on the disk
	Read     int64         `json:"read"`   // bytes; of a compressed file, decompressed
	Behind   int64         `json:"behind"` // bytes
	Late     time.Duration `json:"-"`      // how long something stands there that is not read
	State    State         `json:"state"`
	Why      string        `json:"why"`  // it is not read
	Cuts     int           `json:"cuts"` // how often it was cut in this run
	Window   time.Duration `json:"-"`    // the longest time before a cut in which lines may be lost
	Streams  []string      `json:"-"`    // the names of its streams
	packed   bool
	caughtUp time.Time
}

// report makes the list of files anew.
func (f *Follower) report(reasons []File) {
	files := reasons
	for _, s := range f.sources {
		if s.Gone == nil || s.file != nil {
			files = append(files, f.fileOf(s))
		}
	}
	slices.SortFunc(files, func(a, b File) int { return cmp.Compare(a.Path, b.Path) })
	f.mu.Lock()
	defer f.mu.Unlock()
	f.files = files
	if f.lack = ""; f.over > 0 {
		f.lack = f.crowded()
	}
	clear(f.standing)
	for _, s := range f.sources {
		if s.Gone == nil || s.file != nil {
			f.standing[s.inode()] = s.ID
		}
	}
	for key, a := range f.asides {
		if a.fate != wait {
			f.standing[key] = "" // nothing of it is read
		}
	}
}

// Trouble says why files are not taken that are to be followed, "" where all are.
// It may be called at any time.
func (f *Follower) Trouble() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.lack
}

// Unread tells whether something stands in a file that is to be followed and
// was not passed on yet, or only just was: it must not be removed.
func (f *Follower) Unread(path string) bool {
	st, err := disk.Stat(path)
	if err != nil {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	id, known := f.standing[statOf(st).inode()]
	switch {
	case !known:
		return !f.excluded(path) && f.matches(path)
	case id == "":
		return false
	}
	for _, name := range f.streamNames(&source{ID: id}) {
		if f.positions[name] < st.Size() {
			return true
		}
	}
	return f.now().Sub(f.caughtUp[id]) < settleTime // outlets have not written it down
}

func (f *Follower) fileOf(s *source) File {
	file := File{Path: s.Path, Source: s.ID, Size: s.lastSize, Read: s.read, Cuts: s.cuts, Window: s.window, Streams: f.streamNames(s), State: AtEnd, Why: s.reason, packed: s.Packed}
	if s.Path != s.Born { // it was rolled away: what was cut is the file that stands where it was
		file.Cuts, file.Window = 0, 0
	}
	switch {
	case s.reason != "" || s.trouble != "":
		file.State, file.Why = NotRead, cmp.Or(s.reason, s.trouble)
	case s.Done:
		file.State = Finished
	}
	return file
}

// Files tells of each file how far it is read.
func (f *Follower) Files() []File {
	f.mu.Lock()
	files := slices.Clone(f.files)
	for i := range files {
		if files[i].Source != "" {
			files[i].Read = f.positions[files[i].Streams[0]]
			files[i].caughtUp = f.caughtUp[files[i].Source]
			for _, name := range files[i].Streams {
				files[i].Read = min(files[i].Read, f.positions[name])
			}
		}
	}
	f.mu.Unlock()
	now := f.now()
	for i := range files {
		if files[i].Source != "" {
			measure(&files[i], now)
		}
	}
	return files
}

// measure looks how large a file is, and how far it is read.
func measure(file *File, now time.Time) {
	st, err := disk.Stat(file.Path)
	if err != nil || file.packed {
		return
	}
	file.Size = st.Size()
	if file.Behind = max(0, file.Size-file.Read); file.Behind > 0 {
		last := st.ModTime()
		if !file.caughtUp.IsZero() && file.caughtUp.Before(last) {
			last = file.caughtUp // since then something may stand there
		}
		file.Late = max(0, now.Sub(last))
		if file.State != NotRead {
			file.State = Reading
		}
	}
}

// order is a file that is to be read again.
type order struct {
	path   string
	offset int64
	answer chan error
}

// ErrNotFollowed says that a file is not followed.
var ErrNotFollowed = errors.New("this file is not followed")

// SetBack has a file read again from an offset, which every outlet gets a
// second time. It returns once that is written down.
func (f *Follower) SetBack(path string, offset int64) error {
	o := order{path, offset, make(chan error, 1)}
	f.mu.Lock()
	f.orders = append(f.orders, o)
	f.mu.Unlock()
	f.Wake()
	select {
	case err := <-o.answer:
		return err
	case <-time.After(10 * time.Second):
		return fmt.Errorf("the agent does not answer: an outlet may hold it back")
	}
}

// Wake makes the follower look for what is to be done.
func (f *Follower) Wake() {
	select {
	case f.wake <- struct{}{}:
	default:
	}
}

// obey carries orders out.
func (f *Follower) obey() {
	f.mu.Lock()
	orders := f.orders
	f.orders = nil
	f.mu.Unlock()
	for _, o := range orders {
		o.answer <- f.setBack(o.path, o.offset)
	}
}

// setBack makes another source of a file, so that what outlets have of it does not count.
func (f *Follower) setBack(path string, offset int64) error {
	i := slices.IndexFunc(f.sources, func(s *source) bool { return s.Path == path && s.known && s.Gone == nil })
	if i < 0 {
		return ErrNotFollowed
	}
	s := f.sources[i]
	if offset < 0 || offset > s.read {
		return fmt.Errorf("the file is read up to %d, so it can be set back to 0 to %d", s.read, s.read)
	}
	if !s.Packed && s.file != nil { // whole lines are read again
		if s.encoding != plain {
			offset &^= 1
		}
		b := make([]byte, min(offset, bufferSize))
		n, _ := s.file.ReadAt(b, offset-int64(len(b)))
		if begin := s.encoding.lastLine(b[:n]); begin > 0 || offset == int64(len(b)) {
			offset -= int64(n - begin)
		}
	}
	next := &source{ID: newID(), Path: s.Path, Born: s.Born, Packed: s.Packed, altered: true, Device: s.Device, Inode: s.Inode, Birth: s.Birth, Head: s.Head, Begin: offset, Position: offset, Tail: s.Tail, known: true,
		real: s.real, changed: s.changed, lastSize: s.lastSize, settings: s.settings, file: s.file, head: s.head}
	s.file = nil
	s.close()
	now := f.now()
	s.Gone, s.Done, s.known, s.Head = &now, true, false, fingerprint{} // no file is this source any more
	f.drop(s)
	f.alter(s)
	f.urgent = true
	f.byInode[next.inode()], f.byPath[next.real] = next, next
	f.sources = append(f.sources, next)
	f.beginStreams(next)
	f.sortSources()
	f.looked = time.Time{}
	return f.save()
}

// ReadFiles tells how far the files were read of which a follower has written
// down its sources in a file.
func ReadFiles(file string, now time.Time) (files []File, err error) {
	r, err := readRegistry(file)
	if err != nil {
		return nil, err
	}
	for _, s := range r.sources {
		if s.Gone != nil {
			continue
		}
		f := File{Path: s.Path, Source: s.ID, Size: s.Size, Read: s.Position, State: AtEnd, packed: s.Packed}
		if s.Done {
			f.State = Finished
		}
		measure(&f, now)
		files = append(files, f)
	}
	slices.SortFunc(files, func(a, b File) int { return cmp.Compare(a.Path, b.Path) })
	return files, nil
}
