package e2e

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"oakbarrel/core/roll"
)

func TestMessagesArriveWithin200Milliseconds(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	sent := 0
	for _, network := range []string{"unix", "udp", "tcp"} {
		conn := h.dial(network)
		var took []time.Duration
		late := true
		for late && len(took) < 5 { // on a busy machine one may take longer
			start := time.Now()
			fmt.Fprint(conn, "<13>x: over "+network+map[string]string{"tcp": "\n"}[network])
			sent++
			lines := h.waitForLines("all.log", sent)
			took = append(took, time.Since(start))
			late = took[len(took)-1] > 300*time.Millisecond
			if want := "notice over " + network; lines[sent-1] != want {
				t.Errorf("got %q, want %q", lines[sent-1], want)
			}
		}
		if late {
			t.Errorf("over %s it took %v", network, took)
		}
	}
	if code := h.stop(); code != 0 {
		t.Errorf("exit code %d", code)
	}
	if _, err := os.Lstat(filepath.Join(h.dir, "log.sock")); err == nil {
		t.Error("the socket is left behind")
	}
}

func TestRulesSendWhereTheySay(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
intakes: {wire: {syslog: {udp: "127.0.0.1:0"}, keep_raw: true}}
rules:
  - {when: app is "salinity-probe" and severity at most info, drop: true}
  - {when: facility in (auth), send: [signins], then: done}  # no comma inside
  - {when: severity at least error, send: [faults, all]}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: rfc5424, keep: forever}}
  faults: {file: {path: DIR/faults.log, format: rfc3164, keep: forever, mode: 0600}}
  signins: {file: {path: DIR/deep/er/signins.log, keep: forever}}
`)
	h.start()
	h.send("udp", "<134>1 2026-11-25T10:00:00Z h salinity-probe - - - chatter", "<33>1 2026-11-25T10:00:00+01:00 h door 7 M [a b=\"c\"] in\nand out\x1b", "<131>1 2026-11-25T10:00:00Z h pumpd 1 - - stall", "<134>1 2026-11-25T10:00:00Z h pumpd - - - ok")
	all := h.waitForLines("all.log", 2)
	if want := "<131>1 2026-11-25T10:00:00Z h pumpd 1 - - stall"; all[0] != want {
		t.Errorf("got %s, want %s", all[0], want)
	}
	if faults := h.waitForLines("faults.log", 1); faults[0] != "<131>Nov 25 10:00:00 h pumpd[1]: stall" {
		t.Errorf("faults: %s", faults)
	}
	signin := h.waitForLines("deep/er/signins.log", 1)[0]
	want := regexp.MustCompile(`^{"time":"2026-11-25T10:00:00\+01:00","received":"[^"]+","facility":"auth","severity":"alert","host":"h","agent":"[^"]+","app":"door","procid":"7","msgid":"M",` +
		`"text":"in\\nand out\\u001b","fields":{"a":{"b":"c"}},"intake":"wire","peer":{"address":"127.0.0.1:\d+"},"raw":"PDMzPjEg[^"]+"}$`)
	if !want.MatchString(signin) {
		t.Errorf("signins: %s", signin)
	}
	s := h.status()
	if s.Rules.In != 4 || s.Rules.Routed != 3 || s.Rules.Dropped != 1 || s.Outlets[1].Out != 1 {
		t.Errorf("rules %+v, outlets %+v", s.Rules, s.Outlets)
	}
	if st, _ := os.Stat(filepath.Join(h.dir, "faults.log")); st.Mode().Perm() != 0o600 {
		t.Errorf("mode %v", st.Mode())
	}
}

func TestAStreamCutAnywhereGivesWholeMessages(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	stream := "<13>x: lf\n<13>x: crlf\r\n<13>x: nul\x0014 <13>x: counted\n\n<13>x: left"
	conn := h.dial("tcp")
	for i := range len(stream) {
		conn.Write([]byte{stream[i]})
		time.Sleep(time.Millisecond)
	}
	conn.Close()
	if got := h.waitForLines("all.log", 5); !slices.Equal(got, []string{"notice lf", "notice crlf", "notice nul", "notice counted", "notice left"}) {
		t.Errorf("got %q", got)
	}
}

func TestAMessageThatIsTooLongIsCutKeptMarkedAndCounted(t *testing.T) {
	h := newHost(t, strings.Replace(plain, "'{severity} {text}'", "json", 1))
	h.start()
	h.send("tcp", "<13>x: "+strings.Repeat("y", 100_000)+"\n<13>x: next\n")
	lines := h.waitForLines("all.log", 2)
	if n := strings.Count(lines[0], "yyy") * 3; n != 65536-len("<13>x: ") || !strings.Contains(lines[0], `"fields":{"cut@32473":{}}`) || !strings.Contains(lines[1], `"text":"next"`) {
		t.Errorf("%d characters, then %s", n, lines[1])
	}
	if s := h.status(); s.Intakes[1].Cut != 1 {
		t.Errorf("counted %d", s.Intakes[1].Cut)
	}
}

func TestReloadKeepsWhatIsAlike(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	before := h.status()
	conn := h.dial("tcp")
	fmt.Fprint(conn, "<13>x: one\n")
	h.waitForLines("all.log", 1)
	h.setPlan(strings.Replace(plain, "intakes:", "rules: [{when: text contains two, send: [twos], then: done}]\nintakes:", 1) + "  twos: {file: {path: DIR/twos.log, format: '{text}', keep: forever}}\n")
	if s := h.status(); !s.Plan.ChangedOnDisk {
		t.Error("the changed plan is not noticed")
	}
	after := h.reload()
	if after.Plan.ChangedOnDisk || after.Plan.Hash == before.Plan.Hash || fmt.Sprint(after.Intakes[0].Addresses, after.Intakes[1].Addresses) != fmt.Sprint(before.Intakes[0].Addresses, before.Intakes[1].Addresses) {
		t.Errorf("before %+v\nafter %+v", before, after)
	}
	fmt.Fprint(conn, "<13>x: two\n<13>x: three\n")
	if got := h.waitForLines("twos.log", 1); got[0] != "two" {
		t.Errorf("twos: %q", got)
	}
	h.waitForLines("all.log", 2)
}

func TestABrokenPlanChangesNothingAndIsTold(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	hash := h.status().Plan.Hash
	h.setPlan(strings.Replace(plain, "keep: forever", "kep: forever", 1))
	s := h.reload()
	if s.Plan.Refused == nil || s.Plan.Hash != hash || !strings.Contains(s.Plan.Refused.Findings[0], `: file has no key "kep"; did you mean keep?`) {
		t.Errorf("%+v", s.Plan.Refused)
	}
	expect(t, 0, "NOT TAKEN", "", "status", "--state", h.state)
	h.send("udp", "<13>x: still here")
	h.waitForLines("all.log", 1)
	taken, _ := net.Listen("tcp", "127.0.0.1:0")
	defer taken.Close()
	h.setPlan(strings.Replace(plain, `tcp: "127.0.0.1:0"`, fmt.Sprintf("tcp: %q", taken.Addr()), 1))
	if s := h.reload(); s.Plan.Refused == nil || !strings.Contains(s.Plan.Refused.Why, "is taken by another program") {
		t.Errorf("a port that is taken: %+v", s.Plan.Refused)
	}
	h.send("tcp", "<13>x: still here\n")
	h.waitForLines("all.log", 2)
	h.setPlan(plain)
	if s := h.reload(); s.Plan.Refused != nil {
		t.Errorf("a good plan is told to be refused: %+v", s.Plan.Refused)
	}
}

func TestIntakesComeAndGo(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	h.send("udp", "<13>x: one")
	h.waitForLines("all.log", 1)
	old, conn := h.address("udp"), h.dial("tcp")
	fmt.Fprint(conn, "<13>x: two, without an end")
	time.Sleep(50 * time.Millisecond)
	h.setPlan(strings.Replace(plain, `  wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0"}}`, `  other: {syslog: {udp: "127.0.0.1:0"}}`, 1))
	s := h.reload()
	h.waitForLines("all.log", 2) // a removed intake is first read empty
	h.eventually("the old intake is gone", func() bool { s = h.status(); return len(s.Intakes) == 2 })
	if s.Intakes[1].Name != "other" || h.address("udp") == old {
		t.Errorf("intakes %+v", s.Intakes)
	}
	if s.Rules.In != 2 { // of the run, with those of the intake that is gone; status checks that the balance closes
		t.Errorf("rules %+v", s.Rules)
	}
	// the same port on other addresses: the old socket has to make way
	port := h.address("udp")[len("127.0.0.1:"):]
	fixed := strings.Replace(plain, `{udp: "127.0.0.1:0", tcp: "127.0.0.1:0"}`, fmt.Sprintf(`{udp: "127.0.0.1:%s"}`, port), 1)
	h.setPlan(fixed)
	h.reload()
	h.setPlan(strings.Replace(fixed, "127.0.0.1:"+port, ":"+port, 1))
	if s := h.reload(); s.Plan.Refused != nil {
		t.Errorf("%+v", s.Plan.Refused)
	}
	h.send("udp", "<13>x: three")
	h.waitForLines("all.log", 3)
}

func TestAnOutletMayBeRenamedOrMoved(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	h.send("udp", "<13>x: one")
	h.waitForLines("all.log", 1)
	h.setPlan(strings.NewReplacer("[all]", "[every]", "  all:", "  every:", "{severity} {text}", "{text}").Replace(plain))
	h.reload()
	h.send("udp", "<13>x: two")
	if got := h.waitForLines("all.log", 2); got[1] != "two" {
		t.Errorf("got %q", got)
	}
	h.setPlan(strings.Replace(plain, "DIR/all.log", "DIR/moved.log", 1))
	h.reload()
	h.send("udp", "<13>x: three")
	h.waitForLines("moved.log", 1)
	h.waitForLines("all.log", 2)
}

func TestWhatCannotStart(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	expect(t, 3, "", "another agent uses this state folder", "agent", "--plan", h.plan, "--state", h.state)
	if out := expect(t, 1, "", "another program listens on", "agent", "--plan", h.plan, "--state", h.state+"2"); strings.Contains(out, "ready") {
		t.Error("it says ready")
	}
	broken := newHost(t, "oakbarrel: 2\n")
	expect(t, 1, "", `plan.yaml:1:12: there is no version "2"`, "agent", "--plan", broken.plan, "--state", broken.state)
	expect(t, 3, "", "no such file", "agent", "--plan", broken.plan+"x", "--state", broken.state)
	expect(t, 1, "", "no agent runs", "status", "--state", broken.state)
	h.kill()
	expect(t, 1, "", "no agent runs", "status", "--state", h.state)
	h.start() // over the socket that the kill has left
	h.send("unix", "<13>x: again")
	h.waitForLines("all.log", 1)
}

// numbered is a plan whose file holds numbers alone, rolled and compressed all the time.
const numbered = `oakbarrel: 1
intakes: {wire: {syslog: {tcp: "127.0.0.1:0"}}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', roll: {size: 100KiB}, keep: {pieces: 1000}, compress: zstd}}
`

// readNumbers reads a rolled set of numbers.
func readNumbers(t *testing.T, path string) (numbers []int) {
	t.Helper()
	r, err := roll.NewReader(path, false)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for i := range r.Files() {
		err := r.Lines(i, func(line []byte) error {
			n, err := strconv.Atoi(string(line))
			numbers = append(numbers, n)
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return numbers
}

// OAKBARREL_RELOADS makes it more than a hundred.
func TestAHundredReloadsInFullFlowLoseAndDoubleNothing(t *testing.T) {
	reloads := 100
	if n, err := strconv.Atoi(os.Getenv("OAKBARREL_RELOADS")); err == nil {
		reloads = n
	}
	h := newHost(t, numbered)
	h.start()
	total := 2000 * reloads
	conn := h.dial("tcp")
	sent := make(chan error, 1)
	go func() {
		var b []byte
		for i := range total {
			b = fmt.Appendf(b, "<13>x: %d\n", i)
			if len(b) > 8<<10 {
				if _, err := conn.Write(b); err != nil {
					sent <- err
					return
				}
				b = b[:0]
				time.Sleep(3 * time.Millisecond) // so that it lasts as long as the reloads
			}
		}
		_, err := conn.Write(b)
		sent <- err
	}()
	plans := []string{numbered, numbered + "  more: {file: {path: DIR/more.log, keep: forever}}\n", strings.Replace(numbered, "  all:", "  every:", 1) + "# broken: no outlet all\n", strings.ReplaceAll(strings.Replace(numbered, "100KiB", "80KiB", 1), "all:", "all:")}
	for i := range reloads {
		h.setPlan(plans[i%len(plans)])
		h.process.Process.Signal(syscall.SIGHUP)
		time.Sleep(10 * time.Millisecond)
	}
	if err := <-sent; err != nil {
		t.Fatal(err)
	}
	conn.Close()
	h.eventually("all is written", func() bool { s := h.status(); return s.Rules.In == int64(total) && s.Outlets[0].Held == 0 })
	h.stop()
	numbers := readNumbers(t, filepath.Join(h.dir, "all.log"))
	for i, n := range numbers {
		if n != i {
			t.Fatalf("line %d is number %d", i, n)
		}
	}
	if len(numbers) != total {
		t.Errorf("%d lines, want %d", len(numbers), total)
	}
}

// After kills at random moments the file holds gapless runs: of each run, what
// was written is a beginning of what was sent.
func TestTenKillsLeaveGaplessRunsAndWholePieces(t *testing.T) {
	h := newHost(t, numbered)
	rnd := rand.New(rand.NewPCG(3, 4))
	var starts []int // the first number of each run
	next := 0
	for range 10 {
		h.start()
		starts = append(starts, next)
		conn := h.dial("tcp")
		done := make(chan int, 1)
		go func() {
			n := next
			for {
				var b []byte
				for range 500 {
					b = fmt.Appendf(b, "<13>x: %d\n", n)
					n++
				}
				if _, err := conn.Write(b); err != nil {
					done <- n
					return
				}
			}
		}()
		time.Sleep(time.Duration(50+rnd.IntN(250)) * time.Millisecond)
		h.kill()
		next = <-done
	}
	h.start()
	h.stop()
	numbers := readNumbers(t, filepath.Join(h.dir, "all.log"))
	for i := 1; i < len(numbers); i++ {
		if numbers[i] != numbers[i-1]+1 && !slices.Contains(starts, numbers[i]) {
			t.Fatalf("%d follows %d", numbers[i], numbers[i-1])
		}
	}
	pieces, _ := filepath.Glob(filepath.Join(h.dir, "all-*"))
	if len(pieces) < 3 || len(numbers) < 5_000 {
		t.Fatalf("%d pieces, %d numbers", len(pieces), len(numbers))
	}
	for _, p := range pieces {
		if strings.HasSuffix(p, ".zst") {
			if out, err := exec.Command("zstd", "-tq", p).CombinedOutput(); err != nil {
				t.Errorf("%s: %v %s", p, err, out)
			}
		}
	}
}

func TestSIGTERMWritesDownWhatTheKernelHolds(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	udp, tcp := h.dial("udp"), h.dial("tcp")
	h.process.Process.Signal(syscall.SIGSTOP) // what comes now waits in the kernel
	for i := range 100 {
		fmt.Fprintf(udp, "<13>x: datagram %d", i)
		fmt.Fprintf(tcp, "<13>x: line %d\n", i)
	}
	h.process.Process.Signal(syscall.SIGTERM)
	h.process.Process.Signal(syscall.SIGCONT)
	h.stop()
	if n := len(h.lines("all.log")); n != 200 {
		t.Errorf("%d lines, want 200", n)
	}
}

func TestAFullDiskHoldsBackShedsAndGoesOn(t *testing.T) {
	h := newHost(t, strings.NewReplacer("DIR/all.log", "DIR/small/all.log", "{severity} {text}", "{text}").Replace(plain))
	small := h.mountSmall("200k")
	h.start()
	line := strings.Repeat("y", 1000)
	conn := h.dial("tcp")
	sent := make(chan int, 1)
	const total = 8000 // more than the disk, the outlet and the sockets hold
	go func() {
		n := 0
		for ; n < total; n++ {
			if _, err := fmt.Fprintf(conn, "<13>x: %04d%s\n", n, line); err != nil {
				break
			}
		}
		sent <- n
	}()
	h.eventually("the outlet tells its trouble", func() bool { return strings.Contains(h.status().Outlets[0].Trouble, "no space left") })
	h.eventually("the TCP intake is held back", func() bool {
		a := h.status().Rules.In
		time.Sleep(200 * time.Millisecond)
		return h.status().Rules.In == a
	})
	udp := h.dial("udp")
	for i := range 3000 {
		fmt.Fprintf(udp, "<13>x: %04d%s", i, line)
	}
	h.eventually("datagrams are shed and counted", func() bool { return h.status().Outlets[0].Shed > 0 })
	expect(t, 0, "cannot write since", "", "status", "--state", h.state)
	resize(t, small, "64m")
	if n := <-sent; n != total {
		t.Fatalf("%d were sent", n)
	}
	conn.Close()
	h.eventually("all is written", func() bool {
		s := h.status()
		return s.Outlets[0].Trouble == "" && s.Outlets[0].Held == 0 && s.Intakes[1].Connections == 0
	})
	s := h.status()
	seen := map[string]int{}
	for _, l := range h.lines("small/all.log") {
		if len(l) != 1004 {
			t.Fatalf("a torn line: %.40q", l)
		}
		seen[l]++
	}
	if got := int64(len(h.lines("small/all.log"))); got != s.Outlets[0].Out || s.Rules.In != total+3000-s.Intakes[1].Missed {
		t.Errorf("%d lines; rules %+v, outlet %+v", got, s.Rules, s.Outlets[0].Outlet)
	}
}

func TestStoppingDoesNotWaitForAFullDisk(t *testing.T) {
	t.Parallel()
	h := newHost(t, strings.Replace(plain, "DIR/all.log", "/dev/full/all.log", 1)) // can never be opened
	h.start()
	conn := h.dial("tcp")
	for range 200 {
		fmt.Fprintf(conn, "<13>x: %s\n", strings.Repeat("y", 10_000))
	}
	if s := h.status(); !strings.Contains(s.Outlets[0].Trouble, "not a directory") || s.Outlets[0].Held == 0 {
		t.Errorf("%+v", s.Outlets[0])
	}
	if code := h.stop(); code != 0 { // which demands that it takes no more than 10 s
		t.Errorf("exit code %d", code)
	}
	if !strings.Contains(h.log.String(), "records are lost") {
		t.Error("what is lost is not told")
	}
}

func TestWhatTheKernelDropsIsMissed(t *testing.T) {
	h := newHost(t, plain)
	h.start()
	conn := h.dial("udp")
	h.process.Process.Signal(syscall.SIGSTOP)
	const sent = 40_000
	message := []byte("<13>x: " + strings.Repeat("y", 1000))
	for range sent {
		conn.Write(message)
	}
	h.process.Process.Signal(syscall.SIGCONT)
	h.eventually("what the kernel held is read", func() bool {
		s := h.status()
		time.Sleep(50 * time.Millisecond)
		return s.Rules.In > 0 && h.status().Rules.In == s.Rules.In
	})
	conn.Write(message) // brings the count of drops along
	h.eventually("all is accounted for", func() bool {
		in := h.status().Intakes[1]
		return in.Missed > 0 && in.Read+in.Missed == sent+1
	})
}

func TestAFolderThatGoesAwayOrCannotBeWrittenIsWaitedFor(t *testing.T) {
	h := newHost(t, strings.NewReplacer("DIR/all.log", "DIR/small/logs/all.log", "{severity} {text}", "{text}").Replace(plain))
	small := h.mountSmall("10m")
	h.start()
	written := func(n int64) {
		h.eventually("it is written", func() bool { return h.status().Outlets[0].Out == n })
	}
	h.send("udp", "<13>x: one")
	written(1)
	os.RemoveAll(filepath.Join(small, "logs"))
	h.eventually("the folder is made again", func() bool {
		_, err := os.Stat(filepath.Join(small, "logs/all.log"))
		return err == nil
	})
	h.send("udp", "<13>x: two")
	written(2)
	h.stop()
	if err := syscall.Mount("", small, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""); err != nil {
		t.Fatal(err)
	}
	h.start()
	h.send("udp", "<13>x: three")
	h.eventually("the outlet tells its trouble", func() bool { return strings.Contains(h.status().Outlets[0].Trouble, "read-only") })
	if err := syscall.Mount("", small, "", syscall.MS_REMOUNT, ""); err != nil {
		t.Fatal(err)
	}
	written(1)
	if got := fmt.Sprint(h.lines("small/logs/all.log")); got != "[two three]" {
		t.Errorf("the file has %s", got)
	}
}
