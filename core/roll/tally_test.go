package roll

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/disk/disktest"
)

// numbered is a format whose lines are "N text", N being seconds since 1970.
type numbered struct{}

func (numbered) String() string { return "numbered" }

func (numbered) Time(line []byte) (time.Time, bool) {
	var sec int64
	_, err := fmt.Sscan(string(line), &sec)
	return time.Unix(sec, 0).UTC(), err == nil
}

// tallied returns a set of five pieces.
func tallied(t testing.TB, set Settings) *fixture {
	set.Size, set.Format = 10, numbered{}
	f := newFixture(t, set)
	for i := range 6 {
		f.now = f.now.Add(time.Second)
		f.write(fmt.Sprintf("%d a", 10+i), fmt.Sprintf("%d b", 10+i))
	}
	f.tidy()
	return f
}

func (f *fixture) verify(expect string) Verdict {
	f.t.Helper()
	v, err := Verify(context.Background(), f.live, expect)
	if err != nil {
		f.t.Fatal(err)
	}
	return v
}

func TestATallyTellsWhatEachPieceHolds(t *testing.T) {
	f := tallied(t, Settings{Compress: Zstd, Keep: Keep{Pieces: 4}})
	tally, err := ReadTally(f.live)
	if err != nil || len(tally.Lines) != 6 {
		t.Fatal(tally, err)
	}
	second := tally.Lines[1]
	want := TallyLine{Sequence: 2, Event: Closed, Name: "all-20261125T101503Z.log", Piece: 2, Records: 2, Bytes: 10, Size: 10, Format: "numbered", SHA256: hashOf([]byte("11 a\n11 b\n")), Previous: second.Previous}
	at := time.Unix(11, 0).UTC()
	want.First, want.Last, want.At = &at, &at, second.At
	got, _ := json.Marshal(second)
	expected, _ := json.Marshal(want)
	expect(t, "the second line", string(got), string(expected))
	last := tally.Lines[5]
	if last.Event != Removed || last.Piece != 1 || last.Why != "pieces" || last.SHA256 != hashOf([]byte("10 a\n10 b\n")) || last.Records != 2 {
		t.Errorf("%+v", last)
	}
	tail := []string{tally.Lines[1].Previous, tally.Lines[2].Previous, tally.Lines[3].Previous, tally.Lines[4].Previous, tally.Lines[5].Previous, tally.Hash}
	expect(t, "the tail", f.TallyTail(), tail)
	f.start()
	f.Tick()
	f.tidy()
	expect(t, "the tail after a restart", f.TallyTail(), tail)
	if v := f.verify(tally.Lines[3].Previous); !v.OK || v.Pieces != 4 || v.Records != 8 || v.Removed != 1 || v.Lines != 6 || v.Hash != tally.Hash {
		t.Errorf("%+v", v)
	}
	out, err := exec.Command("sh", "-c", "zstd -dc "+filepath.Join(f.dir, "all-20261125T101503Z.log.zst")+" | sha256sum").Output()
	if err != nil || !strings.HasPrefix(string(out), second.SHA256) {
		t.Errorf("sha256sum says %s, %v", out, err)
	}
}

func TestVerifyFindsWhatWasDone(t *testing.T) {
	for _, counted := range []bool{false, true} {
		for name, c := range map[string]struct {
			do   func(f *fixture, pieces []Piece)
			want string
		}{
			"nothing":   {func(*fixture, []Piece) {}, ""},
			"changed":   {func(f *fixture, p []Piece) { os.WriteFile(p[2].Path, []byte("12 a\n12 X\n"), 0o600) }, "changed"},
			"removed":   {func(f *fixture, p []Piece) { os.Remove(p[2].Path) }, "removed"},
			"the first": {func(f *fixture, p []Piece) { os.Remove(p[0].Path) }, "removed"},
			"the last":  {func(f *fixture, p []Piece) { os.Remove(p[4].Path) }, "removed"},
			"moved": {func(f *fixture, p []Piece) {
				os.Rename(p[1].Path, f.dir+"/x")
				os.Rename(p[3].Path, p[1].Path)
				os.Rename(f.dir+"/x", p[3].Path)
			}, "moved"},
			"added behind": {func(f *fixture, p []Piece) {
				name := pieceName(f.live, f.now.Add(time.Hour), 1)
				if counted {
					for i, q := range p {
						os.Rename(q.Path, countedName(f.live, 6-i))
					}
					name = countedName(f.live, 1)
				}
				os.WriteFile(name, []byte("9 z\n"), 0o600)
			}, "no line for it"},
			"added before": {func(f *fixture, p []Piece) {
				name := pieceName(f.live, f.now.Add(-time.Hour), 1)
				if counted {
					name = countedName(f.live, 6)
				}
				os.WriteFile(name, []byte("9 z\n"), 0o600)
			}, "no line for it"},
			"a line changed": {func(f *fixture, p []Piece) { f.edit(`"records":2`, `"records":3`) }, "line 2 of the tally does not have the hash of the line before"},
			"a line removed": {func(f *fixture, p []Piece) {
				text, _ := os.ReadFile(f.live + TallySuffix)
				_, after, _ := bytes.Cut(text, []byte("\n"))
				os.WriteFile(f.live+TallySuffix, after, 0o600)
			}, "a line was removed, added or moved"},
			"rubbish":           {func(f *fixture, p []Piece) { f.edit(`{`, `[`) }, "cannot be read"},
			"all lines removed": {func(f *fixture, p []Piece) { os.Truncate(f.live+TallySuffix, 0) }, "cut short or rewritten"},
		} {
			t.Run(fmt.Sprint(name, counted), func(t *testing.T) {
				f := tallied(t, Settings{Counted: counted})
				_, hash := f.Tally()
				pieces, err := Pieces(f.live)
				if err != nil || len(pieces) != 5 {
					t.Fatal(pieces, err)
				}
				c.do(f, pieces)
				v := f.verify(hash)
				if v.OK != (c.want == "") || !strings.Contains(v.Why, c.want) {
					t.Errorf("%+v", v)
				}
			})
		}
	}
}

// edit replaces text in the tally, the first time that it stands there.
func (f *fixture) edit(old, new string) {
	text, _ := os.ReadFile(f.live + TallySuffix)
	os.WriteFile(f.live+TallySuffix, bytes.Replace(text, []byte(old), []byte(new), 1), 0o600)
}

func TestALineThatAKillPreventedComesLateAndSaysSo(t *testing.T) {
	f := newFixture(t, Settings{Size: 10})
	f.write("aaaa", "bbbb", "cccc") // rolled, and killed before the line
	f.start()
	f.Tick()
	f.tidy()
	text, _ := os.ReadFile(f.live + TallySuffix)
	os.WriteFile(f.live+TallySuffix, append(text, `{"sequence":2,"ev`...), 0o600) // torn
	f.start()
	f.write("dddd", "eeee", "ffff")
	f.tidy()
	if v := f.verify(""); !v.OK || v.Late != 1 || v.Lines != 2 {
		t.Errorf("%+v", v)
	}
}

func TestAPieceThatSomebodyAddedGetsNoLine(t *testing.T) {
	f := tallied(t, Settings{})
	os.WriteFile(pieceName(f.live, f.now.Add(-time.Hour), 1), []byte("9 z\n"), 0o600)
	f.start()
	f.Tick()
	f.tidy()
	if v := f.verify(""); v.OK || v.Piece != "all-20261125T091506Z.log" {
		t.Errorf("%+v", v)
	}
}

// sum as the tally has it, whatever the chunks in which a piece is read.
func TestASumDoesNotDependOnTheReads(t *testing.T) {
	for _, text := range []string{"", "\n", "one", "one\n", "one\ntwo", "one\ntwo\nthree\n", "\n\n", "one\n\n"} {
		lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
		for size := 1; size <= len(text)+1; size++ {
			s := summer{hash: sha256.New()}
			for b := []byte(text); len(b) > 0; b = b[min(size, len(b)):] {
				s.Write(b[:min(size, len(b))])
			}
			if string(s.first) != lines[0] || string(s.last) != lines[len(lines)-1] {
				t.Errorf("%q by %d: first %q, last %q", text, size, s.first, s.last)
			}
		}
	}
}

func TestWhatIsOwedStaysUntilItIsDelivered(t *testing.T) {
	debts := &fixedDebts{taken: 7}
	f := newFixture(t, Settings{Size: 10, Keep: Keep{Pieces: 1}})
	f.SetDebts(debts)
	f.write("aaaa", "bbbb", "cccc", "dddd", "eeee", "ffff", "gggg")
	expect(t, "removed while owed", f.tidy(), nil)
	debts.taken, debts.done = 20, 7
	expect(t, "removed when delivered", len(f.tidy()), 2)
	f.write("hhhh", "iiii")
	expect(t, "removed, the new one being owed", len(f.tidy()), 1)
}

type fixedDebts struct{ taken, done int64 }

func (d *fixedDebts) Taken() []int64 { return []int64{d.taken} }
func (d *fixedDebts) Done() []int64  { return []int64{d.done} }

func TestAHeldSetIsNotTouched(t *testing.T) {
	f := tallied(t, Settings{Keep: Keep{Pieces: 1}, Hold: true})
	if pieces, _ := f.Pieces(); len(pieces) != 5 {
		t.Errorf("%d pieces are left", len(pieces))
	}
	if gone, err := f.GiveUpOldest(func(Removal) {}); gone || err != nil {
		t.Error(gone, err)
	}
}

func TestAFullDiskDoesNotPreventRemovalsAndTheyAreTalliedLater(t *testing.T) {
	f := newFixture(t, Settings{Size: 10, Keep: Keep{Pieces: 5}})
	full := false
	f.disk = &disktest.Disk{Fault: func(_ int, op, path string) error {
		if full && op == "write" && strings.HasSuffix(path, TallySuffix) {
			return disktest.ErrFault
		}
		return nil
	}}
	f.start()
	f.write("aaaa", "bbbb", "cccc", "dddd", "eeee", "ffff", "gggg")
	f.tidy()
	full = true
	if gone, err := f.GiveUpOldest(func(Removal) {}); !gone || err == nil {
		t.Error(gone, err)
	}
	full = false
	f.write("hhhh", "iiii")
	f.tidy()
	if v := f.verify(""); !v.OK || v.Removed != 1 || v.Pieces != 3 {
		t.Errorf("%+v", v)
	}
}

func TestCountedPiecesMoveUp(t *testing.T) {
	f := newFixture(t, Settings{Size: 10, Counted: true, Keep: Keep{Pieces: 3}, Compress: Gzip})
	for i := range 7 {
		f.write(fmt.Sprintf("%04d", i), "xxxx")
		f.tidy()
	}
	expect(t, "files", f.files(), []string{"all.log", "all.log.1.gz", "all.log.2.gz", "all.log.3.gz", "all.log.tally"})
	expect(t, "lines", f.lines()[0], "0003")
	if v := f.verify(""); !v.OK || v.Removed != 3 {
		t.Errorf("%+v", v)
	}
	r, err := NewReader(f.live, false)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	f.write("9999", "zzzz") // rolls: what is read goes on to be what it was
	f.tidy()
	var got []string
	for i := range r.Files() {
		r.Lines(i, func(line []byte) error { got = append(got, string(line)); return nil })
	}
	expect(t, "lines read across a roll", got, []string{"0003", "xxxx", "0004", "xxxx", "0005", "xxxx", "0006", "xxxx"})
	f.set.Counted = false // a later plan still keeps what this one left
	f.now = time.Now().Add(time.Hour)
	f.start()
	for i := range 2 {
		f.write(fmt.Sprintf("%04d", 10+i), "yyyy")
		f.tidy()
	}
	expect(t, "lines", f.lines(), []string{"0006", "xxxx", "9999", "zzzz", "0010", "yyyy", "0011", "yyyy"})
}

func TestAFloorIsNotWrittenInto(t *testing.T) {
	f := newFixture(t, Settings{Size: 10, Floor: disk.Floor{Percent: 100}})
	if _, err := f.Write([]byte("aaaa\n")); err == nil || !strings.Contains(err.Error(), "the plan keeps") {
		t.Error(err)
	}
	f.set.Floor = disk.Floor{Bytes: 1}
	f.Configure(f.set)
	f.write("aaaa")
}

func TestAFileThatCannotBeSyncedIsNotTrusted(t *testing.T) {
	f := newFixture(t, Settings{Size: 1000, Sync: SyncEach})
	failed := false
	f.disk = &disktest.Disk{Fault: func(_ int, op, path string) error {
		if !failed && op == "sync" && path == f.live && f.size > 5 {
			failed = true
			return disktest.ErrFault
		}
		return nil
	}}
	f.start()
	f.write("aaaa")
	if n, err := f.Write([]byte("bbbb\n")); n != 0 || err == nil {
		t.Fatal(n, err)
	}
	f.write("bbbb")
	expect(t, "lines", f.lines(), []string{"aaaa", "bbbb"})
	if pieces, _ := f.Pieces(); len(pieces) != 1 {
		t.Error("the file is still written to")
	}
}

// Random sizes, times and settings; a kill or a full disk at a random call that
// changes a file; then another run. Each record that was taken stands in the set
// once, in order, and the tally verifies. OAKBARREL_TORTURE makes it more than
// forty runs.
func TestTorture(t *testing.T) {
	runs := 40
	if n, err := strconv.Atoi(os.Getenv("OAKBARREL_TORTURE")); err == nil {
		runs = n
	}
	r := rand.New(rand.NewPCG(uint64(runs), 32473))
	minute, _ := ParseEvery("1m")
	var f *fixture
	var taken []string
	rolls := 0
	for run := range runs {
		if run%20 == 0 { // another set
			f = newFixture(t, Settings{})
			taken = nil
		}
		path := f.set.Path
		f.set = Settings{Path: path, Mode: 0o640, Size: int64(20 + r.IntN(400)), Keep: Keep{Pieces: 100_000}, Compress: []Compression{Zstd, Gzip, NoCompression}[r.IntN(3)], Counted: f.set.Counted, Sync: []Sync{SyncNever, SyncEach, SyncSecond}[r.IntN(3)]}
		if run%20 == 0 {
			f.set.Counted = r.IntN(3) == 0
		}
		if r.IntN(2) == 0 {
			f.set.Every = minute
		}
		killAt, fullAt := r.IntN(400), r.IntN(200)
		killed, dying := false, ""
		f.disk = &disktest.Disk{Fault: func(n int, op, path string) error {
			killed = killed || n >= killAt
			if killed || op == "write" && n >= fullAt && n < fullAt+10 {
				return disktest.ErrFault
			}
			return nil
		}}
		f.start()
		for step := 0; !killed && step < 300; step++ {
			f.now = f.now.Add(time.Duration(r.IntN(20)-2) * time.Second) // the clock goes back too
			line := fmt.Sprintf("record %d %s", len(taken), strings.Repeat("x", r.IntN(60)))
			if n, _ := f.Write([]byte(line + "\n")); n > 0 {
				taken = append(taken, line)
			} else if killed {
				dying = line // it may be there, though nobody was told
			}
			if r.IntN(8) == 0 {
				f.Tidy(context.Background(), func(Removal) {})
				f.Tick()
			}
		}
		f.disk = disk.OS
		f.start()
		if err := f.Tick(); err != nil {
			t.Fatal(err)
		}
		f.tidy()
		pieces, _ := f.Pieces()
		rolls += len(pieces)
		got := f.lines()
		if n := len(taken); dying != "" && len(got) == n+1 && got[n] == dying {
			taken = append(taken, dying)
		}
		if !slices.Equal(got, taken) {
			t.Fatalf("run %d, killed at call %d: %d lines instead of %d\n%+v", run, killAt, len(got), len(taken), f.set)
		}
		if v := f.verify(""); !v.OK {
			t.Fatalf("run %d, killed at call %d: %+v\n%+v", run, killAt, v, f.set)
		}
		f.Close()
	}
	t.Logf("%d runs; %d pieces were checked", runs, rolls)
}

func FuzzReadTally(f *testing.F) {
	f.Add(`{"sequence":1,"event":"closed","name":"all-20261125T101500Z.log","piece":1,"records":2,"previous":""}` + "\n")
	f.Add("{}\n[]\n")
	f.Fuzz(func(t *testing.T, text string) {
		live := filepath.Join(t.TempDir(), "all.log")
		os.WriteFile(live+TallySuffix, []byte(text), 0o600)
		tally, err := ReadTally(live)
		whole := strings.Count(text, "\n")
		if err == nil && len(tally.Lines) != whole || len(tally.Lines) > whole || len(tally.Living()) > len(tally.Lines) {
			t.Errorf("%d lines of %d, %v", len(tally.Lines), whole, err)
		}
		if v, err := Verify(context.Background(), live, ""); err == nil && v.OK && len(tally.Living()) > 0 {
			t.Errorf("a set without its pieces verifies: %+v", v)
		}
	})
}

func TestARetiredSetLeavesPiecesAlone(t *testing.T) {
	f := newFixture(t, Settings{Size: 100})
	f.write("aaaa")
	if err := f.Retire(); err != nil {
		t.Fatal(err)
	}
	f.tidy()
	expect(t, "files", f.files(), []string{"all-20261125T101500Z.log", "all.log.tally"})
	f.write("bbbb") // something comes after all
	expect(t, "lines", f.lines(), []string{"aaaa", "bbbb"})
}
