package spool

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"oakbarrel/core/disk"
	"oakbarrel/core/memo"
)

// What must outlive the chunks is a memo: up to which number all is confirmed,
// above which none was ever given out, and how far sources were taken.
const (
	memoFile     = "state.memo"
	oldFile      = "state.json" // of the version before
	confirmedKey = "confirmed"
	reservedKey  = "reserved"
	markKey      = "mark "
	ahead        = 1 << 16 // numbers that are reserved at a time
)

func (s *Spool) loadState() error {
	found, err := memo.Read(filepath.Join(s.dir, memoFile))
	if errors.Is(err, fs.ErrNotExist) {
		return s.loadOldState()
	}
	if err != nil {
		return err
	}
	s.memo.Continue(found)
	bad := found.Lost
	for key, value := range found.Facts {
		if key == feedKey || key == runsKey || key == olderKey {
			bad = s.learnFact(key, value) != nil || bad
			continue
		}
		number, err := strconv.ParseInt(value, 10, 64)
		source, isMark := strings.CutPrefix(key, markKey)
		switch {
		case err != nil || number < 0:
			bad = true
		case isMark:
			s.marks[source] = number
		case key == confirmedKey:
			s.confirmed = uint64(number)
		case key == reservedKey:
			s.reserved = uint64(number)
		}
	}
	s.written, s.forgotten = s.confirmed, s.confirmed
	for _, path := range found.Damaged {
		s.found(path, Damage{End: bad})
	}
	return nil
}

func (s *Spool) learnFact(key, value string) error {
	switch key {
	case feedKey:
		return json.Unmarshal([]byte(value), &s.feed)
	case olderKey:
		return json.Unmarshal([]byte(value), &s.older)
	}
	return json.Unmarshal([]byte(value), &s.runs)
}

// loadOldState reads what the version before wrote.
func (s *Spool) loadOldState() error {
	path := filepath.Join(s.dir, oldFile)
	b, err := disk.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	s.old = true
	var saved struct {
		Confirmed uint64           `json:"confirmed"`
		Marks     map[string]int64 `json:"marks"`
	}
	if err := json.Unmarshal(b, &saved); err != nil {
		s.found(path, Damage{End: true})
		return nil
	}
	s.confirmed, s.written, s.forgotten = saved.Confirmed, saved.Confirmed, saved.Confirmed
	for source, offset := range saved.Marks {
		s.marks[source] = offset
	}
	return nil
}

// reserve notes that numbers are going to be given out. Where it cannot, the next
// flush tries again: it matters only for a chunk whose end is damaged later.
func (s *Spool) reserve() {
	last := s.next.Load() - 1
	if last <= s.reserved {
		return
	}
	s.saving.Lock()
	defer s.saving.Unlock()
	s.memo.Set(reservedKey, strconv.FormatUint(last+ahead, 10))
	if s.memo.Save(false, s.allFacts) == nil {
		s.reserved = last + ahead
	}
}

// Confirm forgets all records up to a number, because the receiver has them.
func (s *Spool) Confirm(number uint64) error {
	if err := s.Acknowledge(number); err != nil {
		return err
	}
	return s.Forget()
}

// Acknowledge notes that the receiver has all records up to a number. They stay
// on disk until Forget; after a kill before that they are read once more.
func (s *Spool) Acknowledge(number uint64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if number <= s.confirmed {
		return nil
	}
	if number > s.written {
		return fmt.Errorf("number %d is confirmed, but the spool has written only %d", number, s.written)
	}
	for len(s.inFlight) > 0 && s.inFlight[0].Last <= number {
		s.held -= int64(s.inFlight[0].Records)
		s.delivered += int64(s.inFlight[0].Records)
		s.inFlight = s.inFlight[1:]
	}
	exact := len(s.inFlight) == 0 && s.cursor.at == number+1 || len(s.inFlight) > 0 && s.inFlight[0].First == number+1
	s.confirmed = number
	for len(s.ages) > 0 && s.ages[0].number <= number {
		s.ages = s.ages[1:]
	}
	if exact {
		return nil
	}
	// The receiver is elsewhere than we thought: count anew, and read on from there.
	s.mu.Unlock()
	s.Rewind()
	held, err := s.countAfter(number)
	s.mu.Lock()
	s.delivered += s.held - held
	s.held = held
	return err
}

// Forget writes down what was acknowledged, and removes it from the disk. It may
// take as long as the disk takes to sync; Read and Flush go on beside it.
func (s *Spool) Forget() error {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	number := s.confirmed
	if number == s.forgotten {
		s.mu.Unlock()
		return nil
	}
	s.noteState()
	s.mu.Unlock()
	if err := s.writeState(true, s.allFacts); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.removeUpTo(number); err != nil {
		return err
	}
	if err := s.forgetShed(number); err != nil {
		return err
	}
	s.forgotten = number
	s.keepBallast()
	return nil
}

// saveState writes down what is confirmed and how far sources were taken. The
// caller holds both locks.
func (s *Spool) saveState() error {
	s.noteState()
	return s.writeState(false, s.factsLocked)
}

// noteState notes what has changed. The caller holds both locks.
func (s *Spool) noteState() {
	s.memo.Set(confirmedKey, strconv.FormatUint(s.confirmed, 10))
	for source := range s.unsaved {
		s.memo.Set(markKey+source, strconv.FormatInt(s.marks[source], 10))
	}
	clear(s.unsaved)
}

// writeState writes what was noted. After an error all is written anew by the next.
func (s *Spool) writeState(durable bool, all func(func(key, value string))) error {
	err := s.memo.Save(durable, all)
	if disk.IsFull(err) && s.dropBallast() {
		err = s.memo.Save(durable, all)
	}
	if err != nil {
		return err
	}
	if s.old {
		s.old = false
		return s.disk.Remove(filepath.Join(s.dir, oldFile))
	}
	return nil
}

// The ballast is space set aside: on a full disk it makes room to write down what
// is confirmed, without which nothing could be removed to make more.
const (
	ballastFile = "ballast"
	ballastSize = 64 << 10
)

// keepBallast sets the space aside, where that is not done. It may fail: the next
// that is removed makes room for it.
func (s *Spool) keepBallast() {
	path := filepath.Join(s.dir, ballastFile)
	if st, err := disk.Stat(path); err == nil && st.Size() == ballastSize {
		return
	}
	f, err := s.disk.Create(path, 0o640)
	if err != nil {
		return
	}
	f.Write(make([]byte, ballastSize))
	f.Close()
}

func (s *Spool) dropBallast() bool {
	path := filepath.Join(s.dir, ballastFile)
	_, err := disk.Stat(path)
	return err == nil && s.disk.Remove(path) == nil
}

func (s *Spool) allFacts(note func(key, value string)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.factsLocked(note)
}

func (s *Spool) factsLocked(note func(key, value string)) {
	note(confirmedKey, strconv.FormatUint(s.confirmed, 10))
	note(feedKey, factOf(s.feed))
	note(runsKey, factOf(s.runs))
	if len(s.older) > 0 {
		note(olderKey, factOf(s.older))
	}
	note(reservedKey, strconv.FormatUint(max(s.reserved, s.next.Load()-1)+ahead, 10))
	for source, offset := range s.marks {
		note(markKey+source, strconv.FormatInt(offset, 10))
	}
}

// removeUpTo removes the chunks that hold nothing above a number.
func (s *Spool) removeUpTo(number uint64) error {
	for i := range s.lanes {
		l := &s.lanes[i]
		for len(l.chunks) > 0 && l.chunks[0].last <= number {
			if len(l.chunks) == 1 {
				l.close()
			}
			if err := s.disk.Remove(l.chunks[0].path); err != nil {
				return err
			}
			l.chunks = slices.Delete(l.chunks, 0, 1)
		}
	}
	s.measure()
	return nil
}
