package roll

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/disk/disktest"
)

// a set in a folder of its own, with a clock that stands until it is moved
type fixture struct {
	t    testing.TB
	dir  string
	live string
	now  time.Time
	disk disk.Disk
	set  Settings
	*Writer
}

func newFixture(t testing.TB, set Settings) *fixture {
	dir := t.TempDir()
	set.Path, set.Mode = filepath.Join(dir, "all.log"), 0o640
	f := &fixture{t: t, dir: dir, live: set.Path, now: time.Date(2026, 11, 25, 10, 15, 0, 0, time.UTC), disk: disk.OS, set: set}
	f.start()
	return f
}

// start begins a run, as after a kill.
func (f *fixture) start() {
	f.Writer = NewWriter(f.disk, f.set, filepath.Join(f.dir, "all.intent"), make(chan struct{}, 1), func() time.Time { return f.now })
}

func (f *fixture) write(lines ...string) {
	f.t.Helper()
	text := []byte(strings.Join(lines, "\n") + "\n")
	if n, err := f.Write(text); err != nil || n != len(text) {
		f.t.Fatalf("wrote %d of %d: %v", n, len(text), err)
	}
}

func (f *fixture) tidy() (removed []string) {
	f.t.Helper()
	if err := f.Tidy(context.Background(), func(r Removal) { removed = append(removed, filepath.Base(r.Path)) }); err != nil {
		f.t.Fatal(err)
	}
	return removed
}

// files lists the set's folder without the intent.
func (f *fixture) files() []string {
	entries, _ := os.ReadDir(f.dir)
	var names []string
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), "all.intent") {
			names = append(names, e.Name())
		}
	}
	return names
}

// lines reads the whole set.
func (f *fixture) lines() (all []string) {
	f.t.Helper()
	r, err := NewReader(f.live, false)
	if err != nil {
		f.t.Fatal(err)
	}
	defer r.Close()
	for i := range r.Files() {
		if err := r.Lines(i, func(line []byte) error { all = append(all, string(line)); return nil }); err != nil {
			f.t.Fatal(err)
		}
	}
	return all
}

func expect[T any](t testing.TB, what string, got, want T) {
	t.Helper()
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("%s:\n got %v\nwant %v", what, got, want)
	}
}

func TestRollsAtASize(t *testing.T) {
	f := newFixture(t, Settings{Size: 10})
	f.write("aaaa", "bbbb", "cccc", "a line that is too long for any piece", "dddd")
	expect(t, "files", f.files(), []string{"all-20261125T101500Z.log", "all-20261125T101500Z_002.log", "all-20261125T101500Z_003.log", "all.log"})
	expect(t, "lines", f.lines(), []string{"aaaa", "bbbb", "cccc", "a line that is too long for any piece", "dddd"})
	b, _ := os.ReadFile(filepath.Join(f.dir, "all-20261125T101500Z.log"))
	expect(t, "first piece", string(b), "aaaa\nbbbb\n")
}

func TestRollsOnTheClock(t *testing.T) {
	f := newFixture(t, Settings{Every: mustEvery(t, "5m")})
	f.write("a")
	f.now = f.now.Add(5*time.Minute - time.Second)
	f.write("b")
	f.now = f.now.Add(3 * time.Second)
	if err := f.Tick(); err != nil { // also when nothing is written
		t.Fatal(err)
	}
	expect(t, "files", f.files(), []string{"all-20261125T102000Z.log", "all.log"})
	f.now = f.now.Add(time.Hour)
	f.Tick()
	expect(t, "an empty file is left alone", f.files(), []string{"all-20261125T102000Z.log", "all.log"})
	f.write("c")
	expect(t, "lines", f.lines(), []string{"a", "b", "c"})
}

func TestRollsWhatAnEarlierRunLeft(t *testing.T) {
	f := newFixture(t, Settings{Every: mustEvery(t, "day")})
	f.write("a")
	f.Close()
	os.Chtimes(f.live, f.now, f.now)
	f.now = f.now.Add(48 * time.Hour)
	f.start()
	f.write("b")
	expect(t, "files", f.files(), []string{"all-20261126T000000Z.log", "all.log"})
}

func TestNamesSortAlsoWhenTheClockGoesBack(t *testing.T) {
	f := newFixture(t, Settings{Size: 2})
	f.write("a", "b")
	f.now = f.now.Add(-time.Hour)
	f.write("c")
	expect(t, "files", f.files(), []string{"all-20261125T101500Z.log", "all-20261125T101500Z_002.log", "all.log"})
	expect(t, "lines", f.lines(), []string{"a", "b", "c"})
}

func TestForeignFilesAreNoPieces(t *testing.T) {
	f := newFixture(t, Settings{Size: 2, Keep: Keep{Pieces: 1}, Compress: Zstd})
	foreign := []string{"all-20261125T101500Z.txt", "all-old.log", "all-20261125T101500Z_1.log", "all-20261125T101500Z_01.log", "all-20261125T101500.log", "all.log.1", "callall-20261125T101500Z.log", "all-20269925T101500Z.log", ".all-x.log.zst.part"}
	for _, name := range foreign {
		os.WriteFile(filepath.Join(f.dir, name), []byte("x\n"), 0o600)
	}
	os.Mkdir(filepath.Join(f.dir, "all-20201125T101500Z.log"), 0o700)
	f.write("a", "b", "c")
	expect(t, "removed", f.tidy(), []string{"all-20261125T101500Z.log"})
	for _, name := range foreign {
		if _, err := os.Stat(filepath.Join(f.dir, name)); err != nil {
			t.Errorf("%s is gone", name)
		}
	}
}

func TestKeep(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	var pieces []Piece
	for i := range 10 {
		pieces = append(pieces, Piece{Stamp: now.Add(time.Duration(i-10) * 24 * time.Hour), Number: 1, Size: 100})
	}
	for _, c := range []struct {
		keep Keep
		live int64
		want int
	}{
		{Keep{DaysAtMost: 8}, 0, 2}, {Keep{Pieces: 7, DaysAtMost: 9}, 0, 3}, {Keep{}, 1 << 40, 0}, {Keep{Pieces: 10}, 0, 0}, {Keep{Pieces: 7}, 0, 3}, {Keep{Days: 10}, 0, 0}, {Keep{Days: 4}, 0, 6}, {Keep{Total: 1000}, 0, 0},
		{Keep{Total: 1000}, 1, 1}, {Keep{Total: 50}, 0, 10}, {Keep{Pieces: 8, Days: 9, Total: 500}, 0, 5},
	} {
		if got := c.keep.excess(pieces, c.live, Settings{}, now, func(Piece) bool { return false }); len(got) != c.want {
			t.Errorf("%+v with %d live: %v go, want %d", c.keep, c.live, got, c.want)
		}
		want := 0 // only what may stay for no longer goes, where all are owed
		if c.keep.DaysAtMost > 0 {
			want = 10 - c.keep.DaysAtMost
		}
		if got := c.keep.excess(pieces, c.live, Settings{}, now, func(Piece) bool { return true }); len(got) != want {
			t.Errorf("%+v with %d live: %v go that are owed, want %d", c.keep, c.live, got, want)
		}
	}
}

func TestStandardToolsOpenThePieces(t *testing.T) {
	for kind, tool := range map[Compression][]string{Zstd: {"zstd", "-dc"}, Gzip: {"gzip", "-dc"}} {
		f := newFixture(t, Settings{Size: 1000, Compress: kind})
		var want []string
		for i := range 1000 {
			want = append(want, fmt.Sprintf("line %d", i))
		}
		f.write(want...)
		f.tidy()
		pieces, _ := f.Pieces()
		if len(pieces) < 8 || !pieces[0].Compressed() || pieces[0].Size == 0 {
			t.Fatalf("%d pieces, the first is %+v", len(pieces), pieces[0])
		}
		var got []byte
		for _, p := range pieces {
			out, err := exec.Command(tool[0], append(tool[1:], p.Path)...).Output()
			if err != nil {
				t.Fatalf("%v: %v", tool, err)
			}
			got = append(got, out...)
		}
		live, _ := os.ReadFile(f.live)
		expect(t, tool[0], string(got)+string(live), strings.Join(want, "\n")+"\n")
		expect(t, "read as one", f.lines(), want)
	}
}

func TestATornWriteIsCutAway(t *testing.T) {
	f := newFixture(t, Settings{})
	f.write("whole")
	faulty := &disktest.Disk{Fault: func(_ int, op, path string) error {
		if op == "write" && strings.HasSuffix(path, "all.log") || op == "truncate" {
			return disktest.ErrFault
		}
		return nil
	}}
	f.disk = faulty
	f.start()
	if n, err := f.Write([]byte("one\ntwo\nthree\n")); n != 0 || err == nil {
		t.Fatalf("wrote %d, %v", n, err)
	}
	b, _ := os.ReadFile(f.live)
	expect(t, "after the kill", string(b), "whole\none\ntwo")
	f.disk = disk.OS
	f.start()
	f.write("one", "two", "three")
	expect(t, "lines", f.lines(), []string{"whole", "one", "two", "three"})
}

func TestAFullDiskLosesNothing(t *testing.T) {
	f := newFixture(t, Settings{})
	full := true
	f.disk = &disktest.Disk{Fault: func(_ int, op, path string) error {
		if full && op == "write" && strings.HasSuffix(path, "all.log") {
			return syscall.ENOSPC
		}
		return nil
	}}
	f.start()
	text := []byte("one\ntwo\nthree\nfour\n")
	n, err := f.Write(text)
	if !errors.Is(err, syscall.ENOSPC) || n != 0 { // all or nothing, so that a mark never stands in the middle
		t.Fatalf("wrote %q: %v", text[:n], err)
	}
	full = false
	if m, err := f.Write(text[n:]); err != nil || m != len(text)-n {
		t.Fatal(m, err)
	}
	f.start() // the intent of the write that failed must not cut away anything
	f.write("five")
	expect(t, "lines", f.lines(), []string{"one", "two", "three", "four", "five"})
}

func TestAFileTakenAwayIsMadeAgain(t *testing.T) {
	f := newFixture(t, Settings{})
	f.write("a")
	os.Rename(f.live, f.live+".moved")
	f.now = f.now.Add(2 * time.Second)
	if err := f.Tick(); err != nil {
		t.Fatal(err)
	}
	f.write("b")
	expect(t, "lines", f.lines(), []string{"b"})
	os.RemoveAll(f.dir)
	f.now = f.now.Add(2 * time.Second)
	f.Tick()
	f.write("c")
	expect(t, "lines", f.lines(), []string{"c"})
}

func TestAFileOfSomebodyElseIsNotCut(t *testing.T) {
	f := newFixture(t, Settings{})
	os.WriteFile(f.live, []byte("theirs, without an end"), 0o600)
	f.write("ours")
	expect(t, "lines", f.lines(), []string{"theirs, without an end", "ours"})
}

func TestLinksAndFoldersAreRefused(t *testing.T) {
	f := newFixture(t, Settings{})
	target := filepath.Join(f.dir, "target")
	os.WriteFile(target, nil, 0o600)
	os.Symlink(target, f.live)
	if _, err := f.Write([]byte("x\n")); err == nil || !strings.Contains(err.Error(), "symbolic link") {
		t.Errorf("a link: %v", err)
	}
	os.Remove(f.live)
	syscall.Mkfifo(f.live, 0o600)
	if _, err := f.Write([]byte("x\n")); err == nil {
		t.Error("a named pipe is written to")
	}
	os.Remove(f.live)
	os.Mkdir(f.live, 0o700)
	if _, err := f.Write([]byte("x\n")); err == nil {
		t.Error("a folder is written to")
	}
}

// A kill at every call that changes a file, then a new run: each line that was
// written stands in the set once, in order, and nothing else but whole lines;
// the standard tools open every piece.
func TestAKillAtEveryCallLosesNothing(t *testing.T) {
	for n := 1; ; n++ {
		f := newFixture(t, Settings{Size: 60, Keep: Keep{Pieces: 1000}, Compress: []Compression{Zstd, Gzip}[n%2], Counted: n%3 == 0})
		faulty := &disktest.Disk{Fault: disktest.DieAt(n)}
		f.disk = faulty
		f.start()
		var taken []string
		killed := false
		for i := range 30 {
			line := fmt.Sprintf("record number %d", i)
			if _, err := f.Write([]byte(line + "\n")); err != nil {
				killed = true
				break
			}
			taken = append(taken, line)
			if i%7 == 6 && f.Tidy(context.Background(), func(Removal) {}) != nil {
				killed = true
				break
			}
		}
		f.disk = disk.OS
		f.start()
		if err := f.Tick(); err != nil {
			t.Fatal(err)
		}
		f.write("after")
		f.tidy()
		expect(t, fmt.Sprintf("killed at call %d", n), f.lines(), append(taken, "after"))
		if v, err := Verify(context.Background(), f.live, ""); err != nil || !v.OK {
			t.Errorf("killed at call %d: %+v, %v", n, v, err)
		}
		for _, name := range f.files() {
			if strings.HasSuffix(name, partSuffix) {
				t.Errorf("killed at call %d: %s is left", n, name)
			}
			if r, err := Open(filepath.Join(f.dir, name)); err != nil {
				t.Errorf("killed at call %d: %v", n, err)
			} else if _, err := io.Copy(io.Discard, r); err != nil {
				t.Errorf("killed at call %d: %s: %v", n, name, err)
			}
		}
		if !killed {
			t.Logf("%d calls", n)
			return
		}
	}
}

func TestEveryFollowsTheWallClock(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Skip("no zone data")
	}
	at := func(s string) time.Time {
		v, err := time.ParseInLocation("2006-01-02 15:04:05", s, berlin)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	for _, c := range []struct{ every, from, next string }{
		{"5m", "2026-11-25 10:15:00", "2026-11-25T10:20:00+01:00"}, {"5m", "2026-11-25 10:19:59", "2026-11-25T10:20:00+01:00"}, {"hour", "2026-11-25 23:10:00", "2026-11-26T00:00:00+01:00"},
		{"day", "2026-11-25 10:15:00", "2026-11-26T00:00:00+01:00"}, {"DAY", "2026-11-25 00:00:00", "2026-11-26T00:00:00+01:00"}, {"week", "2026-11-25 10:15:00", "2026-11-30T00:00:00+01:00"},
		{"week", "2026-11-30 00:00:00", "2026-12-07T00:00:00+01:00"}, {"week", "2026-11-29 23:00:00", "2026-11-30T00:00:00+01:00"}, {"month", "2026-12-31 10:00:00", "2027-01-01T00:00:00+01:00"},
		{"6h", "2026-11-25 05:59:59", "2026-11-25T06:00:00+01:00"}, {"7h", "2026-11-25 22:00:00", "2026-11-26T00:00:00+01:00"}, {"24h", "2026-11-25 22:00:00", "2026-11-26T00:00:00+01:00"},
		// the day that is 23 hours long, and the one of 25
		{"day", "2026-03-29 00:30:00", "2026-03-30T00:00:00+02:00"}, {"day", "2026-10-25 00:30:00", "2026-10-26T00:00:00+01:00"}, {"hour", "2026-03-29 01:30:00", "2026-03-29T03:00:00+02:00"},
		{"2h", "2026-03-29 01:30:00", "2026-03-29T03:00:00+02:00"}, {"30m", "2026-10-25 01:45:00", "2026-10-25T02:00:00+02:00"},
	} {
		if got := mustEvery(t, c.every).Next(at(c.from)).Format(time.RFC3339); got != c.next {
			t.Errorf("every %s after %s: %s, want %s", c.every, c.from, got, c.next)
		}
	}
	twice := time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC).In(berlin) // 02:30 for the first time
	if got := mustEvery(t, "hour").Next(twice); got.Sub(twice) != 30*time.Minute {
		t.Errorf("the hour that comes twice ends at %v", got)
	}
	for _, s := range []string{"", "midnight", "0s", "-5m", "1.5s", "100ms", "25h", "5", "2d"} {
		if _, err := ParseEvery(s); err == nil {
			t.Errorf("%q is read", s)
		}
	}
}

func mustEvery(t testing.TB, s string) Every {
	e, err := ParseEvery(s)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func TestAClockFarAheadDoesNotStopRolling(t *testing.T) {
	f := newFixture(t, Settings{Every: mustEvery(t, "hour")})
	right := f.now
	f.now = right.AddDate(10, 0, 0)
	f.write("a")
	f.now = right
	f.Tick()
	f.now = right.Add(time.Hour)
	f.write("b")
	expect(t, "lines", f.lines(), []string{"a", "b"})
	if pieces, _ := f.Pieces(); len(pieces) != 1 {
		t.Errorf("%d pieces, want 1", len(pieces))
	}
}

func TestFollowAcrossRolls(t *testing.T) {
	f := newFixture(t, Settings{Size: 200, Compress: Zstd})
	f.write("line 0")
	r, err := NewReader(f.live, true)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	if err := r.Lines(0, func(line []byte) error { got = append(got, string(line)); return nil }); err != nil {
		t.Fatal(err)
	}
	const last = 500
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	done := make(chan error)
	go func() {
		done <- r.Follow(ctx, func(line []byte) error {
			got = append(got, string(line))
			if len(got) > last {
				cancel()
			}
			return nil
		})
	}()
	var want []string
	for i := 1; i <= last; i++ {
		f.write(fmt.Sprintf("line %d", i))
		if i%100 == 0 {
			f.tidy()
			time.Sleep(30 * time.Millisecond) // several rolls within one look of the reader, and some not
		}
	}
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	for i := range last + 1 {
		want = append(want, fmt.Sprintf("line %d", i))
	}
	if !slices.Equal(got, want) {
		t.Errorf("got %d lines, want %d: %v", len(got), len(want), got)
	}
}

func TestReadingAMissingSet(t *testing.T) {
	if _, err := NewReader(filepath.Join(t.TempDir(), "no.log"), false); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
}
