package api_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/service/check"
	"oakbarrel/service/keep"
	"oakbarrel/service/model"
)

// Small blocks become larger ones: what is read, counted and declared is the
// same before and after, and in the middle of a search.
func TestSmallBlocksAreMerged(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	const n = 100
	for i := range n {
		head, payload := pack(uint64(i*12)+1, some(10))
		head.Last += 2
		head.Shed[7], head.Lost = 1, 1
		if _, err := f.writer(f.agent(700)).SendBatch(ctx, f.agent(700), "centre", f.cask, head, payload); err != nil {
			t.Fatal(err)
		}
	}
	var feed model.Feed
	db.Where("agent_id = ?", f.agent(700)).Take(&feed)
	blocks := func() (count int64) {
		db.Model(&model.Block{}).Where("feed_id = ?", feed.ID).Count(&count)
		return count
	}
	read := func() string {
		var all []string
		err := f.read.Read(ctx, client.Query{Cask: f.cask}, client.Page{Limit: 10_000}, func(line []byte) error {
			all = append(all, string(line))
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(all, "\n")
	}
	tell := func() string {
		k, err := f.read.Cask(ctx, f.cask)
		if err != nil {
			t.Fatal(err)
		}
		counts, err := f.read.Count(ctx, client.Query{Cask: f.cask}, "severity", "", 20)
		if err != nil {
			t.Fatal(err)
		}
		feed := k.Feeds[0]
		return fmt.Sprint(counts, k.Records, feed.Confirmed, feed.Records, feed.Shed, feed.Lost, feed.First, feed.Last)
	}
	before, told := read(), tell()
	now := time.Now()
	db.Where("1 = 1").Delete(&model.Clock{})
	keeper := newKeeper(func() time.Time { return now })
	once := func() {
		t.Helper()
		if _, err := keeper.Once(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if once(); blocks() != n {
		t.Errorf("%d blocks are left of what came just now", blocks())
	}
	now = now.Add(15 * time.Minute)
	if once(); blocks() != 1 {
		t.Errorf("%d blocks are left", blocks())
	}
	if after := read(); after != before {
		t.Error("what is read is another")
	}
	if after := tell(); after != told {
		t.Errorf("before %s\nafter  %s", told, after)
	}
	head, payload := pack(n*12+1, some(10)) // a single one waits for others, until its time is over
	if _, err := f.writer(f.agent(700)).SendBatch(ctx, f.agent(700), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	now = now.Add(50 * time.Minute)
	if once(); blocks() != 2 {
		t.Errorf("%d blocks are left where few came", blocks())
	}
	now = now.Add(7 * time.Hour)
	keeper = &keep.Keeper{Shelves: keeper.Shelves, Shelf: keeper.Shelf, Log: keeper.Log, Now: keeper.Now}
	if once(); blocks() != 1 {
		t.Errorf("%d blocks are left once their time is over", blocks())
	}
	report, err := check.Store(ctx, alone(), func(int64, int64) {})
	if err != nil {
		t.Fatal(err)
	}
	for _, fault := range report.Faults {
		if fault.Cask == f.cask {
			t.Errorf("%+v", fault)
		}
	}
	db.Where("1 = 1").Delete(&model.Clock{})
}

// A search that has picked its blocks before they are merged reads each record once.
func TestASearchGoesOnWhileBlocksAreMerged(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	for i := range 60 {
		head, payload := pack(uint64(i*10)+1, some(10))
		if _, err := f.writer(f.agent(701)).SendBatch(ctx, f.agent(701), "centre", f.cask, head, payload); err != nil {
			t.Fatal(err)
		}
	}
	db.Where("1 = 1").Delete(&model.Clock{})
	keeper := newKeeper(func() time.Time { return time.Now().Add(15 * time.Minute) })
	records := 0
	err := f.read.Read(ctx, client.Query{Cask: f.cask}, client.Page{Limit: 10_000}, func([]byte) error {
		if records == 0 {
			if _, err := keeper.Once(ctx); err != nil {
				t.Error(err)
			}
		}
		records++
		return nil
	})
	if err != nil || records != 600 {
		t.Errorf("%d records: %v", records, err)
	}
	db.Where("1 = 1").Delete(&model.Clock{})
}
