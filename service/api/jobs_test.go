package api_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/service/check"
	"oakbarrel/service/model"
)

// asRoot does something as the database's administrator.
func asRoot(t *testing.T, what string) {
	t.Helper()
	if out, err := exec.Command("mariadb", "--no-defaults", "-uroot", "--password=lantern", "--socket="+socket, "-e", what).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

// emptyDatabase makes a database of its own, and returns how it is reached.
func emptyDatabase(t *testing.T) string {
	t.Helper()
	return databaseNamed(t, strings.ToLower(strings.ReplaceAll(t.Name(), "/", "_")))
}

func databaseNamed(t *testing.T, name string) string {
	t.Helper()
	asRoot(t, fmt.Sprintf("CREATE DATABASE %[1]s CHARACTER SET utf8mb4; GRANT ALL ON %[1]s.* TO oak@127.0.0.1", name))
	t.Cleanup(func() { asRoot(t, "DROP DATABASE "+name) })
	at := strings.LastIndex(dsn, "/")
	_, parameters, _ := strings.Cut(dsn[at:], "?")
	return dsn[:at] + "/" + name + "?" + parameters
}

// Services that start together on an empty database all start.
func TestServicesThatStartTogether(t *testing.T) {
	dsn := emptyDatabase(t)
	var starting sync.WaitGroup
	errs := make(chan error, 5)
	for range cap(errs) {
		starting.Go(func() {
			db, err := model.Open(dsn, slog.New(slog.DiscardHandler))
			if err == nil {
				_, err = model.StoreID(db)
				pool, _ := db.DB()
				pool.Close()
			}
			errs <- err
		})
	}
	starting.Wait()
	for range cap(errs) {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
}

// A service that is gone while it brought the tables up to date keeps no other from it for long.
func TestAServiceThatWasGoneWhileItMigrated(t *testing.T) {
	dsn := emptyDatabase(t)
	first, err := model.Open(dsn, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	first.Exec("UPDATE jobs SET holder = 'gone', until = UTC_TIMESTAMP() + INTERVAL 3 SECOND WHERE name = 'migrate'")
	if _, err := model.Open(dsn, slog.New(slog.DiscardHandler)); err != nil {
		t.Error("nothing is to be done, and it fails: ", err)
	}
	first.Exec("DELETE FROM migrations WHERE id LIKE '0020%'")
	began := time.Now()
	if _, err := model.Open(dsn, slog.New(slog.DiscardHandler)); err != nil {
		t.Error(err)
	}
	if took := time.Since(began); took < time.Second || took > 15*time.Second {
		t.Errorf("it took %v", took)
	}
}

// A service starts before a database that cannot be written, where nothing is to be done to
// its tables: it can be read.
func TestAServiceStartsBeforeADatabaseThatIsReadOnly(t *testing.T) {
	dsn := emptyDatabase(t)
	if _, err := model.Open(dsn, slog.New(slog.DiscardHandler)); err != nil {
		t.Fatal(err)
	}
	name := strings.ToLower(t.Name())
	asRoot(t, fmt.Sprintf("CREATE USER reader@127.0.0.1 IDENTIFIED BY 'tide'; GRANT SELECT ON %s.* TO reader@127.0.0.1", name))
	defer asRoot(t, "DROP USER reader@127.0.0.1")
	_, address, _ := strings.Cut(dsn, "@")
	if _, err := model.Open("reader:tide@"+address, slog.New(slog.DiscardHandler)); err != nil {
		t.Error(err)
	}
}

func TestALeaseIsOfOne(t *testing.T) {
	a, b := model.Lease{Job: "tides", Holder: "a", For: time.Minute}, model.Lease{Job: "tides", Holder: "b", For: time.Minute}
	take := func(l model.Lease, want bool) {
		t.Helper()
		if mine, err := l.Take(db); err != nil || mine != want {
			t.Errorf("%s: %v, %v", l.Holder, mine, err)
		}
	}
	keeps := func(l model.Lease) error {
		return db.Transaction(func(tx *gorm.DB) error { return l.Keep(tx) })
	}
	take(a, true)
	take(b, false)
	take(a, true)
	if err := keeps(a); err != nil {
		t.Error(err)
	}
	if err := keeps(b); !errors.Is(err, model.ErrNotMine) {
		t.Error(err)
	}
	db.Exec("UPDATE jobs SET until = UTC_TIMESTAMP() - INTERVAL 1 SECOND WHERE name = 'tides'")
	if err := keeps(a); !errors.Is(err, model.ErrNotMine) {
		t.Error("what is over is kept: ", err)
	}
	take(b, true)
	take(a, false)
	if err := b.Leave(db); err != nil {
		t.Error(err)
	}
	take(a, true)
	if err := a.Leave(db); err != nil {
		t.Error(err)
	}
}

// Keepers of several services remove each block once, and count each once, also where one
// stands still while another takes over.
func TestSeveralKeepersRemoveOnce(t *testing.T) {
	f := newFixture(t)
	now := time.Now()
	f.sendBlocks(f.agent(1), 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20)
	if _, err := f.admin().SetCask(context.Background(), f.cask, client.SetRetention{KeepTotal: ref(int64(1))}); err != nil {
		t.Fatal(err)
	}
	// Some blocks are of an earlier version; of the others none has to be read.
	db.Exec("UPDATE blocks SET minutes = NULL WHERE id % 2 = 0 AND cask_id = (SELECT id FROM casks WHERE name = ?)", f.cask)
	db.Exec("UPDATE blocks SET payload = 'not to be read' WHERE id % 2 = 1 AND cask_id = (SELECT id FROM casks WHERE name = ?)", f.cask)
	over := func() { db.Exec("UPDATE jobs SET until = UTC_TIMESTAMP() - INTERVAL 1 SECOND WHERE name = 'keep'") }
	over()
	var keeping sync.WaitGroup
	for i := range 4 {
		keeping.Go(func() {
			k := keeperOf(db, func() time.Time { return now }, fmt.Sprint("keeper", i))
			for range 20 {
				if _, err := k.Once(context.Background()); err != nil && !errors.Is(err, model.ErrNotMine) {
					t.Error(err)
				}
				over() // as if it had stood still
			}
		})
	}
	keeping.Wait()
	over()
	if _, err := keeperOf(db, func() time.Time { return now }, "last").Once(context.Background()); err != nil {
		t.Error(err)
	}
	var blocks, counted, negative int64
	db.Model(&model.Block{}).Joins("JOIN casks ON casks.id = blocks.cask_id").Where("casks.name = ?", f.cask).Select("COALESCE(SUM(blocks.records), 0)").Scan(&blocks)
	db.Model(&model.Minute{}).Joins("JOIN casks ON casks.id = minutes.cask_id").Where("casks.name = ?", f.cask).Select("COALESCE(SUM(minutes.count), 0)").Scan(&counted)
	db.Model(&model.Minute{}).Where("count < 0").Count(&negative)
	if blocks != 0 || counted != 0 || negative != 0 {
		t.Errorf("%d records are there, %d are counted, %d counts are less than nothing", blocks, counted, negative)
	}
}

// Services that begin at a time on what nobody has made yet do not fail for each other.
func TestSeveralBeginAtATime(t *testing.T) {
	for try := range 20 {
		db.Exec("DELETE FROM clocks")
		start := make(chan struct{})
		var beginning sync.WaitGroup
		for i := range 8 {
			k := keeperOf(db, time.Now, fmt.Sprint("keeper", i))
			beginning.Go(func() {
				<-start
				if c, err := model.CaskNamed(db, fmt.Sprintf("begun-%d", try)); err != nil || c.ID == 0 {
					t.Error(c, err)
				}
				db.Exec("UPDATE jobs SET until = UTC_TIMESTAMP() - INTERVAL 1 SECOND WHERE name = 'keep'")
				if _, err := k.Once(context.Background()); err != nil && !errors.Is(err, model.ErrNotMine) {
					t.Error(err)
				}
			})
		}
		close(start)
		beginning.Wait()
	}
}

// What the DSN says holds, and what the service needs is added.
func TestTheParametersOfADSNHold(t *testing.T) {
	db, err := model.Open(dsn+"?readTimeout=7s&wait_timeout=77&time_zone=%27%2B05%3A00%27", slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	var wait, zone string
	db.Raw("SELECT @@session.wait_timeout").Scan(&wait)
	db.Raw("SELECT @@session.time_zone").Scan(&zone)
	if wait != "77" || zone != "+00:00" {
		t.Errorf("wait_timeout %s, time_zone %s", wait, zone)
	}
}

// A service whose database is away is passed over for another that has one; what might be
// done already is not asked of another.
func TestAServiceWithoutADatabaseIsPassedOver(t *testing.T) {
	f := newFixture(t)
	var asked atomic.Int32
	away := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.Header().Set("Retry-After", "1")
		w.WriteHeader(http.StatusServiceUnavailable)
	}))
	defer away.Close()
	for range 10 { // wherever it begins
		c, err := client.New(client.Options{URLs: []string{away.URL, f.server.URL}, Token: func() (string, error) { return f.readToken, nil }})
		if err != nil {
			t.Fatal(err)
		}
		for range 3 {
			if _, err := c.Casks(context.Background()); err != nil {
				t.Fatal(err)
			}
		}
	}
	if n := asked.Load(); n > 10 {
		t.Errorf("it was asked %d times of 30, though another answers", n)
	}
	alone, _ := client.New(client.Options{URLs: []string{away.URL}, Token: func() (string, error) { return f.readToken, nil }})
	_, err := alone.Casks(context.Background())
	var later *client.RetryLater
	if !errors.As(err, &later) || later.After != time.Second {
		t.Errorf("%v", err)
	}
}

// Counts beside a block that are not those of its records are found.
func TestWrongCountsBesideABlockAreFound(t *testing.T) {
	f := newFixture(t)
	f.sendBlocks(f.agent(1), 1)
	faults := func() (of int) {
		report, err := check.Store(context.Background(), alone(), func(int64, int64) {})
		if err != nil {
			t.Fatal(err)
		}
		for _, fault := range report.Faults {
			if fault.Cask == f.cask && strings.Contains(fault.What, "the counts beside it are not those of its records") {
				of++
			}
		}
		return of
	}
	if n := faults(); n != 0 {
		t.Errorf("%d faults where there is none", n)
	}
	where := " WHERE cask_id = (SELECT id FROM casks WHERE name = '" + f.cask + "')"
	db.Exec("UPDATE blocks SET minutes = 'wrong'" + where)
	if n := faults(); n != 1 {
		t.Errorf("%d faults, want one", n)
	}
	db.Exec("UPDATE blocks SET minutes = NULL" + where)
	if n := faults(); n != 0 {
		t.Error("a block of an earlier version is at fault")
	}
}
