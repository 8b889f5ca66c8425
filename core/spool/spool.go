// Package spool keeps records on disk until a receiver has confirmed them. It gives
// each record its number in a feed, survives kills and damaged files, and where it is
// full gives up the least serious records first and says which numbers those were.
//
// Records of like severity share a lane, a run of chunk files that is appended to.
// What is added stands in memory until [Spool.Flush] writes it, and is read in the
// order of numbers by [Spool.Read], as often as it takes, until [Spool.Acknowledge]
// says that the other side has it and [Spool.Forget] removes it.
//
// Add, Flush and SaveMarks are for one goroutine, Read and Rewind for another, Forget
// for a third; the rest may be called by all. It knows records and package disk and
// nothing else of the project. Begin with [Open] and [Spool].
package spool

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/memo"
	"oakbarrel/core/record"
)

// Spool is the store of one feed in a folder of its own. Add, Flush and
// the Pending functions are for one goroutine; Read, Rewind, Acknowledge and
// Confirm for another; the rest may be called by any.
type Spool struct {
	disk  disk.Disk
	dir   string
	limit int64 // bytes on disk

	// The group that the next flush writes.
	pending     [lanes]pendingLane
	pendingSize int
	buffer      []byte
	next        atomic.Uint64 // the number of the next record

	cursor *cursor // of Read

	saving    sync.Mutex // is held while the state is written, and taken before mu
	forgotten uint64     // the number up to which nothing is on disk; under saving
	memo      *memo.File // under saving
	feed      Feed       // where the numbers go; under mu, and changed under saving
	older     []Older    // likewise
	runs      []Run      // likewise; the newest last
	reserved  uint64     // no number above was ever given out; under saving, as far as it is changed
	old       bool       // what was read was written by the version before; under saving

	mu        sync.Mutex
	lanes     [lanes]lane
	written   uint64 // the highest number that a returned write put down
	confirmed uint64
	held      int64 // records written and not confirmed
	delivered int64 // records confirmed since Open
	shedCount int64 // records shed since Open
	size      int64 // bytes of all chunks
	marks     map[string]int64
	unsaved   map[string]bool // the sources whose marks stand in frames alone
	tell      func(Damage)    // of what Open finds
	cutOff    bool            // the end of a lane is damaged: which numbers stood there is not known
	shed      []Range         // not confirmed yet, by their numbers
	sheddings int             // how often something was shed
	reading   uint64          // what is below may have been read, and is not shed
	inFlight  []Batch         // read and not confirmed
	ages      []age           // of what is held, the oldest first
}

// age says that the records up to a number came at a time, or later.
type age struct {
	number uint64
	at     time.Time
}

const mostAges = 1024

// pendingLane is the part of a group that goes to one lane.
type pendingLane struct {
	body        []byte
	records     uint32
	first, last uint64
}

// ErrFull says that a spool has no room for records that may not be shed.
var ErrFull = errors.New("the spool is full")

// Open opens the spool in a folder, which it makes where it is missing, and
// puts in order what a kill has left. The folder belongs to one Spool at a time.
// It calls tell with what it finds damaged, while the damaged file is still as it
// was.
func Open(d disk.Disk, dir string, limit int64, tell func(Damage)) (*Spool, error) {
	if err := d.MakeFolder(dir); err != nil {
		return nil, err
	}
	s := &Spool{disk: d, dir: dir, limit: limit, marks: map[string]int64{}, unsaved: map[string]bool{}, tell: tell, memo: memo.New(d, filepath.Join(dir, memoFile))}
	for i := range s.lanes {
		s.lanes[i].cut = -1
	}
	if err := s.loadState(); err != nil {
		return nil, err
	}
	if err := s.loadShed(); err != nil {
		return nil, err
	}
	if err := s.loadChunks(); err != nil {
		return nil, err
	}
	err := s.dropUnwritten()
	if err != nil {
		return nil, err
	}
	if s.cutOff { // a number is given once only
		s.written = max(s.written, s.reserved)
	}
	s.keepBallast()
	s.next.Store(s.written + 1)
	s.Rewind()
	s.held, err = s.countAfter(s.confirmed)
	if err == nil && s.held > 0 {
		err = s.ageOfHeld()
	}
	return s, err
}

// ageOfHeld learns from the first record when what is held has come.
func (s *Spool) ageOfHeld() error {
	c := &cursor{spool: s, at: s.confirmed + 1}
	defer c.close()
	lane, _, err := c.least()
	if err != nil || lane == nil {
		return err
	}
	s.ages = append(s.ages, age{s.written, lane.record.Received.Time()})
	return nil
}

// noteAge notes that what was written now came now. Of many times every second
// is given up: what came later counts as older then. The caller holds the lock.
func (s *Spool) noteAge() {
	s.ages = append(s.ages, age{s.written, time.Now()})
	if len(s.ages) < mostAges {
		return
	}
	kept := s.ages[:0]
	for i := 0; i+1 < len(s.ages); i += 2 {
		kept = append(kept, age{s.ages[i+1].number, s.ages[i].at})
	}
	s.ages = kept
}

// OldestHeld returns when the oldest record came that is written and not
// confirmed, zero for none.
func (s *Spool) OldestHeld() time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.ages) == 0 {
		return time.Time{}
	}
	return s.ages[0].at
}

// Add puts a record into the group that the next Flush writes, and returns its
// number. Nothing of r is kept.
func (s *Spool) Add(r *record.Record, canWait bool) uint64 {
	number := s.next.Add(1) - 1
	p := &s.pending[laneOf(r.Severity(), canWait)]
	if p.records == 0 {
		p.first, p.last = number, number
	}
	before := len(p.body)
	p.body = appendRecord(p.body, number-p.last, r)
	p.last = number
	p.records++
	s.pendingSize += len(p.body) - before
	return number
}

// Pending returns how many bytes the next Flush will write, about.
func (s *Spool) Pending() int { return s.pendingSize }

// PendingRecords returns how many records the next Flush will write.
func (s *Spool) PendingRecords() (n int64) {
	for id := range s.pending {
		n += int64(s.pending[id].records)
	}
	return n
}

// Flush writes the group that was added, all of it or nothing, and with it how
// far the sources have been taken. After an error it may be called again.
func (s *Spool) Flush(marks []record.Mark) error {
	if s.pendingSize == 0 {
		return nil
	}
	if err := s.makeRoom(); err != nil {
		return err
	}
	s.reserve()
	var group []laneID
	for id := range s.pending {
		if s.pending[id].records > 0 {
			group = append(group, laneID(id))
		}
	}
	if err := s.write(group, marks); err != nil || len(group) > 0 {
		return err
	}
	return s.noteWritten()
}

// write writes the parts of a group that are left.
func (s *Spool) write(group []laneID, marks []record.Mark) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	whole := numbers{s.written + 1, s.next.Load() - 1}
	var undo []func()
	for _, id := range group {
		p, l := &s.pending[id], &s.lanes[id]
		// The marks stand in each, so that one that is damaged takes none with it.
		f := frame{records: p.records, group: whole, first: p.first, last: p.last, marks: marks, body: p.body}
		chunks, before := len(l.chunks), chunk{}
		if chunks > 0 {
			before = l.chunks[chunks-1]
		}
		undo = append(undo, func() { l.takeBack(before, chunks) })
		var err error
		if s.buffer, err = l.write(s.disk, s.dir, id, &f, s.buffer); err != nil {
			for _, f := range undo {
				f()
			}
			s.measure()
			return fmt.Errorf("write to the spool: %w", err)
		}
	}
	for _, id := range group {
		p := &s.pending[id]
		s.held += int64(p.records)
		p.body, p.records = p.body[:0], 0
	}
	s.learn(marks)
	s.pendingSize = 0
	s.written = whole.last
	s.noteAge()
	s.measure()
	return nil
}

// noteWritten notes how far the numbers and the sources go where all of a group
// was shed, and no frame tells it.
func (s *Spool) noteWritten() error {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	return errors.Join(s.rememberShed(nil), s.saveState())
}

func (s *Spool) learn(marks []record.Mark) {
	for _, m := range marks {
		if m.Offset > s.marks[m.Source] {
			s.marks[m.Source] = m.Offset
			s.unsaved[m.Source] = true
		}
	}
}

// SaveMarks writes down how far sources have been taken from which nothing is
// to be added, and forgets those that are gone. It is for the goroutine of Flush.
func (s *Spool) SaveMarks(marks []record.Mark, gone []string) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.learn(marks)
	for _, source := range gone {
		delete(s.marks, source)
		delete(s.unsaved, source)
		s.memo.Forget(markKey + source)
	}
	return s.saveState()
}

// measure adds up the sizes of all chunks. The caller holds the lock.
func (s *Spool) measure() {
	s.size = 0
	for i := range s.lanes {
		for _, c := range s.lanes[i].chunks {
			s.size += c.size
		}
	}
}

// Sync makes what was flushed survive a power cut.
func (s *Spool) Sync() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var problems []error
	for i := range s.lanes {
		if f := s.lanes[i].file; f != nil {
			problems = append(problems, f.Sync())
		}
	}
	return errors.Join(append(problems, s.disk.SyncFolder(s.dir))...)
}

// Close closes the files. What was flushed is kept, what was only added is not.
func (s *Spool) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.lanes {
		s.lanes[i].close()
	}
	s.cursor.close()
	s.memo.Close()
}

// State is how a spool is.
type State struct {
	Next, Written, Confirmed uint64
	Held                     int64 // records written and not confirmed
	Delivered, Shed          int64 // records, since Open
	Size, Limit              int64 // bytes on disk
}

// Dir returns the folder of the spool.
func (s *Spool) Dir() string { return s.dir }

// State returns how the spool is.
func (s *Spool) State() State {
	s.mu.Lock()
	defer s.mu.Unlock()
	return State{s.next.Load(), s.written, s.confirmed, s.held, s.delivered, s.shedCount, s.size, s.limit}
}

// SetLimit changes how many bytes the spool may take.
func (s *Spool) SetLimit(limit int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.limit = limit
}

// Reading returns the number that Read goes on with.
func (s *Spool) Reading() uint64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.reading
}

// Marks returns how far each source has been taken.
func (s *Spool) Marks() map[string]int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.marks)
}

// Full tells whether a flush has to shed to find room, or finds none.
func (s *Spool) Full() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.size >= s.limit
}

// loadChunks finds the chunks of all lanes, cuts what is torn, and takes back a
// group that is not whole.
func (s *Spool) loadChunks() error {
	paths, err := listChunks(s.dir)
	if err != nil {
		return err
	}
	tails := [lanes][]tail{}
	for id := range paths {
		for _, path := range paths[id] {
			c, frames, err := s.scan(path)
			if err != nil {
				return err
			}
			// Confirmed, or shed: a kill came before the removal.
			if len(frames) == 0 || c.last <= s.confirmed || s.isShed(c.first) {
				s.learnAll(frames)
				if err := s.disk.Remove(path); err != nil {
					return err
				}
				continue
			}
			s.lanes[id].chunks = append(s.lanes[id].chunks, c)
			s.learnAll(tails[id])
			tails[id] = frames
		}
	}
	for {
		newest, whole := s.newestGroup(tails)
		if whole || s.cutOff { // what is missing of it was damaged
			break
		}
		for id := range tails {
			if err := s.dropNewest(laneID(id), &tails[id], newest); err != nil {
				return err
			}
		}
	}
	for id := range tails {
		s.learnAll(tails[id])
		for _, t := range tails[id] {
			s.written = max(s.written, t.group.last)
		}
	}
	s.measure()
	return nil
}

// learnAll learns the marks of frames that were carried out.
func (s *Spool) learnAll(frames []tail) {
	for _, t := range frames {
		s.learn(t.marks)
	}
}

// tail is a frame of the newest chunk of a lane, as far as it is needed to find groups.
type tail struct {
	group   numbers
	records uint32
	last    uint64
	lost    bool // its body is damaged
	start   int64
	before  uint64 // the last number before it in the chunk
	marks   []record.Mark
}

// newestGroup returns the newest group, and whether all of it is there, apart
// from what was confirmed or shed since.
func (s *Spool) newestGroup(tails [lanes][]tail) (newest numbers, whole bool) {
	var records uint64
	for id := range tails {
		if n := len(tails[id]); n > 0 {
			t := tails[id][n-1]
			if t.group.first > newest.first {
				newest, records = t.group, 0
			}
			if t.group == newest {
				records += uint64(t.records)
			}
		}
	}
	if newest.first <= s.confirmed { // it was read, so it was whole
		return newest, true
	}
	return newest, records+s.countShed(newest) >= newest.last-newest.first+1
}

// dropNewest cuts the last frame of a lane off where it is of the group.
func (s *Spool) dropNewest(id laneID, tails *[]tail, group numbers) error {
	n := len(*tails)
	if n == 0 || (*tails)[n-1].group != group {
		return nil
	}
	t := (*tails)[n-1]
	*tails = (*tails)[:n-1]
	l := &s.lanes[id]
	c := &l.chunks[len(l.chunks)-1]
	if n == 1 { // of this chunk nothing remains
		path := c.path
		l.chunks = l.chunks[:len(l.chunks)-1]
		return s.disk.Remove(path)
	}
	c.size, c.last = t.start, t.before
	if !t.lost {
		c.records -= int64(t.records)
	}
	return s.truncate(c.path, t.start)
}

func (s *Spool) truncate(path string, size int64) error {
	f, err := s.disk.OpenAppend(path, 0o640)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Truncate(size)
}

// scan walks the frames of a chunk. It cuts off what a kill has torn at the end,
// and goes on behind what is damaged.
func (s *Spool) scan(path string) (c chunk, frames []tail, err error) {
	f, err := disk.Open(path)
	if err != nil {
		return c, nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return c, nil, err
	}
	c.path = path
	w := window{file: f}
	var d Damage
	for c.size < st.Size() {
		fr, size, err := w.readFrame(c.size, st.Size())
		if err == io.EOF {
			next := w.nextFrame(c.size, st.Size())
			if next == st.Size() {
				break
			}
			d.Bytes += next - c.size
			c.size = next
			continue
		}
		if len(frames) == 0 {
			c.first = fr.first
		}
		frames = append(frames, tail{fr.group, fr.records, fr.last, err == errDamaged, c.size, c.last, fr.marks})
		c.size += size
		c.last = fr.last
		if err == errDamaged {
			d.Records += int64(fr.records)
			d.Bytes += size
		} else {
			c.records += int64(fr.records)
		}
	}
	if rest := st.Size() - c.size; rest > 0 {
		if !w.isTorn(c.size, st.Size()) {
			s.cutOff = true
			d.Bytes += rest
			d.End = true
		}
		if d.Bytes > 0 {
			s.found(path, d) // while all of it is there
		}
		return c, frames, s.truncate(path, c.size)
	}
	if d.Bytes > 0 {
		s.found(path, d)
	}
	return c, frames, nil
}
