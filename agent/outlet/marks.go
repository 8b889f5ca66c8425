package outlet

import "oakbarrel/core/record"

// takenMarks is how far an outlet has taken followed sources, so that it passes
// over what it has already when a source is read again for the sake of another
// outlet.
type takenMarks struct {
	offsets map[string]int64
	changed map[string]bool // the sources whose offset is not written down yet
	at      []int64         // the offsets of the marks of the batch that is looked at
}

func newTakenMarks(offsets map[string]int64) takenMarks {
	return takenMarks{offsets: offsets, changed: map[string]bool{}}
}

// prepare gets ready for the records of b.
func (t *takenMarks) prepare(b *record.Batch) {
	t.at = t.at[:0]
	for _, m := range b.Marks {
		t.at = append(t.at, t.offsets[m.Source])
	}
}

// has tells whether a record of the batch was taken before.
func (t *takenMarks) has(r *record.Record) bool { return r.End > 0 && r.End <= t.at[r.Source] }

// advance notes that b is taken.
func (t *takenMarks) advance(b *record.Batch) {
	for i, m := range b.Marks {
		if m.Offset > t.at[i] {
			t.offsets[m.Source] = m.Offset
			t.changed[m.Source] = true
		}
	}
}

// unwritten returns the marks that are not written down yet.
func (t *takenMarks) unwritten() (marks []record.Mark) {
	for source := range t.changed {
		marks = append(marks, record.Mark{Source: source, Offset: t.offsets[source]})
	}
	return marks
}

// written notes that all marks are written down.
func (t *takenMarks) written() { clear(t.changed) }

// set sets marks: what came before them is not for this outlet.
func (t *takenMarks) set(marks []record.Mark) {
	for _, m := range marks {
		t.offsets[m.Source] = max(t.offsets[m.Source], m.Offset)
		t.changed[m.Source] = true
	}
}

// forget lets go of sources that are followed no more.
func (t *takenMarks) forget(sources []string) {
	for _, source := range sources {
		delete(t.offsets, source)
		delete(t.changed, source)
	}
}

// of returns the offset of a source, and whether there is any.
func (t *takenMarks) of(source string) (offset int64, known bool) {
	offset, known = t.offsets[source]
	return offset, known
}
