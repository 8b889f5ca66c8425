package api_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/service/access"
)

// upload begins to send a batch of 32 MiB with a token, of which so many bytes come.
func (f *fixture) upload(token string, bytes int) net.Conn {
	f.t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(f.server.URL, "http://"))
	if err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(func() { conn.Close() })
	fmt.Fprintf(conn, "POST /api/v1/feeds/%s/held?cask=%s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: %d\r\n%s: {}\r\n\r\n", f.agent(505), f.cask, token, 32<<20, client.BatchHeader)
	conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
	conn.Write(make([]byte, bytes)) // one that is refused is not read to its end
	return conn
}

// soon tells that something is done in time, of several tries once at least: on a busy machine one may take longer.
func soon(t *testing.T, what string, most time.Duration, do func() error) {
	t.Helper()
	var took []time.Duration
	for len(took) < 5 {
		began := time.Now()
		if err := do(); err != nil {
			t.Fatalf("%s: %v after %s", what, err, time.Since(began))
		}
		if took = append(took, time.Since(began)); took[len(took)-1] <= most {
			return
		}
	}
	t.Errorf("%s: %s", what, took)
}

// batches returns what sends a batch of an agent each time.
func (f *fixture) batches(agent int) func() error {
	by, first := f.writer(f.agent(agent)), uint64(1)
	return func() error {
		head, payload := pack(first, some(10))
		first += 10
		_, err := by.SendBatch(f.t.Context(), f.agent(agent), "centre", f.cask, head, payload)
		return err
	}
}

// Whoever announces much and sends nothing keeps nobody out, however often.
func TestAnAnnouncementTakesNoRoom(t *testing.T) {
	f := newFixture(t)
	for range 40 {
		f.upload(f.writeToken, 0)
	}
	time.Sleep(100 * time.Millisecond)
	soon(t, "beside 40 uploads that do not go on", time.Second, f.batches(504))
}

// Whoever sends much and does not end takes room from who has the same token alone.
func TestRoomIsSharedOutBySender(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	stolen, err := access.NewToken(db, f.cask, access.Write, "stolen")
	if err != nil {
		t.Fatal(err)
	}
	thief, _ := client.New(client.Options{URLs: []string{f.server.URL}, Token: func() (string, error) { return stolen, nil }})
	var busy []net.Conn
	head, payload := pack(1, some(10))
	var later *client.RetryLater
	for range 6 {
		busy = append(busy, f.upload(stolen, 31<<20))
	}
	for end := time.Now().Add(5 * time.Second); later == nil && time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		_, err = thief.SendBatch(ctx, f.agent(505), "centre", f.cask, client.BatchHead{}, make([]byte, 4<<20))
		errors.As(err, &later)
	}
	if later == nil || later.After < time.Second || !strings.Contains(err.Error(), "more batches wait") {
		t.Errorf("the one who fills the room is not asked to come again: %v", err)
	}
	soon(t, "another sender", time.Second, f.batches(504))
	for _, conn := range busy {
		conn.Close()
	}
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if _, err = thief.SendBatch(ctx, f.agent(505), "centre", f.cask, head, payload); err == nil {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("there is no room again: %v", err)
		}
	}
}

// A body that comes too slowly is not waited for.
func TestASlowUploadIsEnded(t *testing.T) {
	f := newFixture(t)
	f.api.Patience = 200 * time.Millisecond
	conn := f.upload(f.writeToken, 1000)
	conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil || answer.StatusCode != http.StatusRequestTimeout {
		t.Errorf("%+v, %v", answer, err)
	}
}

// A block that unpacks to more than it says, has a text that is too long, or whose
// records take the committer too long to count, is refused; with those that are in
// bounds the feed goes on.
func TestBlocksInBadFaithAreRefused(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	send := func(records []record.Record) error {
		head, payload := pack(1, records)
		_, err := f.writer(f.agent(1)).SendBatch(ctx, f.agent(1), "centre", f.cask, head, payload)
		return err
	}
	long := some(1)
	long[0].Text = bytes.Repeat([]byte("x"), 1<<20+1)
	if err := send(long); !refusedWith(err, 422) || !strings.Contains(err.Error(), "may have 1048576") {
		t.Errorf("a long text: %v", err)
	}
	scattered := some(1001)
	for i := range scattered {
		scattered[i].Time.Sec += int64(i) * 60
	}
	if err := send(scattered); !refusedWith(err, 422) || !strings.Contains(err.Error(), "of 1001 minutes") {
		t.Errorf("many minutes: %v", err)
	}
	bomb, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	payload := bomb.EncodeAll(make([]byte, 65<<20), nil)
	sum := sha256.Sum256(payload)
	head := client.BatchHead{Numbers: spool.Numbers{First: 1, Last: 1}, Hash: hex.EncodeToString(sum[:])}
	if _, err := f.writer(f.agent(1)).SendBatch(ctx, f.agent(1), "centre", f.cask, head, payload); !refusedWith(err, 422) {
		t.Errorf("a bomb of %d bytes: %v", len(payload), err)
	}
	long[0].Text = long[0].Text[:1<<20]
	if err := send(long); err != nil {
		t.Error(err)
	}
}

// A host that floods the store with blocks that are slow to commit takes its own turns
// alone: another's batch is committed within a second.
func TestAFloodKeepsNoOtherWaiting(t *testing.T) {
	f := newFixture(t)
	ctx, cancel := context.WithCancel(context.Background())
	var flooding sync.WaitGroup
	defer flooding.Wait()
	defer cancel()
	for n := range 40 { // outlets of one agent
		flooding.Go(func() {
			for first := uint64(1); ctx.Err() == nil; first += 1000 {
				records := some(1000)
				for i := range records {
					records[i].Time.Sec += int64(i+n*1000) * 60
				}
				head, payload := pack(first, records)
				f.write.SendBatch(ctx, f.agent(1), fmt.Sprint("flood", n), f.cask, head, payload)
			}
		})
	}
	time.Sleep(500 * time.Millisecond)
	honest := f.batches(2)
	for range 5 {
		soon(t, "the honest one", time.Second, honest)
	}
}

// Where the database takes little at once, agents are told, and a larger block is
// refused with what fits.
func TestAgentsAreToldHowMuchTheDatabaseTakes(t *testing.T) {
	f := newFixture(t)
	f.api.MostBlock = 64 << 10
	l := &leaser{f: f}
	l.runs = []spool.Run{{ID: runID(1), First: 1}}
	if answer := l.ask(client.Lease{Run: runID(1), First: 1}); answer.MostBytes != 64<<10 {
		t.Errorf("%+v", answer)
	}
	_, err := f.writer(f.agent(1)).SendBatch(context.Background(), f.agent(1), "centre", f.cask, client.BatchHead{}, make([]byte, 64<<10+1))
	if !refusedWith(err, 413) || !strings.Contains(err.Error(), "at most 64 KiB") {
		t.Error(err)
	}
}
