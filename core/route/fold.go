package route

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"oakbarrel/core/record"
)

// Fold keeps repeats from being sent one by one: of records with the same
// priority, host, app and text the first goes its way, those that follow within
// Window are dropped, and one at the end says how many there were. It may be
// used by several goroutines at a time.
type Fold struct {
	Window time.Duration

	mu   sync.Mutex
	runs map[string]*run
	key  []byte
}

// run is a record and its repeats.
type run struct {
	fold    *Fold
	key     string
	first   record.Record // with texts of its own
	row     []uint64      // the outlets that it went to by this rule and those behind it
	begun   int64         // nanoseconds
	last    record.Stamp  // when it was received last
	repeats int
}

// maxRuns bounds how many runs are kept at a time; what finds no room is not folded.
const maxRuns = 10_000

// nanos returns a time as a number to compute with.
func nanos(s record.Stamp) int64 { return s.Sec*1e9 + int64(s.Nsec) }

// meet tells which run a record belongs to, and whether it is a repeat; r is
// nil where there is no room for another. Row has the outlets that rules before
// have sent it to: these get the repeats.
func (f *Fold) meet(rec *record.Record, row []uint64) (r *run, repeat bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.key = append(f.key[:0], byte(rec.Priority))
	for _, v := range [...][]byte{rec.Host, rec.App} {
		f.key = append(binary.AppendUvarint(f.key, uint64(len(v))), v...)
	}
	f.key = append(f.key, rec.Text...)
	if r = f.runs[string(f.key)]; r != nil && nanos(rec.Received)-r.begun < int64(f.Window) {
		r.repeats++
		r.last = rec.Received
		return r, true
	}
	if r != nil || len(f.runs) >= maxRuns {
		return nil, false // its window is over and will be told, or there is no room
	}
	if f.runs == nil {
		f.runs = map[string]*run{}
	}
	r = &run{fold: f, key: string(f.key), begun: nanos(rec.Received), last: rec.Received, row: append([]uint64(nil), row...)}
	f.runs[r.key] = r
	return r, false
}

// undo takes back what meet has counted. A nil run has counted nothing.
func (r *run) undo(repeat bool) {
	if r == nil {
		return
	}
	r.fold.mu.Lock()
	defer r.fold.mu.Unlock()
	if repeat {
		r.repeats--
	} else if r.fold.runs[r.key] == r {
		delete(r.fold.runs, r.key)
	}
}

// goes notes where the first record of a run went. A nil run notes nothing.
func (r *run) goes(rec *record.Record, row []uint64) {
	if r == nil {
		return
	}
	r.fold.mu.Lock()
	defer r.fold.mu.Unlock()
	r.first = *rec
	for _, v := range []*[]byte{&r.first.Host, &r.first.App, &r.first.ProcID, &r.first.MsgID, &r.first.Text, &r.first.Raw, &r.first.Data} {
		*v = append((*v)[:0:0], *v...)
		if len(*v) == 0 {
			*v = nil
		}
	}
	if r.first.Peer != nil {
		peer := *r.first.Peer
		r.first.Peer = &peer
	}
	for i := range r.row {
		r.row[i] = row[i] &^ r.row[i]
	}
}

// foldElement is the field that tells how often a record was said.
const foldElement = "fold@32473"

// over takes the runs whose window is over by now; each that had repeats gives
// the record that tells of them.
func (f *Fold) over(now int64, each func(r record.Record, row []uint64)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for key, r := range f.runs {
		if now-r.begun < int64(f.Window) {
			continue
		}
		delete(f.runs, key)
		if r.repeats == 0 || !slices.ContainsFunc(r.row, func(word uint64) bool { return word != 0 }) {
			continue
		}
		times, span := r.repeats+1, time.Duration(nanos(r.last)-r.begun).Round(time.Second)
		rec := r.first
		rec.Time, rec.Received, rec.Raw = r.last, r.last, nil
		rec.Text = fmt.Appendf(rec.Text, " (said %d times in %s)", times, max(span, time.Second))
		rec.SetData(record.AppendLabels(nil, rec.Data, foldElement, []record.Label{{Name: "times", Value: fmt.Sprint(times)}}, false))
		each(rec, r.row)
	}
}

// Folded fills b with the records that tell of repeats whose time is over by
// now, or of all where all is true, and m with where they go. It returns how many there are.
func (t *Table) Folded(now record.Stamp, all bool, b *record.Batch, m *Routing) int {
	at := nanos(now)
	if all {
		at = math.MaxInt64
	}
	b.Reset()
	var rows []uint64
	for i := range t.rules {
		if f := t.rules[i].Fold; f != nil {
			f.over(at, func(r record.Record, row []uint64) {
				*b.Next() = r
				rows = append(rows, row...)
			})
		}
	}
	m.reset(len(b.Records), t.outlets)
	copy(m.words, rows)
	return len(b.Records)
}
