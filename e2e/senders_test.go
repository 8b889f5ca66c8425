package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Programs that we did not write send here; what they say must arrive whole.

// arrived is a record as a file outlet writes it in JSON.
type arrived struct {
	Facility, Severity, Host, Agent, App, ProcID, MsgID, Text string
	Fields                                                    map[string]map[string]any
}

// heard runs a program and returns the records it makes.
func (h *host) heard(t *testing.T, n int, program string, args ...string) (records []arrived) {
	t.Helper()
	before := len(h.lines("all.log"))
	c := exec.Command(program, args...)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", program, err, out)
	}
	for _, line := range h.waitForLines("all.log", before+n)[before:] {
		var r arrived
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		records = append(records, r)
	}
	return records
}

func listener(t *testing.T) (h *host, udpPort, tcpPort, socket string) {
	h = newHost(t, strings.Replace(plain, "'{severity} {text}'", "json", 1))
	h.start()
	port := func(network string) string { a := h.address(network); return a[strings.LastIndex(a, ":")+1:] }
	return h, port("udp"), port("tcp"), h.address("unix")
}

// need skips a test where a program is missing; in CI it must be there.
func need(t testing.TB, program string) {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatalf("%s must be installed in CI", program)
		}
		t.Skipf("%s is not installed", program)
	}
}

func TestLoggerInAllItsForms(t *testing.T) {
	need(t, "logger")
	h, udp, tcp, socket := listener(t)
	for _, c := range []struct {
		name string
		args []string
	}{
		{"socket", []string{"-u", socket}},
		{"socket, RFC 5424", []string{"-u", socket, "--rfc5424"}},
		{"UDP, RFC 5424", []string{"-n", "127.0.0.1", "-P", udp, "-d", "--rfc5424"}},
		{"UDP, RFC 3164", []string{"-n", "127.0.0.1", "-P", udp, "-d", "--rfc3164"}},
		{"UDP, RFC 5424 without a time", []string{"-n", "127.0.0.1", "-P", udp, "-d", "--rfc5424=notime"}},
		{"UDP, RFC 5424 without a host", []string{"-n", "127.0.0.1", "-P", udp, "-d", "--rfc5424=nohost"}},
		{"TCP, RFC 5424", []string{"-n", "127.0.0.1", "-P", tcp, "-T", "--rfc5424"}},
		{"TCP, RFC 3164", []string{"-n", "127.0.0.1", "-P", tcp, "-T", "--rfc3164"}},
		{"TCP, counted", []string{"-n", "127.0.0.1", "-P", tcp, "-T", "--octet-count"}},
	} {
		args := append(c.args, "-p", "local3.err", "-t", "pumpd", "--id=412", "pump P7: stalled [é]")
		r := h.heard(t, 1, "logger", args...)[0]
		if r.Facility != "local3" || r.Severity != "error" || r.App != "pumpd" || r.ProcID != "412" || r.Text != "pump P7: stalled [é]" {
			t.Errorf("%s: %+v", c.name, r)
		}
		machine, _ := os.Hostname()
		host := machine // as it claims
		switch {
		case c.name == "socket":
			host = "reef-02" // of the plan: programs of a host do not name it
		case strings.Contains(c.name, "without a host"):
			host = "127.0.0.1"
		}
		if r.Host != host || r.Agent != "reef-02" {
			t.Errorf("%s: it is of host %q and agent %q, want %q", c.name, r.Host, r.Agent, host)
		}
	}
	if r := h.heard(t, 1, "logger", "-u", socket, "-t", "Joe App", "sold")[0]; r.App != "Joe App" || r.Host != "reef-02" || r.Text != "sold" {
		t.Errorf("a name with a space: %+v", r)
	}
	r := h.heard(t, 1, "logger", "-n", "127.0.0.1", "-P", udp, "-d", "--rfc5424", "--msgid", "STALL", "--sd-id", "pump@32473", "--sd-param", `id="P7"`, "--sd-param", `rpm="212"`, "text")[0]
	if r.MsgID != "STALL" || r.Fields["pump@32473"]["id"] != "P7" || r.Fields["pump@32473"]["rpm"] != "212" {
		t.Errorf("structured data: %+v", r)
	}
	file := filepath.Join(h.dir, "three")
	os.WriteFile(file, []byte("one\n<165>two\n\nthree\n"), 0o600)
	rs := h.heard(t, 3, "logger", "-n", "127.0.0.1", "-P", tcp, "-T", "--prio-prefix", "-e", "-t", "x", "-f", file)
	if rs[1].Facility != "local4" || rs[1].Severity != "notice" || rs[1].Text != "two" || rs[2].Text != "three" {
		t.Errorf("a file with priorities: %+v", rs)
	}
}

func TestPythonHandlers(t *testing.T) {
	need(t, "python3")
	h, udp, tcp, socket := listener(t)
	const script = `
import logging, logging.handlers, socket, sys
way, where = sys.argv[1], sys.argv[2]
H = logging.handlers.SysLogHandler
if way == "unix":
    h = H(address=where, facility=H.LOG_LOCAL3)
else:
    h = H(address=("127.0.0.1", int(where)), facility=H.LOG_LOCAL3, socktype=socket.SOCK_STREAM if way == "tcp" else socket.SOCK_DGRAM)
h.setFormatter(logging.Formatter("pumpd[%(process)d]: %(message)s"))
log = logging.getLogger("pumpd")
log.addHandler(h)
log.setLevel(logging.DEBUG)
log.error("pump P7 stalled, größe %d", 5)
log.warning("second")
h.setFormatter(logging.Formatter("%(message)s"))
log.critical("no tag here")
h.close()
`
	for way, where := range map[string]string{"udp": udp, "tcp": tcp, "unix": socket} {
		rs := h.heard(t, 3, "python3", "-c", script, way, where)
		if r := rs[0]; r.Facility != "local3" || r.Severity != "error" || r.App != "pumpd" || r.ProcID == "" || r.Text != "pump P7 stalled, größe 5" {
			t.Errorf("%s: %+v", way, r)
		}
		if rs[1].Severity != "warning" || rs[1].Text != "second" || rs[2].Severity != "critical" || rs[2].Text != "no tag here" || rs[2].App != "" {
			t.Errorf("%s: %+v", way, rs[1:])
		}
	}
}

func TestPerlSysSyslog(t *testing.T) {
	need(t, "perl")
	h, udp, tcp, socket := listener(t)
	const script = `
use Sys::Syslog qw(:standard :macros setlogsock);
my ($way, $where) = @ARGV;
$way eq "unix" ? setlogsock({type => "unix", path => $where}) : setlogsock({type => $way, host => "127.0.0.1", port => $where}) or die "no socket: $!";
openlog("pumpd", "pid,ndelay", LOG_LOCAL3);
syslog(LOG_ERR, "pump %s stalled: 100%%", "P7") or die;
syslog("info|auth", "second") or die;
closelog();
`
	for way, where := range map[string]string{"udp": udp, "tcp": tcp, "unix": socket} {
		rs := h.heard(t, 2, "perl", "-e", script, way, where)
		if r := rs[0]; r.Facility != "local3" || r.Severity != "error" || r.App != "pumpd" || r.ProcID == "" || r.Text != "pump P7 stalled: 100%" {
			t.Errorf("%s: %+v", way, r)
		}
		if r := rs[1]; r.Facility != "auth" || r.Severity != "info" || r.Text != "second" {
			t.Errorf("%s: %+v", way, r)
		}
	}
}
