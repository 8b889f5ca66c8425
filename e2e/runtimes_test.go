package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"testing"
)

const runtimesPlan = `oakbarrel: 1
host: kelp-01
intakes:
  logs: {files: {paths: [DIR/app.log], join: indented, decode: json}, label: {app: till}}
  local: {syslog: {socket: DIR/log.sock, udp: "127.0.0.1:0", decode: json}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, keep: forever}}
`

type said struct{ Host, App, Severity, Text, Intake string }

// saidBy runs a program with its output in a followed file, and then below wrap, and
// returns the n records of each way.
func (h *host) saidBy(t *testing.T, n int, program ...string) (ways map[string][]said) {
	t.Helper()
	before := len(h.lines("all.log"))
	f, err := os.OpenFile(h.dir+"/app.log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	c := exec.Command(program[0], program[1:]...)
	c.Stdout, c.Stderr = f, f
	c.Run() // it fails, as it should
	run(t, append([]string{"wrap", "--app", "till", "--to", h.dir + "/log.sock", "--"}, program...)...)
	ways = map[string][]said{}
	for _, line := range h.waitForLines("all.log", before+2*n)[before:] {
		var r said
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		if r.Host != "kelp-01" || r.App != "till" {
			t.Errorf("it is of host %q and app %q: %s", r.Host, r.App, line)
		}
		ways[r.Intake] = append(ways[r.Intake], r)
	}
	return ways
}

// wantSaid compares records with what they begin with, in any order: what a program says on
// stdout and on stderr has none.
func wantSaid(t *testing.T, ways map[string][]said, want map[string]string) {
	t.Helper()
	for way, records := range ways {
		found := map[string]bool{}
		for _, r := range records {
			for text, severity := range want {
				if strings.HasPrefix(r.Text, text) {
					found[text] = true
					if r.Severity != severity {
						t.Errorf("%s: %q is of severity %s", way, r.Text, r.Severity)
					}
				}
			}
		}
		if len(found) != len(want) || len(records) != len(want) {
			t.Errorf("%s: %d of %d came in %+v", way, len(found), len(want), records)
		}
	}
}

func TestJavasOwnLogger(t *testing.T) {
	if _, err := exec.LookPath("javac"); err != nil {
		t.Skip("there is no JDK")
	}
	h := newHost(t, runtimesPlan)
	h.start()
	const source = `import java.util.logging.*;
public class Feed {
  static final Logger log = Logger.getLogger("bay.feed");
  static void open() { throw new IllegalStateException("no krill", new RuntimeException("hatch is shut")); }
  public static void main(String[] a) {
    log.info("feeding begins");
    log.warning("hatch sticks");
    try { open(); } catch (Exception e) { log.log(Level.SEVERE, "tank 4 not fed", e); }
    log.info("feeding ends");
    open();
  }
}
`
	os.WriteFile(h.dir+"/Feed.java", []byte(source), 0o600)
	ways := h.saidBy(t, 5, "java", "-Duser.language=en", h.dir+"/Feed.java")
	for _, records := range ways { // the line with the time is the first
		for i := range records {
			if head, text, found := strings.Cut(records[i].Text, " Feed main\n"); found && strings.HasSuffix(head, "M") {
				records[i].Text = text
			}
		}
	}
	wantSaid(t, ways, map[string]string{
		"INFO: feeding begins":  "info",
		"WARNING: hatch sticks": "warning",
		"SEVERE: tank 4 not fed\njava.lang.IllegalStateException: no krill\n\tat Feed.open(Feed.java:4)\n": "error",
		"INFO: feeding ends": "info",
		"Exception in thread \"main\" java.lang.IllegalStateException: no krill\n\tat Feed.open(Feed.java:4)\n": "error",
	})
}

func TestNode(t *testing.T) {
	need(t, "node")
	h := newHost(t, runtimesPlan)
	h.start()
	const source = `const log = (level, msg, more) => console.log(JSON.stringify({time: new Date().toISOString(), level, msg, ...more}));
log('warn', 'paper is low', {till: 4, left: 3});
console.error(new TypeError('no such ticket'));
setTimeout(() => { null.sell(); }, 5);
`
	os.WriteFile(h.dir+"/till.js", []byte(source), 0o600)
	ways := h.saidBy(t, 3, "node", h.dir+"/till.js")
	wantSaid(t, ways, map[string]string{
		"paper is low":                       "warning",
		"TypeError: no such ticket\n    at ": "error",
		h.dir + "/till.js:4\nsetTimeout(() => { null.sell(); }, 5);\n                        ^\n\nTypeError: Cannot read": "error",
	})
	if all := strings.Join(h.lines("all.log"), "\n"); strings.Count(all, `"till":4,"left":3`) != 2 {
		t.Errorf("fields are missing in\n%s", all)
	}

	before := len(h.lines("all.log"))
	udp := h.address("udp")
	const send = `const s = require('dgram').createSocket('udp4');
s.send('<11>1 - - till 7 - - ' + JSON.stringify({level: 'fatal', msg: 'no paper', till: 4}), process.argv[1], '127.0.0.1', () => s.close());`
	if out, err := exec.Command("node", "-e", send, udp[strings.LastIndex(udp, ":")+1:]).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	const want = `"severity":"critical","host":"127.0.0.1","agent":"kelp-01","app":"till","procid":"7","text":"no paper","fields":{"level":"fatal","till":4}`
	if line := h.waitForLines("all.log", before+1)[before]; !strings.Contains(line, want) {
		t.Errorf("%s", line)
	}
}
