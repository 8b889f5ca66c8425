package tail

import (
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"oakbarrel/core/disk/disktest"
)

// still returns a follower that does nothing by itself.
func (b *bench) still() *Follower {
	f, err := New(b.settings, &disktest.Disk{}, b.path(".registry"), b, b.log, b.now)
	b.must(err)
	f.watch = newWatcher(true, nil)
	for _, s := range f.sources {
		f.beginStreams(s)
	}
	return f
}

// between carries out what happens after the files were found and before they
// are opened; it returns how many files are followed after it.
func (b *bench) between(f *Follower, happens func()) int {
	found, _, _ := f.findAll()
	happens()
	l := f.newLooking()
	strangers := f.placeKnown(found, l)
	f.gather(l)
	f.looking = l
	f.judgeAll(strangers, l)
	f.looking = nil
	return len(f.sources)
}

func (b *bench) readAll(f *Follower) {
	for range 5 {
		f.looked = b.now().Add(-lookTime)
		f.step()
	}
	b.must(f.save())
	f.closeAll()
}

// A path is another file's as soon as somebody rolls: what is read at it then is
// not taken for what was found there.
func TestAFileThatMovesWhileItIsLookedAt(t *testing.T) {
	fill := func(of string) (text string) {
		for n := range 40 {
			text += fmt.Sprintf("line %d of %s\n", n, of)
		}
		return text
	}
	pack := func(b *bench, name, to string) {
		packed, err := exec.Command("gzip", "-c", b.path(name)).Output()
		b.must(err)
		b.write(to, string(packed))
	}
	for name, c := range map[string]struct {
		before, between func(b *bench)
	}{
		"new, and rolled": {
			before: func(b *bench) { b.write("a.log", fill("a")) },
			between: func(b *bench) {
				b.rename("a.log", "a.log.1")
				b.write("a.log", fill("b"))
			},
		},
		"what was rolled first comes first": {
			before: func(b *bench) {
				b.write("a.log.1", fill("a"))
				b.write("a.log", fill("b"))
			},
			between: func(b *bench) { b.rename("a.log.1", "a.log.2") },
		},
		"compressed, and rolled": {
			before: func(b *bench) {
				b.write("kept", fill("a"))
				b.write("other", fill("b"))
				pack(b, "kept", "a.log.1.gz")
			},
			between: func(b *bench) {
				b.rename("a.log.1.gz", "a.log.2.gz")
				pack(b, "other", "a.log.1.gz")
			},
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, "a.log*")
			c.before(b)
			f := b.still()
			if n := b.between(f, func() { c.between(b) }); n > 0 {
				t.Errorf("%d files are followed of which nothing is known", n)
			}
			b.readAll(f)
			var want []string
			for _, of := range []string{"a", "b"} {
				for n := range 40 {
					want = append(want, fmt.Sprintf("line %d of %s", n, of))
				}
			}
			expect(t, "lines", short(b.lines()), short(want))
		})
	}
}

// A compressed file that is rolled on before it is read is not read as the one
// that stands at its path then.
func TestACompressedFileThatMovesBeforeItIsRead(t *testing.T) {
	b := newBench(t, "a.log*")
	for _, name := range []string{"one", "two"} {
		b.write(name, name+" begins\n"+name+" ends\n")
		b.must(exec.Command("gzip", b.path(name)).Run())
	}
	b.rename("one.gz", "a.log.1.gz")
	f := b.still()
	f.look()
	b.rename("a.log.1.gz", "a.log.2.gz")
	b.rename("two.gz", "a.log.1.gz")
	b.must(f.save())
	if f.readTurn(f.sources[0]); len(b.lines()) > 0 {
		t.Errorf("read of another file: %q", b.lines())
	}
	b.readAll(f)
	got := b.lines()
	slices.Sort(got)
	expect(t, "lines", got, []string{"one begins", "one ends", "two begins", "two ends"})
}

// A file that is cut after it was found, and before its copy is compared with it,
// is read once.
func TestAFileThatIsCutWhileItsCopyIsCompared(t *testing.T) {
	b := newBench(t, "a.log*")
	line := strings.Repeat("a line of a file that is copied ", 20)
	b.write("a.log", line+"\n"+line+"\nits end\n")
	f := b.still()
	f.look()
	b.readAll(f)
	content, err := os.ReadFile(b.path("a.log"))
	b.must(err)
	b.write("a.log.1", string(content))
	f = b.still()
	found, _, _ := f.findAll()
	l := f.newLooking()
	strangers := f.placeKnown(found, l)
	b.must(os.Truncate(b.path("a.log"), 0))
	b.write("a.log", "the next\n")
	f.gather(l)
	f.judgeAll(strangers, l)
	b.readAll(f)
	expect(t, "lines", short(b.lines()), short([]string{line, line, "its end", "the next"}))
}
