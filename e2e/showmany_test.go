package e2e

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

const manyPlan = `oakbarrel: 1
host: reef-02
intakes: {wire: {syslog: {tcp: "127.0.0.1:0"}}}
otherwise: {send: [apps]}
outlets:
  apps: {file: {path: 'DIR/apps/{app}.log', format: '{time} {app}: {text}', keep: {pieces: 5}}}
`

// The files of an outlet are one set: in the order of their records' times, the last of all
// together, and what comes into any of them, also into a new one.
func TestTheFilesOfAnOutletAreOneSet(t *testing.T) {
	h := newHost(t, manyPlan)
	h.start()
	texts := func(out string) (all []string) {
		for line := range strings.Lines(out) {
			all = append(all, line[strings.LastIndex(line, " ")+1:len(line)-1])
		}
		return all
	}
	began := time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	for i := range 9 {
		h.send("tcp", fmt.Sprintf("<14>1 %s - %s - - - n%d\n", began.Add(time.Duration(i)*time.Second).Format(time.RFC3339), []string{"pumpd", "ticketd", "probe"}[i%3], i))
		if i == 4 {
			h.eventually("some are written", func() bool { return h.status().Outlets[0].Out == 5 })
			expect(t, 0, "", "", "roll", "--state", h.state)
		}
	}
	h.eventually("all are written", func() bool { return h.status().Outlets[0].Out == 9 })
	if got := strings.Join(texts(expect(t, 0, "", "", "show", "apps", "--state", h.state)), " "); got != "n0 n1 n2 n3 n4 n5 n6 n7 n8" {
		t.Errorf("all together are %s", got)
	}
	if got := strings.Join(texts(expect(t, 0, "", "", "show", "apps", "--state", h.state, "--last", "4")), " "); got != "n5 n6 n7 n8" {
		t.Errorf("the last are %s", got)
	}
	if got := strings.Join(texts(expect(t, 0, "", "", "show", "apps", "--state", h.state, "--since", "2026-11-25T10:00:03Z", "--where", "app in (pumpd, probe)")), " "); got != "n3 n5 n6 n8" {
		t.Errorf("some of them are %s", got)
	}
	c := exec.Command(binary, "show", "apps", "--state", h.state, "--last", "1", "--follow")
	out, _ := c.StdoutPipe()
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { c.Process.Kill(); c.Wait() }()
	lines := make(chan string, 10)
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			lines <- s.Text()
		}
	}()
	next := func(want string) {
		t.Helper()
		select {
		case line := <-lines:
			if !strings.HasSuffix(line, want) {
				t.Errorf("%q comes, not %s", line, want)
			}
		case <-time.After(10 * time.Second):
			t.Fatalf("%s does not come", want)
		}
	}
	next("n8")
	h.send("tcp", "<14>1 - - pumpd - - - into-one\n")
	next("into-one")
	h.send("tcp", "<14>1 - - gate - - - into-a-new-one\n")
	next("into-a-new-one")
}

// The days of a dated path are one set as well, one after the other.
func TestTheDaysOfADatedPathAreOneSet(t *testing.T) {
	h := newHost(t, strings.NewReplacer("DIR/apps/{app}.log", "DIR/days/{date}.log", "'{time} {app}: {text}'", "'{text}'").Replace(manyPlan))
	os.MkdirAll(h.dir+"/days", 0o755)
	for i, day := range []string{"2026-11-20", "2026-11-21"} {
		os.WriteFile(h.dir+"/days/"+day+".log", fmt.Appendf(nil, "of day %d\n", i), 0o644)
	}
	h.start()
	h.send("tcp", "<14>1 - - pumpd - - - of today\n")
	h.eventually("it is written", func() bool { return h.status().Outlets[0].Out == 1 })
	if got := expect(t, 0, "", "", "show", "apps", "--state", h.state); got != "of day 0\nof day 1\nof today\n" {
		t.Errorf("the days are %q", got)
	}
}
