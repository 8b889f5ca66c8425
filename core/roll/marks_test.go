package roll

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/disk/disktest"
	"oakbarrel/core/record"
)

// linesOf returns lines from first to last of a source, with their marks.
func linesOf(source string, first, last int) (lines []byte, taken []Taken) {
	for n := first; n <= last; n++ {
		lines = fmt.Appendf(lines, "%s %d\n", source, n)
		taken = append(taken, Taken{End: len(lines), Mark: record.Mark{Source: source, Offset: int64(n)}})
	}
	return lines, taken
}

// writeTaken writes lines of a source until they are in a file.
func (f *fixture) writeTaken(source string, first, last int) {
	f.t.Helper()
	lines, taken := linesOf(source, first, last)
	if n, err := f.WriteTaken(lines, taken); err != nil || n != len(lines) {
		f.t.Fatal(n, err)
	}
}

// marks is what is found out about the marks after a kill.
func (f *fixture) marks() map[string]int64 { return Marks(f.live, filepath.Join(f.dir, "all.intent")) }

func TestMarksAreThoseOfTheLinesInTheFiles(t *testing.T) {
	f := newFixture(t, Settings{Size: 100})
	expect(t, "at first", f.marks(), map[string]int64{})
	f.writeTaken("a", 1, 30) // over several pieces
	f.writeTaken("b", 1, 3)
	f.writeTaken("a", 31, 31)
	f.write("of no source")
	want := map[string]int64{"a": 31, "b": 3}
	expect(t, "marks", f.marks(), want)
	f.start()
	expect(t, "after a kill", f.marks(), want)
	f.Tick()
	f.Rebase(func(source string) int64 { return map[string]int64{"a": 30, "b": 3}[source] })
	f.writeTaken("b", 4, 4)
	want = map[string]int64{"a": 31, "b": 4}
	expect(t, "after other marks were written elsewhere", f.marks(), want)
	f.start()
	f.Tick()
	f.Rebase(func(string) int64 { return 4 })
	expect(t, "after a kill, and the others were", f.marks(), map[string]int64{"a": 31})
	f.Rebase(func(string) int64 { return 31 })
	f.writeTaken("b", 5, 5)
	expect(t, "after all were", f.marks(), map[string]int64{"b": 5})
}

// Whatever the call at which the process is killed, or that fails: with the
// lines behind its marks written again, each line is there once, in order.
func TestAKillAtAnyCallLeavesMarksAndLinesAlike(t *testing.T) {
	for _, sync := range []Sync{SyncNever, SyncEach} {
		for _, killed := range []bool{true, false} {
			for call, done := 1, false; !done; call++ {
				f := newFixture(t, Settings{Size: 90, Sync: sync})
				f.writeTaken("a", 1, 5)
				f.Close()
				calls := &disktest.Disk{Fault: disktest.DieAt(call)}
				if !killed {
					calls.Fault = func(n int, _, _ string) error {
						if n == call {
							return disktest.ErrFault
						}
						return nil
					}
				}
				f.disk = calls
				f.start()
				lines, taken := linesOf("a", 6, 25)
				written, err := f.WriteTaken(lines, taken)
				done = err == nil
				next := int64(bytes.Count(lines[:written], []byte{'\n'})) + 6
				calls.Fault = nil
				if killed {
					f.disk = disk.OS
					f.start()
					next = f.marks()["a"] + 1
				}
				f.writeTaken("a", int(next), 30)
				what := fmt.Sprintf("sync %q killed %v call %d", sync, killed, call)
				expect(t, what, f.lines(), sequence("a", 1, 30))
				expect(t, what, f.marks()["a"], int64(30))
			}
		}
	}
}

func sequence(source string, first, last int) (lines []string) {
	for n := first; n <= last; n++ {
		lines = append(lines, fmt.Sprintf("%s %d", source, n))
	}
	return lines
}

func TestAWriteThatFailsTakesItsMarksBack(t *testing.T) {
	for _, op := range []string{"write", "sync", "truncate"} {
		f := newFixture(t, Settings{Sync: SyncEach})
		f.writeTaken("a", 1, 2)
		fail := true
		f.disk = &disktest.Disk{Fault: func(_ int, what, path string) error {
			if fail && (what == op || what == "write" && op == "truncate") && strings.HasSuffix(path, "all.log") {
				return syscall.EIO
			}
			return nil
		}}
		f.start()
		lines, taken := linesOf("a", 3, 9)
		if n, err := f.WriteTaken(lines, taken); n != 0 || !errors.Is(err, syscall.EIO) {
			t.Fatal(op, n, err)
		}
		expect(t, op+": marks after the failure", f.marks()["a"], int64(2))
		fail = false
		f.writeTaken("a", 3, 9)
		expect(t, op+": marks", f.marks()["a"], int64(9))
		expect(t, op+": lines", f.lines(), sequence("a", 1, 9))
	}
}

// A damaged note of a write costs what was written since: it is cut off, told,
// and its marks do not count, so that what comes from files is read again, once.
func TestADamagedNoteOfAWriteIsTold(t *testing.T) {
	for _, c := range []struct{ note, kept int }{{2, 2}, {4, 4}} { // which of the five notes is damaged, and how many lines stay
		dir := t.TempDir()
		live, notes := filepath.Join(dir, "a.log"), filepath.Join(dir, "notes")
		w := NewWriter(disk.OS, Settings{Path: live, Mode: 0o640}, notes, make(chan struct{}, 1), time.Now)
		var starts []int64
		for n := range 5 {
			line := fmt.Sprintf("line %d\n", n)
			if _, err := w.WriteTaken([]byte(line), []Taken{{End: len(line), Mark: record.Mark{Source: "s", Offset: int64(n + 1)}}}); err != nil {
				t.Fatal(err)
			}
			starts = append(starts, w.intents.at)
		}
		w.Close()
		content, _ := os.ReadFile(notes)
		content[starts[c.note]-3] ^= 8
		os.WriteFile(notes, content, 0o600)
		if got := Marks(live, notes)["s"]; got != int64(c.kept) {
			t.Errorf("the mark is %d, want %d", got, c.kept)
		}
		var told []Damage
		w = NewWriter(disk.OS, Settings{Path: live, Mode: 0o640}, notes, make(chan struct{}, 1), time.Now)
		w.Telling(func(d Damage) { told = append(told, d) })
		w.Write([]byte("next\n"))
		w.Close()
		got, _ := os.ReadFile(live)
		if strings.Count(string(got), "\n") != c.kept+1 || len(told) != 1 || told[0].Lines != int64(5-c.kept) || !strings.HasPrefix(string(told[0].Cut), fmt.Sprintf("line %d\n", c.kept)) {
			t.Errorf("note %d: %q, told %+v", c.note, got, told)
		}
	}
}

// Somebody removes the live file of a full disk to make room.
func TestTheLiveFileIsRemovedWhileTheDiskIsFull(t *testing.T) {
	dir := t.TempDir()
	live := filepath.Join(dir, "a.log")
	full := false
	d := &disktest.Disk{Fault: func(_ int, op, path string) error {
		if full && op == "write" && path == live {
			return disktest.ErrFault
		}
		return nil
	}}
	w := NewWriter(d, Settings{Path: live, Mode: 0o640}, filepath.Join(dir, "notes"), make(chan struct{}, 1), time.Now)
	defer w.Close()
	w.Write([]byte("one\n"))
	full = true
	if _, err := w.Write([]byte("two\n")); err == nil {
		t.Fatal("it was written to a full disk")
	}
	os.Remove(live)
	full = false
	if _, err := w.Write([]byte("two\n")); err != nil {
		t.Fatal(err)
	}
	if got, err := os.ReadFile(live); string(got) != "two\n" {
		t.Errorf("got %q, %v", got, err)
	}
}

// The note of the first write into a file that rolling has begun is damaged, in whatever byte:
// what it speaks of is cut off and read again, once. Where the one before it is damaged, that
// is told.
func TestADamagedNoteOfTheFirstWriteBehindARoll(t *testing.T) {
	for at := 0; ; at++ {
		f := newFixture(t, Settings{})
		f.writeTaken("a", 1, 3)
		if _, err := f.Roll(); err != nil {
			t.Fatal(err)
		}
		begins := f.intents.at
		f.writeTaken("a", 4, 4)
		ends := f.intents.at
		f.Close()
		notes := filepath.Join(f.dir, "all.intent")
		content, err := os.ReadFile(notes)
		if err != nil {
			t.Fatal(err)
		}
		if begins+int64(at) >= ends {
			return
		}
		content[begins+int64(at)] ^= 4
		os.WriteFile(notes, content, 0o600)
		next, told := int(f.marks()["a"])+1, 0
		f.start()
		f.Telling(func(Damage) { told++ })
		f.writeTaken("a", next, 6)
		if at < intentSize && told == 1 {
			continue
		}
		expect(t, fmt.Sprintf("byte %d of %d", at, ends-begins), f.lines(), sequence("a", 1, 6))
	}
}

// A source that is read again from further back, as for an outlet that was begun again, takes no
// mark back: what lies between would be written a second time after a kill.
func TestMarksDoNotGoBack(t *testing.T) {
	f := newFixture(t, Settings{})
	f.writeTaken("a", 1, 7)
	f.start()
	lines, taken := linesOf("b", 1, 1)
	if _, err := f.WriteTaken(lines, append(taken, Taken{End: len(lines), Mark: record.Mark{Source: "a", Offset: 5}})); err != nil {
		t.Fatal(err)
	}
	expect(t, "marks", f.marks(), map[string]int64{"a": 7, "b": 1})
	f.Rebase(func(source string) int64 { return map[string]int64{"a": 5, "b": 1}[source] })
	f.start()
	expect(t, "after a kill", f.marks()["a"], int64(7))
}
