package tail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/core/disk/disktest"
	"oakbarrel/core/lines"
	"oakbarrel/core/roll"
)

// outlet is an outlet of a test: its lines and marks go together. A kill takes
// both back to what was saved.
type outlet struct {
	lines, savedLines []string
	marks, savedMarks map[string]int64
}

func (o *outlet) save() { o.savedLines, o.savedMarks = slices.Clone(o.lines), maps.Clone(o.marks) }
func (o *outlet) kill() { o.lines, o.marks = slices.Clone(o.savedLines), maps.Clone(o.savedMarks) }

// bench is a folder that is followed, into two outlets.
type bench struct {
	t        testing.TB
	dir      string
	settings Settings
	log      *slog.Logger

	mu      sync.Mutex
	outlets [2]outlet
	killed  atomic.Bool
	whole   bool         // each batch had the marks of its records
	gate    sync.Mutex   // held while the outlets take nothing
	skip    atomic.Value // by how much the clock is ahead, an int64

	follower *Follower
	end      context.CancelFunc
	ended    chan struct{}
}

func newBench(t testing.TB, paths ...string) *bench {
	b := &bench{t: t, whole: true, dir: t.TempDir(), log: slog.New(slog.NewTextHandler(io.Discard, nil))}
	for _, p := range paths {
		b.settings.Paths = append(b.settings.Paths, b.path(p))
	}
	b.settings.LastWait, b.settings.Open = 50*time.Millisecond, 100
	for i := range b.outlets {
		b.outlets[i].marks = map[string]int64{}
		b.outlets[i].save()
	}
	t.Cleanup(func() {
		if b.follower != nil {
			b.stop()
		}
	})
	return b
}

func (b *bench) path(name string) string { return filepath.Join(b.dir, name) }

func (b *bench) start() {
	b.t.Helper()
	b.killed.Store(false)
	d := &disktest.Disk{Fault: func(int, string, string) error {
		if b.killed.Load() {
			return disktest.ErrFault
		}
		return nil
	}}
	var err error
	if b.follower, err = New(b.settings, d, b.path(".registry"), b, b.log, b.now); err != nil {
		b.t.Fatal(err)
	}
	ctx, end := context.WithCancel(context.Background())
	b.end, b.ended = end, make(chan struct{})
	go func(f *Follower, ended chan struct{}) {
		f.Run(ctx)
		close(ended)
	}(b.follower, b.ended)
}

func (b *bench) now() time.Time {
	skip, _ := b.skip.Load().(int64)
	return time.Now().Add(time.Duration(skip))
}

func (b *bench) stop() {
	b.end()
	<-b.ended
	b.follower = nil
}

// kill ends the follower as a kill would: nothing more is written down, and
// what the outlets have not saved is gone.
func (b *bench) kill() {
	b.killed.Store(true)
	b.stop()
	for i := range b.outlets {
		b.outlets[i].kill()
	}
}

func (b *bench) Taken(source string, begin int64) (offsets []int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range b.outlets {
		if offset, known := b.outlets[i].marks[source]; known {
			offsets = append(offsets, offset)
		} else {
			offsets = append(offsets, begin)
		}
	}
	return offsets
}

func (b *bench) Pass(out *lines.Out) bool {
	b.gate.Lock()
	killed := b.killed.Load()
	b.gate.Unlock()
	if killed {
		return false
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.whole = b.whole && out.Batch.Whole()
	for i := range b.outlets {
		o := &b.outlets[i]
		for k := range out.Batch.Records {
			r := &out.Batch.Records[k]
			if r.End > o.marks[out.Batch.Marks[r.Source].Source] {
				o.lines = append(o.lines, string(r.Text))
			}
		}
		for _, m := range out.Batch.Marks {
			o.marks[m.Source] = max(o.marks[m.Source], m.Offset)
		}
	}
	return true
}

func (b *bench) Forget(sources []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range b.outlets {
		for _, s := range sources {
			delete(b.outlets[i].marks, s)
		}
	}
}

func (b *bench) lines() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.outlets[0].lines)
}

// await waits until as many lines have come, and looks whether more do.
func (b *bench) await(want ...string) {
	b.t.Helper()
	for end := time.Now().Add(10 * time.Second); len(b.lines()) < len(want) && time.Now().Before(end); {
		time.Sleep(2 * time.Millisecond)
	}
	time.Sleep(2 * gatherTime)
	expect(b.t, "lines", short(b.lines()), short(want))
}

// short shortens lines, so that a failure can be read.
func short(all []string) (cut []string) {
	for _, l := range all {
		if len(l) > 40 {
			l = fmt.Sprintf("%s…%d", l[:20], len(l))
		}
		cut = append(cut, l)
	}
	return cut
}

func (b *bench) write(name, text string) {
	b.t.Helper()
	f, err := os.OpenFile(b.path(name), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err == nil {
		_, err = f.WriteString(text)
		f.Close()
	}
	if err != nil {
		b.t.Fatal(err)
	}
}

func (b *bench) must(err error) {
	b.t.Helper()
	if err != nil {
		b.t.Fatal(err)
	}
}

func (b *bench) rename(from, to string) { b.must(os.Rename(b.path(from), b.path(to))) }

// copyAndCut copies a file aside and cuts it.
func (b *bench) copyAndCut(from, to string) {
	content, err := os.ReadFile(b.path(from))
	b.must(err)
	b.must(os.WriteFile(b.path(to), content, 0o644))
	b.must(os.Truncate(b.path(from), 0))
}

// pack compresses a file as people do.
func (b *bench) pack(name, tool string) {
	b.must(exec.Command(tool, "-q", "--rm", b.path(name)).Run())
}

func (b *bench) gzip(name string) { b.must(exec.Command("gzip", b.path(name)).Run()) }

func (b *bench) state(name string) string {
	for _, f := range b.follower.Files() {
		if f.Path == b.path(name) {
			return strings.TrimSpace(string(f.State) + " " + f.Why)
		}
	}
	return "not there"
}

func TestLinesAreFollowedAsTheyCome(t *testing.T) {
	b := newBench(t, "*.log")
	b.write("a.log", "one\ntwo\r\nthr")
	b.start()
	b.await("one", "two", "thr") // a last line without an end waits, then it goes
	b.write("a.log", "ee\nfour\n")
	b.write("b.log", "b one\n")
	b.write("c.txt", "not mine\n")
	b.await("one", "two", "thr", "ee", "four", "b one")
	b.stop()
	b.write("a.log", "five\n")
	b.start()
	b.await("one", "two", "thr", "ee", "four", "b one", "five")
}

func TestFromTheEnd(t *testing.T) {
	b := newBench(t, "*.log")
	b.settings.FromEnd = true
	b.write("a.log", "old\nhalf")
	b.start()
	for b.state("a.log") == "not there" {
		time.Sleep(time.Millisecond)
	}
	b.write("a.log", " whole\n")
	b.await("half whole")
	b.write("new.log", "from the beginning\n")
	b.await("half whole", "from the beginning")
	b.stop()
	b.write("later.log", "while away\n")
	b.start()
	b.await("half whole", "from the beginning", "while away")
}

// What happens to a file while it is followed, and while nobody looks.
func TestAFileIsKnownAgain(t *testing.T) {
	long := strings.Repeat("x", 300)
	first := []string{"1 " + long, "2 " + long}
	text := strings.Join(first, "\n") + "\n"
	for name, c := range map[string]struct {
		change func(b *bench)
		want   []string
	}{
		"renamed out of the pattern": {func(b *bench) { b.write("a.log", "3\n"); b.rename("a.log", "a.log.1"); b.write("a.log", "4\n") }, []string{"3", "4"}},
		"renamed within the pattern": {func(b *bench) { b.write("a.log", "3\n"); b.rename("a.log", "old.log"); b.write("a.log", "4\n") }, []string{"3", "4"}},
		"renamed and written on": {func(b *bench) {
			b.rename("a.log", "a.log.1")
			b.write("a.log.1", "3\n")
			b.write("a.log", "4\n")
		}, []string{"3", "4"}},
		"copied and cut":                    {func(b *bench) { b.write("a.log", "3\n"); b.copyAndCut("a.log", "a.log.1"); b.write("a.log", "4\n") }, []string{"3", "4"}},
		"copied within the pattern and cut": {func(b *bench) { b.write("a.log", "3\n"); b.copyAndCut("a.log", "a-1.log"); b.write("a.log", "4\n") }, []string{"3", "4"}},
		"copied, with nothing new":          {func(b *bench) { b.copyAndCut("a.log", "a-1.log"); b.write("a.log", "4\n") }, []string{"4"}},
		"only copied":                       {func(b *bench) { b.must(os.WriteFile(b.path("a-1.log"), []byte(text), 0o644)) }, nil},
		"renamed and compressed with gzip": {func(b *bench) {
			b.write("a.log", "3\n")
			b.rename("a.log", "a-1.log")
			b.gzip("a-1.log")
			b.write("a.log", "4\n")
		}, []string{"3", "4"}},
		"renamed and compressed with zstd": {func(b *bench) {
			b.write("a.log", "3\n")
			b.rename("a.log", "a.log.1")
			b.pack("a.log.1", "zstd")
			b.write("a.log", "4\n")
		}, []string{"3", "4"}},
		"renamed twice": {func(b *bench) {
			b.write("a.log", "3\n")
			b.rename("a.log", "a.log.1")
			b.write("a.log", "4\n")
			b.rename("a.log.1", "a.log.2")
			b.rename("a.log", "a.log.1")
			b.write("a.log", "5\n")
		}, []string{"3", "4", "5"}},
		"removed and made anew": {func(b *bench) { b.must(os.Remove(b.path("a.log"))); b.write("a.log", "4\n") }, []string{"4"}},
		"cut":                   {func(b *bench) { b.must(os.Truncate(b.path("a.log"), 0)); b.write("a.log", "4\n") }, []string{"4"}},
		"cut and longer than before": {func(b *bench) {
			b.must(os.Truncate(b.path("a.log"), 0))
			b.write("a.log", "4\n"+strings.Replace(text, "x", "y", -1))
		}, []string{"4", strings.ReplaceAll(first[0], "x", "y"), strings.ReplaceAll(first[1], "x", "y")}},
		"cut to a part, which is read anew": {func(b *bench) { b.must(os.Truncate(b.path("a.log"), int64(len(text)/2))); b.write("a.log", "4\n") }, []string{first[0], "4"}},
		"cut, and its writer goes on where it was": {func(b *bench) {
			f, _ := os.OpenFile(b.path("a.log"), os.O_WRONLY, 0)
			defer f.Close()
			f.Truncate(0)
			f.WriteAt([]byte("4\n"), int64(len(text)))
		}, []string{"4"}},
		"saved by an editor": {func(b *bench) {
			b.must(os.WriteFile(b.path("tmp"), []byte(text+"3\n"), 0o644))
			b.rename("tmp", "a.log")
		}, []string{"3"}},
	} {
		for _, away := range []bool{false, true} {
			if name == "renamed and written on" && away {
				continue // the same as renamed
			}
			t.Run(fmt.Sprintf("%s, away %v", name, away), func(t *testing.T) {
				t.Parallel()
				b := newBench(t, "*.log", "*.log.gz")
				b.write("a.log", text)
				b.start()
				b.await(first...)
				if away {
					b.stop()
				}
				c.change(b)
				if away {
					b.start()
				}
				b.await(append(slices.Clone(first), c.want...)...)
				b.stop()
				b.start() // and once more, with nothing new
				b.await(append(slices.Clone(first), c.want...)...)
			})
		}
	}
}

func TestFilesThatBeginAlikeAreNotCopies(t *testing.T) {
	b := newBench(t, "*.log")
	b.write("tickets.log", "started\n")
	b.write("pumps.log", "started\n")
	b.start()
	b.await("started", "started")
	b.write("tickets.log", "sold\n")
	b.await("started", "started", "sold")
	b.rename("tickets.log", "tickets-1.log") // the next run of the program says the same
	b.write("tickets.log", "started\n")
	b.await("started", "started", "sold", "started")
}

// Many programs of a kind that write the same lines, all the time.
func TestFilesThatGoOnAlikeAreAllRead(t *testing.T) {
	b := newBench(t, "*.log")
	b.start()
	lines := 0
	for end := time.Now().Add(settleTime + time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if lines < 60 { // less than would be taken for a copy on that ground alone
			for n := range 3 {
				b.write(fmt.Sprintf("worker-%d.log", n), "ok\n")
				lines++
			}
		}
	}
	for end := time.Now().Add(10 * time.Second); len(b.lines()) < lines && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
	expect(t, "lines", len(b.lines()), lines)
}

func TestWhyAFileIsNotRead(t *testing.T) {
	b := newBench(t, "*.log", "none/*.txt")
	b.settings.Exclude, b.settings.Age = []string{"debug*"}, time.Hour
	text := strings.Repeat("the same line\n", 40)
	b.write("a.log", text)
	b.write("debug.log", "x\n")
	b.write("old.log", "x\n")
	b.must(os.Chtimes(b.path("old.log"), time.Now(), time.Now().Add(-2*time.Hour)))
	b.must(os.Mkdir(b.path("folder.log"), 0o755))
	b.must(exec.Command("mkfifo", b.path("pipe.log")).Run())
	b.must(os.Symlink("nowhere", b.path("link.log")))
	b.start()
	for len(b.lines()) < 40 {
		time.Sleep(time.Millisecond)
	}
	b.must(os.WriteFile(b.path("a-copy.log"), []byte(text), 0o644))
	for b.state("a-copy.log") == "not there" {
		time.Sleep(time.Millisecond)
	}
	for name, want := range map[string]string{
		"a.log":      "at end",
		"debug.log":  "not read the plan excludes it",
		"old.log":    "not read nobody has written to it for longer than 1h0m0s",
		"a-copy.log": "not read it holds the same as " + b.path("a.log"),
		"pipe.log":   "not read it is not a regular file",
		"link.log":   "not read the link leads nowhere",
		"folder.log": "not there",
		"none/*.txt": "not read it finds no file",
	} {
		expect(t, name, b.state(name), want)
	}
	expect(t, "lines", len(b.lines()), 40)
	b.write("old.log", "y\n")
	for len(b.lines()) < 42 {
		time.Sleep(time.Millisecond)
	}
}

func TestALongLineIsCutAndTheNextIsWhole(t *testing.T) {
	b := newBench(t, "*.log")
	b.settings.Lines.Largest = 1000
	huge := strings.Repeat("z", 3*bufferSize)
	b.write("a.log", huge[:bufferSize+7])
	b.start()
	time.Sleep(30 * time.Millisecond)
	b.write("a.log", huge[bufferSize+7:]+"\nnext\n"+strings.Repeat("q", 1500)+"\n")
	b.await(huge[:1000], "next", strings.Repeat("q", 1000))
}

func TestAFileIsSetBack(t *testing.T) {
	b := newBench(t, "*.log")
	b.write("a.log", "one\ntwo\n")
	b.start()
	b.await("one", "two")
	b.must(b.follower.SetBack(b.path("a.log"), 4))
	b.await("one", "two", "two")
	b.write("a.log", "three\n")
	b.await("one", "two", "two", "three")
	b.stop()
	b.start()
	b.await("one", "two", "two", "three")
	if err := b.follower.SetBack(b.path("b.log"), 0); !errors.Is(err, ErrNotFollowed) {
		t.Error(err)
	}
	if err := b.follower.SetBack(b.path("a.log"), 1000); err == nil {
		t.Error("it was set ahead")
	}
}

func TestAnOutletThatIsBehindGetsWhatItLacks(t *testing.T) {
	b := newBench(t, "*.log")
	b.settings.Lines.Join = lines.Join{Indented: true, Wait: 30 * time.Millisecond}
	b.write("a.log", "one\n more\n")
	b.start()
	b.await("one\n more")
	b.outlets[0].save() // the other has saved nothing when the kill comes
	b.kill()
	b.write("a.log", " not of that event any more\ntwo\n")
	b.start()
	b.await("one\n more", " not of that event any more", "two")
	expect(t, "the other outlet", b.outlets[1].lines, b.lines())
}

func TestFewerFilesStayOpenThanAreFollowed(t *testing.T) {
	b := newBench(t, "*.log")
	b.settings.Open = 5
	var want []string
	b.start()
	for round := range 3 {
		for n := range 40 {
			line := fmt.Sprintf("%d-%d", round, n)
			b.write(fmt.Sprintf("%02d.log", n), line+"\n")
			want = append(want, line)
		}
		for end := time.Now().Add(10 * time.Second); len(b.lines()) < len(want) && time.Now().Before(end); {
			time.Sleep(time.Millisecond)
		}
	}
	got := b.lines()
	slices.Sort(got)
	slices.Sort(want)
	expect(t, "lines", got, want)
	open, _ := os.ReadDir("/proc/self/fd")
	if len(open) > 60 {
		t.Errorf("%d files are open", len(open))
	}
}

// Random changes to files that are written to, with the process killed at
// random, and each line arrives in each outlet exactly once, those of one file
// in order. OAKBARREL_TORTURE sets how many runs.
func TestTorture(t *testing.T) {
	runs, _ := strconv.Atoi(os.Getenv("OAKBARREL_TORTURE"))
	for run := range max(runs, 8) {
		t.Run(strconv.Itoa(run), func(t *testing.T) {
			t.Parallel()
			torture(t, rand.New(rand.NewPCG(uint64(run), 7)))
		})
	}
}

func torture(t *testing.T, rnd *rand.Rand) {
	b := newBench(t, "**/*.log", "**/*.log.[0-9]*")
	var did []string
	note := func(format string, args ...any) {
		did = append(did, time.Now().Format("05.000 ")+fmt.Sprintf(format, args...))
	}
	defer func() {
		if t.Failed() {
			t.Log(strings.Join(did, "\n"))
		}
	}()
	var logged bytes.Buffer
	b.log = slog.New(slog.NewTextHandler(&logged, &slog.HandlerOptions{Level: slog.LevelDebug}))
	defer func() {
		if t.Failed() {
			t.Log(logged.String())
		}
	}()
	b.settings.LastWait = time.Hour // a line that is written in two parts is one
	b.must(os.MkdirAll(b.path("deep/er"), 0o755))
	names := []string{"a.log", "b.log", "deep/er/c.log"}
	written := map[string]int{}
	rolled := map[string][]string{}
	count := 0
	line := func(name string) string {
		written[name]++
		return fmt.Sprintf("%s %d %s\n", name, written[name], strings.Repeat("~", rnd.IntN(80)))
	}
	b.start()
	for range 150 {
		name := names[rnd.IntN(len(names))]
		switch what := rnd.IntN(20); {
		case what < 9:
			var text string
			for range 1 + rnd.IntN(30) {
				text += line(name)
			}
			cut := rnd.IntN(len(text))
			note("write %s up to %d", name, written[name])
			b.write(name, text[:cut])
			time.Sleep(time.Duration(rnd.IntN(2000)) * time.Microsecond)
			b.write(name, text[cut:])
		case what < 12: // rename, and another file begins
			count++
			to := fmt.Sprintf("%s.%d", name, count)
			if os.Rename(b.path(name), b.path(to)) == nil {
				rolled[name] = append(rolled[name], to)
				note("rename %s to %s", name, to)
			}
		case what < 14:
			if _, err := os.Stat(b.path(name)); err == nil {
				count++
				to := fmt.Sprintf("%s.%d", name, count)
				note("copy %s to %s", name, to)
				b.copyAndCut(name, to)
				rolled[name] = append(rolled[name], to)
			}
		case what < 16 && len(rolled[name]) > 0: // compress one of the rolled
			i := rnd.IntN(len(rolled[name]))
			if file := rolled[name][i]; !roll.IsCompressed(file) {
				note("compress %s", file)
				b.gzip(file)
				rolled[name][i] = file + ".gz"
			}
		case what < 17 && len(rolled[name]) > 0: // remove the oldest, once it is read
			b.awaitAll(written)
			b.saveAll() // else a kill would lose what was read of it
			note("remove %s", rolled[name][0])
			b.must(os.Remove(b.path(rolled[name][0])))
			rolled[name] = rolled[name][1:]
		case what < 18:
			b.mu.Lock()
			b.outlets[rnd.IntN(2)].save()
			b.mu.Unlock()
		case what < 19:
			if rnd.IntN(2) == 0 {
				note("kill")
				b.kill()
			} else {
				note("stop")
				b.stop()
				b.saveAll()
			}
			for range rnd.IntN(3) {
				b.write(name, line(name))
			}
			note("start")
			b.start()
		default:
			time.Sleep(time.Duration(rnd.IntN(30)) * time.Millisecond)
		}
	}
	b.awaitAll(written)
	time.Sleep(3 * gatherTime)
	b.stop()
	if n := b.exactlyOnce(written); n > 0 {
		t.Logf("%d times a line came before an older one", n)
	}
}

// awaitAll waits until each outlet has as many lines as were written.
func (b *bench) awaitAll(written map[string]int) {
	b.t.Helper()
	total := 0
	for _, n := range written {
		total += n
	}
	arrived := func() bool {
		b.mu.Lock()
		defer b.mu.Unlock()
		return len(b.outlets[0].lines) >= total && len(b.outlets[1].lines) >= total
	}
	for end := time.Now().Add(15 * time.Second); !arrived(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			b.t.Error("lines are missing")
			for _, f := range b.follower.Files() {
				b.t.Logf("%+v", f)
			}
			b.stop()
			b.exactlyOnce(written)
			b.t.FailNow()
		}
	}
}

// saveAll has the outlets save what they have, so that a kill cannot take it.
func (b *bench) saveAll() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.outlets[0].save()
	b.outlets[1].save()
}

// exactlyOnce looks whether each outlet has each line once. It returns how
// often a line came before an older one of its file.
func (b *bench) exactlyOnce(written map[string]int) (disorder int) {
	for i := range b.outlets {
		count, last := map[string]int{}, map[string]int{}
		for _, l := range b.outlets[i].lines {
			name, number, _ := strings.Cut(strings.TrimRight(l, " ~"), " ")
			count[name+" "+number]++
			n, err := strconv.Atoi(number)
			if err != nil {
				b.t.Errorf("outlet %d has a part: %s", i, short([]string{l}))
			}
			if n < last[name] {
				disorder++
			}
			last[name] = n
		}
		for name, most := range written {
			for n := 1; n <= most; n++ {
				if times := count[fmt.Sprintf("%s %d", name, n)]; times != 1 {
					b.t.Errorf("outlet %d has line %d of %s %d times", i, n, name, times)
				}
			}
		}
	}
	return disorder
}
