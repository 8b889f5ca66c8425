package tail

import (
	"time"

	"oakbarrel/core/lines"
	"oakbarrel/core/record"
)

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
		s = f.byInode[inode{0, c.stat.Inode}] // after another start of the machine only the inode's number holds
	}
	if s != nil && !s.identity().mayBe(c.stat.identity()) { // the inode was given anew
		return nil
	}
	return s
}

// isUnchanged tells whether the file with the inode of a source is that source.
func (f *Follower) isUnchanged(s *source, p *probe) bool {
	if s.file != nil || s.changed == p.stat.Changed && s.lastSize == p.stat.Size {
		return true // an open file's inode is not given away
	}
	if s.Done && p.stat.Size == s.Size && s.Packed {
		return true // it was compared when it was finished
	}
	return s.Head.Length > 0 && isSame(like{content: p.compare(s)})
}

// place notes that a source stands at a path.
func (f *Follower) place(s *source, c candidate) {
	if s.Path != c.path {
		if s.Path != "" {
			s.former = s.Path
		}
		if s.renamed = true; setOf(s.Path) != setOf(c.path) {
			f.alter(s)
		}
		s.Path = c.path
	}
	if s.Born == "" {
		s.Born = c.path
	}
	s.age = rolledAge(s.Path)
	if !s.is(c.stat) || s.Birth == 0 && c.stat.Birth > 0 {
		f.drop(s)
		s.Device, s.Inode, s.Birth = c.stat.Device, c.stat.Inode, c.stat.Birth
		f.alter(s)
	}
	if s.changed != c.stat.Changed || s.lastSize != c.stat.Size || s.Gone != nil {
		s.dirty = true
	}
	if s.Done && !s.Short && c.stat.Size != s.Size { // somebody writes on
		s.Done, s.dirty = false, true
	}
	if s.missed = (time.Time{}); s.Gone != nil {
		s.Gone = nil
		f.alter(s)
	}
	s.known, s.real, s.changed, s.lastSize = true, c.real, c.stat.Changed, c.stat.Size
	if !s.Packed || s.Written.IsZero() { // a compressor changes the time, and puts it back at its end
		s.Written = c.stat.Written
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
			file := lines.NewFields(fileElement, record.Label{Name: "path", Value: s.Path})
			if f.settings.FieldsOf != nil {
				file = file.And(f.settings.FieldsOf(s.real))
			}
			own.Fields = file.And(own.Fields)
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
	f.beginStreams(s)
	f.alter(s)
	f.urgent, s.dirty = true, true
	f.log.Debug("a file is followed", "path", s.Path, "source", s.ID, "from", s.read)
	for _, other := range f.sources {
		if other != s && other.former == c.path && other.known && !other.Done {
			s.waits = other // which stood here before
		}
	}
	if !s.Packed && (s.file != nil || f.open(s)) && !f.hasHole(s, c.stat.Size) {
		f.sameHead(s)
	}
	if f.looking != nil {
		f.looking.add(s)
	}
}
