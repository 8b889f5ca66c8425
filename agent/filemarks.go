package agent

import (
	"encoding/json"
	"os"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/record"
)

// The marks of a file outlet stand in two places: with each write in the notes
// of its set, and once in a while, when all sets have written what they held,
// in one file for all of them, which also tells of sources that it got nothing of.
const (
	marksSuffix = ".marks"
	marksTime   = time.Second // between two times that they are written
)

func (o *fileOutlet) readMarks() map[string]int64 {
	marks := map[string]int64{}
	if b, err := os.ReadFile(o.notes); err == nil {
		if err := json.Unmarshal(b, &marks); err != nil {
			o.log.Error("how far followed files were taken cannot be read", "path", o.notes, "why", err)
		}
	}
	return marks
}

// saveMarksAtTimes writes what is held and then the marks, if they changed. It
// returns false where the agent stops before that.
func (o *fileOutlet) saveMarksAtTimes() bool {
	o.mu.Lock()
	changed := len(o.marks.changed) > 0
	o.mu.Unlock()
	if !changed || time.Since(o.marked) < marksTime {
		return true
	}
	o.mu.Lock()
	marks := o.marks.copy()
	o.marks.written()
	o.mu.Unlock()
	if !o.writeHeld() { // what was held when the marks were copied
		return false
	}
	o.tell(o.writeMarks(marks))
	return true
}

// saveMarks writes the marks of an outlet that has written all.
func (o *fileOutlet) saveMarks() {
	o.mu.Lock()
	marks := o.marks.copy()
	o.mu.Unlock()
	if len(marks) > 0 {
		o.tell(o.writeMarks(marks))
	}
}

// writeMarks writes marks down. Those that the sets have noted are not needed
// any more then.
func (o *fileOutlet) writeMarks(marks map[string]int64) error {
	if err := o.putDown(marks); err != nil {
		o.mu.Lock()
		for source := range marks { // to try again
			o.marks.changed[source] = true
		}
		o.mu.Unlock()
		return err
	}
	o.marked = time.Now()
	for _, s := range o.all() {
		s.writer.Rebase()
	}
	return nil
}

func (o *fileOutlet) putDown(marks map[string]int64) error {
	b, err := json.Marshal(marks)
	if err != nil {
		return err
	}
	return disk.WriteFile(disk.OS, o.notes, b, 0o640)
}

func (o *fileOutlet) taken(source string) (offset int64, known bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.marks.of(source)
}

func (o *fileOutlet) begin(marks []record.Mark) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.marks.begin(marks)
	return o.putDown(o.marks.offsets)
}

func (o *fileOutlet) forget(sources []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.marks.forget(sources)
}
