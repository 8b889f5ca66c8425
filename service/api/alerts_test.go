package api_test

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/alert"
	"oakbarrel/core/record"
	"oakbarrel/service/alerts"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

// asked is a store whose batches are watched, and who judges what they say.
type asked struct {
	*shelved
	book *alerts.Book
	now  time.Time
}

func newAsked(t *testing.T, shelves ...string) *asked {
	s := newShelved(t, shelves...)
	return &asked{s, &alerts.Book{DB: s.first, Watch: &alerts.Watch{DB: s.first, Log: slog.New(slog.DiscardHandler)}}, time.Now()}
}

func (a *asked) put(name, text string) {
	a.t.Helper()
	if _, err := a.book.Put(a.t.Context(), name, client.PutAlert{Text: text}, "mara"); err != nil {
		a.t.Fatal(err)
	}
}

// judge returns who judges for one service.
func (a *asked) judge(holder string) *alerts.Judge {
	return &alerts.Judge{DB: a.first, Shelves: a.shelves, Log: slog.New(slog.DiscardHandler), Holder: holder, Now: func() time.Time { return a.now }}
}

// say has an agent send records of one time that came now.
func (a *asked) say(agent int, first uint64, records ...record.Record) error {
	head, payload := pack(first, records)
	b := &ingest.Batch{FeedKey: a.key(agent), Numbers: head.Numbers, Hash: sha256.Sum256(payload), Payload: payload, Watcher: a.book.Watch}
	if err := b.Open(); err != nil {
		return err
	}
	_, err := a.feeds.Take(context.Background(), b)
	return err
}

func (a *asked) said(agent int, first uint64, records ...record.Record) {
	a.t.Helper()
	if err := a.say(agent, first, records...); err != nil {
		a.t.Fatal(err)
	}
}

func (a *asked) judged(j *alerts.Judge) {
	a.t.Helper()
	for {
		more, err := j.Once(a.t.Context())
		if err != nil {
			a.t.Fatal(err)
		}
		if !more {
			return
		}
	}
}

func (a *asked) notices(states ...string) []client.Notice {
	a.t.Helper()
	all, err := a.book.Notices(a.t.Context(), states, nil, 100)
	if err != nil {
		a.t.Fatal(err)
	}
	return all
}

// line is a record of some time ago.
func (a *asked) line(ago time.Duration, host, app string, severity record.Severity, text string) record.Record {
	at := a.now.Add(-ago)
	return record.Record{Time: record.Stamp{Sec: at.Unix(), Nsec: int32(at.Nanosecond()), Form: record.Zulu}, Priority: record.MakePriority(3, severity), Host: []byte(host), App: []byte(app), Text: []byte(text)}
}

// Each record is judged exactly once, whichever of several services judges, however often they
// break off, on whichever shelf it is, and however often its batch is sent.
func TestEachRecordIsJudgedOnce(t *testing.T) {
	a := newAsked(t, "north")
	a.put("kinds", "alert: 1\nby: host\nwhen: severity at most error\nmore: {than: 1000000, in: 7d}\n")
	a.put("records", "alert: 1\nby: host\nwhen: text contains stalled\nmore: {than: 1000000, in: 7d}\n")
	const agents = 6
	batches := 40
	if os.Getenv("OAKBARREL_RACE") != "" {
		batches = 10
	}
	ending := make(chan struct{})
	var working, sending sync.WaitGroup
	var breaks, rounds atomic.Int64
	for n := range 2 {
		working.Go(func() {
			rnd := rand.New(rand.NewPCG(uint64(n), 5))
			for {
				select {
				case <-ending:
					return
				default:
				}
				j := a.judge(fmt.Sprintf("service-%d-%d", n, breaks.Load())) // a killed one is another one when it comes back
				for range 3 {
					ctx, cancel := context.WithTimeout(context.Background(), time.Duration(rnd.IntN(60))*time.Millisecond)
					if _, err := j.Once(ctx); err != nil {
						breaks.Add(1)
					}
					rounds.Add(1)
					cancel()
				}
				a.first.Model(&model.Job{}).Where("name = 'alerts'").Update("until", time.Unix(1, 0)) // as if its lease had run out
			}
		})
	}
	for agent := range agents {
		sending.Go(func() {
			rnd := rand.New(rand.NewPCG(uint64(agent), 6))
			number := uint64(1)
			for batch := range batches {
				var records []record.Record
				for i := range 1 + rnd.IntN(30) {
					severity := record.Error
					if i%3 == 0 {
						severity = record.Info
					}
					records = append(records, a.line(time.Duration(rnd.IntN(3600))*time.Second, fmt.Sprintf("kelp-%d", i%4), "pumpd", severity, fmt.Sprintf("pump %d stalled", batch)))
				}
				for again := 0; again < 1+rnd.IntN(2); again++ { // a repeat says nothing
					if err := a.say(agent, number, records...); err != nil && again == 0 {
						t.Error(err)
					}
				}
				number += uint64(len(records))
			}
		})
	}
	sending.Wait()
	close(ending)
	working.Wait()
	a.first.Model(&model.Job{}).Where("name = 'alerts'").Update("until", time.Unix(1, 0))
	a.judged(a.judge("last"))
	for _, c := range []struct{ alert, where string }{{"kinds", "severity at most error"}, {"records", "any"}} {
		want := map[string]int64{}
		for _, n := range a.countsBy(c.where) {
			want[n.Key] = n.Count
		}
		var states []model.AlertState
		if err := a.first.Joins("JOIN alerts ON alerts.id = alert_id AND alerts.name = ?", c.alert).Find(&states).Error; err != nil {
			t.Fatal(err)
		}
		if len(states) != len(want) || len(want) != 4 {
			t.Errorf("%s: %d of %d hosts", c.alert, len(states), len(want))
		}
		for _, s := range states {
			var n int64
			for _, slot := range stateIn(t, s).Slots {
				n += slot.Count
			}
			if n != want[s.Who] {
				t.Errorf("%s: %s has %d records, and %d were judged", c.alert, s.Who, want[s.Who], n)
			}
		}
	}
	for _, of := range a.shelves.All() {
		db, err := of.DB(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		var left int64
		if db.Model(&model.Hits{}).Count(&left); left > 0 {
			t.Errorf("%d stand on shelf %s still", left, of.Name())
		}
	}
	var left int64
	if a.first.Model(&model.HitsTaken{}).Count(&left); left > 0 {
		t.Errorf("%d are noted as taken still", left)
	}
	t.Logf("%d rounds, %d of them broken off", rounds.Load(), breaks.Load())
	if breaks.Load() == 0 {
		t.Error("no round was broken off")
	}
}

func (a *asked) countsBy(where string) []search.Count {
	a.t.Helper()
	q := a.about(where)
	q.Casks = []uint64{a.cask}
	by, err := search.ValueOf("host", "")
	if err != nil {
		a.t.Fatal(err)
	}
	_, _, top, err := a.search.TopValues(a.t.Context(), q, by, 100)
	if err != nil {
		a.t.Fatal(err)
	}
	return top
}

func stateIn(t *testing.T, row model.AlertState) (s alert.State) {
	t.Helper()
	if err := json.Unmarshal([]byte(row.State), &s); err != nil {
		t.Fatal(err)
	}
	return s
}

// What an alert finds is one notice, told once, again when it comes back, and no more once
// somebody has closed it; the notices of a storm are one.
func TestANoticeFromItsBeginToItsEnd(t *testing.T) {
	a := newAsked(t)
	a.now = a.now.Add(-3 * time.Hour) // what comes from the future counts as now
	receiver := newTold(t)
	a.receiver("duty", client.PutReceiver{Kind: "webhook", Address: receiver.URL, Token: "s3cret"})
	a.put("stalls", "alert: 1\ncask: gateway\nby: host\nwhen: app is pumpd and severity at least error\nmore: {than: 2, in: 10m}\ntell: [duty]\nnote: Look at the fuse.\n")
	j, carrier := a.judge("one"), &alerts.Carrier{DB: a.first, Log: slog.New(slog.DiscardHandler), Holder: "one", Now: func() time.Time { return a.now }, Link: "https://logs.lantern.example"}
	number := map[int]uint64{}
	stall := func(agent int, host string, n int) {
		var records []record.Record
		for range n {
			records = append(records, a.line(0, host, "pumpd", record.Error, "pump 4 stalled"), a.line(0, host, "pumpd", record.Info, "pump 4 runs"))
		}
		a.said(agent, number[agent]+1, records...)
		number[agent] += uint64(len(records))
	}
	round := func() {
		a.judged(j)
		if err := carrier.Once(t.Context()); err != nil {
			t.Error(err)
		}
	}
	stall(0, "reef-02", 2)
	round()
	if len(a.notices()) != 0 {
		t.Fatalf("two are not more than two: %+v", a.notices())
	}
	for host := range 30 { // a storm
		stall(1, fmt.Sprintf("kelp-%02d", host), 3)
	}
	round()
	round()
	told := receiver.take()
	if len(told) != 1 || !strings.Contains(told[0], `"title":"stalls: kelp-00: 3 records within 10m, more than 2 (and 29 more)"`) || !strings.Contains(told[0], "and 10 more") || !strings.Contains(told[0], "Look at the fuse.") || !strings.Contains(told[0], `"link":"https://logs.lantern.example/notices/1"`) {
		t.Fatalf("%q", told)
	}
	stall(0, "reef-02", 1) // joins within a quarter of an hour
	round()
	if told := receiver.take(); len(told) != 0 {
		t.Errorf("told again at once: %q", told)
	}
	a.now = a.now.Add(16 * time.Minute)
	round()
	if told := receiver.take(); len(told) != 1 || !strings.Contains(told[0], "stalls: reef-02: 3 records within 10m, more than 2\"") {
		t.Errorf("%q", told)
	}
	open := a.notices("told")
	if len(open) != 1 || open[0].Of != 31 || open[0].Told != 2 || open[0].Holds {
		t.Fatalf("%+v", open)
	}
	id := open[0].ID
	steer := func(s client.SteerNotice) client.Notice {
		t.Helper()
		n, err := a.book.Steer(t.Context(), id, s, "noor")
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	if n := steer(client.SteerNotice{Do: "take"}); n.State != "seen" || n.By != "noor" || len(n.Sent) != 2 || n.Sent[0].Done == nil {
		t.Errorf("%+v", n)
	}
	steer(client.SteerNotice{Do: "mute", Minutes: 60})
	stall(0, "reef-02", 3) // it comes back while it is muted
	round()
	if told := receiver.take(); len(told) != 0 {
		t.Errorf("muted, and told: %q", told)
	}
	a.now = a.now.Add(16 * time.Minute)
	a.first.Model(&model.Notice{}).Where("id = ?", id).Update("muted", a.now.Add(-time.Second))
	round()
	if told := receiver.take(); len(told) != 1 || !strings.Contains(told[0], "for the 2nd time") || !strings.Contains(told[0], "noor is on it.") {
		t.Errorf("%q", told)
	}
	var refusal *alerts.Refusal
	if _, err := a.book.Steer(t.Context(), id, client.SteerNotice{Do: "done"}, "noor"); !errors.As(err, &refusal) {
		t.Errorf("done without a reason: %v", err)
	}
	steer(client.SteerNotice{Do: "done", Why: "the fuse was changed"})
	if _, err := a.book.Steer(t.Context(), id, client.SteerNotice{Do: "take"}, "noor"); !errors.As(err, &refusal) || !refusal.Conflict {
		t.Errorf("what is done is taken: %v", err)
	}
	stall(0, "reef-02", 2) // it goes on still
	round()
	if told := receiver.take(); len(told) != 0 || len(a.notices("told", "seen")) != 0 {
		t.Errorf("what is done and goes on is told: %q", told)
	}
	a.now = a.now.Add(30 * time.Minute)
	round()
	stall(0, "reef-02", 3)
	round()
	if told := receiver.take(); len(told) != 1 || !strings.Contains(told[0], "reef-02") || len(a.notices("told")) != 1 {
		t.Errorf("what comes back is not told: %q", told)
	}
	if err := a.book.Remove(t.Context(), "stalls"); err != nil {
		t.Fatal(err)
	}
	stall(0, "reef-02", 3)
	round()
	if len(a.notices("told", "seen")) != 0 || len(receiver.take()) != 0 {
		t.Error("an alert that is removed tells still")
	}
	if receiver.wrong.Load() > 0 {
		t.Error("the token did not come")
	}
}

// Each kind of alert, from batches to notices.
func TestKindsOfAlerts(t *testing.T) {
	a := newAsked(t, "north")
	a.now = time.Now().Add(-2 * time.Hour)
	lines := func(n int, host, app string, severity record.Severity, text string, ago time.Duration) (all []record.Record) {
		for range n {
			all = append(all, a.line(ago, host, app, severity, text))
		}
		return all
	}
	a.said(0, 1, lines(200, "reef-02", "pumpd", record.Info, "pump 4 runs", 90*time.Minute)...) // since when the cask has records
	a.said(1, 1, lines(200, "kelp-01", "ticketd", record.Info, "order 7 sold", 90*time.Minute)...)
	a.put("fresh", "alert: 1\nwhen: severity at least error\nnew_shape: {}\n")
	a.put("share", "alert: 1\nwhen: app is ticketd\nshare: {of: severity at least error, over: 10%, in: 5m, least: 10}\n")
	a.put("hot", "alert: 1\nby: host\nvalue: {field: tank.temperature, over: 28}\n")
	a.put("few", "alert: 1\nwhen: app is ticketd\nfewer: {than: 3, in: 5m}\n")
	a.put("facility", "alert: 1\nwhen: facility is auth\nmore: {than: 0, in: 5m}\n")
	a.put("wrong-cask", "alert: 1\nmore: {than: 0, in: 5m}\n")
	if _, err := a.book.Put(t.Context(), "nowhere", client.PutAlert{Text: "alert: 1\ncask: nowhere\nmore: {than: 0, in: 5m}\n"}, "mara"); err == nil {
		t.Error("an alert for a cask that is not there is kept")
	}
	if _, err := a.book.Put(t.Context(), "new", client.PutAlert{Text: "alert: 1\nmore: {than: 0, in: 5m}\n"}, "mara"); err == nil {
		t.Error("an alert has the name of an address of the console")
	}
	if err := a.book.Remove(t.Context(), "wrong-cask"); err != nil {
		t.Fatal(err)
	}
	if err := a.first.Model(&model.AlertState{}).Where("who = ''").Update("state", fmt.Sprintf(`{"first":%d}`, a.now.UnixMicro())).Error; err != nil { // it was made then
		t.Fatal(err)
	}
	j := a.judge("one")
	a.judged(j)
	if n := a.notices(); len(n) != 0 {
		t.Fatalf("%+v", n)
	}
	a.said(0, 201, lines(1, "reef-02", "pumpd", record.Error, "pump 4 stalled", 0)...)
	a.said(0, 202, lines(1, "reef-02", "pumpd", record.Error, "pump 5 stalled", 0)...) // the same shape
	a.said(0, 203, lines(1, "reef-02", "pumpd", record.Info, "pump 5 sings", 0)...)    // no error
	a.said(0, 204, lines(1, "reef-02", "sshd", record.Info, "badge 4 let in", 0)...)
	auth := lines(1, "reef-02", "sshd", record.Info, "badge 4 let in", 0)
	auth[0].Priority = record.MakePriority(4, record.Info)
	a.said(0, 205, auth...)
	hot := lines(3, "reef-02", "salinity-probe", record.Info, "measured", 0)
	for i, v := range []string{"27.5", "29.5", "1e999"} {
		hot[i].Data = fmt.Appendf(nil, `{"tank":{"temperature":%q}}`, v)
	}
	a.said(0, 206, hot...)
	a.said(1, 201, lines(18, "kelp-01", "ticketd", record.Info, "order 7 sold", 0)...)
	a.said(1, 219, lines(2, "kelp-01", "ticketd", record.Error, "order 7 failed", time.Minute)...)
	a.judged(j)
	want := map[string]string{
		"fresh":    "never there before: pump … stalled (and 1 more)",
		"hot":      "reef-02: tank.temperature was 1000000000000000", // 1e999 is kept as a number that can be
		"facility": "1 record within 5m, more than 0",
	}
	check := func() {
		t.Helper()
		got := map[string]string{}
		for _, n := range a.notices() {
			got[n.Alert] = n.Title
		}
		for name, title := range want {
			if !strings.HasPrefix(got[name], name+": "+title) {
				t.Errorf("%s: %q, want %q", name, got[name], title)
			}
			delete(got, name)
		}
		for name, title := range got {
			t.Errorf("%s tells %q", name, title)
		}
	}
	check()
	a.said(1, 221, lines(2, "kelp-01", "ticketd", record.Error, "order 7 failed", 0)...)
	a.judged(j)
	want["share"] = "18.1 % of the records within 5m, more than 10 %"
	check()
	for range 2 * 60 { // rounds while the time goes by, which the judge must see
		a.now = a.now.Add(10 * time.Second)
		a.judged(j)
	}
	want["few"] = "2 records within 5m, fewer than 3"
	for _, n := range a.notices() {
		if n.Alert == "few" {
			want["few"] = strings.TrimPrefix(n.Title, "few: ")
			if !strings.HasSuffix(n.Title, "fewer than 3") {
				t.Error(n.Title)
			}
		}
	}
	check()
}

// A program that ceases is told, and which one; one that is away with its shelf, or with the
// store, is not.
func TestSilenceIsTold(t *testing.T) {
	a := newAsked(t)
	a.now = time.Now().Add(-24 * time.Hour)
	a.put("silent", "alert: 1\nby: app\nsilent: {for: 10m}\n")
	j := a.judge("one")
	number := uint64(1)
	minute := func(apps ...string) {
		t.Helper()
		for _, app := range apps {
			a.heard(number, app)
			number++
		}
		a.now = a.now.Add(time.Minute)
		a.judged(j)
	}
	for range 30 {
		minute("pumpd", "ticketd")
	}
	for range 9 {
		minute("ticketd")
	}
	if n := a.notices(); len(n) != 0 {
		t.Fatalf("%+v", n)
	}
	minute("ticketd")
	minute("ticketd")
	minute("ticketd")
	n := a.notices()
	if len(n) != 1 || !strings.HasPrefix(n[0].Title, "silent: pumpd: silent for 1") || n[0].About[0].Where != `app is "pumpd"` || !n[0].Holds {
		t.Fatalf("%+v", n)
	}
	minute("ticketd", "pumpd")
	if n = a.notices(); n[0].Holds {
		t.Errorf("it speaks again, and is silent: %+v", n)
	}
	a.now = a.now.Add(20 * time.Minute) // in which no service runs
	a.judged(j)
	minute()
	if n := a.notices(); len(n) != 1 || n[0].Holds {
		t.Errorf("the store was away, and that is told of those who speak: %+v", n)
	}
}

// heard has one record of an app come now, as the judge's clock has it.
func (a *asked) heard(number uint64, app string) {
	a.t.Helper()
	a.said(0, number, a.line(0, "reef-02", app, record.Info, "hello"))
	if err := a.first.Model(&model.Hits{}).Where("1 = 1").Update("arrived", a.now.UnixMicro()).Error; err != nil {
		a.t.Fatal(err)
	}
}

// Whatever senders write, it is judged, and what is told of it is harmless; what is imported says
// nothing.
func TestHostileRecordsAreJudged(t *testing.T) {
	oneAtATime(t)
	a := newAsked(t)
	a.put("all", "alert: 1\nby: host\nmore: {than: 0, in: 1h}\n")
	a.put("fields", "alert: 1\nby: field x\nmore: {than: 0, in: 1h}\n")
	a.put("shapes", "alert: 1\nnew_shape: {}\n")
	a.put("long", "alert: 1\nby: host\nwhen: not text contains "+strings.Repeat("long", 16_300)+"\nmore: {than: 0, in: 1h}\n")
	var records []record.Record
	for i, host := range []string{"\xff\xfe\x00", "\x1b[31mred", strings.Repeat("long", 2000), "a\u202eb", "'; DROP TABLE alerts; --", "İstanbul", ""} {
		r := a.line(0, host, "x", record.Error, strings.Repeat(host, 3))
		r.Data = []byte(`{"x":"` + strings.Repeat(`y\u0000`, i*400) + `"}`)
		records = append(records, r)
	}
	old := a.line(0, "old", "x", record.Info, "of the past")
	old.Time.Sec = -62135596800
	ahead := a.line(0, "ahead", "x", record.Info, "of the future")
	ahead.Time.Sec = 253402300799
	for i := range 1500 {
		records = append(records, a.line(0, fmt.Sprintf("many-%d", i), "x", record.Info, "one of many"))
	}
	a.said(0, 1, append(records, old, ahead)...)
	a.judged(a.judge("one"))
	all := a.notices("told")
	if len(all) != 4 {
		t.Fatalf("%d notices", len(all))
	}
	for _, n := range all {
		for _, w := range n.About {
			if strings.ContainsAny(w.Who+w.Line, "\x1b\x00\u202e") {
				t.Errorf("%q", w.Line)
			}
		}
		if n.Alert == "all" && n.Of > 202 {
			t.Errorf("%d are told apart of one batch", n.Of)
		}
	}
	head, payload := pack(1, []record.Record{a.line(0, "imported", "x", record.Info, "x")})
	key := a.key(1)
	key.Generation = client.Imported
	b := &ingest.Batch{FeedKey: key, Numbers: head.Numbers, Hash: sha256.Sum256(payload), Payload: payload, Watcher: a.book.Watch}
	if err := b.Open(); err != nil {
		t.Fatal(err)
	}
	if _, err := a.feeds.Take(context.Background(), b); err != nil {
		t.Fatal(err)
	}
	var hits int64
	if a.first.Model(&model.Hits{}).Count(&hits); hits != 0 {
		t.Errorf("what is imported says %d things", hits)
	}
}

// A new shape is told once in its cask, on whichever shelf it comes.
func TestANewShapeIsNewOnEveryShelf(t *testing.T) {
	a := newAsked(t, "north")
	base := a.now
	number := map[int]uint64{}
	say := func(agent int, ago time.Duration, text string) {
		t.Helper()
		a.said(agent, number[agent]+1, a.line(ago, "reef-02", "pumpd", record.Error, text))
		number[agent]++
	}
	for agent := range 2 {
		say(agent, 3*time.Hour, "pump 1 runs")
	}
	if on := a.feedsOn(); len(on) != 2 {
		t.Fatalf("both agents are on one shelf: %v", on)
	}
	say(0, 2*time.Hour, "valve 3 sticks")
	a.put("fresh", "alert: 1\nnew_shape: {}\n")
	j := a.judge("one")
	say(1, 0, "valve 4 sticks") // new on this shelf alone
	a.judged(j)
	if n := a.notices(); len(n) != 0 {
		t.Fatalf("%+v", n)
	}
	say(0, 0, "tank 5 leaks")
	say(1, 0, "tank 6 leaks")
	a.judged(j)
	if n := a.notices(); len(n) != 1 || n[0].Of != 1 || n[0].Title != "fresh: never there before: tank … leaks" || n[0].Since.Before(base.Add(-time.Minute)) {
		t.Fatalf("%+v", n)
	}
}

// What is tried on the past is told as it would have been.
func TestAlertsAreTriedOnThePast(t *testing.T) {
	oneAtATime(t)
	a := newAsked(t)
	var records []record.Record
	for _, hours := range []int{3, 9, 50, 200, 2000} { // the last is too long ago
		for i := range 6 {
			records = append(records, a.line(time.Duration(hours)*time.Hour-time.Duration(i)*time.Second, "reef-02", "pumpd", record.Error, "pump 4 stalled, timeout"))
		}
	}
	for i := range 5000 {
		records = append(records, a.line(time.Duration(i)*20*time.Second, "kelp-01", "ticketd", record.Info, fmt.Sprintf("sold %d", i)))
	}
	slices.SortFunc(records, func(x, y record.Record) int { return int(x.Time.Sec - y.Time.Sec) })
	number := uint64(1)
	for some := range slices.Chunk(records, 1000) {
		a.said(0, number, some...)
		number += uint64(len(some))
	}
	for text, times := range map[string]int{
		"more: {than: 5, in: 10m}\nwhen: severity at least error":            4,
		"more: {than: 5, in: 10m}\nwhen: text contains timeout\nby: host":    4,
		"more: {than: 6, in: 10m}\nwhen: severity at least error":            0,
		"new_shape: {}\nwhen: severity at least error":                       0,
		"value: {field: x, over: 1}":                                         0,
		"share: {of: severity at least error, over: 10%, in: 10m, least: 5}": 4,
		"silent: {for: 1h}\nby: app\nwhen: app is ticketd":                   0,
	} {
		for _, settled := range []bool{false, true} {
			if settled {
				a.settle()
			}
			of, err := alerts.Parse("x", "alert: 1\n"+text+"\n")
			if err != nil {
				t.Fatal(err)
			}
			tried, err := a.book.Try(t.Context(), a.search, search.Query{Casks: []uint64{a.cask}}, of, 14)
			if err != nil || tried.Times != times || len(tried.Told) != times {
				t.Errorf("%s: %d times, want %d (%v): %+v", text, tried.Times, times, err, tried.Told)
			}
		}
	}
}

// told is a receiver that is told by HTTP.
type told struct {
	*httptest.Server
	wrong atomic.Int64
	fails atomic.Int64
	mu    sync.Mutex
	got   []string
	heads []http.Header
}

func newTold(t *testing.T) *told {
	r := &told{}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		if q.Header.Get("Authorization") != "Bearer s3cret" {
			r.wrong.Add(1)
		}
		if r.fails.Add(-1) >= 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		r.got, r.heads = append(r.got, string(body)), append(r.heads, q.Header)
	}))
	t.Cleanup(r.Server.Close)
	return r
}

func (r *told) take() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	got := r.got
	r.got = nil
	return got
}

func (a *asked) receiver(name string, p client.PutReceiver) {
	a.t.Helper()
	if err := a.book.PutReceiver(a.t.Context(), name, p, "mara"); err != nil {
		a.t.Fatal(err)
	}
}

// A receiver that does not take what it is told is asked again, later and later, and keeps no
// other one waiting; its secrets are told nowhere.
func TestReceiversThatFail(t *testing.T) {
	a := newAsked(t)
	good, bad, push := newTold(t), newTold(t), newTold(t)
	a.receiver("good", client.PutReceiver{Kind: "webhook", Address: good.URL + "/hidden-path", Token: "s3cret", Body: `{"say": "{title}", "alert": "{alert}"}`})
	a.receiver("bad", client.PutReceiver{Kind: "webhook", Address: bad.URL + "/hidden-path", Token: "s3cret"})
	a.receiver("push", client.PutReceiver{Kind: "push", Address: push.URL + "/hidden-path", Token: "s3cret"})
	bad.fails.Store(2)
	a.put("any", "alert: 1\nmore: {than: 0, in: 1h}\ntell: [bad, good, push]\n")
	a.said(0, 1, a.line(0, "reef-02", `quote " and \`, record.Error, "x"))
	a.judged(a.judge("one"))
	carrier := &alerts.Carrier{DB: a.first, Log: slog.New(slog.DiscardHandler), Holder: "one", Now: func() time.Time { return a.now }}
	once := func() {
		t.Helper()
		if err := carrier.Once(t.Context()); err != nil {
			t.Error(err)
		}
	}
	once()
	if got := good.take(); len(got) != 1 || got[0] != `{"say": "any: 1 record within 1h, more than 0", "alert": "any"}` {
		t.Errorf("%q", got)
	}
	if got := push.take(); len(got) != 1 || !strings.HasPrefix(got[0], "any: 1 record") || push.heads[0].Get("TTL") == "" || push.heads[0].Get("Topic") != "notice-1" {
		t.Errorf("%q %v", got, push.heads)
	}
	receivers, err := a.book.Receivers(t.Context())
	if err != nil || receivers[0].Trouble != "the webhook answers 503 Service Unavailable" || receivers[1].Trouble != "" {
		t.Errorf("%+v %v", receivers, err)
	}
	for _, r := range receivers {
		if text := fmt.Sprintf("%+v", r); strings.Contains(text, "hidden") || strings.Contains(text, "s3cret") {
			t.Error(text)
		}
	}
	once()
	if bad.fails.Load() != 1 {
		t.Error("it is asked again at once")
	}
	for range 4 {
		a.now = a.now.Add(20 * time.Second)
		once()
	}
	if got := bad.take(); len(got) != 1 {
		t.Errorf("%q", got)
	}
	bad.fails.Store(1 << 30)
	a.said(0, 2, a.line(-2*time.Hour, "reef-02", "x", record.Error, "x"))
	if err := a.first.Create(&model.Delivery{NoticeID: 1, Receiver: "bad", Title: "x", Due: a.now, Created: a.now}).Error; err != nil {
		t.Fatal(err)
	}
	for range 200 {
		a.now = a.now.Add(10 * time.Minute)
		once()
	}
	n, err := a.book.Notice(t.Context(), 1, nil)
	if err != nil || !n.Sent[0].GivenUp || n.Sent[0].Tries > 50 || n.Sent[0].Tries < 20 {
		t.Errorf("%+v %v", n.Sent[0], err)
	}
	for range 300 { // that wait for a receiver which takes nothing
		if err := a.first.Create(&model.Delivery{NoticeID: 1, Receiver: "bad", Title: "x", Due: a.now, Created: a.now}).Error; err != nil {
			t.Fatal(err)
		}
	}
	if err := a.first.Create(&model.Delivery{NoticeID: 1, Receiver: "good", Title: "behind them", Due: a.now, Created: a.now}).Error; err != nil {
		t.Fatal(err)
	}
	good.take()
	once()
	once()
	if got := good.take(); len(got) != 1 || !strings.Contains(got[0], "behind them") {
		t.Errorf("a receiver waits for another one: %q", got)
	}
	if a.book.RemoveReceiver(t.Context(), "good") == nil {
		t.Error("a receiver that an alert names is removed")
	}
	gone := a.first.Where("name = 'good'").Delete(&model.Receiver{})
	if v, err := a.book.Alerts(t.Context(), nil); gone.Error != nil || err != nil || v[0].Trouble != "there is no receiver good" {
		t.Errorf("%+v %v", v, err)
	}
}
