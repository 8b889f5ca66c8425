package tail

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/lines"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

// candidate is a file that a pattern finds.
type candidate struct {
	path string // as it is found
	real string // without links
	stat stat
}

// duplicate is a file that holds what a source has, so that it is not read.
type duplicate struct {
	candidate
	of    *source   // nil where it is not read for another reason
	weak  bool      // only its name and a short beginning say so
	since time.Time // when it was first seen
	why   string    // it is not read, where it is not for of
}

// look finds the files, and for each file the source that it is.
func (f *Follower) look() {
	begun := time.Now()
	f.looked, f.lookAt = f.now(), time.Time{}
	found, reasons := f.find()
	for _, s := range f.sources {
		s.known = s.known && s.file != nil // unless it is found again below
	}
	clear(f.byPath)
	clear(f.empty)
	l := looking{cut: map[*source]bool{}}
	for _, c := range found {
		switch s, is := f.sourceOf(c); {
		case is:
			f.place(s, c)
		case s != nil:
			l.cut[s] = s.Head.Length > 0
			fallthrough
		default:
			l.strangers = append(l.strangers, &probe{candidate: c})
		}
	}
	for _, s := range slices.Clone(f.sources) {
		f.check(s) // what was cut is known then, and how the rest begins
		if f.byPath[s.real] != s {
			f.seek(s, &l)
		}
	}
	f.begins(l.strangers)
	reasons = append(reasons, f.duplicates(found)...)
	for path := range f.empty {
		reasons = append(reasons, File{Path: path, State: AtEnd, Why: "no line stands in it yet"})
	}
	f.first = false
	f.sortSources()
	f.oldestFirst()
	f.report(reasons)
	f.lookCost = time.Since(begun)
}

// oldestFirst has what was rolled read to its end before what was written later
// under the same name, which may go on with what it has begun.
func (f *Follower) oldestFirst() {
	last := map[string]*source{}
	for _, s := range f.sources { // the oldest come first
		if !s.follows() || !s.dirty && !f.begun(s) {
			continue
		}
		name := setOf(s.Path)
		before := last[name]
		last[name] = s
		switch {
		case !s.dirty:
		case before != nil && (before.dirty || s.read == s.Begin):
			s.waits = before
		case s.waits != nil && s.waits.dirty && setOf(s.waits.Path) == name: // it was written later
			s.waits = nil
		}
	}
}

// begun tells whether a container's log has begun what goes on in the next.
func (f *Follower) begun(s *source) bool {
	return f.settings.Wrapping != Bare && slices.ContainsFunc(s.streams, func(st stream) bool {
		_, waits := st.maker.Waiting()
		return waits || st.parts
	})
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
	if st.Size() < s.read || !f.hasHole(s, st.Size()) && !f.sameHead(s) {
		f.wasCut(s, statOf(st))
	}
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

// looking is what one look has found and not placed yet.
type looking struct {
	strangers []*probe
	cut       map[*source]bool // whose file is there and holds something else
}

// duplicates tells of the files that hold what others do, and forgets those that are gone.
func (f *Follower) duplicates(found []candidate) (reasons []File) {
	there := map[inode]bool{}
	for _, c := range found {
		there[c.stat.inode()] = true
	}
	for key, d := range f.copies {
		if !there[key] {
			delete(f.copies, key)
			continue
		}
		reasons = append(reasons, File{Path: d.path, Size: d.stat.size, State: NotRead, Why: d.reason()})
		if d.weak {
			f.lookBy(d.since.Add(settleTime))
		}
	}
	return reasons
}

// lookBy has the files looked at by a time.
func (f *Follower) lookBy(at time.Time) {
	if f.lookAt.IsZero() || at.Before(f.lookAt) {
		f.lookAt = at
	}
}

func (d *duplicate) reason() string {
	if d.why != "" {
		return d.why
	}
	return "it holds the same as " + d.of.Path
}

// find walks through what the patterns find, and has the folders watched.
func (f *Follower) find() (found []candidate, reasons []File) {
	folders, seen := map[string]bool{}, map[string]bool{}
	hit := false
	no := func(path string, size int64, why string) {
		reasons = append(reasons, File{Path: path, Size: size, State: NotRead, Why: why})
	}
	w := walk{
		folder: func(path string) { folders[path] = true },
		trouble: func(path string, err error) {
			if errors.Is(err, fs.ErrNotExist) {
				folders[disk.Existing(path)] = true // where it will be made
				return
			}
			no(path, 0, plainError(err))
		},
		found: func(path string, e fs.DirEntry) {
			hit = true
			if seen[path] || e.IsDir() {
				return
			}
			seen[path] = true
			c, why := f.candidate(path, e)
			switch {
			case why == "" && f.excluded(path):
				no(path, c.stat.size, "the plan excludes it")
			case why != "":
				no(path, c.stat.size, why)
			default:
				found = append(found, c)
				folders[filepath.Dir(c.real)] = true
			}
		},
	}
	for _, p := range f.settings.Paths {
		hit = false
		w.pattern(p)
		if !hit {
			no(p, 0, "it finds no file")
		}
	}
	f.watch.folders(folders)
	slices.SortFunc(found, func(a, b candidate) int {
		if order := a.stat.written.Compare(b.stat.written); order != 0 {
			return order
		}
		return cmp.Or(cmp.Compare(rolledAge(b.path), rolledAge(a.path)), cmp.Compare(b.path, a.path))
	})
	return once(found), reasons
}

// once leaves out files that are found by several names.
func once(found []candidate) (kept []candidate) {
	seen := map[inode]bool{}
	for _, c := range found {
		if key := c.stat.inode(); !seen[key] {
			kept = append(kept, c)
			seen[key] = true
		}
	}
	return kept
}

// candidate looks at a path that was found, and tells why the file cannot be followed.
func (f *Follower) candidate(path string, e fs.DirEntry) (c candidate, why string) {
	c = candidate{path: path, real: path}
	st, err := os.Lstat(path)
	if err == nil && st.Mode()&fs.ModeSymlink != 0 {
		if c.real, err = filepath.EvalSymlinks(path); err != nil {
			return c, "the link leads nowhere"
		}
		owner := statOf(st).owner
		if st, err = os.Lstat(c.real); err == nil && owner != 0 && owner != statOf(st).owner {
			return c, "it is a link, and who made it does not own what it leads to"
		}
	}
	if err != nil {
		return c, plainError(err)
	}
	if !st.Mode().IsRegular() {
		return c, "it is not a regular file"
	}
	c.stat = statOf(st)
	return c, ""
}

// plainError is an error without the path and the call, which are told beside it.
func plainError(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

// sourceOf returns the source whose inode a file has, nil for none, and
// whether it is that source: what stands in it tells.
func (f *Follower) sourceOf(c candidate) (s *source, is bool) {
	s = f.byInode[c.stat.inode()]
	if s == nil { // after another start of the machine only the inode's number holds
		if s = f.byInode[inode{0, c.stat.number}]; s == nil {
			return nil, false
		}
	}
	if s.file != nil || s.known && s.changed == c.stat.changed {
		return s, true // an open file's inode is not given away
	}
	return s, f.stillIs(s, c)
}

// stillIs tells whether the file with the inode of a source has its content.
func (f *Follower) stillIs(s *source, c candidate) bool {
	if s.Done && c.stat.size == s.Size && roll.IsCompressed(c.real) {
		return true // it was compared when it was finished
	}
	if s.Head.Length == 0 {
		return false // nothing was read of it, so nothing is lost when it begins anew
	}
	same, short, err := compare(&probe{candidate: c}, s)
	return same && !short || err != nil && !errors.Is(err, fs.ErrNotExist)
}

// probe is a file that is compared with sources.
type probe struct {
	candidate
	head   []byte // of the content
	loaded bool
	err    error
	sums   map[fingerprint]string // by place and length
}

// begins tells whether the file begins as a fingerprint says.
func (p *probe) begins(print fingerprint) (bool, error) {
	if !p.loaded {
		p.loaded, p.sums = true, map[fingerprint]string{}
		content, err := openContent(p.real)
		if err != nil {
			p.err = err
			return false, err
		}
		defer content.close()
		p.head = make([]byte, printSize)
		n, err := content.read(p.head, 0)
		p.head = p.head[:n]
		if err != io.EOF {
			p.err = err
		}
	}
	if print.At > 0 { // behind a hole
		return p.holds(print)
	}
	if print.Length > len(p.head) {
		return false, p.err
	}
	key := fingerprint{Length: print.Length}
	if p.sums[key] == "" {
		p.sums[key] = printOf(0, p.head[:print.Length]).Sum
	}
	return p.sums[key] == print.Sum, nil
}

func (p *probe) holds(print fingerprint) (bool, error) {
	content, err := openContent(p.real)
	if err != nil {
		return false, err
	}
	defer content.close()
	same, _, err := content.has(print)
	return same, err
}

// compare tells whether a file has the content of a source; short tells that it
// has, as far as it goes, and ends before the place up to which the source was read.
func compare(p *probe, s *source) (same, short bool, err error) {
	if s.Head.Length == 0 {
		return false, false, nil
	}
	if same, err = p.begins(s.Head); !same || err != nil {
		return false, false, err
	}
	tail := s.tailPrint()
	if tail.Length == 0 || tail.end() <= s.Head.end() {
		return true, false, nil
	}
	content, err := openContent(p.real)
	if err != nil {
		return false, false, err
	}
	defer content.close()
	same, short, err = content.has(tail)
	return same || short, short, err
}

// place notes that a source stands at a path.
func (f *Follower) place(s *source, c candidate) {
	if s.Path != c.path {
		if s.Path != "" {
			s.former = s.Path
		}
		s.Path, f.altered = c.path, true
	}
	s.age = rolledAge(s.Path)
	if !s.is(c.stat) {
		f.drop(s)
		s.Device, s.Inode, f.altered = c.stat.device, c.stat.number, true
	}
	if !s.known || s.changed != c.stat.changed || s.lastSize != c.stat.size {
		s.dirty = true
	}
	if s.Done && !s.Short && c.stat.size != s.Size { // somebody writes on
		s.Done, s.dirty = false, true
	}
	s.known, s.real, s.changed, s.lastSize, s.Gone = true, c.real, c.stat.changed, c.stat.size, nil
	s.written = c.stat.written
	f.byInode[c.stat.inode()] = s
	f.byPath[c.real] = s
	delete(f.copies, c.stat.inode())
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

// seek looks for a source that no pattern finds: it was renamed to another
// name, copied aside before it was cut, compressed, or removed. The stranger
// that has it is one no more.
func (f *Follower) seek(s *source, l *looking) {
	if s.file != nil && f.lingers(s) {
		return
	}
	if s.Done && s.Gone != nil {
		return
	}
	cut := l.cut[s]
	for i, p := range l.strangers {
		if f.byPath[p.real] != nil { // another has it since
			continue
		}
		if d := f.copies[p.stat.inode()]; s.Gone != nil && d != nil && d.why == "" && d.stat == p.stat {
			continue // it was not it before
		}
		if f.takesOver(s, p, cut) {
			l.strangers = slices.Delete(l.strangers, i, i+1)
			return
		}
	}
	if s.Gone != nil {
		return
	}
	for _, p := range f.neighbours(s) {
		if f.takesOver(s, p, cut) {
			return
		}
	}
	now := f.now()
	s.Gone, s.known, f.altered = &now, false, true
	f.log.Debug("no file has a source any more", "path", s.Path, "source", s.ID, "read", s.read)
	f.release(s)
}

// lingers tells whether a file that no pattern finds is still read: until
// nobody has written to it for some time, or until its end where it was removed.
func (f *Follower) lingers(s *source) bool {
	st, err := s.file.Stat()
	if err != nil {
		return false
	}
	s.dirty = s.dirty || st.Size() != s.lastSize
	idle := f.now().Sub(s.used)
	if statOf(st).links == 0 {
		if s.dirty || idle < time.Second {
			return true
		}
		s.close()
		return false // there may be a copy, or a compressed one
	}
	if path, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", s.file.Fd())); err == nil && path != s.real {
		s.former, s.Path, s.real, f.altered = s.Path, path, path, true
		s.age = rolledAge(path)
		f.beginMissed(s)
	}
	if !s.dirty && idle > lingerTime {
		f.finish(s)
	}
	return true
}

// beginMissed begins files that were made where a source stood before, and
// rolled away like it before anybody looked.
func (f *Follower) beginMissed(s *source) {
	for _, p := range f.neighbours(s) {
		if f.matches(p.path) || s.is(p.stat) || f.excluded(p.path) || !related(s.former, p.path) || p.stat.written.Before(s.written) || f.isCopy(p.stat.inode(), p) {
			continue
		}
		f.start(&source{ID: newID()}, p.candidate)
	}
}

// neighbours returns the files in the folder where a source stood that are no
// other source.
func (f *Follower) neighbours(s *source) (all []*probe) {
	dir := filepath.Dir(cmp.Or(s.real, s.Path))
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) > mostFolders {
		return nil
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		if !e.Type().IsRegular() || f.byPath[path] != nil {
			continue
		}
		c, why := f.candidate(path, e)
		if why != "" {
			continue
		}
		other := f.byInode[c.stat.inode()] // which may be gone, and its inode given to this file
		if other == nil || other == s || other.file == nil && !f.stillIs(other, c) {
			all = append(all, &probe{candidate: c})
		}
	}
	slices.SortFunc(all, func(a, b *probe) int { return b.stat.written.Compare(a.stat.written) })
	return all
}

// takesOver tells whether a file holds what a source has that has lost its own
// file, and goes on with it then. Where the source was cut, a copy may be
// shorter than what was read of it.
func (f *Follower) takesOver(s *source, p *probe, cut bool) bool {
	if cut && s.is(p.stat) || !cut && s.former == p.path { // that is the file it was cut in, or has moved from
		return false
	}
	same, short, err := compare(p, s)
	if err != nil || !same || short && !cut {
		return false
	}
	if !roll.IsCompressed(p.real) && !s.is(p.stat) && s.Head.Length < strongPrint && !related(s.Path, p.path) {
		return false
	}
	s.close()
	s.used = f.now()
	f.place(s, p.candidate)
	s.Done, s.Short, s.Size, s.dirty = short, short, p.stat.size, !short
	f.altered, f.urgent = true, true
	f.log.Debug("a source goes on in another file", "path", s.Path, "source", s.ID, "from", s.read, "done", s.Done)
	if !cut && s.former != "" {
		f.beginMissed(s)
	}
	return true
}

// begins makes sources of the files that are none yet, unless they are copies.
func (f *Follower) begins(strangers []*probe) {
	for _, p := range strangers {
		key := p.stat.inode()
		if f.byPath[p.real] != nil || f.isCopy(key, p) { // a source that was cut has gone on in it, or it is a copy
			continue
		}
		if f.settings.Age > 0 && f.now().Sub(p.stat.written) > f.settings.Age {
			f.copies[key] = &duplicate{candidate: p.candidate, why: fmt.Sprintf("nobody has written to it for longer than %s", f.settings.Age)}
			continue
		}
		if !f.hasLine(p) {
			f.empty[p.real] = true
			continue
		}
		s := &source{ID: newID()}
		if f.first && f.settings.FromEnd {
			s.Begin = lineBefore(p.candidate)
		}
		f.start(s, p.candidate)
	}
}

// hasLine tells whether something stands in a file by which it is known again:
// a line, or a piece of one that has stood there for long enough.
func (f *Follower) hasLine(p *probe) bool {
	p.begins(fingerprint{Length: 1}) // reads its beginning
	if len(p.head) == 0 {
		return false
	}
	goes := p.stat.written.Add(f.settings.LastWait)
	if len(p.head) >= strongPrint || p.head[0] == 0 || bytes.IndexByte(p.head, '\n') >= 0 || f.first && f.settings.FromEnd || !f.now().Before(goes) {
		return true
	}
	f.lookBy(goes)
	return false
}

// start begins a source at its Begin.
func (f *Follower) start(s *source, c candidate) {
	s.Position, s.number = s.Begin, f.number
	f.number++
	f.sources = append(f.sources, s)
	f.place(s, c)
	f.begin(s)
	f.altered, f.urgent, s.dirty = true, true, true
	f.log.Debug("a file is followed", "path", s.Path, "source", s.ID, "from", s.read)
	for _, other := range f.sources {
		if other != s && other.former == c.path && other.known && !other.Done {
			s.waits = other // which stood here before
		}
	}
	if roll.IsCompressed(s.real) {
		f.learnPacked(s)
	} else if s.file != nil || f.open(s) {
		if !f.hasHole(s, c.stat.size) {
			f.sameHead(s)
		}
	}
}

// settleTime is how long a file that is like another in little is left alone,
// until it shows whether it is a copy: the other is cut then.
const settleTime = 2 * time.Second

// copyTime is how long a copy may take to be made. What grows for longer is
// written by a program.
const copyTime = time.Minute

// isCopy tells whether a file is a copy of a source, or may be one.
func (f *Follower) isCopy(key inode, p *probe) bool {
	d := f.copies[key]
	if d != nil && d.real != p.real && d.stat.changed != p.stat.changed {
		d = nil // the inode was given to another file
	}
	if d != nil && d.of != nil && d.stat == p.stat && (!d.weak || f.now().Sub(d.since) < settleTime) {
		d.candidate = p.candidate
		return true
	}
	delete(f.copies, key)
	since := f.now()
	if d != nil {
		since = d.since
		settle := settleTime
		if !d.weak {
			settle = copyTime
		}
		if d.of != nil && d.why == "" && f.now().Sub(since) >= settle && (d.weak || d.stat.size != p.stat.size && !roll.IsCompressed(p.real)) {
			return false // nobody has cut the other, or somebody goes on to write to this one
		}
	}
	for _, s := range f.sources {
		// What was rolled away from there is no original. Engines only rename; others copy and cut too.
		if s.former == p.path || f.settings.Wrapping != Bare && strings.HasPrefix(s.Path, p.path+".") {
			continue
		}
		same, short, err := compare(p, s)
		if s.is(p.stat) {
			if same && !short && s.Gone == nil { // another source had its inode, and was looked up in its place
				f.place(s, p.candidate)
				return true
			}
			continue
		}
		strong := roll.IsCompressed(p.real) || s.Head.Length >= strongPrint
		switch {
		case err != nil && roll.IsCompressed(p.real) && related(s.Path, p.path): // most likely it is being written
			f.copies[key] = &duplicate{candidate: p.candidate, of: s, since: since, why: "it cannot be read yet: " + plainError(err)}
			return true
		case !same || !strong && !related(s.Path, p.path):
			continue
		case d != nil && !roll.IsCompressed(p.real) && s.known && p.stat.size > max(sizeOf(s.real), s.read): // somebody writes to the copy itself
			own := &source{ID: newID()}
			if strong {
				own.Begin = min(d.stat.size, s.read)
			}
			f.start(own, p.candidate)
			return true
		}
		f.copies[key] = &duplicate{candidate: p.candidate, of: s, weak: !strong, since: since}
		f.log.Debug("a file is a copy", "path", p.path, "of", s.Path, "source", s.ID)
		return true
	}
	return false
}

func sizeOf(path string) int64 {
	st, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return st.Size()
}

// What rolling adds to a name: numbers, dates, and words for an old copy.
var rolledParts = regexp.MustCompile(`(?i)[.\-_~]?(\d[\d\-_:tz]*|gz|zst|old|bak|copy|orig|save|tmp|prev)?$`)

// related tells whether two names are the same but for what rolling adds.
func related(a, b string) bool { return setOf(a) == setOf(b) }

// setOf returns what the paths of files have in common that are rolled one after the other.
func setOf(path string) string {
	var parts []string
	for _, part := range strings.FieldsFunc(filepath.Base(path), func(r rune) bool { return r == '.' || r == '-' || r == '_' || r == '~' }) {
		if rolledParts.FindString(part) != part {
			parts = append(parts, part)
		}
	}
	return filepath.Join(filepath.Dir(path), strings.Join(parts, "."))
}

// rolledAge tells by its name how long ago a file was rolled, beside others of
// its set: app.log.2 is older than app.log.1, a stamp than a later one. What was
// not rolled has 0.
func rolledAge(path string) int64 {
	parts := rolledNumber.FindStringSubmatch(filepath.Base(path))
	if parts == nil {
		return 0
	}
	digits := strings.Map(func(c rune) rune {
		if c < '0' || c > '9' {
			return -1
		}
		return c
	}, parts[1])
	n, _ := strconv.ParseInt(digits[:min(len(digits), 17)], 10, 64)
	if len(digits) >= len("20261125") {
		return math.MaxInt64 - n
	}
	return n
}

// rolledNumber is the number or the stamp at the end of a name.
var rolledNumber = regexp.MustCompile(`[.\-_](\d[\d\-_:T]*)(?:\.gz|\.zst)?$`)

// lineBefore returns where the last line begins that has no end yet, or the end of the file.
func lineBefore(c candidate) int64 {
	content, err := openContent(c.real)
	if err != nil {
		return 0
	}
	defer content.close()
	if content.reader != nil {
		b := make([]byte, 64<<10)
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
