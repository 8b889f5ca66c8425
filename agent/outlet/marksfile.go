package outlet

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/disk"
	"oakbarrel/core/memo"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

// The marks of a file outlet stand in two places: with each write in the notes
// of its set, and once in a while, when all sets have written what they held,
// in one memo for all of them, which also tells of sources that it got nothing of.
const (
	marksSuffix = ".taken"
	oldMarks    = ".marks"    // of the version before
	marksTime   = time.Second // between two times that they are written
)

// savedMarks are the marks that stand in the memo.
type savedMarks struct {
	mu   sync.Mutex
	memo *memo.File
	all  map[string]int64
	old  string // the file of the version before, which goes once the memo is written
}

func (o *File) readMarks() map[string]int64 {
	o.saved.memo, o.saved.all = memo.New(disk.OS, o.notes), map[string]int64{}
	found, err := memo.Read(o.notes)
	if errors.Is(err, fs.ErrNotExist) {
		return o.readOldMarks()
	}
	if err != nil {
		o.log.Error("how far followed files were taken cannot be read", "path", o.notes, "why", err)
	}
	o.saved.memo.Continue(found)
	marks := map[string]int64{}
	for source, text := range found.Facts {
		if offset, err := strconv.ParseInt(text, 10, 64); err == nil {
			marks[source], o.saved.all[source] = offset, offset
		}
	}
	for _, path := range found.Damaged {
		cost := "nothing: what stood in it is known from its twin"
		if found.Lost {
			cost = "how far some files were taken: their lines may come twice"
		}
		o.agent.State.PutAside(client.Damage{Part: "outlet " + o.settings.Name, File: path, Cost: cost})
	}
	return marks
}

func (o *File) readOldMarks() map[string]int64 {
	marks := map[string]int64{}
	path := strings.TrimSuffix(o.notes, marksSuffix) + oldMarks
	b, err := os.ReadFile(path)
	if err == nil && json.Unmarshal(b, &marks) == nil {
		o.saved.old = path
		for source, offset := range marks {
			o.saved.all[source] = offset
		}
	}
	return marks
}

// saveMarksAtTimes writes what is held and then the marks, if they changed. It
// returns false where the agent stops before that.
func (o *File) saveMarksAtTimes() bool {
	o.mu.Lock()
	changed := len(o.marks.changed)+len(o.forgotten) > 0
	o.mu.Unlock()
	if !changed || time.Since(o.marked) < marksTime {
		return true
	}
	o.mu.Lock()
	marks, gone := o.marks.unwritten(), o.forgotten
	o.marks.written()
	o.forgotten = nil
	o.mu.Unlock()
	if !o.writeHeld() { // what was held when the marks were copied
		return false
	}
	o.tell(o.writeMarks(marks, gone))
	return true
}

// saveMarks writes the marks of an outlet that has written all.
func (o *File) saveMarks() {
	o.mu.Lock()
	marks, gone := o.marks.unwritten(), o.forgotten
	o.mu.Unlock()
	if len(marks)+len(gone) > 0 {
		o.tell(o.writeMarks(marks, gone))
	}
}

// writeMarks writes marks down. Of those that the sets have noted only such are
// needed then that are further: after a start, until that is read again.
func (o *File) writeMarks(marks []record.Mark, gone []string) error {
	if err := o.saved.putDown(marks, gone, o.durable()); err != nil {
		o.mu.Lock()
		for _, m := range marks { // to try again
			o.marks.changed[m.Source] = true
		}
		o.mu.Unlock()
		return err
	}
	o.marked = time.Now()
	for _, s := range o.all() {
		s.writer.Rebase(o.saved.of)
	}
	return nil
}

// durable tells whether what is written has to survive a power cut.
func (o *File) durable() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.settings.File.Sync != roll.SyncNever
}

func (s *savedMarks) putDown(marks []record.Mark, gone []string, durable bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range marks {
		s.all[m.Source] = m.Offset
		s.memo.Set(m.Source, strconv.FormatInt(m.Offset, 10))
	}
	for _, source := range gone {
		delete(s.all, source)
		s.memo.Forget(source)
	}
	err := s.memo.Save(durable, func(note func(key, value string)) {
		for source, offset := range s.all {
			note(source, strconv.FormatInt(offset, 10))
		}
	})
	if err == nil && s.old != "" {
		os.Remove(s.old)
		s.old = ""
	}
	return err
}

// of returns up to where a source is noted as taken in the memo.
func (s *savedMarks) of(source string) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.all[source]
}

func (o *File) Taken(source string) (offset int64, known bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.marks.of(source)
}

func (o *File) SetTaken(marks []record.Mark) error {
	o.mu.Lock()
	o.marks.set(marks)
	all := o.marks.unwritten()
	o.mu.Unlock()
	return o.saved.putDown(all, nil, o.durable())
}

func (o *File) Forget(sources []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.marks.forget(sources)
	o.forgotten = append(o.forgotten, sources...)
}
