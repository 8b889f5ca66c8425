package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// folderSize returns how many bytes the files of a folder have.
func folderSize(dir string) (size int64) {
	filepath.WalkDir(dir, func(_ string, e os.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return nil
		}
		if st, err := e.Info(); err == nil {
			size += st.Size()
		}
		return nil
	})
	return size
}

// Twenty files that are rolled every four seconds, of which each is there for a
// quarter of a minute: 300 new ones a minute. The agent and its state folder do
// not grow, and what it writes down is little beside the lines.
// OAKBARREL_SOAK sets for how long; below ten minutes there is nothing to see.
func TestSoakChurn(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK"))
	if err != nil || span < 10*time.Minute {
		t.Skip("this takes ten minutes at least: make soak OAKBARREL_SOAK=1h")
	}
	h := newHost(t, `oakbarrel: 1
intakes: {logs: {files: {paths: ["DIR/logs/*.log", "DIR/logs/*.log.*"]}}}
otherwise: {send: [all]}
outlets: {all: {file: {path: DIR/out/all.log, roll: {size: 32MiB}, keep: forever, compress: none}}}
`)
	logs := filepath.Join(h.dir, "logs")
	os.MkdirAll(logs, 0o755)
	h.start()
	var lines, written int64
	write := func(program, second int) {
		path := filepath.Join(logs, fmt.Sprintf("pumpd-%c.log", 'a'+program))
		var text strings.Builder
		for range 100 {
			lines++
			fmt.Fprintf(&text, "line %09d of pump %c: the pressure is %d, which is well within its bounds\n", lines, 'a'+program, second)
		}
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		f.WriteString(text.String())
		f.Close()
		written += int64(text.Len())
		if (second+program)%4 > 0 {
			return
		}
		for n := 4; n > 0; n-- {
			os.Rename(fmt.Sprintf("%s.%d", path, n), fmt.Sprintf("%s.%d", path, n+1))
		}
		os.Rename(path, path+".1")
		os.Remove(path + ".5")
	}
	memory, state := newLevel(t, "memory", span), newLevel(t, "the state folder", span)
	begun := time.Now()
	for second := 0; time.Since(begun) < span; second++ {
		for program := range 20 {
			write(program, second)
			time.Sleep(time.Second / 21)
		}
		memory.note(time.Since(begun), procNumber(t, h.process.Process.Pid, "status", "VmRSS")<<10)
		state.note(time.Since(begun), folderSize(h.state))
	}
	h.eventually("all lines are taken", func() bool { return h.status().Rules.In == lines })
	out := folderSize(filepath.Join(h.dir, "out"))
	own := procNumber(t, h.process.Process.Pid, "io", "wchar") - out
	t.Logf("%d lines of %d bytes; the agent wrote %d bytes down beside them; %s; %s", lines, written, own, memory, state)
	if own > written/10 {
		t.Error("what is written down is more than a tenth of the lines")
	}
	memory.judge()
	state.judge()
	if n := strings.Count(h.log.String(), "level=ERROR"); n > 0 {
		t.Errorf("%d errors in the agent's log", n)
	}
}

// level is how large something is on average in an early fifth of a time, once
// what is bounded has come to its bound, and in the last.
type level struct {
	t          *testing.T
	what       string
	span       time.Duration
	sum, count [2]int64
}

func newLevel(t *testing.T, what string, span time.Duration) *level {
	return &level{t: t, what: what, span: span}
}

func (l *level) note(after time.Duration, size int64) {
	i := 0
	switch fifth := after * 5 / l.span; fifth {
	case 1:
	case 4:
		i = 1
	default:
		return
	}
	l.sum[i] += size
	l.count[i]++
}

func (l *level) of(i int) int64 { return l.sum[i] / max(1, l.count[i]) }

func (l *level) String() string {
	return fmt.Sprintf("%s: %d KiB early, %d KiB at the end", l.what, l.of(0)>>10, l.of(1)>>10)
}

func (l *level) judge() {
	l.t.Helper()
	if l.of(1) > l.of(0)*11/10 {
		l.t.Errorf("it has grown: %s", l)
	}
}
