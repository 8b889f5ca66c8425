package spool

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"oakbarrel/core/disk"
)

const stateFile = "state.json"

// savedState is what must outlive the chunks.
type savedState struct {
	Confirmed uint64           `json:"confirmed"`
	Marks     map[string]int64 `json:"marks"`
}

func (s *Spool) loadState() error {
	path := filepath.Join(s.dir, stateFile)
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var saved savedState
	if err := json.Unmarshal(b, &saved); err != nil {
		return fmt.Errorf("%s is damaged: %w", path, err)
	}
	s.confirmed, s.written, s.forgotten = saved.Confirmed, saved.Confirmed, saved.Confirmed
	for source, offset := range saved.Marks {
		s.marks[source] = offset
	}
	return nil
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
	state := s.state()
	s.mu.Unlock()
	if err := s.writeState(state); err != nil {
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
	return nil
}

// saveState writes down what is confirmed and how far sources were taken. The
// caller holds both locks.
func (s *Spool) saveState() error { return s.writeState(s.state()) }

func (s *Spool) state() []byte {
	b, err := json.Marshal(savedState{s.confirmed, s.marks})
	if err != nil {
		panic(err) // numbers and names always can be written
	}
	return append(b, '\n')
}

func (s *Spool) writeState(state []byte) error {
	return disk.WriteFile(s.disk, filepath.Join(s.dir, stateFile), state, 0o640)
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
