package outlet

import (
	"bytes"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/disk"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

// restTime is how long one file of many stays open that is not written to.
const restTime = 5 * time.Minute

// fileSet is one rolled set of an outlet. Its first part is under the outlet's lock.
type fileSet struct {
	held         []byte       // lines not yet given to the writer
	heldTaken    []roll.Taken // of the lines held
	heldRecords  int64
	beingWritten int64            // records given to the writer and not yet written
	recovered    map[string]int64 // how far sources were taken when a run ended, nil where the marks of the outlet say it

	path   string
	writer *roll.Writer
	lines  []byte // swapped with held, so that neither grows anew
	taken  []roll.Taken
	used   time.Time // when it was last written to; of the writing goroutine
	over   bool      // its day is over, and it is retired; likewise
}

// setAt returns the set with a path, which is made where it is new. It is
// called with the lock.
func (o *File) setAt(path string) *fileSet {
	if s := o.sets[path]; s != nil {
		return s
	}
	settings := o.settings.File
	settings.Path = path
	intent := filepath.Join(o.intents, state.NameFor(path))
	d := disk.OS
	if o.settings.Path != nil {
		d = disk.Beneath(o.settings.Path.Prefix())
	}
	s := &fileSet{path: path, writer: roll.NewWriter(d, settings, intent, o.rolled, time.Now)}
	s.writer.SetDebts(o.debts())
	s.writer.Telling(func(d roll.Damage) { o.tellDamage(path, d) })
	if marks := roll.Marks(path, intent); len(marks) > 0 {
		s.recovered = marks
	}
	o.sets[path] = s
	o.order = append(o.order, s)
	return s
}

// tellDamage tells of a damaged note of a write to a file.
func (o *File) tellDamage(path string, d roll.Damage) {
	cost := "how far some files were taken: their last lines may come twice"
	if d.Cut != nil {
		cost = fmt.Sprintf("%d lines at the end of %s are cut off, because it is not known where they are from; those that came from files are read again, the others stand here", d.Lines, path)
	}
	o.agent.State.KeepDamaged(client.Damage{Part: "outlet " + o.settings.Name, File: d.File, Cost: cost}, d.Cut)
}

// has tells whether the set has the record of a source that ends at an offset.
func (s *fileSet) has(source string, end int64) bool {
	return s.recovered != nil && end <= s.recovered[source]
}

// all returns the sets that there are.
func (o *File) all() []*fileSet {
	o.mu.Lock()
	defer o.mu.Unlock()
	return append([]*fileSet(nil), o.order...)
}

// setFor returns the set that a record belongs to. It is called with the lock.
func (o *File) setFor(r *record.Record) *fileSet {
	places := o.settings.Path
	if places == nil {
		return o.order[0]
	}
	o.scratch = places.Append(o.scratch[:0], r, o.zone())
	if s := o.sets[string(o.scratch)]; s != nil {
		return s
	}
	if o.room(r) {
		return o.setAt(filepath.Clean(string(o.scratch)))
	}
	other := filepath.Clean(string(places.AppendOther(nil, r, o.zone())))
	if o.sets[other] == nil {
		o.log.Warn("the outlet has as many files as it may; the rest goes to one", "outlet", o.settings.Name, "files", o.settings.Files, "path", other)
	}
	return o.setAt(other)
}

func (o *File) zone() *time.Location {
	if z := o.settings.File.Zone; z != nil {
		return z
	}
	return time.Local
}

// room tells whether there may be one file more. With a date in the path, each
// day has room of its own.
func (o *File) room(r *record.Record) bool {
	if day := r.Received.Sec / 86400; o.settings.Path.HasDate() && day != o.day {
		o.day, o.before = day, len(o.sets)
	}
	return len(o.sets)-o.before < o.settings.Files
}

// discover finds the sets that earlier runs have left under a path with places,
// so that they are kept as the plan says.
func (o *File) discover() {
	for _, path := range o.settings.LiveFiles() {
		o.setAt(path)
	}
	if o.settings.Path.HasDate() {
		o.before = len(o.sets)
	}
}

// swap takes what a set holds. It is called with the lock.
func (o *File) swap(s *fileSet) {
	s.lines, s.held = s.held, s.lines[:0]
	s.taken, s.heldTaken = s.heldTaken, s.taken[:0]
	o.heldBytes -= len(s.lines)
	s.beingWritten, s.heldRecords = s.heldRecords, 0
	if len(o.order) > 1 && cap(s.held) > flushSize { // many files would keep what each has grown to
		s.held, s.heldTaken = nil, nil
	}
}

// write writes what was taken of a set, again and again until it is in the
// file. It returns false where the agent stops before that.
func (o *File) write(s *fileSet) bool {
	s.used, s.over = time.Now(), false
	taken := s.taken
	for lines := s.lines; len(lines) > 0; {
		guard.Boundary("write")
		n, err := s.writer.WriteTaken(lines, taken)
		written := int64(bytes.Count(lines[:n], []byte{'\n'}))
		rest, records := behind(taken, n)
		lines, taken = lines[n:], rest
		o.wrote(s, written, records, err)
		if err != nil && !o.waitForRetry() {
			return false
		}
	}
	return true
}

// behind returns what is taken with the lines behind the first n bytes, and how
// many records of sources are among the lines before.
func behind(taken []roll.Taken, n int) (rest []roll.Taken, records int64) {
	for len(taken) > 0 && taken[0].End <= n {
		if taken[0].Record {
			records++
		}
		taken = taken[1:]
	}
	for i := range taken {
		taken[i].End -= n
	}
	return taken, records
}

// tickSets does what the clock asks for. Of many files only those are opened
// that are due, and those that were long not written to are closed.
func (o *File) tickSets() {
	o.mu.Lock()
	many, most, today := o.settings.Path != nil, o.settings.Open, o.today()
	o.mu.Unlock()
	sets, open := o.all(), 0
	for _, s := range sets {
		if today != "" && !s.over && time.Since(s.used) > restTime && !strings.Contains(s.path, today) {
			s.over = true // else what it holds would never be removed
			o.tell(s.writer.Retire())
			continue
		}
		if many {
			o.tell(s.writer.Adopt())
		}
		if !many || s.writer.Open() || s.writer.Due() {
			o.tell(s.writer.Tick())
		}
		if s.writer.Open() {
			open++
		}
	}
	for _, s := range sets {
		if many && s.writer.Open() && (open > most || time.Since(s.used) > restTime) {
			s.writer.Rest()
			open--
		}
	}
}

// today returns the date as it stands in paths, "" where they have none. It is
// called with the lock.
func (o *File) today() string {
	if o.settings.Path == nil || !o.settings.Path.HasDate() {
		return ""
	}
	return time.Now().In(o.zone()).Format(time.DateOnly)
}

// tell notes how the last try went.
func (o *File) tell(err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.setTrouble(err)
}

// debts tells the sets of an outlet what their pieces wait for.
type debts struct {
	agent *Agent
	names []string
}

// debts returns what the pieces of the outlet wait for, nil for nothing.
func (o *File) debts() roll.Debts {
	if len(o.settings.Until) == 0 {
		return nil
	}
	return &debts{o.agent, o.settings.Until}
}

// Taken tells how many records each outlet has got. It falls between two
// batches, so that every outlet has got what the file has.
func (d *debts) Taken() (all []int64) {
	d.agent.BetweenBatches(func(outlets []Outlet) {
		all = d.count(outlets, func(b balance.Outlet) int64 { return b.In + b.HeldAtStart })
	})
	return all
}

// Done tells how many records each has delivered or given up.
func (d *debts) Done() []int64 {
	return d.count(d.agent.Outlets(), func(b balance.Outlet) int64 { return b.Out + b.Shed + b.Refused })
}

func (d *debts) count(outlets []Outlet, number func(balance.Outlet) int64) (all []int64) {
	for _, name := range d.names {
		n := int64(0)
		for _, o := range outlets {
			if o.Settings().Name == name {
				n = number(o.Account())
			}
		}
		all = append(all, n)
	}
	return all
}
