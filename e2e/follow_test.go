package e2e

import (
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

	"oakbarrel/client"
	"oakbarrel/demo"
)

// writer writes numbered lines to a file that is rolled in every way.
type writer struct {
	t      *testing.T
	path   string
	rnd    *rand.Rand
	number int
	rolled int
}

func (w *writer) write() {
	var b []byte
	for range 1 + w.rnd.IntN(40) {
		w.number++
		b = fmt.Appendf(b, "%s %d\n", filepath.Base(w.path), w.number)
	}
	f, err := os.OpenFile(w.path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err != nil {
		w.t.Fatal(err)
	}
	f.Write(b)
	f.Close()
}

func (w *writer) roll() {
	if st, err := os.Stat(w.path); err != nil || st.Size() == 0 {
		return
	}
	w.rolled++
	to := fmt.Sprintf("%s.%d", w.path, w.rolled)
	switch w.rnd.IntN(3) {
	case 0:
		os.Rename(w.path, to)
	case 1:
		os.Rename(w.path, to)
		exec.Command("gzip", to).Run()
	case 2: // nothing is written between the copy and the cut
		content, _ := os.ReadFile(w.path)
		os.WriteFile(to, content, 0o644)
		os.Truncate(w.path, 0)
	}
}

// Files are written to, renamed, compressed, copied and cut, while the agent is
// killed again and again. In the end each line is once in the rolled set, once
// in the files that its program names, and once in the store. OAKBARREL_KILLS
// sets how many kills.
func TestFollowedLinesArriveOnceThroughKills(t *testing.T) {
	kills := 8
	if n, err := strconv.Atoi(os.Getenv("OAKBARREL_KILLS")); err == nil {
		kills = n
	}
	s := newStore(t)
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: reef-02
service: {url: "%s", token_file: DIR/token}
intakes:
  pumps:
    files: {paths: ["DIR/logs/*.log", "DIR/logs/*.log.[0-9]*"], decode: {pattern: '^(?P<app>\S+) (?P<text>.*)$'}}
otherwise: {send: [all, apps, centre]}
outlets:
  all: {file: {path: DIR/all.log, format: '{app} {text}', roll: {size: 20KiB}, keep: forever, compress: zstd}}
  apps: {file: {path: 'DIR/apps/{app}.txt', format: '{app} {text}', keep: forever}}
  centre: {store: {cask: gateway}, batch: {records: 500, wait: 50ms}}
`, s.url()))
	os.WriteFile(filepath.Join(h.dir, "token"), []byte(s.token("gateway", "write")+"\n"), 0o600)
	os.Mkdir(filepath.Join(h.dir, "logs"), 0o755)
	rnd := rand.New(rand.NewPCG(5, 6))
	var writers []*writer
	for n := range 4 {
		writers = append(writers, &writer{t: t, path: filepath.Join(h.dir, "logs", fmt.Sprintf("pump%c.log", 'a'+n)), rnd: rnd})
	}
	h.start()
	for range kills {
		for range 20 {
			w := writers[rnd.IntN(len(writers))]
			w.write()
			if rnd.IntN(4) == 0 {
				w.roll()
			}
			time.Sleep(time.Duration(rnd.IntN(30)) * time.Millisecond)
		}
		h.kill()
		if rnd.IntN(2) == 0 {
			writers[0].write()
			writers[1].roll()
		}
		h.start()
	}
	total := 0
	var want []string
	for _, w := range writers {
		total += w.number
		for n := 1; n <= w.number; n++ {
			want = append(want, fmt.Sprintf("%s %d", filepath.Base(w.path), n))
		}
	}
	slices.Sort(want)
	read := func() []string {
		out, _, _ := run(t, "show", filepath.Join(h.dir, "all.log"))
		return sortedLines(out)
	}
	h.eventually("all lines are there", func() bool { return len(read()) >= total })
	h.eventually("all is delivered", func() bool { o := h.status().Outlets[2]; return o.Held == 0 && o.In > 0 })
	sameLines(t, "the rolled set", read(), want)
	var apps []string
	for _, w := range writers {
		apps = append(apps, h.lines("apps/"+filepath.Base(w.path)+".txt")...)
	}
	slices.Sort(apps)
	sameLines(t, "the files of the programs", apps, want)
	out, stderr, code := s.ask(s.token("gateway", "read"), "read", "--since", "1h", "--limit", "1000000", "--output", "json")
	if code != 0 {
		t.Fatal(stderr)
	}
	var stored []string
	for _, line := range sortedLines(out) {
		var r struct{ App, Text string }
		json.Unmarshal([]byte(line), &r)
		stored = append(stored, r.App+" "+r.Text)
	}
	slices.Sort(stored)
	sameLines(t, "the store", stored, want)
	s.eachNumberOnce(uint64(total))
	if st := h.status(); !st.Balance.Closes {
		t.Errorf("the balance does not close: %+v", st.Balance)
	}
}

func sortedLines(text string) []string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	slices.Sort(lines)
	return lines
}

// sameLines tells which lines are missing and which are there too often.
func sameLines(t *testing.T, what string, got, want []string) {
	t.Helper()
	count := map[string]int{}
	wrong := 0
	for _, l := range got {
		count[l]++
	}
	for _, l := range want {
		count[l]--
	}
	for l, n := range count {
		if n == 0 {
			continue
		}
		if wrong++; wrong <= 10 {
			t.Errorf("%s: %q is there %+d times too often", what, l, n)
		}
	}
}

const followPlan = `oakbarrel: 1
host: reef-02
intakes:
  pumps:
    files: {paths: ["DIR/logs/*.log"], exclude: ["debug*"], join: indented}
    label: {facility: local3, app: pumpd}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{facility}.{severity} {app} {text}', keep: forever}}
`

func (h *host) write(name, text string) {
	h.t.Helper()
	path := filepath.Join(h.dir, name)
	os.MkdirAll(filepath.Dir(path), 0o755)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err != nil {
		h.t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.WriteString(text); err != nil {
		h.t.Fatal(err)
	}
}

func TestAPlanThatChangesGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	h := newHost(t, followPlan)
	h.write("logs/a.log", "one\n")
	h.start()
	h.waitForLines("all.log", 1)
	// An outlet that is new gets what comes, and not what came before it.
	h.setPlan(strings.Replace(followPlan, "send: [all]", "send: [all, more]", 1) + "  more: {file: {path: DIR/more.log, format: '{text}', keep: forever}}\n")
	h.reload()
	h.write("logs/a.log", "two\n")
	h.waitForLines("more.log", 1)
	// Also after a kill, and where the intake itself has changed.
	h.kill()
	h.write("logs/a.log", "three\n")
	h.start()
	h.waitForLines("more.log", 2)
	h.setPlan(strings.Replace(followPlan, "app: pumpd", "app: pump", 1))
	h.reload()
	h.write("logs/a.log", "four\n")
	h.waitForLines("all.log", 4)
	// One that comes back does not get what came while it was away.
	h.setPlan(strings.Replace(followPlan, "send: [all]", "send: [all, more]", 1) + "  more: {file: {path: DIR/more.log, format: '{text}', keep: forever}}\n")
	h.reload()
	h.write("logs/a.log", "five\n")
	h.waitForLines("more.log", 3)
	h.kill()
	h.start()
	h.write("logs/a.log", "six\n")
	if got := strings.Join(h.waitForLines("more.log", 4), " "); got != "two three five six" {
		t.Errorf("the new outlet has %q", got)
	}
	want := "local3.notice pumpd one,local3.notice pumpd two,local3.notice pumpd three,local3.notice pump four,local3.notice pumpd five,local3.notice pumpd six"
	if got := strings.Join(h.waitForLines("all.log", 6), ","); got != want {
		t.Errorf("got %q", got)
	}
}

func TestFollowedTellsHowFarAndWhyNot(t *testing.T) {
	h := newHost(t, followPlan)
	h.write("logs/a.log", "one\ntwo\n")
	h.write("logs/debug.log", "no\n")
	h.start()
	h.waitForLines("all.log", 2)
	var files []client.FollowedFile
	ask := func() {
		out := expect(t, 0, "", "", "followed", "--state", h.state, "--output", "json")
		if err := json.Unmarshal([]byte(out), &files); err != nil {
			t.Fatal(err)
		}
	}
	h.eventually("it is read to its end", func() bool { ask(); return len(files) == 2 && files[0].Read == 8 })
	if f := files[0]; f.Intake != "pumps" || f.Size != 8 || f.Behind != 0 || f.State != "at end" {
		t.Errorf("%+v", f)
	}
	if f := files[1]; f.State != "not read" || f.Why != "the plan excludes it" {
		t.Errorf("%+v", f)
	}
	expect(t, 0, "the plan excludes it", "", "followed", "--state", h.state, h.dir+"/logs/debug.log")
	expect(t, 1, "", "no pattern of an intake finds it", "followed", "--state", h.state, h.plan)
	expect(t, 1, "", "bytes 4 to 8 of "+h.dir+"/logs/a.log would be read again", "followed", "set-back", h.dir+"/logs/a.log", "--to", "4", "--state", h.state)
	expect(t, 0, "every outlet gets 4 bytes a second time", "", "followed", "set-back", h.dir+"/logs/a.log", "--to", "4", "--yes", "--state", h.state)
	if got := h.waitForLines("all.log", 3); got[2] != "local3.notice pumpd two" {
		t.Errorf("got %q", got)
	}
	h.stop()
	expect(t, 0, "a.log", "no agent runs", "followed", "--state", h.state)
	expect(t, 3, "", "no such file", "followed", "--state", h.dir+"/nowhere")
}

func TestPlanTryShowsWhatRecordsALineMakes(t *testing.T) {
	h := newHost(t, followPlan)
	h.write("sample.log", "2026-11-25T10:15:00Z ERROR dry\n\tat pump 4\nplain\n")
	out := expect(t, 0, "local3.error", "", "plan", "try", h.plan, "--intake", "pumps", "--file", h.dir+"/sample.log")
	for _, want := range []string{"2 records", "1 name no time", "1 name no severity: it is notice", `ERROR dry\n`} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	var tried struct {
		Records []struct{ Text, Severity, App string }
		Total   int
		Fell    map[string]int
	}
	out = expect(t, 0, "", "", "plan", "try", h.plan, "--file", h.dir+"/sample.log", "--output", "json")
	if err := json.Unmarshal([]byte(out), &tried); err != nil || tried.Total != 2 || tried.Records[0].App != "pumpd" || tried.Fell["time"] != 1 {
		t.Errorf("%v %+v", err, tried)
	}
	expect(t, 2, "", "name an intake with --intake", "plan", "try", h.plan, "--intake", "nobody", "--file", h.dir+"/sample.log")
	expect(t, 3, "", "no such file", "plan", "try", h.plan, "--file", h.dir+"/nothing.log")
}

// A file that is rolled and read by the same agent: what is not read yet stays,
// and each line arrives once.
func TestAFileThatIsTendedAndFollowedLosesNothing(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"rename", "copy"} {
		h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: kelp-01
intakes:
  kiosk: {files: {paths: ["DIR/logs/*.log"]}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}
tend:
  kiosk: {paths: ["DIR/logs/*.log"], roll: {size: 2KiB}, keep: {pieces: 2}, compress: gzip, how: %s, settle: 100ms}
`, how))
		os.Mkdir(filepath.Join(h.dir, "logs"), 0o755)
		h.start()
		n := 0
		for end := time.Now().Add(6 * time.Second); time.Now().Before(end); time.Sleep(40 * time.Millisecond) {
			var b strings.Builder
			for range 20 {
				n++
				fmt.Fprintf(&b, "kiosk line %d\n", n)
			}
			h.write("logs/kiosk.log", b.String())
			if n == 400 { // a new start in between
				h.kill()
				h.start()
			}
		}
		h.eventually("all lines are there", func() bool {
			return len(h.lines("all.log")) >= n-20 && h.lines("all.log")[len(h.lines("all.log"))-1] == fmt.Sprintf("kiosk line %d", n)
		})
		var want []string
		for i := range n {
			want = append(want, fmt.Sprintf("kiosk line %d", i+1))
		}
		if how == "rename" {
			sameLines(t, how, h.lines("all.log"), want)
		} else if got := len(slices.Compact(slices.Sorted(slices.Values(h.lines("all.log"))))); got < n-20 || got != len(h.lines("all.log")) {
			t.Errorf("of %d lines %d are there, %d of them once", n, len(h.lines("all.log")), got) // one write may fall between copy and cut
		}
		h.eventually("pieces are compressed and removed", func() bool {
			packed, _ := filepath.Glob(filepath.Join(h.dir, "logs", "*.gz"))
			return len(packed) > 0 && len(packed) <= 2
		})
		h.stop()
	}
}

// Containers write to both streams, long lines too; their logs are rolled, one
// is removed, and the agent is killed again and again. Each line arrives once,
// those of a stream in order.
func TestContainersThroughKills(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
host: tide-gw
intakes:
  boxes: {containers: {engine: docker, root: DIR/engine/containers, join: none, when: 'app is not "seat-map"', wait: 500ms}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, keep: forever}}
`)
	e := demo.Engine{Data: filepath.Join(h.dir, "engine")}
	make := func(name string) *demo.Box {
		b, err := e.Create(name, "lantern/shop:4", map[string]string{"team": "tickets", "oakbarrel.facility": "local6"}, "json-file", 100<<10, 5)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	shop, seats, gone := make("ticket-shop"), make("seat-map"), make("badge-api")
	h.start()
	rnd := rand.New(rand.NewPCG(7, 8))
	want := map[string]int{}
	say := func(b *demo.Box, stream string) {
		key := b.Name + " " + stream
		want[key]++
		line := fmt.Sprintf("%s %d", key, want[key])
		if rnd.IntN(40) == 0 {
			line += strings.Repeat(" long", 8000)
		}
		if err := b.Say(stream, line); err != nil {
			t.Fatal(err)
		}
	}
	for round := range 6 {
		for range 60 {
			say(shop, []string{"stdout", "stderr"}[rnd.IntN(2)])
			seats.Say("stdout", "not wanted")
			if gone != nil {
				say(gone, "stdout")
			}
			time.Sleep(time.Duration(rnd.IntN(8)) * time.Millisecond)
		}
		if round == 2 {
			time.Sleep(300 * time.Millisecond) // so that its last lines are known
			gone.Remove()
			gone = nil
		}
		h.kill()
		say(shop, "stdout")
		h.start()
	}
	total := 0
	for _, n := range want {
		total += n
	}
	lines := h.waitForLines("all.log", total)
	last := map[string]int{}
	for _, line := range lines {
		var r struct {
			App, Text, Stream, Severity, Facility string
			Fields                                map[string]map[string]string
		}
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			t.Fatal(err)
		}
		f := strings.Fields(r.Text)
		key := f[0] + " " + f[1]
		n, _ := strconv.Atoi(f[2])
		if n != last[key]+1 {
			t.Errorf("after line %d of %s comes %d", last[key], key, n)
		}
		last[key] = n
		severity := map[string]string{"stdout": "info", "stderr": "error"}[f[1]]
		if r.App != f[0] || r.Stream != f[1] || r.Severity != severity || r.Facility != "local6" || r.Fields["container@32473"]["name"] != f[0] || r.Fields["labels@32473"]["team"] != "tickets" || len(f) > 3 && len(f) != 8003 {
			t.Fatalf("%.300s", line)
		}
	}
}

func TestWhatContainersNeedIsTold(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
intakes:
  boxes: {containers: {engine: docker, root: DIR/engine/containers}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, keep: forever}}
`)
	e := demo.Engine{Data: filepath.Join(h.dir, "engine")}
	for _, c := range []struct {
		name, driver string
		limit        int64
		files        int
	}{{"good", "json-file", 1 << 20, 3}, {"unbounded", "json-file", 0, 0}, {"binary", "local", 0, 0}, {"single", "json-file", 1 << 20, 1}} {
		b, err := e.Create(c.name, "lantern/shop:4", nil, c.driver, c.limit, c.files)
		if err != nil {
			t.Fatal(err)
		}
		if c.driver == "json-file" {
			for _, line := range []string{"WARN low", "ERROR failed", "bay.lantern.PumpException: no answer", "\tat bay.lantern.Pump.ask(Pump.java:41)", "done"} {
				b.Say("stdout", line)
			}
		}
	}
	h.start()
	h.waitForLines("all.log", 9) // a stack trace is one
	var list []client.ContainerStatus
	out := expect(t, 0, "", "", "containers", "--state", h.state, "--output", "json")
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 4 {
		t.Fatal(err, out)
	}
	for _, c := range list {
		want := map[string]string{"good": "", "unbounded": "no size limit", "binary": "cannot be read from outside", "single": "one file"}[c.Name]
		if want == "" && len(c.Advice) > 0 || want != "" && (len(c.Advice) != 1 || !strings.Contains(c.Advice[0].What, want) || c.Advice[0].Remedy == "") {
			t.Errorf("%s: %+v", c.Name, c.Advice)
		}
		if c.Read != (c.Name != "binary") || c.Read && c.Stdout == 0 {
			t.Errorf("%+v", c)
		}
	}
	if strings.Contains(out+strings.Join(h.lines("all.log"), ""), "made-up") {
		t.Error("the environment of a container is told")
	}
	expect(t, 0, "remedy: set max-size", "", "containers", "--state", h.state)
}
