package api_test

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/service/access"
	"oakbarrel/service/check"
	"oakbarrel/service/ingest"
	"oakbarrel/service/keep"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// sendBlocks sends batches of ten records each, of which the first came days[0] ago, and so on.
func (f *fixture) sendBlocks(agent string, days ...int) {
	f.t.Helper()
	for i, d := range days {
		head, payload := pack(uint64(i*10)+1, some(10))
		if _, err := f.writer(agent).SendBatch(context.Background(), agent, "centre", f.cask, head, payload); err != nil {
			f.t.Fatal(err)
		}
		var b model.Block
		db.Order("id DESC").Omit("payload", "words").First(&b)
		db.Model(&b).Update("arrived", time.Now().AddDate(0, 0, -d).UnixMicro())
	}
}

func (f *fixture) admin() *client.Client {
	token, err := access.NewToken(db, access.EveryCask, access.Admin, "noor")
	if err != nil {
		f.t.Fatal(err)
	}
	c, err := client.New(client.Options{URLs: []string{f.server.URL}, Token: func() (string, error) { return token, nil }})
	if err != nil {
		f.t.Fatal(err)
	}
	return c
}

// keeperOf returns a keeper of a database that is the only shelf of its store.
func keeperOf(db *gorm.DB, now func() time.Time, holder string) *keep.Keeper {
	shelves := shelf.New(db, slog.New(slog.DiscardHandler))
	return &keep.Keeper{Shelves: shelves, Shelf: shelves.Of(model.FirstShelf), Log: slog.New(slog.DiscardHandler), Now: now, Holder: holder}
}

func newKeeper(now func() time.Time) *keep.Keeper {
	db.Where("1 = 1").Delete(&model.Clock{})
	db.Where("name = 'keep'").Delete(&model.Job{}) // of the test before
	return keeperOf(db, now, "")
}

func ref[T any](v T) *T { return &v }

func TestACaskKeepsWhatItIsSetTo(t *testing.T) {
	ctx := context.Background()
	for name, c := range map[string]struct {
		set    client.SetRetention
		blocks int64 // that are left of those that came 40, 20, 10 and 0 days ago
	}{
		"everything":     {client.SetRetention{}, 4},
		"days":           {client.SetRetention{KeepDays: ref(15)}, 2},
		"held":           {client.SetRetention{KeepDays: ref(15), KeepTotal: ref(int64(1)), Held: ref(true)}, 4},
		"held, at most":  {client.SetRetention{KeepDays: ref(5), Held: ref(true), DaysAtMost: ref(30)}, 3},
		"at most":        {client.SetRetention{KeepDays: ref(100), DaysAtMost: ref(15)}, 2},
		"total":          {client.SetRetention{KeepTotal: ref(int64(1))}, 0},
		"days and total": {client.SetRetention{KeepDays: ref(30), KeepTotal: ref(int64(1 << 40))}, 3},
	} {
		t.Run(name, func(t *testing.T) {
			f := newFixture(t)
			f.cask = strings.NewReplacer("/", "-", ",", "").Replace(f.cask)
			f.write, _ = f.client(access.Write)
			f.read, _ = f.client(access.Read)
			f.sendBlocks(f.agent(500), 40, 20, 10, 0)
			defer db.Where("agent_id = ?", f.agent(500)).Delete(&model.Feed{})
			if (c.set != client.SetRetention{}) {
				if _, err := f.admin().SetCask(ctx, f.cask, c.set); err != nil {
					t.Fatal(err)
				}
			}
			if _, err := newKeeper(time.Now).Once(ctx); err != nil {
				t.Fatal(err)
			}
			k, err := f.read.Cask(ctx, f.cask)
			if err != nil || k.Records != c.blocks*10 {
				t.Errorf("%d records are left, want %d: %v", k.Records, c.blocks*10, err)
			}
			counts, err := f.read.Count(ctx, client.Query{Cask: f.cask}, "severity", "", 20)
			if err != nil || counts.Total != c.blocks*10 {
				t.Errorf("the counts are %+v: %v", counts, err)
			}
			if report, err := check.Store(ctx, alone(), func(int64, int64) {}); err != nil {
				t.Error(report, err)
			}
		})
	}
}

// A clock that jumps ahead removes nothing until it has been there for a while.
func TestAClockThatJumpsRemovesNothing(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	f.sendBlocks(f.agent(501), 1)
	if _, err := f.admin().SetCask(ctx, f.cask, client.SetRetention{KeepDays: ref(30)}); err != nil {
		t.Fatal(err)
	}
	now := time.Now().Round(0) // without the monotonic clock, as after a new start
	keeper := newKeeper(func() time.Time { return now })
	left := func() int64 {
		t.Helper()
		if _, err := keeper.Once(ctx); err != nil {
			t.Fatal(err)
		}
		c, err := f.read.Cask(ctx, f.cask)
		if err != nil {
			t.Fatal(err)
		}
		return c.Records
	}
	if n := left(); n != 10 {
		t.Errorf("%d at first", n)
	}
	now = now.AddDate(1, 0, 0)
	keeper = &keep.Keeper{Shelves: keeper.Shelves, Shelf: keeper.Shelf, Log: keeper.Log, Now: keeper.Now} // the service is started anew
	if n := left(); n != 10 {
		t.Errorf("%d are left after the jump", n)
	}
	now = now.Add(30 * time.Minute)
	if n := left(); n != 10 {
		t.Errorf("%d are left half an hour later", n)
	}
	now = now.Add(40 * time.Minute)
	if n := left(); n != 0 {
		t.Errorf("%d are left when the clock is believed", n)
	}
	db.Where("1 = 1").Delete(&model.Clock{})
}

func TestACaskTellsOfItsFeeds(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	f.sendBlocks(f.agent(502), 0, 0)
	head := client.BatchHead{Numbers: spool.Numbers{First: 21, Last: 26, Shed: [8]int{7: 3}, Lost: 2}, Refused: 1, Hash: "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"}
	if _, err := f.writer(f.agent(502)).SendBatch(ctx, f.agent(502), "centre", f.cask, head, nil); err != nil {
		t.Fatal(err)
	}
	f.writer(f.agent(502)).SendStatus(ctx, f.agent(502), client.AgentStatus{Host: "reef-02", Status: map[string]any{}})
	k, err := f.read.Cask(ctx, f.cask)
	if err != nil || len(k.Feeds) != 1 {
		t.Fatal(k, err)
	}
	feed := k.Feeds[0]
	if feed.Host != "reef-02" || feed.Confirmed != 26 || feed.Records != 20 || feed.Shed != 3 || feed.Lost != 2 || feed.Refused != 1 || feed.Arrived == nil {
		t.Errorf("%+v", feed)
	}
	if k.BytesPerDay == 0 || k.WillReach != nil {
		t.Errorf("%+v", k.Cask)
	}
	if k, err = f.admin().SetCask(ctx, f.cask, client.SetRetention{KeepTotal: ref(int64(1 << 30))}); err != nil || k.WillReach == nil || *k.WillReach != 1<<30 {
		t.Errorf("%+v, %v", k.Cask, err)
	}
	if _, err := f.read.SetCask(ctx, f.cask, client.SetRetention{Held: ref(true)}); err == nil || !strings.Contains(err.Error(), "the token may read") {
		t.Errorf("a token for reading sets it: %v", err)
	}
	if _, err := f.admin().SetCask(ctx, "nothing", client.SetRetention{Held: ref(true)}); err == nil {
		t.Error("a cask that is not there is set")
	}
}

func TestTheAuditTrailTellsWhoReadAndChangedWhat(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	admin := f.admin()
	f.read.Read(ctx, client.Query{Cask: f.cask, Where: "app is pumpd"}, client.Page{}, func([]byte) error { return nil })
	if _, err := admin.SetCask(ctx, f.cask, client.SetRetention{KeepDays: ref(3)}); err != nil {
		t.Fatal(err)
	}
	acts, err := admin.Audit(ctx, time.Time{}, 2)
	if err != nil || len(acts) != 2 {
		t.Fatal(acts, err)
	}
	if a := acts[0]; a.By != "noor" || a.What != "set cask" || !strings.Contains(a.Detail, f.cask+": keep 3 days") {
		t.Errorf("%+v", a)
	}
	if a := acts[1]; a.By != "test" || a.What != "read" || a.Detail != "cask "+f.cask+", where app is pumpd" {
		t.Errorf("%+v", a)
	}
	if _, err := f.read.Audit(ctx, time.Time{}, 2); err == nil {
		t.Error("a token for reading reads the audit trail")
	}
}

// A block that is damaged is told, and the others are read all the same.
func TestADamagedBlockIsFoundAndTheRestIsRead(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	f.sendBlocks(f.agent(503), 0, 0, 0)
	var feed model.Feed
	db.Where("agent_id = ?", f.agent(503)).Take(&feed)
	var b model.Block
	db.Where("feed_id = ? AND first_number = 11", feed.ID).Take(&b)
	b.Payload[len(b.Payload)/2] ^= 0xff
	db.Model(&b).Update("payload", b.Payload)
	defer db.Delete(&b)
	n := 0
	err := f.read.Read(ctx, client.Query{Cask: f.cask}, client.Page{}, func(line []byte) error {
		var r record.Record
		n++
		return r.ParseJSON(line)
	})
	if _, told := err.(*client.DamagedBlocks); n != 20 || !told {
		t.Errorf("%d records, %v", n, err)
	}
	report, err := check.Store(ctx, alone(), func(int64, int64) {})
	if err != nil {
		t.Fatal(err)
	}
	found := false
	for _, fault := range report.Faults {
		found = found || fault.Block == b.ID && fault.Cask == f.cask && strings.Contains(fault.What, "records 11 to 20")
	}
	if !found {
		t.Errorf("%+v", report.Faults)
	}
}

// Hosts go on writing while a store is looked through, and nothing of that is a fault.
func TestAStoreThatIsWrittenToIsLookedThroughAsItWas(t *testing.T) {
	f := newFixture(t)
	f.sendBlocks(f.agent(509), 0, 0)
	f.sendBlocks(f.agent(510), 0, 0) // so that what 509 sends is behind what was looked at
	next := uint64(21)
	report, err := check.Store(context.Background(), alone(), func(int64, int64) {
		head, payload := pack(next, some(10))
		if _, err := f.writer(f.agent(509)).SendBatch(context.Background(), f.agent(509), "centre", f.cask, head, payload); err != nil {
			t.Error(err)
		}
		next += 10
	})
	if err != nil || next == 21 {
		t.Fatal(err, next)
	}
	for _, fault := range report.Faults {
		if fault.Cask == f.cask {
			t.Errorf("block %d: %s", fault.Block, fault.What)
		}
	}
}

// A block whose filter rules a word out is not opened: that this one is damaged
// is not told then.
func TestFiltersKeepBlocksShut(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	f.sendBlocks(f.agent(506), 0)
	var b model.Block
	db.Order("id DESC").Take(&b)
	defer db.Delete(&b)
	db.Model(&b).Update("payload", b.Payload[1:])
	words := func(n int) string {
		var all []string
		for i := range n {
			all = append(all, fmt.Sprintf("text has word ghost%d", i))
		}
		return strings.Join(all, " or ")
	}
	for where, opened := range map[string]bool{
		"text has word record": true, "text has word 7": true, "text has word kelp": false, `"record kelp"`: true, `"a kelp b"`: false, "app is ghostd": false, "host is REEF-02": true, "host is kelp-01": false,
		"host is kelp-01 or text has word 7": true, "host is reef-02 and text has word 10": false, words(30): false, words(40): true, // more words than are looked up
	} {
		err := f.read.Read(ctx, client.Query{Cask: f.cask, Where: where}, client.Page{}, func([]byte) error { return nil })
		if _, told := err.(*client.DamagedBlocks); told != opened {
			t.Errorf("%s: opened %v, %v", where, told, err)
		}
	}
	for _, words := range [][]byte{nil, {}, {3}, {9, 1, 2}} { // none, and such as nobody knows
		db.Model(&b).Update("words", words)
		err := f.read.Read(ctx, client.Query{Cask: f.cask, Where: "text has word kelp"}, client.Page{}, func([]byte) error { return nil })
		if _, told := err.(*client.DamagedBlocks); !told {
			t.Errorf("with the filter %v the block is not opened: %v", words, err)
		}
	}
}

func TestLargeFiltersAreKeptInParts(t *testing.T) {
	oneAtATime(t)
	f, ctx := newFixture(t), context.Background()
	records := some(5000)
	for i := range records {
		records[i].Text = fmt.Appendf(nil, "valve %d of loop %x", i, 1e15+i*7777777)
	}
	head, payload := pack(1, records)
	if _, err := f.writer(f.agent(507)).SendBatch(ctx, f.agent(507), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	var b model.Block
	db.Order("id DESC").Take(&b)
	parts := func() (n int64) { db.Model(&model.WordPart{}).Where("block_id = ?", b.ID).Count(&n); return n }
	if !b.WordsApart || len(b.Words) > 0 || parts() != block.WordParts {
		t.Fatalf("apart %v, %d bytes, %d parts", b.WordsApart, len(b.Words), parts())
	}
	ask := func(where string) (n int, err error) {
		err = f.read.Read(ctx, client.Query{Cask: f.cask, Where: where}, client.Page{}, func([]byte) error { n++; return nil })
		return n, err
	}
	for i := 0; i < 5000; i += 131 {
		if n, err := ask(fmt.Sprintf("text has word %d and text has word %x", i, 1e15+i*7777777)); n != 1 || err != nil {
			t.Fatalf("record %d is found %d times, %v", i, n, err)
		}
	}
	inspect := func(what string, wrong bool) {
		t.Helper()
		report, err := check.Store(ctx, alone(), nil)
		told := slices.ContainsFunc(report.Faults, func(f check.Fault) bool { return f.Block == b.ID && strings.Contains(f.What, "filter") })
		if err != nil || told != wrong {
			t.Errorf("%s: a check tells %+v, %v", what, report.Faults, err)
		}
	}
	inspect("as it came", false)
	var part model.WordPart
	db.Where("block_id = ? AND part = 7", b.ID).Take(&part)
	whole := bytes.Clone(part.Cells)
	part.Cells[5] ^= 1
	db.Save(&part)
	inspect("with a part that is another", true)
	part.Cells = whole
	db.Save(&part)
	inspect("as it was", false)
	db.Model(&b).Update("payload", b.Payload[1:])
	opened := 0
	for i := range 200 {
		if _, err := ask(fmt.Sprintf("text has word %d", 10_000+i)); err != nil {
			opened++
		}
	}
	if opened > 8 {
		t.Errorf("for %d of 200 words that are not there the block is opened", opened)
	}
	if err := ingest.Remove(db, []model.Block{b}); err != nil || parts() != 0 {
		t.Errorf("%d parts are left of a block that is removed, %v", parts(), err)
	}
}
