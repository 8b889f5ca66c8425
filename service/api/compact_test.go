package api_test

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/service/ingest"
	"oakbarrel/service/keep"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// bulk sends a batch that hardly can be packed, of about so many kilobytes.
func (s *shelved) bulk(agent, first, kilobytes int) error {
	var records []record.Record
	noise := rand.NewChaCha8([32]byte{byte(first)})
	for i := range kilobytes {
		text := make([]byte, 500)
		noise.Read(text)
		records = append(records, record.Record{Time: record.Stamp{Sec: 1795600800 + int64(first+i), Form: record.Zulu}, Priority: 13, Host: []byte("reef-02"), Text: fmt.Appendf(nil, "%x", text)})
	}
	head, payload := pack(uint64(first), records)
	b := &ingest.Batch{FeedKey: s.key(agent), Numbers: spool.Numbers{First: head.First, Last: head.Last}, Hash: sha256.Sum256(payload), Payload: payload}
	if err := b.Open(); err != nil {
		return err
	}
	_, err := s.feeds.Take(s.t.Context(), b)
	return err
}

// What removed blocks have left goes back to the file system while others write, and they
// hardly wait for it.
func TestRoomIsGivenBackWhileTheStoreWorks(t *testing.T) {
	s := newShelved(t)
	for n := range 60 {
		if err := s.bulk(1, n*1000+1, 1000); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.first.Model(&model.Cask{}).Where("id = ?", s.cask).Update("keep_total", 4<<20).Error; err != nil {
		t.Fatal(err)
	}
	keeper := &keep.Keeper{Shelves: s.shelves, Shelf: s.shelves.Of(model.FirstShelf), Log: keeperOf(s.first, time.Now, "").Log, Now: time.Now, Holder: "keeps"}
	if _, err := keeper.Once(t.Context()); err != nil {
		t.Fatal(err)
	}
	compacted := make(chan error, 1)
	var done []shelf.Compacted
	go func() {
		for began := time.Now(); ; time.Sleep(200 * time.Millisecond) { // the database takes its time to free what was removed
			var err error
			done, err = shelf.Compact(t.Context(), "first", s.first, func(string, int64) {})
			if err != nil || len(done) > 0 || time.Since(began) > 30*time.Second {
				compacted <- err
				return
			}
		}
	}()
	longest, sent := time.Duration(0), 0
	var err error
	for working := true; working; {
		select {
		case err = <-compacted:
			working = false
		default:
		}
		began := time.Now()
		s.sent(2, sent+1, 100)
		sent += 100
		longest = max(longest, time.Since(began))
	}
	if err != nil || len(done) == 0 || done[0].Table != "blocks" || done[0].After > done[0].Before/2 {
		t.Errorf("%+v: %v", done, err)
	}
	if longest > 3*time.Second {
		t.Errorf("a batch waited for %v", longest)
	}
	t.Logf("%+v; %d records came meanwhile, the longest batch took %v", done, sent, longest)
	s.inOrder()
}

// One at a time compacts, and what little is free is left alone.
func TestCompactingTwice(t *testing.T) {
	s := newShelved(t)
	s.sent(1, 1, 10)
	if done, err := shelf.Compact(t.Context(), "first", s.first, func(string, int64) {}); err != nil || len(done) != 0 {
		t.Errorf("%+v, %v", done, err)
	}
	lease := model.Lease{Job: "compact", Holder: "another", For: time.Minute}
	if mine, err := lease.Take(s.first); err != nil || !mine {
		t.Fatal(mine, err)
	}
	if _, err := shelf.Compact(t.Context(), "first", s.first, func(string, int64) {}); !errors.Is(err, model.ErrNotMine) {
		t.Error(err)
	}
}
