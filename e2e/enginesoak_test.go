package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A container's script: lines at a pace, of which each fourth is a trace on the
// other stream whose lines come apart, and each sixteenth a message that the
// engine writes in parts. Its last line tells how many they were.
const boxScript = `i=0
while [ ! -e /out/stop ]; do
  i=$((i+1))
  if [ $((i%%16)) = 0 ]; then
    s="%[1]s-$i."; while [ ${#s} -lt 18000 ]; do s=$s$s; done; echo "%[1]s long $i $s"
  elif [ $((i%%4)) = 0 ]; then
    echo "%[1]s error $i: the pump stalled" >&2
    for k in 1 2 3; do sleep %[2]s; printf '\tat frame %%d of %[1]s %%d\n' $k $i >&2; done
  else echo "%[1]s $i"
  fi
  sleep %[2]s
done
echo $i > /out/%[1]s`

// boxEvents returns the lines that such a script has written.
func boxEvents(name string, count int) (events []string) {
	for i := range count {
		switch i++; {
		case i%16 == 0:
			body := fmt.Sprintf("%s-%d.", name, i)
			for len(body) < 18000 {
				body += body
			}
			events = append(events, fmt.Sprintf("%s long %d %s", name, i, body))
		case i%4 == 0:
			events = append(events, fmt.Sprintf("%s error %d: the pump stalled", name, i))
			for k := range 3 {
				events = append(events, fmt.Sprintf("\tat frame %d of %s %d", k+1, name, i))
			}
		default:
			events = append(events, fmt.Sprintf("%s %d", name, i))
		}
	}
	return events
}

// A real engine's containers that roll at every pace, some compressed, with
// messages in parts and traces, beside full disks, kills, damage and panics.
// OAKBARREL_SOAK sets for how long.
func TestSoakEngine(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK"))
	if err != nil {
		t.Skip("this takes minutes: make soak runs it")
	}
	e := newEngine(t)
	c, s := newChaos(t, span)
	c.begin(s, fmt.Sprintf("  boxes: {containers: {engine: docker, root: %s/data/containers}}", e.dir))
	out := filepath.Join(c.dir, "out")
	os.Mkdir(out, 0o777)
	boxes := map[string][]string{ // pace, size, more options
		"quick":  {"0.02", "4k"},
		"packed": {"0.1", "4k", "--log-opt", "compress=true"},
		"steady": {"0.4", "1k"},
		"slow":   {"1.4", "1k"},
	}
	for name, o := range boxes {
		options := append([]string{"-v", out + ":/out", "--log-opt", "max-size=" + o[1], "--log-opt", "max-file=3000"}, o[2:]...)
		e.run(name, fmt.Sprintf(boxScript, name, o[0]), options...)
	}
	short := 0
	c.run(func() time.Duration { return time.Second }, func() { // containers that are removed once they were read
		short++
		name := fmt.Sprintf("short-%d", short)
		script := fmt.Sprintf(`for i in 1 2 3 4 5 6 7 8; do echo "%s $i of few"; sleep 0.1; done`, name)
		for i := range 8 {
			c.note(fmt.Sprintf("%s %d of few", name, i+1))
		}
		e.run(name, script, "--log-opt", "max-size=1k", "--log-opt", "max-file=20")
		id := strings.TrimSpace(e.docker("inspect", "--format", "{{.Id}}", name))
		time.Sleep(time.Second)
		log := filepath.Join(e.dir, "data/containers", id, id+"-json.log")
		if c.await(log); c.isRead(log) {
			time.Sleep(3 * time.Second)
			if c.isRead(log) {
				e.docker("rm", "-f", name)
				c.count("containers removed")
			}
		}
	})
	c.torment(s, span)
	c.stop.Store(true)
	c.work.Wait()
	os.WriteFile(filepath.Join(out, "stop"), nil, 0o644)
	for name := range boxes {
		var count int
		c.eventually(name+" ends", func() bool {
			b, _ := os.ReadFile(filepath.Join(out, name))
			n, _ := fmt.Sscan(string(b), &count)
			return n == 1
		})
		for _, event := range boxEvents(name, count) {
			c.note(event)
		}
		rolled, _ := filepath.Glob(filepath.Join(e.dir, "data/containers", strings.TrimSpace(e.docker("inspect", "--format", "{{.Id}}", name)), "*-json.log.*"))
		t.Logf("%s wrote %d times, and was rolled %d times", name, count, len(rolled))
	}
	c.judge(s)
}
