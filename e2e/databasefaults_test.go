package e2e

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

const feedPlan = `oakbarrel: 1
host: reef-02
service: {url: "URL", token_file: DIR/token}
disk: {floor: 0}
intakes:
  files: {files: {paths: ["DIR/x.log"]}}
otherwise: {send: [centre]}
outlets:
  centre: {store: {cask: bay}, spool: {disk: 256MiB, overflow: wait}, batch: {records: 200, wait: 50ms}}
`

// follower is a host that follows a file into a store.
type follower struct {
	*host
	written int
}

func newFollower(t *testing.T, s *store) *follower {
	h := newHost(t, strings.ReplaceAll(feedPlan, "URL", s.url()))
	os.WriteFile(filepath.Join(h.dir, "token"), []byte(s.token("bay", "write")+"\n"), 0o600)
	h.start()
	return &follower{host: h}
}

// write writes numbered lines that no compressor makes smaller.
func (f *follower) write(lines int) {
	f.t.Helper()
	var b []byte
	for range lines {
		f.written++
		noise := make([]byte, 2000)
		rand.Read(noise)
		b = fmt.Appendf(b, "%d %s\n", f.written, hex.EncodeToString(noise))
	}
	file, err := os.OpenFile(filepath.Join(f.dir, "x.log"), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err == nil {
		_, err = file.Write(b)
		file.Close()
	}
	if err != nil {
		f.t.Fatal(err)
	}
}

// allArrives waits until each line is in the store, and sees that it is once.
func (f *follower) allArrives(s *store) {
	f.t.Helper()
	f.eventually("the outlet is without trouble and nothing waits", func() bool {
		o := f.status().Outlets[0]
		return o.Trouble == "" && o.Held == 0 && s.count("bay") >= int64(f.written)
	})
	out, stderr, code := run(f.t, "read", "--cask", "bay", "--since", "1d", "--limit", "0", "--oldest-first", "--output", "json")
	if code != 0 {
		f.t.Fatal(stderr)
	}
	n := 0
	for line := range strings.Lines(out) {
		n++
		var r struct{ Text string }
		if err := json.Unmarshal([]byte(line), &r); err != nil || !strings.HasPrefix(r.Text, fmt.Sprint(n, " ")) {
			f.t.Fatalf("line %d is %.40q, %v", n, r.Text, err)
		}
	}
	if n != f.written {
		f.t.Errorf("%d lines, %d were written", n, f.written)
	}
}

// The disk of the database is full: it refuses, or gives up, as some do. The
// agent holds what comes and tells so; once there is room and the database is
// back, all goes on without help, and each line is there once.
func TestADatabaseWhoseDiskIsFull(t *testing.T) {
	t.Parallel()
	dir := shortDir(t)
	disk := filepath.Join(dir, "db")
	mountSmall(t, disk, "1g")
	s := newStoreIn(t, dir)
	setenv(t, "OAKBARREL_URL", s.url())
	f := newFollower(t, s)
	setenv(t, "OAKBARREL_TOKEN", s.token("bay", "read"))
	f.write(500)
	f.allArrives(s)
	used, err := exec.Command("du", "-s", "--block-size=1M", disk).Output()
	if err != nil {
		t.Fatal(err)
	}
	var mib int
	fmt.Sscan(string(used), &mib)
	resize(t, disk, fmt.Sprintf("%dm", mib+2))
	f.write(4000)
	f.eventually("the outlet tells its trouble", func() bool {
		return strings.Contains(f.status().Outlets[0].Trouble, "the database")
	})
	s.db.Kill()
	resize(t, disk, "1g")
	if err := s.db.Restart(t.Context()); err != nil {
		t.Fatal(err)
	}
	f.allArrives(s)
}

// The database is read-only for a while: what is there can be read.
func TestADatabaseThatIsReadOnly(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	setenv(t, "OAKBARREL_URL", s.url())
	f := newFollower(t, s)
	setenv(t, "OAKBARREL_TOKEN", s.token("bay", "read"))
	f.write(100)
	f.allArrives(s)
	set := func(what string) {
		t.Helper()
		c := exec.Command("mariadb", "--no-defaults", "-uroot", "--password=lantern", "--socket="+filepath.Join(s.dir, "db", "m.sock"), "-e", "SET GLOBAL read_only = "+what)
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s", bytes.TrimSpace(out))
		}
	}
	set("ON")
	f.write(1000)
	f.eventually("the outlet tells its trouble", func() bool { return strings.Contains(f.status().Outlets[0].Trouble, "the database is read-only") })
	if n := s.count("bay"); n != 100 {
		t.Errorf("%d lines are there", n)
	}
	expect(t, 0, "", "", "read", "--cask", "bay", "--limit", "1")
	set("OFF")
	f.allArrives(s)
}
