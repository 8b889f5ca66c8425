package tail

import (
	"bytes"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// engine writes the logs of containers as an engine does: long messages in
// parts, both streams mixed, rolled wherever a log is full.
type engine struct {
	b    *bench
	rnd  *rand.Rand
	form Wrapping
	made int
	last map[string]time.Time // when the log of a container was last rolled
	note func(format string, args ...any)
	logs map[string][]string // by container, what was rolled, the newest first
}

// write has a container say something on both of its streams, in parts where it is long.
func (e *engine) write(box string, written map[string]int) {
	var streams [2][]string // the lines that are to stand in the log
	for i, name := range []string{"stdout", "stderr"} {
		for range e.rnd.IntN(5) {
			key := box + "." + name
			written[key]++
			text := fmt.Sprintf("%s %d %s", key, written[key], strings.Repeat("~", e.rnd.IntN(60)*e.rnd.IntN(60)))
			for partSize := 200 + e.rnd.IntN(800); len(text) > partSize; text = text[partSize:] {
				streams[i] = append(streams[i], e.line(name, text[:partSize], true))
			}
			streams[i] = append(streams[i], e.line(name, text, false))
		}
	}
	for len(streams[0])+len(streams[1]) > 0 {
		i := e.rnd.IntN(2)
		if len(streams[i]) == 0 {
			i = 1 - i
		}
		if e.rnd.IntN(12) == 0 {
			e.roll(box)
		}
		e.note("%s: %.70s…%d", box, streams[i][0], len(streams[i][0]))
		e.b.write(e.log(box), streams[i][0])
		streams[i] = streams[i][1:]
	}
}

func (e *engine) line(stream, text string, part bool) string {
	at := time.Unix(1_795_000_000, int64(e.rnd.IntN(1e9))).UTC().Format(time.RFC3339Nano)
	switch {
	case e.form == CRI && part:
		return fmt.Sprintf("%s %s P %s\n", at, stream, text)
	case e.form == CRI:
		return fmt.Sprintf("%s %s F %s\n", at, stream, text)
	case part:
		return fmt.Sprintf(`{"log":"%s","stream":"%s","time":"%s"}`+"\n", text, stream, at)
	}
	return fmt.Sprintf(`{"log":"%s\n","stream":"%s","time":"%s"}`+"\n", text, stream, at)
}

// log is the log that a container writes.
func (e *engine) log(box string) string {
	if e.form == CRI {
		return filepath.Join("bay_"+box+"_1", "main", "0.log")
	}
	return filepath.Join(box, box+"-json.log")
}

// rollPause is less than an engine takes to fill a log.
const rollPause = 10 * time.Millisecond

// roll moves the log of a container aside.
func (e *engine) roll(box string) {
	current := e.b.path(e.log(box))
	if _, err := os.Stat(current); err != nil || time.Since(e.last[box]) < rollPause {
		return
	}
	e.last[box] = time.Now()
	e.made++
	e.note("roll %s %d", box, e.made)
	if e.form == CRI {
		to := fmt.Sprintf("%s.20261125-10%04d", current, e.made)
		e.b.must(os.Rename(current, to))
		e.logs[box] = append([]string{to}, e.logs[box]...)
		if n := len(e.logs[box]); n > 1 && e.rnd.IntN(2) == 0 && !strings.HasSuffix(e.logs[box][n-1], ".gz") {
			e.b.must(exec.Command("gzip", e.logs[box][n-1]).Run())
			e.logs[box][n-1] += ".gz"
		}
		return
	}
	for n := len(e.logs[box]); n > 0; n-- {
		e.b.must(os.Rename(fmt.Sprintf("%s.%d", current, n), fmt.Sprintf("%s.%d", current, n+1)))
	}
	e.b.must(os.Rename(current, current+".1"))
	e.logs[box] = append(e.logs[box], current+"."+strconv.Itoa(len(e.logs[box])+1))
}

// trim removes the oldest of what was rolled.
func (e *engine) trim(box string) {
	if n := len(e.logs[box]); n > 0 {
		e.b.must(os.Remove(e.logs[box][n-1]))
		e.logs[box] = e.logs[box][:n-1]
	}
}

func TestContainersTorture(t *testing.T) {
	runs, _ := strconv.Atoi(os.Getenv("OAKBARREL_TORTURE"))
	for run := range max(runs, 4) {
		for _, form := range []Wrapping{Docker, CRI} {
			t.Run(fmt.Sprint(form, run), func(t *testing.T) {
				t.Parallel()
				tortureContainers(t, form, rand.New(rand.NewPCG(uint64(run), 8)))
			})
		}
	}
}

// Containers write, their logs are rolled, trimmed and compressed, they are
// removed once they are read, and the process is killed: each message arrives
// once, whole.
func tortureContainers(t *testing.T, form Wrapping, rnd *rand.Rand) {
	patterns := []string{"*/*-json.log", "*/*-json.log.*"}
	if form == CRI {
		patterns = []string{"*/*/*.log", "*/*/*.log.*"}
	}
	b := newBench(t, patterns...)
	b.settings.Wrapping, b.settings.LastWait = form, time.Hour
	var logged bytes.Buffer
	b.log = slog.New(slog.NewTextHandler(&logged, &slog.HandlerOptions{Level: slog.LevelDebug}))
	defer func() {
		if t.Failed() {
			t.Log(logged.String())
		}
	}()
	var did []string
	note := func(format string, args ...any) {
		did = append(did, time.Now().Format("05.000 ")+fmt.Sprintf(format, args...))
	}
	defer func() {
		if t.Failed() {
			t.Log(strings.Join(did, "\n"))
		}
	}()
	e := &engine{b: b, rnd: rnd, form: form, logs: map[string][]string{}, last: map[string]time.Time{}, note: note}
	written, boxes, named := map[string]int{}, []string{"a"}, 1
	b.must(os.MkdirAll(filepath.Dir(b.path(e.log("a"))), 0o755))
	b.start()
	for range 100 {
		time.Sleep(time.Duration(rnd.IntN(3000)) * time.Microsecond)
		box := boxes[rnd.IntN(len(boxes))]
		switch what := rnd.IntN(20); {
		case what < 11:
			e.write(box, written)
		case what < 13:
			e.roll(box)
		case what < 14:
			b.awaitAll(written)
			b.saveAll()
			e.trim(box)
		case what < 15 && len(boxes) < 4:
			box := string(rune('a' + named))
			named++
			b.must(os.MkdirAll(filepath.Dir(b.path(e.log(box))), 0o755))
			boxes = append(boxes, box)
		case what < 16 && len(boxes) > 1:
			e.write(boxes[0], written)
			b.awaitAll(written)
			b.saveAll()
			b.must(os.RemoveAll(filepath.Join(b.dir, strings.Split(e.log(boxes[0]), "/")[0])))
			boxes = boxes[1:]
		case what < 17:
			b.mu.Lock()
			note("save one")
			b.outlets[rnd.IntN(2)].save()
			b.mu.Unlock()
		case what < 19:
			note("kill")
			b.kill()
			e.write(box, written)
			note("start")
			b.start()
		default:
			time.Sleep(time.Duration(rnd.IntN(30)) * time.Millisecond)
		}
	}
	b.awaitAll(written)
	time.Sleep(3 * gatherTime)
	b.stop()
	b.exactlyOnce(written)
}
