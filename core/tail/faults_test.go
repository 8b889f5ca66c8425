package tail

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/lines"
	"oakbarrel/core/memo"
)

// paced writes the log of a container slowly, so that events wait for their next
// line while it is rolled: bursts do not show what goes wrong then.
func paced(b *bench, pause time.Duration, every int, traces bool, events int) (want []string) {
	log := b.path("box/box-json.log")
	b.must(os.MkdirAll(filepath.Dir(log), 0o755))
	written, rolled := 0, 0
	say := func(stream, text string) {
		if written++; written%every == 0 {
			for n := rolled; n > 0; n-- {
				os.Rename(fmt.Sprintf("%s.%d", log, n), fmt.Sprintf("%s.%d", log, n+1))
			}
			if os.Rename(log, log+".1") == nil {
				rolled++
			}
		}
		b.write("box/box-json.log", fmt.Sprintf(`{"log":"%s\n","stream":"%s","time":"2026-11-28T10:00:00.5Z"}`+"\n", text, stream))
		time.Sleep(pause)
	}
	for n := range events {
		text := fmt.Sprintf("event %d", n)
		say("stdout", text)
		want = append(want, text)
		if traces && n%2 == 0 {
			trace := fmt.Sprintf("error %d: the pump stalled", n)
			say("stderr", trace)
			for k := range 6 {
				say("stderr", fmt.Sprintf(`\tat frame %d`, k))
				trace += fmt.Sprintf("\n\tat frame %d", k)
			}
			want = append(want, trace)
		}
	}
	return want
}

// A container that rolls while an event waits for its next line.
func TestAContainerRollsAtEveryPace(t *testing.T) {
	for _, c := range []struct {
		pause  time.Duration
		every  int
		traces bool
		events int
	}{
		{20 * time.Millisecond, 3, true, 15}, {20 * time.Millisecond, 7, true, 15}, {60 * time.Millisecond, 3, false, 25}, {150 * time.Millisecond, 4, true, 5}, {5 * time.Millisecond, 2, true, 40},
	} {
		t.Run(fmt.Sprintf("%v, each %d, traces %v", c.pause, c.every, c.traces), func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "*/*-json.log", "*/*-json.log.*")
			b.settings.Wrapping, b.settings.LastWait = Docker, time.Hour
			b.settings.Lines.Join = lines.Join{Indented: true, Wait: 2 * time.Second}
			b.start()
			want := paced(b, c.pause, c.every, c.traces, c.events)
			for end := time.Now().Add(10 * time.Second); len(b.lines()) < len(want) && time.Now().Before(end); {
				time.Sleep(10 * time.Millisecond)
			}
			got := b.lines()
			slices.Sort(got)
			slices.Sort(want)
			expect(t, "events", got, want)
			if !b.whole {
				t.Error("a batch held a record without its mark")
			}
		})
	}
}

// Messages that begin with the same kilobyte are usual: a banner, or what goes
// on of a long one. A file of which no more than that is known to be alike is read.
func TestAShorterFileThatBeginsAlikeIsRead(t *testing.T) {
	b := newBench(t, "box/*-json.log*")
	b.settings.Wrapping = Docker
	line := func(text string) string {
		return fmt.Sprintf(`{"log":"%s\n","stream":"stdout","time":"2026-11-28T10:00:00.5Z"}`+"\n", text)
	}
	b.must(os.Mkdir(b.path("box"), 0o755))
	long := strings.Repeat("0", 3000)
	b.write("box/a-json.log", line(long+" first")+line("the end of the first"))
	b.start()
	b.await(long+" first", "the end of the first")
	b.stop()
	b.write("box/b", line(long+" next"))
	for _, move := range [][2]string{{"b", "a-json.log.1.gz"}, {"a-json.log", "a-json.log.2.gz"}} {
		b.must(exec.Command("gzip", b.path("box/"+move[0])).Run())
		b.rename("box/"+move[0]+".gz", "box/"+move[1])
	}
	b.must(os.Chtimes(b.path("box/a-json.log.1.gz"), time.Time{}, time.Now().Add(-time.Hour))) // it is asked first
	b.start()
	b.await(long+" first", "the end of the first", long+" next")
}

// Of a file that was begun and not read before a kill no more is known than its
// beginning: another that begins so is no copy of it.
func TestAFileThatBeginsAsOneThatWasNotReadYet(t *testing.T) {
	b := newBench(t, "a.log*")
	banner := strings.Repeat("=", 2000)
	b.write("a.log.2", banner+"\nthe first\n")
	b.gate.Lock()
	b.start()
	time.Sleep(100 * time.Millisecond) // it is known, and waits to be taken
	time.AfterFunc(50*time.Millisecond, b.gate.Unlock)
	b.kill()
	b.write("a.log.1", banner+"\nthe next\n")
	b.must(exec.Command("gzip", b.path("a.log.1")).Run())
	b.must(exec.Command("gzip", b.path("a.log.2")).Run())
	b.start()
	b.await(banner, "the first", banner, "the next")
}

// readBeforeKill leaves the first file as a kill right after its reading does: all
// of it is taken, and no more is known of it than its beginning.
func (b *bench) readBeforeKill() *source {
	f := b.still()
	f.look()
	b.must(f.save())
	s := f.sources[0]
	for i := range b.outlets {
		b.outlets[i].marks[s.ID] = s.lastSize
	}
	f.closeAll()
	return s
}

// Of what was read before a kill no more is known than its beginning, and another
// file that begins so is just being compressed: that it is another shows once it is whole.
func TestWhatWasReadIsKnownBesideAHalfMadeCopy(t *testing.T) {
	b := newBench(t, "a.log*")
	banner := strings.Repeat("=", 2000)
	b.write("a.log.2", banner+"\nthe first\n")
	b.readBeforeKill()
	b.gzip("a.log.2")
	b.write("next", banner+"\nthe next of them\n")
	packed, err := exec.Command("gzip", "-c", b.path("next")).Output()
	b.must(err)
	b.write("a.log.1.gz", string(packed[:12]))
	b.start()
	time.Sleep(200 * time.Millisecond)
	expect(t, "state", b.state("a.log.2.gz"), "not read it begins as "+b.path("a.log.2")+" did, of which another file may hold the rest")
	b.write("a.log.1.gz", string(packed[12:]))
	b.await(banner, "the next of them")
}

// What is compressed of one container, or rolled, is no matter of another's.
func TestALogIsKnownBesideAnotherContainersHalfMadeCopy(t *testing.T) {
	b := newBench(t, "*/0.log*")
	b.settings.Wrapping = CRI
	b.must(os.Mkdir(b.path("a"), 0o755))
	b.must(os.Mkdir(b.path("b"), 0o755))
	line := func(text string) string { return "2026-11-28T10:00:00.5Z stdout F " + text + "\n" }
	b.write("a/0.log", line(strings.Repeat("=", 2000))+line("the first"))
	f := b.still()
	f.look()
	b.must(f.save())
	s := f.sources[0]
	for i := range b.outlets {
		for _, name := range f.streamNames(s) {
			b.outlets[i].marks[name] = s.lastSize
		}
	}
	f.closeAll()
	b.gzip("a/0.log")
	b.rename("a/0.log.gz", "a/0.log.1.gz")
	b.write("b/0.log.1.gz", "\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\x03")
	b.write("a/0.log", line("the next"))
	b.start()
	b.await("the next")
	for end := time.Now().Add(10 * time.Second); b.state("a/0.log.1.gz") != string(Finished); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("the log that was rolled is %q", b.state("a/0.log.1.gz"))
		}
	}
}

// The inode of a file that is gone is soon another's. Of what was read before a kill
// no more is known than its beginning, and the other begins alike.
func TestAFileWithTheInodeOfAnother(t *testing.T) {
	b := newBench(t, "a.log")
	banner := strings.Repeat("=", 2000)
	b.write("a.log", banner+"\nthe first\n")
	s := b.readBeforeKill()
	if s.Birth == 0 {
		t.Skip("this file system does not tell when a file was born")
	}
	for tries := 0; ; tries++ {
		time.Sleep(5 * time.Millisecond)
		b.must(os.Remove(b.path("a.log")))
		b.write("a.log", banner+"\nanother\nthat is longer\n")
		if facts, err := disk.FactsAt(b.path("a.log")); err != nil || (stat{facts}).inode() == s.inode() {
			break
		}
		if tries == 100 {
			t.Skip("this file system does not give inodes again")
		}
	}
	b.start()
	b.await(banner, "another", "that is longer")
}

// A message in parts of which a log has the first and the next the last is one, also
// where the agent comes back while the first log is being compressed.
func TestAMessageIsNotSplitByCompressingWhileTheAgentIsAway(t *testing.T) {
	b := newBench(t, "0.log*")
	b.settings.Wrapping = CRI
	line := func(text string) string { return "2026-11-28T10:00:00.5Z stdout " + text + "\n" }
	b.write("0.log", line("F "+strings.Repeat("a line before it ", 20))+line("P begins, "))
	b.start()
	b.await(strings.Repeat("a line before it ", 20))
	b.mu.Lock()
	for i := range b.outlets {
		b.outlets[i].save()
	}
	b.mu.Unlock()
	b.kill()
	b.rename("0.log", "0.log.1")
	b.write("0.log", line("F ends"))
	packed, err := exec.Command("gzip", "-c", b.path("0.log.1")).Output()
	b.must(err)
	b.write("0.log.1.gz", string(packed[:12]))
	b.must(os.Remove(b.path("0.log.1")))
	b.start()
	time.Sleep(200 * time.Millisecond)
	b.write("0.log.1.gz", string(packed[12:]))
	b.await(strings.Repeat("a line before it ", 20), "begins, ends")
}

// An outlet that has taken of the next log already, but not how an event begins at the
// end of the one before, gets that too.
func TestTheBeginningOfAnEventOfWhichTheEndWasTaken(t *testing.T) {
	b := newBench(t, "0.log*")
	b.settings.Wrapping, b.settings.Lines.Join = CRI, lines.Join{Indented: true, Wait: 50 * time.Millisecond}
	line := func(text string) string { return "2026-11-28T10:00:00.5Z stderr F " + text + "\n" }
	b.write("0.log.1", line("error: the pump stalled"))
	b.write("0.log", line("\tat pump.go:12"))
	f := b.still()
	f.look()
	b.must(f.save())
	next := f.sources[1]
	b.outlets[0].marks[next.ID+"/stderr"] = next.lastSize
	f.closeAll()
	b.start()
	b.await("error: the pump stalled")
	time.Sleep(200 * time.Millisecond) // until the end of the event is due
	b.mu.Lock()
	defer b.mu.Unlock()
	expect(t, "the other", b.outlets[1].lines, []string{"error: the pump stalled", "\tat pump.go:12"})
}

// What is due of one stream of a log that is read to its end does not end what
// waits in the other.
func TestEachStreamWaitsByItself(t *testing.T) {
	b := newBench(t, "0.log*")
	b.settings.Wrapping, b.settings.LastWait = CRI, time.Hour
	b.settings.Lines.Join = lines.Join{Indented: true, Wait: 50 * time.Millisecond}
	line := func(text string) string { return "2026-11-28T10:00:00.5Z " + text + "\n" }
	b.write("0.log.1", line("stderr F error: the pump stalled")+line("stdout P begins, "))
	b.gzip("0.log.1")
	b.start()
	b.await("error: the pump stalled")
	b.write("0.log", line("stdout F ends"))
	b.await("error: the pump stalled", "begins, ends")
}

// What waits for its next line while nothing can be read waits no shorter for
// that: the next line may stand there already, in the same log or in the next.
func TestAnEventIsNotSplitByAnOutletThatHoldsBack(t *testing.T) {
	for _, c := range []struct {
		name, begins, ends, want string
		rolled                   bool
	}{
		{"parts in one log", "stdout P begins, ", "stdout F ends", "begins, ends", false},
		{"parts in two logs", "stdout P begins, ", "stdout F ends", "begins, ends", true},
		{"a trace in one log", "stderr F error: the pump stalled", "stderr F \tat pump.go:12", "error: the pump stalled\n\tat pump.go:12", false},
		{"a trace in two logs", "stderr F error: the pump stalled", "stderr F \tat pump.go:12", "error: the pump stalled\n\tat pump.go:12", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "0.log*")
			b.settings.Wrapping, b.settings.LastWait = CRI, 100*time.Millisecond
			b.settings.Lines.Join = lines.Join{Indented: true, Wait: 100 * time.Millisecond}
			line := func(text string) string { return "2026-11-28T10:00:00.5Z " + text + "\n" }
			b.start()
			b.gate.Lock()
			b.write("0.log", line("stdout F first")+line(c.begins))
			time.Sleep(300 * time.Millisecond) // it waits with the first line
			if c.rolled {
				b.rename("0.log", "0.log.20261128-100001")
			}
			b.write("0.log", line(c.ends))
			b.gate.Unlock()
			b.await("first", c.want)
		})
	}
}

// A log that was rolled and compressed is read to its end before the next is there.
func TestAnEventIsNotSplitByCompressing(t *testing.T) {
	for _, c := range [][3]string{
		{"stdout P begins, ", "stdout F ends", "begins, ends"},
		{"stderr F error: the pump stalled", "stderr F \tat pump.go:12", "error: the pump stalled\n\tat pump.go:12"},
	} {
		t.Run(c[2], func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "0.log*")
			b.settings.Wrapping, b.settings.LastWait = CRI, 2*time.Second
			b.settings.Lines.Join = lines.Join{Indented: true, Wait: 2 * time.Second}
			line := func(text string) string { return "2026-11-28T10:00:00.5Z " + text + "\n" }
			b.write("0.log", line("stdout F "+strings.Repeat("first ", 200))+line(c[0]))
			b.must(exec.Command("gzip", b.path("0.log")).Run())
			b.start()
			time.Sleep(500 * time.Millisecond) // it is read, and its event waits
			b.write("0.log", line(c[1]))
			b.await(strings.Repeat("first ", 200), c[2])
		})
	}
}

// An event that ended for one outlet, as its next line came late, does not go on
// when all is there at once and read again for another outlet.
func TestAnEventThatHasEndedStaysEnded(t *testing.T) {
	for _, rolled := range []bool{false, true} {
		t.Run(fmt.Sprintf("rolled %v", rolled), func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "0.log*")
			b.settings.Wrapping = CRI
			b.settings.Lines.Join = lines.Join{Indented: true, Wait: 150 * time.Millisecond}
			write := func(text string) { b.write("0.log", "2026-11-28T10:00:00.5Z "+text+"\n") }
			b.start()
			write("stderr F error: the pump stalled")
			write("stdout F the pump is on")
			b.await("the pump is on", "error: the pump stalled")
			b.mu.Lock()
			b.outlets[0].save()
			b.mu.Unlock()
			if rolled {
				b.rename("0.log", "0.log.20261128-100001")
			}
			write("stderr F \tat pump.go:12")
			want := []string{"the pump is on", "error: the pump stalled", "\tat pump.go:12"}
			b.await(want...)
			b.kill()
			b.start()
			b.await(want...)
			time.Sleep(300 * time.Millisecond)
			for i := range b.outlets {
				b.mu.Lock()
				got := slices.Sorted(strings.SplitSeq(strings.Join(b.outlets[i].lines, "\n"), "\n"))
				b.mu.Unlock()
				expect(t, fmt.Sprint("lines of outlet ", i), got, slices.Sorted(slices.Values(want)))
			}
		})
	}
}

// Compressors that write slowly, under the final name or another that the
// pattern finds too, while somebody looks.
func TestACompressedFileIsReadOnce(t *testing.T) {
	for _, how := range []string{"in place", "under another name", "over the original"} {
		for _, tool := range []string{"gzip", "zstd"} {
			t.Run(how+" with "+tool, func(t *testing.T) {
				t.Parallel()
				b := newBench(t, "a.log*")
				var text strings.Builder
				for n := range 2000 {
					fmt.Fprintf(&text, "%d %x\n", n, n*n*7919)
				}
				b.write("a.log.3", text.String())
				b.start()
				for end := time.Now().Add(10 * time.Second); len(b.lines()) < 2000 && time.Now().Before(end); {
					time.Sleep(5 * time.Millisecond)
				}
				packed, err := exec.Command(tool, "-c", b.path("a.log.3")).Output()
				b.must(err)
				suffix := map[string]string{"gzip": ".gz", "zstd": ".zst"}[tool]
				name := map[string]string{"in place": "a.log.3" + suffix, "under another name": "a.log.3.tmp", "over the original": "a.log.3"}[how]
				if how == "over the original" {
					b.must(os.Truncate(b.path(name), 0))
				} else {
					b.write(name, "")
				}
				time.Sleep(60 * time.Millisecond)
				for _, end := range []int{1, 3, 12, 500, len(packed)} { // a look at each
					st, _ := os.Stat(b.path(name))
					b.write(name, string(packed[st.Size():end]))
					time.Sleep(60 * time.Millisecond)
				}
				if how == "under another name" {
					b.rename(name, "a.log.3"+suffix)
				}
				if how != "over the original" {
					b.must(os.Remove(b.path("a.log.3")))
				}
				time.Sleep(settleTime + 500*time.Millisecond)
				expect(t, "lines", len(b.lines()), 2000)
				b.stop()
				b.start()
				time.Sleep(100 * time.Millisecond)
				expect(t, "lines after a start", len(b.lines()), 2000)
			})
		}
	}
}

// What two programs write alike is read of both.
func TestFilesThatHoldTheSameAreAllRead(t *testing.T) {
	for name, files := range map[string][2]string{
		"of two programs":           {"tickets.log", "pumps.log"},
		"of two workers":            {"worker-1.log", "worker-2.log"},
		"of names that a copy has":  {"worker.log", "worker-1.log"},
		"compressed and not":        {"a.log", "b.log.gz"},
		"of one name in two places": {"one/a.log", "two/a.log"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "**/*.log", "*.log.gz")
			var want []string
			for n := range 30 {
				want = append(want, fmt.Sprintf("%d the same line of both programs", n))
			}
			text := strings.Join(want, "\n") + "\n"
			for _, file := range files {
				b.must(os.MkdirAll(filepath.Dir(b.path(file)), 0o755))
				b.write(strings.TrimSuffix(file, ".gz"), text)
				if strings.HasSuffix(file, ".gz") {
					b.gzip(strings.TrimSuffix(file, ".gz"))
				}
			}
			b.start()
			for end := time.Now().Add(settleTime + 5*time.Second); len(b.lines()) < 60 && time.Now().Before(end); {
				time.Sleep(10 * time.Millisecond)
			}
			expect(t, "lines", len(b.lines()), 60)
		})
	}
}

// A folder that another user has changed for a link is not looked into.
func TestAFolderBehindAnothersLinkIsNotRead(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can make links for other users")
	}
	for name, c := range map[string]struct {
		pattern    string
		user, read int
	}{
		"a pattern's folder, by another": {"apps/*/*.log", 1234, 0}, "any folder, by another": {"apps/**/*.log", 1234, 0},
		"a named folder, by another": {"apps/shop/*.log", 1234, 0}, "a pattern's folder, by root": {"apps/*/*.log", 0, 1}, "a named folder, by root": {"apps/shop/*.log", 0, 1},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, c.pattern)
			b.must(os.MkdirAll(b.path("secret"), 0o755))
			b.must(os.MkdirAll(b.path("apps/mine"), 0o755))
			b.write("secret/root.log", "a secret of root\n")
			b.must(os.Symlink(b.path("secret"), b.path("apps/shop")))
			b.must(os.Lchown(b.path("apps/shop"), c.user, c.user))
			b.start()
			time.Sleep(200 * time.Millisecond)
			expect(t, "lines", len(b.lines()), c.read)
			if c.read == 0 && !strings.Contains(c.pattern, "**") {
				told := slices.ContainsFunc(b.follower.Files(), func(f File) bool { return strings.Contains(f.Why, "who made it does not own") })
				if !told {
					t.Errorf("nothing tells why: %+v", b.follower.Files())
				}
			}
		})
	}
}

// What is known of files ends with them.
func TestWhatIsGoneIsForgotten(t *testing.T) {
	b := newBench(t, "*.log")
	b.skip.Store(int64(0))
	b.start()
	for round := range 5 {
		for n := range 40 {
			b.write(fmt.Sprintf("%d-%d.log", round, n), strings.Repeat(fmt.Sprintf("line of %d in round %d\n", n, round), 20))
		}
		for end := time.Now().Add(20 * time.Second); len(b.lines()) < 800*(round+1) && time.Now().Before(end); {
			time.Sleep(5 * time.Millisecond)
		}
		for n := range 40 {
			b.must(os.Remove(b.path(fmt.Sprintf("%d-%d.log", round, n))))
		}
		time.Sleep(1200 * time.Millisecond) // an open file is read for as long
	}
	b.write("last.log", "x\n")
	clock := time.Duration(0)
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		clock += forgetTime / 4
		b.skip.Store(int64(clock))
		if found, err := memo.Read(b.path(".registry")); err == nil && len(found.Facts) <= 5 && len(b.follower.Positions()) <= 2 {
			break
		}
	}
	found, err := memo.Read(b.path(".registry"))
	b.must(err)
	expect(t, "facts", len(found.Facts), 3) // of the boot, and two of the last file
	expect(t, "positions", len(b.follower.Positions()), 1)
	expect(t, "lines", len(b.lines()), 4001)
	b.mu.Lock()
	defer b.mu.Unlock()
	expect(t, "marks", len(b.outlets[0].marks), 1)
}

// A damaged file of what is known is mended from its twin; where both are, it is told.
func TestDamageOfWhatIsKnown(t *testing.T) {
	for name, c := range map[string]struct {
		files []int
		lost  bool
		want  int // lines in all
	}{"one file": {[]int{0}, false, 40}, "its twin": {[]int{1}, false, 40}, "both": {[]int{0, 1}, true, 80}} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, "*.log")
			b.write("a.log", strings.Repeat("a line that is not read twice\n", 40))
			b.start()
			for len(b.lines()) < 40 {
				time.Sleep(time.Millisecond)
			}
			b.stop()
			for _, i := range c.files {
				path := memo.Paths(b.path(".registry"))[i]
				content, err := os.ReadFile(path)
				b.must(err)
				for at := range content {
					if content[at] == '/' { // in each line that has a path
						content[at] ^= 4
					}
				}
				b.must(os.WriteFile(path, content, 0o640))
			}
			b.start()
			time.Sleep(200 * time.Millisecond)
			expect(t, "damaged", len(b.follower.Damage.Files), len(c.files))
			expect(t, "lost", b.follower.Damage.Lost, c.lost)
			expect(t, "lines", len(b.lines()), c.want)
		})
	}
}

// What the version before has written down is read, and then written anew.
func TestTheRegistryOfTheVersionBeforeIsRead(t *testing.T) {
	b := newBench(t, "*.log")
	text := strings.Repeat("a line that was read by the version before\n", 10)
	b.write("a.log", text)
	st, err := os.Stat(b.path("a.log"))
	b.must(err)
	at := statOf(st)
	head := printOf(0, []byte(text))
	b.must(os.WriteFile(b.path(".json"), fmt.Appendf(nil, `{"boot":%q,"sources":[{"id":"0011223344556677","path":%q,"device":%d,"inode":%d,"head":{"at":0,"length":%d,"sum":%q},"begin":0,"position":%d,"tail":{"at":0,"length":0,"sum":""},"size":0,"short":false,"done":false,"gone":null}]}`,
		disk.BootID(), b.path("a.log"), at.Device, at.Inode, head.Length, head.Sum, len(text)), 0o640))
	for i := range b.outlets {
		b.outlets[i].marks["0011223344556677"] = int64(len(text))
	}
	b.start()
	b.write("a.log", "new\n")
	b.await("new")
	b.stop()
	if _, err := os.Stat(b.path(".json")); err == nil {
		t.Error("the old file stays")
	}
	b.start()
	b.await("new")
}
