package spool

import (
	"encoding/json"
	"errors"
	"slices"
)

// Where the numbers of a spool go is noted with it, so that they are never taken for
// numbers of another feed, and each start of the agent is a run that is told apart.
const (
	feedKey  = "feed"
	runsKey  = "runs"
	olderKey = "older"
	mostRuns = 256

	mostOlder = 32 // generations before this one
)

// Feed is where the numbers of a spool go.
type Feed struct {
	Store      string `json:"store"` // the store that confirms them, "" before the first contact
	Cask       string `json:"cask"`
	Agent      string `json:"agent"`
	Generation string `json:"generation"` // random, "" for the first
	Base       uint64 `json:"base"`       // numbers up to it are not of this generation, and are done
	Twice      uint64 `json:"twice"`      // records up to it may be in an older generation too
}

// Older is a generation before this one, which the store has up to a number.
type Older struct {
	Feed
	Last uint64 `json:"last"`
}

// Run is a run of an agent, and from which number on it gave numbers out.
type Run struct {
	ID    string `json:"id" maxLength:"32"`
	First uint64 `json:"first"`
}

// Feed returns where the numbers go, as it was noted.
func (s *Spool) Feed() Feed {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.feed
}

// SetFeed notes where the numbers go from now on, so that it survives a power cut.
// Reading begins anew.
func (s *Spool) SetFeed(f Feed) error {
	s.saving.Lock()
	s.mu.Lock()
	s.feed = f
	s.mu.Unlock()
	err := s.saveFact(feedKey, f)
	s.saving.Unlock()
	s.Rewind()
	return err
}

// AddOlder notes how far the store has the feed that is about to end.
func (s *Spool) AddOlder(last uint64) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	s.older = append(s.older, Older{s.feed, last})
	s.older = slices.Clone(s.older[max(0, len(s.older)-mostOlder):])
	older := s.older
	s.mu.Unlock()
	return s.saveFact(olderKey, older)
}

// Older returns the generations before this one, the newest last.
func (s *Spool) Older() []Older {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.older
}

// SetTwice notes up to which number records may be in an older generation too.
func (s *Spool) SetTwice(number uint64) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	s.feed.Twice = number
	f := s.feed
	s.mu.Unlock()
	return s.saveFact(feedKey, f)
}

// BeginRun notes that from now on a run gives the numbers out.
func (s *Spool) BeginRun(id string) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	if last := len(s.runs) - 1; last >= 0 && s.runs[last].ID == id { // the agent has begun again with this spool
		s.mu.Unlock()
		return nil
	}
	s.runs = append(s.runs, Run{id, s.next.Load()})
	s.runs = slices.Clone(s.runs[max(0, len(s.runs)-mostRuns):])
	runs := s.runs
	s.mu.Unlock()
	return s.saveFact(runsKey, runs)
}

// Runs returns the runs that have given numbers out, the newest last.
func (s *Spool) Runs() []Run {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.runs
}

// saveFact writes a fact down. The caller holds saving, and not the other lock.
func (s *Spool) saveFact(key string, value any) error {
	s.memo.Set(key, factOf(value))
	return s.writeState(true, s.allFacts)
}

func factOf(value any) string {
	b, err := json.Marshal(value)
	if err != nil {
		panic(err) // texts and numbers always can be written
	}
	return string(b)
}

// GoBack has what is on disk behind a number sent once more, because the other side
// does not have it any more, and returns how many records that are. What is not here
// is told as lost.
func (s *Spool) GoBack(number uint64) (records int64, err error) {
	s.saving.Lock()
	s.mu.Lock()
	if number < s.confirmed {
		s.confirmed = number
	}
	s.forgotten = min(s.forgotten, number)
	s.noteState()
	s.mu.Unlock()
	err = s.writeState(true, s.allFacts)
	s.saving.Unlock()
	s.Rewind()
	held, failed := s.countAfter(number)
	s.mu.Lock()
	defer s.mu.Unlock()
	records, s.held = held-s.held, held
	return records, errors.Join(err, failed)
}
