package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// chaos is one host whose programs, containers, compressors and disks do what
// they like while its agent is killed, damaged and made to panic.
type chaos struct {
	*host
	disk string // a small one, of the state and the outlets
	stop atomic.Bool
	work sync.WaitGroup

	asking sync.Mutex
	asked  time.Time
	read   map[string]bool // the files that were read to their ends then

	mu      sync.Mutex
	written map[string]bool // each line, or message of parts
	did     map[string]int
}

func (c *chaos) note(event string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.written[event] = true
}

func (c *chaos) count(what string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.did[what]++
}

func (c *chaos) events() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.written)
}

// run does something again and again until the soak is over.
func (c *chaos) run(pause func() time.Duration, do func()) {
	c.work.Go(func() {
		for !c.stop.Load() {
			do()
			time.Sleep(pause())
		}
	})
}

func (c *chaos) append(path, text string) {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err == nil {
		_, err = f.WriteString(text)
		f.Close()
	}
	if err != nil {
		c.t.Error(err)
	}
}

func between(least, most time.Duration) func() time.Duration {
	return func() time.Duration { return least + rand.N(most-least) }
}

// program writes a file, which is rolled by rename or by copying and cutting, and
// compressed by tools that write in place or under other names.
func (c *chaos) program(name string, byCopy bool, pace func() time.Duration, lines int) {
	path := filepath.Join(c.dir, "logs", name)
	n, rolled := 0, 0
	c.run(pace, func() {
		var text strings.Builder
		for range lines {
			n++
			event := fmt.Sprintf("%s %d", name, n)
			c.note(event)
			text.WriteString(event + "\n")
		}
		c.append(path, text.String())
		if rand.IntN(12) > 0 {
			return
		}
		rolled++
		piece := fmt.Sprintf("%s.%d", path, rolled)
		if byCopy {
			time.Sleep(300 * time.Millisecond) // what is written while it is copied is lost by the copying alone
			c.await(path)
			content, _ := os.ReadFile(path)
			os.WriteFile(piece, content, 0o644)
			os.Truncate(path, 0)
		} else {
			os.Rename(path, piece)
		}
		if rolled > 2 {
			c.pack(fmt.Sprintf("%s.%d", path, rolled-2))
		}
		if rolled > 6 {
			for _, suffix := range []string{"", ".gz", ".zst"} {
				old := fmt.Sprintf("%s.%d%s", path, rolled-6, suffix)
				if _, err := os.Stat(old); err == nil {
					c.work.Go(func() { c.removeRead(old) })
				}
			}
		}
	})
}

// await waits until the agent has read a file to its end, or the soak is over.
func (c *chaos) await(path string) {
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end) && !c.stop.Load(); time.Sleep(100 * time.Millisecond) {
		if c.isRead(path) {
			return
		}
	}
}

// isRead tells whether a file is read to its end, and all that was read written.
func (c *chaos) isRead(path string) bool {
	c.asking.Lock()
	defer c.asking.Unlock()
	if time.Since(c.asked) > 300*time.Millisecond {
		c.asked, c.read = time.Now(), c.readFiles()
	}
	return c.read[path]
}

// readFiles returns the files that the agent has read to their ends.
func (c *chaos) readFiles() map[string]bool {
	out, err := exec.Command(binary, "followed", "--state", c.state, "--output", "json").Output()
	if err != nil {
		return nil
	}
	var answer struct {
		Files []struct {
			File   string `json:"file"`
			Behind int64  `json:"behind"`
			State  string `json:"state"`
			Why    string `json:"why"`
		} `json:"files"`
	}
	json.Unmarshal(out, &answer)
	read := map[string]bool{}
	for _, f := range answer.Files {
		read[f.File] = f.Behind == 0 && f.State != "reading" && f.State != "not read" || strings.HasPrefix(f.Why, "it holds the same")
	}
	if !c.holdsNothing() {
		return nil
	}
	return read
}

// holdsNothing tells whether all that was read stands in the files of the outlets.
func (c *chaos) holdsNothing() bool {
	out, err := exec.Command(binary, "status", "--state", c.state, "--output", "json").Output()
	var s struct {
		Outlets []struct {
			Name string
			Held int64
		}
	}
	if err != nil || json.Unmarshal(out, &s) != nil {
		return false
	}
	for _, o := range s.Outlets {
		if o.Held > 0 && o.Name != "centre" { // that spools it
			return false
		}
	}
	return true
}

// removeRead removes a file once all of it is in the outlets for good.
func (c *chaos) removeRead(path string) {
	if c.await(path); c.isRead(path) {
		time.Sleep(3 * time.Second) // until it is spooled, also where a kill comes between
		if c.await(path); c.isRead(path) {
			os.Remove(path)
			c.count("removed")
		}
	}
}

func (c *chaos) pack(path string) {
	if strings.HasSuffix(path, ".gz") {
		return
	}
	switch rand.IntN(3) {
	case 0:
		exec.Command("gzip", "-f", path).Run()
		c.count("compressed in place")
	case 1: // slowly, under a name that the pattern finds too
		packed, err := exec.Command("gzip", "-c", path).Output()
		if err != nil {
			return
		}
		for len(packed) > 0 {
			n := min(len(packed), 1+rand.IntN(len(packed)))
			c.append(path+".tmp", string(packed[:n]))
			packed = packed[n:]
			time.Sleep(rand.N(100 * time.Millisecond))
		}
		os.Rename(path+".tmp", path+".gz")
		os.Remove(path)
		c.count("compressed under another name")
	default:
		exec.Command("zstd", "-q", "--rm", path).Run()
		c.count("compressed by zstd")
	}
}

// box writes the log of a container as an engine does, rolled by size or by time,
// with traces on stderr and messages in parts.
func (c *chaos) box(engine string, number int, pace func() time.Duration) {
	name := fmt.Sprintf("%s%d", engine, number)
	id := fmt.Sprintf("%064x", number+1)
	folder := filepath.Join(c.dir, "docker", id)
	log := filepath.Join(folder, id+"-json.log")
	if engine == "cri" {
		folder = filepath.Join(c.dir, "pods", fmt.Sprintf("bay_%s_%d", name, number), "main")
		log = filepath.Join(folder, "0.log")
	}
	os.MkdirAll(folder, 0o755)
	size := int64(300 + rand.IntN(6000))
	rolled, last := 0, time.Now()
	write := func(stream, text string, part bool) {
		now := time.Now().UTC().Format(time.RFC3339Nano)
		line := fmt.Sprintf("%s %s %s %s\n", now, stream, map[bool]string{true: "P", false: "F"}[part], text)
		if engine == "docker" {
			end := `\n`
			if part {
				end = ""
			}
			line = fmt.Sprintf(`{"log":"%s%s","stream":"%s","time":"%s"}`+"\n", strings.ReplaceAll(text, "\t", `\t`), end, stream, now)
		}
		c.append(log, line)
		if st, err := os.Stat(log); err == nil && (st.Size() > size || time.Since(last) > 3*time.Second) && time.Since(last) > 30*time.Millisecond {
			rolled++
			last = time.Now()
			if engine == "cri" {
				os.Rename(log, fmt.Sprintf("%s.20261128-%06d", log, rolled))
				if old := fmt.Sprintf("%s.20261128-%06d", log, rolled-1); rolled > 1 && rand.IntN(2) == 0 {
					exec.Command("gzip", "-f", old).Run()
				}
			} else {
				for n := 40; n > 0; n-- {
					os.Rename(fmt.Sprintf("%s.%d", log, n), fmt.Sprintf("%s.%d", log, n+1))
				}
				os.Rename(log, log+".1")
			}
			c.count("rolled by an engine")
		}
	}
	n := 0
	c.run(pace, func() {
		n++
		switch rand.IntN(4) {
		case 0: // a trace on the error stream, of which a line comes after the other
			event := fmt.Sprintf("%s error %d: the pump stalled", name, n)
			lines := []string{event}
			for k := range 1 + rand.IntN(12) {
				lines = append(lines, fmt.Sprintf("\tat frame %d of %s %d", k, name, n))
			}
			for _, l := range lines { // how long a trace waits for its next line is bounded: it may be split
				c.note(l)
			}
			pause := min(pace(), 200*time.Millisecond)
			for _, l := range lines {
				write("stderr", l, false)
				time.Sleep(rand.N(pause))
			}
		case 1: // a long message, in parts
			event := fmt.Sprintf("%s long %d %s", name, n, strings.Repeat("~", 200+rand.IntN(2000)))
			c.note(event)
			for rest := event; ; {
				if len(rest) <= 300 {
					write("stdout", rest, false)
					break
				}
				write("stdout", rest[:300], true)
				rest = rest[300:]
			}
		default:
			event := fmt.Sprintf("%s %d", name, n)
			c.note(event)
			write("stdout", event, false)
		}
		if dirs, _ := os.ReadDir(folder); engine == "docker" && len(dirs) > 30 {
			c.removeRead(log + ".40")
		}
	})
}

// damage changes a file of the state folder, at random.
func (c *chaos) damage() {
	var files []string
	filepath.WalkDir(c.state, func(path string, e os.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() && !strings.Contains(path, "/damaged/") && filepath.Base(path) != "lock" {
			files = append(files, path)
		}
		return nil
	})
	if len(files) == 0 {
		return
	}
	path := files[rand.IntN(len(files))]
	content, err := os.ReadFile(path)
	if err != nil || len(content) == 0 {
		return
	}
	for range 1 + rand.IntN(3) {
		content[rand.IntN(len(content))] ^= 1 << rand.IntN(8)
	}
	os.WriteFile(path, content, 0o640)
	c.count("damaged " + strings.Trim(strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r >= 'a' && r <= 'f' && len(filepath.Base(path)) > 20 {
			return -1
		}
		return r
	}, filepath.Base(path)), "-."))
}

// A host of programs and containers that roll at every pace, compressors, full
// disks, kills, damage and panics: each event is in each file once. What is sent
// elsewhere is there once too, or told as lost, with its number.
// OAKBARREL_SOAK sets for how long.
func TestSoakHost(t *testing.T) {
	span, err := time.ParseDuration(os.Getenv("OAKBARREL_SOAK"))
	if err != nil {
		t.Skip("this takes minutes: make soak runs it")
	}
	c, s := newChaos(t, span)
	for _, dir := range []string{"logs", "docker", "pods"} {
		os.MkdirAll(filepath.Join(c.dir, dir), 0o755)
	}
	c.begin(s, `  logs: {files: {paths: ["DIR/logs/*.log", "DIR/logs/*.log.*"]}}
  boxes: {containers: {engine: docker, root: DIR/docker}}
  pods: {containers: {engine: cri, root: DIR/pods}}`)
	for i, pace := range []func() time.Duration{between(time.Millisecond, 50*time.Millisecond), between(20*time.Millisecond, 2*time.Second), between(500*time.Millisecond, 1500*time.Millisecond)} {
		c.program(fmt.Sprintf("renamed-%c.log", 'a'+i), false, pace, 1+40/(1+i*i*20))
		c.program(fmt.Sprintf("copied-%c.log", 'a'+i), true, pace, 1+40/(1+i*i*20))
	}
	for i := range 3 {
		for _, engine := range []string{"docker", "cri"} {
			c.box(engine, i, []func() time.Duration{between(time.Millisecond, 40*time.Millisecond), between(20*time.Millisecond, 1400*time.Millisecond), between(500*time.Millisecond, 2*time.Second)}[i])
		}
	}
	c.torment(s, span)
	c.stop.Store(true)
	c.work.Wait()
	c.judge(s)
}

// newChaos returns a host whose agent will throw panics, and the store that it sends to.
func newChaos(t *testing.T, span time.Duration) (*chaos, *store) {
	withFaults(t)
	s := newStore(t)
	h := newHost(t, "")
	return &chaos{host: h, disk: h.mountSmall(fmt.Sprintf("%dm", 400+int(span.Seconds()))), written: map[string]bool{}, did: map[string]int{}}, s
}

// begin starts the agent with some intakes, two files on the small disk and a store.
func (c *chaos) begin(s *store, intakes string) {
	c.t.Helper()
	os.WriteFile(filepath.Join(c.dir, "token"), []byte(s.token("bay", "write")+"\n"), 0o600)
	c.setPlan(fmt.Sprintf(`oakbarrel: 1
host: reef-02
service: {url: %q, token_file: DIR/token}
disk: {floor: 0}
intakes:
%s
otherwise: {send: [all, apart, centre]}
outlets:
  all: {file: {path: DIR/small/all.log, roll: {size: 8MiB}, keep: forever, compress: none}}
  apart: {file: {path: "DIR/small/apart/{severity}.log", roll: {size: 4MiB}, keep: forever, compress: none}}
  centre: {store: {cask: bay}, spool: {disk: 64MiB, overflow: wait}, batch: {records: 2000, wait: 100ms}}
`, s.url(), intakes))
	c.state = filepath.Join(c.disk, "state")
	c.start()
}

// torment kills the agent, damages what it has written down, fills its disk and
// kills the store, for some time.
func (c *chaos) torment(s *store, span time.Duration) {
	c.t.Helper()
	for end := time.Now().Add(span); time.Now().Before(end); time.Sleep(2*time.Second + rand.N(4*time.Second)) {
		switch rand.IntN(6) {
		case 0:
			c.count("killed")
			c.kill()
			c.start()
		case 1, 2:
			c.kill()
			c.damage()
			c.start()
		case 3:
			c.count("disk filled")
			fill(c.t, c.disk)
			time.Sleep(rand.N(3 * time.Second))
			free(c.disk)
		case 4:
			c.count("service killed")
			s.kill()
			time.Sleep(rand.N(time.Second))
			s.start()
		}
		if c.process != nil && c.process.Process.Signal(syscall.Signal(0)) != nil {
			c.t.Fatal("the agent has died")
		}
	}
}

// judge waits until all is where it belongs, and demands it there once.
func (c *chaos) judge(s *store) {
	c.t.Helper()
	free(c.disk)
	c.host.stop()
	c.t.Setenv("OAKBARREL_PANICS", "")
	c.start()
	for end := time.Now().Add(time.Minute); time.Now().Before(end) && (c.held() > 0 || c.missing("all.log") > 0); {
		time.Sleep(500 * time.Millisecond)
	}
	if held := c.held(); held > 0 {
		c.t.Errorf("%d records wait still: %+v", held, c.status().Outlets)
	}
	for _, name := range []string{"all.log", "apart"} {
		c.once(name)
	}
	c.onceInStore(s)
	c.t.Logf("%d lines, %v", c.events(), c.did)
}

// held returns how many records wait in all outlets.
func (c *chaos) held() (n int64) {
	for _, o := range c.status().Outlets {
		n += o.Held
	}
	return n
}

// times returns how often each event stands in the files of an outlet.
func (c *chaos) times(outlet string) map[string]int {
	times := map[string]int{}
	stem := strings.TrimSuffix(filepath.Join(c.disk, outlet), ".log")
	filepath.WalkDir(c.disk, func(path string, e os.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || !strings.HasPrefix(path, stem) || !strings.HasSuffix(path, ".log") {
			return nil
		}
		f, err := os.Open(path)
		if err != nil {
			return nil
		}
		defer f.Close()
		lines := bufio.NewScanner(f)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			var r struct{ Text string }
			if json.Unmarshal(lines.Bytes(), &r) != nil {
				c.t.Errorf("%s has a torn line: %.100s", path, lines.Text())
			}
			countLines(times, r.Text)
		}
		return nil
	})
	return times
}

func countLines(times map[string]int, text string) {
	for l := range strings.SplitSeq(text, "\n") {
		times[l]++
	}
}

func (c *chaos) missing(outlet string) (n int) {
	times := c.times(outlet)
	for event := range c.written {
		if times[event] == 0 {
			n++
		}
	}
	return n
}

func (c *chaos) once(outlet string) {
	c.t.Helper()
	c.compare(outlet, c.times(outlet), 0)
}

// compare demands each event once, but for some that are told as lost.
func (c *chaos) compare(where string, times map[string]int, lost int) {
	c.t.Helper()
	missing, wrong, twice, told := 0, []string{}, c.mayComeTwice(where), c.toldTwice()
	for event := range c.written {
		if times[event] == 0 {
			if !strings.HasPrefix(event, "\t") { // the lines of a trace are one record
				missing++
			}
			wrong = append(wrong, "missing: "+event)
		} else if times[event] > 1 && !twice && !told[programOf(event)] {
			wrong = append(wrong, fmt.Sprintf("%d times: %s", times[event], event))
		}
		delete(times, event)
	}
	for event := range times {
		if !strings.HasPrefix(event, "oakbarrel") {
			wrong = append(wrong, "never written: "+event)
		}
	}
	if missing > 0 && missing <= lost {
		wrong = slices.DeleteFunc(wrong, func(w string) bool { return strings.HasPrefix(w, "missing") })
	}
	slices.Sort(wrong)
	if len(wrong) > 0 {
		for _, w := range wrong[:min(len(wrong), 12)] {
			c.t.Errorf("%s: %.120q", where, w)
		}
		of := map[string]int{} // by what is wrong, and the program
		for _, w := range wrong {
			what, event, _ := strings.Cut(w, ": ")
			of[fmt.Sprintf("%s %.20s", what, programOf(event))]++
		}
		c.t.Errorf("%s: %v", where, of)
		c.t.Errorf("%s: %d events are wrong of %d; %d are missing, %d told as lost", where, len(wrong), len(c.written), missing, lost)
	}
}

// programOf returns what has written an event, or a line of a trace.
func programOf(event string) string {
	if _, of, is := strings.Cut(event, " of "); is && strings.HasPrefix(event, "\t") {
		event = of
	}
	name, _, _ := strings.Cut(event, " ")
	return name
}

// toldTwice returns the programs of which the agent said that a file may come twice.
func (c *chaos) toldTwice() map[string]bool {
	told := map[string]bool{}
	for line := range strings.Lines(c.log.String()) {
		_, path, is := strings.Cut(line, "its lines come twice\" path=")
		if !is {
			continue
		}
		path = strings.TrimPrefix(strings.TrimSpace(path), c.dir+"/")
		kind, rest, _ := strings.Cut(path, "/")
		number := 0
		switch kind {
		case "docker":
			fmt.Sscanf(rest, "%x/", &number)
			told[fmt.Sprint("docker", number-1)] = true
		case "pods":
			told[strings.Split(rest, "_")[1]] = true
		default:
			stem, _, _ := strings.Cut(rest, ".log")
			told[stem+".log"] = true
		}
	}
	if len(told) > 0 {
		c.t.Logf("the agent has told that lines may come twice of %v", told)
	}
	return told
}

// mayComeTwice tells whether damage has cost what tells lines of an outlet apart
// that were taken: that is told beside the damaged file.
func (c *chaos) mayComeTwice(where string) bool {
	reasons, _ := filepath.Glob(filepath.Join(c.state, "damaged", "*.why"))
	return slices.ContainsFunc(reasons, func(path string) bool {
		b, _ := os.ReadFile(path)
		part := "outlet " + map[string]string{"all.log": "all", "apart": "apart", "the store": "centre"}[where] + "\n"
		return strings.Contains(string(b), "twice") && (strings.Contains(string(b), part) || strings.Contains(string(b), "of: intake"))
	})
}

func (c *chaos) onceInStore(s *store) {
	c.t.Helper()
	c.t.Setenv("OAKBARREL_URL", s.url())
	c.t.Setenv("OAKBARREL_TOKEN", s.token("bay", "read"))
	out, stderr, code := run(c.t, "read", "--cask", "bay", "--since", "1d", "--limit", "0", "--output", "json")
	if code != 0 {
		c.t.Fatal(stderr)
	}
	times := map[string]int{}
	for line := range strings.Lines(out) {
		var r struct{ Text string }
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			c.t.Fatal(err)
		}
		countLines(times, r.Text)
	}
	lost := 0
	out, _, _ = run(c.t, "cask", "show", "bay", "--output", "json")
	for _, part := range strings.Split(out, `"lost":`)[1:] {
		n := 0
		fmt.Sscan(strings.Trim(strings.SplitN(part, ",", 2)[0], " \n}]"), &n)
		lost += n
	}
	c.compare("the store", times, lost)
}

// withFaults has the agents of a test be of a binary that throws panics.
func withFaults(t *testing.T) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "oakbarrel")
	if out, err := exec.Command("go", "build", "-tags", "faults", "-o", path, "oakbarrel/cmd/oakbarrel").CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	old := binary
	binary = path
	t.Cleanup(func() { binary = old })
	t.Setenv("OAKBARREL_PANICS", "4s")
}
