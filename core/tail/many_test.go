package tail

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"
)

// A folder full of new files takes neither all descriptors nor all of the time.
func TestManyNewFilesAreBegunInTurns(t *testing.T) {
	for name, fromEnd := range map[string]bool{"from the beginning": false, "from the end": true} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, "*.log")
			b.settings.Open, b.settings.FromEnd = 10, fromEnd
			for n := range 100 {
				b.write(fmt.Sprintf("%d.log", n), fmt.Sprintf("a line of %d\n", n))
			}
			f := b.still()
			most, looks := 0, 0
			for ; looks < 50 && (looks == 0 || f.first || len(f.sources) < 100); looks++ {
				f.looked = b.now().Add(-lookTime)
				f.look()
				open := 0
				for _, s := range f.sources {
					if s.file != nil {
						open++
					}
				}
				most = max(most, open)
				f.step()
			}
			if most > 25 || looks < 5 {
				t.Errorf("%d files were open at once in %d looks", most, looks)
			}
			b.readAll(f)
			expect(t, "lines", len(b.lines()), map[bool]int{false: 100, true: 0}[fromEnd])
		})
	}
}

// A folder with more files than are looked at hides none that is followed, and it is told.
func TestMoreFilesThanAreLookedAt(t *testing.T) {
	b := newBench(t, "*.log")
	b.write("pumpd.log", "begun\n")
	f := b.still()
	f.most = 10
	f.look()
	for n := range 30 {
		b.write(fmt.Sprintf("%d.log", n), fmt.Sprintf("a line of %d\n", n))
	}
	b.write("pumpd.log", "gone on\n")
	b.readAll(f)
	if n := len(f.sources); n < 10 || n > 11 {
		t.Errorf("%d files are followed", n)
	}
	if got := b.lines(); !slices.Contains(got, "gone on") {
		t.Errorf("the file that was followed is not: %q", got)
	}
	if why := f.Trouble(); !strings.Contains(why, "are passed by") {
		t.Errorf("its trouble is %q", why)
	}
	told := slices.ContainsFunc(f.Files(), func(file File) bool {
		return strings.Contains(file.Why, "more than the 10 files") && strings.Contains(file.Why, "are passed by")
	})
	if !told {
		t.Errorf("nothing tells of those that are passed by: %+v", f.Files())
	}
}

// Of very many sources that begin as a file does, those are asked that may be it.
func TestAFileIsComparedWithFewOfVeryManyAlike(t *testing.T) {
	head := []byte(strings.Repeat("=", printSize))
	k := &kin{begun: map[fingerprint][]*source{}}
	for n := range mostAlike + 100 {
		k.add(&source{number: n, Head: printOf(0, head), head: head, known: n != 3})
	}
	found, all := k.of(&probe{loaded: true, head: head, heads: map[int]fingerprint{}})
	if len(found) > mostAlike+1 || all {
		t.Errorf("%d are asked; that it is all is %v", len(found), all)
	}
	expect(t, "the one that has lost its file", found[0].number, 3)
	expect(t, "the latest", found[len(found)-1].number, mostAlike+99)
	if d := decide(seen{size: 5000, content: aLine, crowded: true}, nil, Settings{}, time.Now()); !d.twice {
		t.Error("it is not told that lines may come twice")
	}
}

// A compressed file of very much keeps no other from being read, and a line that
// is too long is cut and told where it ends with the file, too.
func TestACompressedFileIsReadInTurns(t *testing.T) {
	b := newBench(t, "*.log*")
	b.settings.Lines.Largest = 64 << 10
	b.write("much", strings.Repeat("\x00", 40<<20))
	b.pack("much", "zstd")
	b.rename("much.zst", "much.log.zst")
	for n := range 2 * mostUnpacked {
		b.write(fmt.Sprint(n), strings.Repeat(fmt.Sprintf("a line of %d\n", n), 100))
		b.pack(fmt.Sprint(n), "zstd")
		b.rename(fmt.Sprint(n)+".zst", fmt.Sprint(n)+".log.zst")
	}
	f := b.still()
	f.look()
	b.must(f.save())
	for turn := range 60 {
		if turn == 3 {
			b.write("pumpd.log", "a line of the pump\n")
			f.look()
			b.must(f.save())
		}
		f.readDirty()
		open := 0
		for _, s := range f.sources {
			if s.unpacking != nil {
				open++
			}
		}
		if open > mostUnpacked {
			t.Fatalf("%d are read at a time", open)
		}
		if turn == 5 && !slices.Contains(b.lines(), "a line of the pump") {
			t.Error("another file waits for it")
		}
	}
	got := b.lines()
	expect(t, "lines", len(got), 1+1+200*mostUnpacked)
	if n := len(got[len(got)-1]); n != 64<<10 {
		t.Errorf("the long line has %d bytes", n)
	}
	f.closeAll()
}

// A file that is said to have more than any disk keeps nothing busy.
func TestAHoleInALineIsPassedOver(t *testing.T) {
	b := newBench(t, "*.log")
	b.settings.Lines.Largest = 1000
	b.write("a.log", "begun\nlong")
	const size = 4 << 40
	b.must(os.Truncate(b.path("a.log"), size))
	b.write("a.log", " and its end\nthe next\n")
	b.start()
	b.await("begun", "long"+strings.Repeat("\x00", 996), "the next")
	expect(t, "state", b.state("a.log"), string(AtEnd))
}
