package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"syscall"
	"testing"
	"time"
)

const lantern = `oakbarrel: 1
intakes: {wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0"}}}
rules:
  - name: probe chatter
    when: app is "salinity-probe" and severity at most info
    drop: true
  - name: all
    when: any
    send: [everything]
  - name: sign-ins
    when: facility in (auth, authpriv)
    send: [signins, everything]
    then: done
  - name: worst
    when: severity at least critical
    send: [centre]
otherwise: {send: [everything]}
outlets:
  everything: {file: {path: DIR/all.log, format: '{time} {severity} {host} {app}: {text}', roll: {size: 1KiB}, keep: {pieces: 100}, compress: gzip}}
  signins: {file: {path: DIR/signins.log, keep: forever}}
  centre: {file: {path: DIR/centre.log, format: rfc5424, keep: forever}}
`

func TestPlanCheck(t *testing.T) {
	h := newHost(t, lantern)
	if out := expect(t, 0, "", "", "plan", "check", h.plan); out != "" {
		t.Errorf("a good plan gives %q", out)
	}
	h.setPlan(strings.NewReplacer("at least critical", "at least critcal", "compress: gzip", "compress: zip", "when: any", "when: any # all").Replace(lantern))
	out := expect(t, 1, "", "", "plan", "check", h.plan)
	want := h.plan + ":15:29: 'critcal' is not a severity; did you mean critical?\n" + h.plan + ":19:"
	if !strings.HasPrefix(out, want) || strings.Count(out, "\n") != 2 {
		t.Errorf("got %s", out)
	}
	var answer struct {
		File     string
		Valid    bool
		Findings []struct {
			Line, Column     int
			Kind, What, Mend string
		}
	}
	if err := json.Unmarshal([]byte(expect(t, 1, "", "", "plan", "check", h.plan, "--output", "json")), &answer); err != nil {
		t.Fatal(err)
	}
	if f := answer.Findings; answer.Valid || len(f) != 2 || f[0].Line != 15 || f[0].Kind != "error" || f[0].Mend != "did you mean critical?" {
		t.Errorf("%+v", answer)
	}
	h.setPlan(strings.Replace(lantern, "severity at most info", "app is pumpd", 1))
	expect(t, 0, ":5:11: warning: this condition can never hold; ", "", "plan", "check", h.plan)
	expect(t, 3, "", "no such file", "plan", "check", h.plan+"x")
	expect(t, 2, "", "something is missing; write: oakbarrel plan check FILE", "plan", "check")
	expect(t, 2, "", `plan has no command "chk"; it has check, compare`, "plan", "chk")
	expect(t, 2, "", `agent cannot be given ["plan.yaml"]; write: oakbarrel agent [--plan FILE]`, "agent", "plan.yaml")
}

type explanation struct {
	Record struct{ App, Severity, Text string }
	Rules  []struct {
		Name             string
		Matched, Reached bool
		Because          string
	}
	GoesTo    []string `json:"goes_to"`
	Otherwise bool
	DroppedBy *string `json:"dropped_by"`
}

func TestPlanExplain(t *testing.T) {
	h := newHost(t, lantern)
	explain := func(line string) (x explanation) {
		t.Helper()
		if err := json.Unmarshal([]byte(expect(t, 0, "", "", "plan", "explain", h.plan, "--line", line, "--output", "json")), &x); err != nil {
			t.Fatal(err)
		}
		return x
	}
	x := explain("<34>1 - h door - - - forced")
	if !reflect.DeepEqual(x.GoesTo, []string{"everything", "signins"}) || len(x.Rules) != 4 || x.Rules[3].Reached || !x.Rules[3].Matched || x.Rules[0].Because != `app is "salinity-probe": app is "door"` || x.Record.Severity != "critical" {
		t.Errorf("%+v", x)
	}
	if x := explain("<134>salinity-probe: 34.9"); len(x.GoesTo) != 0 || x.DroppedBy == nil || *x.DroppedBy != "probe chatter" || x.Rules[1].Reached {
		t.Errorf("%+v", x)
	}
	text := expect(t, 0, "goes to everything, centre", "", "plan", "explain", h.plan, "--line", "<130>pumpd[4]: \x1b]0;evil\x07 stall")
	if strings.Contains(text, "\x1b") || !strings.Contains(text, `severity at least critical: severity is critical`) {
		t.Errorf("%q", text)
	}
	file := filepath.Join(h.dir, "messages")
	os.WriteFile(file, []byte("<134>salinity-probe: a\r\n<34>door: b\n\n<134>pumpd: c"), 0o600)
	out := expect(t, 0, "", "", "plan", "explain", h.plan, "--file", file)
	for _, want := range []string{"3 messages", "  1  probe chatter        1\n", "  2  all                  2\n", "  everything            2\n", "  nowhere (dropped)     1\n"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	lines := strings.Split(strings.TrimSpace(expect(t, 0, "", "", "plan", "explain", h.plan, "--file", file, "--output", "json")), "\n")
	if len(lines) != 3 || !strings.Contains(lines[2], `"text":"c"`) {
		t.Errorf("%q", lines)
	}
	expect(t, 2, "", "one message or a file", "plan", "explain", h.plan)
	h.setPlan("oakbarrel: 3\n")
	expect(t, 1, "", "plan.yaml:1:12", "plan", "explain", h.plan, "--line", "x")
}

func TestSendAndShow(t *testing.T) {
	h := newHost(t, lantern)
	h.start()
	to := "tcp://" + h.address("tcp")
	file := filepath.Join(h.dir, "messages")
	os.WriteFile(file, []byte("<34>1 2026-11-25T10:00:00Z tide-gw door-badge 7 - [b id=\"7714\"] refused\nplain \x1b[2J text\n"), 0o600)
	expect(t, 0, "sent 2 messages to "+to, "", "send", "--to", to, "--priority", "local3.error", "--app", "pumpd", "--file", file)
	expect(t, 0, `{"sent":100,"to":"`+to+`"}`, "", "send", "--to", to, "--priority", "local3.warning", "--app", "pumpd", "--host", "reef-02", "--form", "rfc3164", "--count", "100", "pump", "P7", "slow", "--output", "json")
	expect(t, 0, "sent 1 message", "", "send", "--to", "udp://"+h.address("udp"), "the last")
	h.eventually("all is written", func() bool { s := h.status(); return s.Outlets[0].Out == 103 && s.Outlets[0].Pieces > 3 })

	show := func(args ...string) []string {
		t.Helper()
		return strings.Split(strings.TrimSpace(expect(t, 0, "", "", append([]string{"show", "--state", h.state}, args...)...)), "\n")
	}
	all := show("everything")
	if len(all) != 103 || all[0] != "2026-11-25T10:00:00Z critical tide-gw door-badge: refused" || !strings.HasSuffix(all[1], `plain \u001b[2J text`) || !strings.HasSuffix(all[102], "oakbarrel: the last") {
		t.Errorf("%d lines: %q … %q", len(all), all[0], all[len(all)-1])
	}
	if byPath := show(filepath.Join(h.dir, "all.log")); !reflect.DeepEqual(byPath, all) {
		t.Error("by path it shows something else")
	}
	if last := show("everything", "--last", "50"); !reflect.DeepEqual(last, all[53:]) {
		t.Errorf("the last 50: %d lines", len(last))
	}
	if got := show("everything", "--where", "severity at least error"); !reflect.DeepEqual(got, all[:2]) {
		t.Errorf("errors: %q", got)
	}
	if got := show("everything", "--where", "host is REEF-02 and severity is warning", "--last", "3"); !reflect.DeepEqual(got, all[99:102]) {
		t.Errorf("the last 3 of reef-02: %q", got)
	}
	if got := show("centre", "--where", `field b.id is "7714"`, "--output", "json"); len(got) != 1 || !strings.Contains(got[0], `"fields":{"b":{"id":"7714"}}`) && got[0] != "" {
		t.Errorf("centre: %q", got)
	}
	if got := show("signins", "--where", `field b.id is "7714"`); len(got) != 1 || !strings.Contains(got[0], `"app":"door-badge"`) {
		t.Errorf("signins: %q", got)
	}
	expect(t, 2, "", "--where, column 20: 'loud' is not a severity", "show", "everything", "--state", h.state, "--where", "severity at least  loud")
	expect(t, 3, "", "the outlets are everything, signins, centre", "show", "nothing", "--state", h.state)
	expect(t, 3, "", "no agent has left a plan", "show", "nothing", "--state", h.dir+"/none")
	h.stop()
	if again := show("everything"); !reflect.DeepEqual(again, all) {
		t.Error("without the agent it shows something else")
	}
}

func TestShowFollows(t *testing.T) {
	h := newHost(t, lantern)
	h.start()
	h.send("udp", "<13>x: before")
	h.waitForLines("all.log", 1)
	c := exec.Command(binary, "show", "everything", "--state", h.state, "--follow", "--where", "text contains number or text contains before")
	out, _ := c.StdoutPipe()
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	var sent, got []string
	conn := h.dial("tcp")
	lines := make(chan string, 1000)
	go func() {
		b := make([]byte, 64<<10)
		var rest string
		for {
			n, err := out.Read(b)
			rest += string(b[:n])
			for line, after, ok := strings.Cut(rest, "\n"); ok; line, after, ok = strings.Cut(rest, "\n") {
				lines <- line[strings.LastIndex(line, ": ")+2:]
				rest = after
			}
			if err != nil {
				close(lines)
				return
			}
		}
	}()
	sent = append(sent, "before")
	for i := range 200 { // some hundred bytes each, so that the set is rolled again and again
		text := fmt.Sprintf("number %d %s", i, strings.Repeat("y", 100))
		fmt.Fprintf(conn, "<13>x: %s\n<13>x: other\n", text)
		sent = append(sent, text)
		if i%50 == 0 {
			time.Sleep(150 * time.Millisecond)
		}
	}
	for len(got) < len(sent) {
		select {
		case line := <-lines:
			got = append(got, line)
		case <-time.After(10 * time.Second):
			t.Fatalf("only %d of %d lines come", len(got), len(sent))
		}
	}
	if !reflect.DeepEqual(got, sent) {
		t.Errorf("got %.200q", got)
	}
	c.Process.Signal(syscall.SIGINT)
	for range lines {
	}
	if err := c.Wait(); err != nil {
		t.Errorf("interrupted, it ends with %v", err)
	}
}

func TestSendSaysWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	expect(t, 3, "", "nobody listens there", "send", "--to", "tcp://127.0.0.1:1", "x")
	expect(t, 3, "", "nobody listens there", "send", "--to", "udp://127.0.0.1:1", "x")
	expect(t, 3, "", "there is no such socket", "send", "--to", "unix:"+dir+"/none", "x")
	for _, args := range [][]string{
		{}, {"--to", "nowhere", "x"}, {"--to", "http://127.0.0.1:1", "x"}, {"--priority", "loud", "x"}, {"--form", "xml", "x"}, {"--count", "0", "x"}, {"--file", "y", "x"}, {"--output", "xml", "x"}, {"--nonsense"},
	} {
		if _, stderr, code := run(t, append([]string{"send"}, args...)...); code != 2 || stderr == "" {
			t.Errorf("send %q: exit code %d, %q", args, code, stderr)
		}
	}
	expect(t, 3, "", "no such file", "send", "--to", "udp://127.0.0.1:1", "--file", dir+"/none")
}

// Every command shows two examples of Lantern Bay, and the documents have it.
func TestEveryCommandIsExplained(t *testing.T) {
	doc, err := os.ReadFile("../docs/commands.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, command := range []string{"agent", "status", "plan", "plan check", "plan explain", "plan matrix", "plan compare", "detail", "detail open", "detail close", "trace", "doctor", "send", "show", "demo",
		"plan try", "followed", "followed set-back", "containers", "wrap", "serve", "account", "account add", "account list", "account set", "account remove", "token", "token new", "token list", "token revoke", "read", "count", "casks", "hosts",
		"hosts label", "hosts show", "plans", "plans list", "plans show", "plans put", "plans compare", "plans check", "plans pull", "plans push", "assign", "rollout", "rollout start", "rollout list", "rollout watch", "rollout pause", "rollout go-on", "rollout take-back"} {
		help := expect(t, 0, "Examples:", "", append(strings.Fields(command), "--help")...)
		_, examples, _ := strings.Cut(help, "Examples:\n")
		examples, _, _ = strings.Cut(examples, "\n\n")
		if n := strings.Count(examples, "  oakbarrel "); n != 2 {
			t.Errorf("%s shows %d examples", command, n)
		}
		if !strings.Contains(string(doc), "## oakbarrel "+command+"\n") {
			t.Errorf("docs/commands.md does not have %s", command)
		}
	}
}

func TestDemo(t *testing.T) {
	dir := shortDir(t)
	c := exec.Command(binary, "demo", "--dir", dir, "--rate", "200")
	var out strings.Builder
	c.Stdout, c.Stderr = &out, &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer c.Process.Kill()
	h := &host{t: t, dir: dir}
	var demo struct {
		Agents     []struct{ Name, Plan, State, UDP, TCP, Socket string }
		URL, Token string
		WriteToken string `json:"write_token"`
	}
	h.eventually("demo.json is written", func() bool {
		b, err := os.ReadFile(filepath.Join(dir, "demo.json"))
		return err == nil && json.Unmarshal(b, &demo) == nil
	})
	if st, _ := os.Stat(filepath.Join(dir, "demo.json")); st.Mode().Perm() != 0o600 {
		t.Errorf("mode %v", st.Mode())
	}
	if len(demo.Agents) != 2 {
		t.Fatalf("%+v", demo)
	}
	for _, a := range demo.Agents {
		expect(t, 0, "", "", "plan", "check", a.Plan)
		expect(t, 0, "sent 1", "", "send", "--to", "udp://"+a.UDP, "--app", "by-hand", "hello over udp")
		expect(t, 0, "sent 1", "", "send", "--to", "tcp://"+a.TCP, "--app", "by-hand", "hello over tcp")
		expect(t, 0, "sent 1", "", "send", "--to", "unix:"+a.Socket, "--app", "by-hand", "hello over unix")
		h.eventually("the messages are in the file", func() bool {
			shown, _, _ := run(t, "show", "everything", "--state", a.State, "--where", "app is by-hand")
			return strings.Count(shown, "hello over") == 3
		})
	}
	if _, err := exec.LookPath("mariadbd"); err == nil {
		t.Setenv("OAKBARREL_URL", demo.URL)
		t.Setenv("OAKBARREL_TOKEN", demo.Token)
		h.eventually("history and the present are in the store", func() bool {
			past, _, _ := run(t, "count", "--since", "2h", "--until", "30m", "--output", "json")
			now, _, _ := run(t, "read", "--since", "1m", "--where", "app is by-hand")
			return !strings.Contains(past, `{"total":0`) && strings.Count(now, "hello over tcp") == 1 // reef-02 sends pumps and alarms only
		})
	}
	h.eventually("a pump stalls", func() bool {
		shown, _, _ := run(t, "show", "alarms", "--state", demo.Agents[0].State)
		return strings.Contains(shown, "loop reef has no flow")
	})
	for _, a := range demo.Agents {
		expect(t, 0, "balance  closes", "", "status", "--state", a.State)
	}
	c.Process.Signal(syscall.SIGTERM)
	if err := c.Wait(); err != nil {
		t.Errorf("the demo ends with %v: %s", err, out.String())
	}
	for _, a := range demo.Agents {
		expect(t, 1, "", "no agent runs", "status", "--state", a.State)
	}
}
