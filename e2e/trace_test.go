package e2e

import (
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oakbarrel/agent/doctor"
)

type traced struct {
	Mark    string
	Arrived bool
	Hops    []struct {
		Hop, Outlet, Detail string
		Ms                  float64
		Done                bool
	}
}

func (h *host) trace(code int, args ...string) (t traced) {
	h.t.Helper()
	out := expect(h.t, code, "", "", append([]string{"trace", "--state", h.state, "--wait", "2s", "--output", "json"}, args...)...)
	if err := json.Unmarshal([]byte(out), &t); err != nil {
		h.t.Fatalf("%v: %s", err, out)
	}
	return t
}

// has returns the detail of a hop.
func (t traced) has(hop string) string {
	for _, h := range t.Hops {
		if h.Hop == hop {
			return h.Detail
		}
	}
	return ""
}

func TestARecordIsTraced(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
host: reef-02
intakes: {wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0", allow: ["127.0.0.2"]}}, local: {syslog: {socket: DIR/log.sock}}}
rules:
  - {name: quiet, when: severity is debug, drop: true}
  - {name: pumps, when: app is pumpd, severity: error, send: [all, broken], then: done}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{severity} {text}', keep: forever}}
  broken: {file: {path: DIR/no/such/file.log, keep: forever}}
`)
	os.WriteFile(filepath.Join(h.dir, "no"), nil, 0o600) // a file where a folder is wanted
	h.start()
	socket := "unix:" + filepath.Join(h.dir, "log.sock")
	h.send("unix", "<13>x: before")
	h.written(1)
	tr := h.trace(0, "--to", socket)
	if !tr.Arrived || tr.has("taken in") != "by intake local" || tr.has("rules") != "no rule matches, so otherwise acts; goes to all" || tr.has("written") != filepath.Join(h.dir, "all.log")+", offset 14" {
		t.Errorf("%+v", tr)
	}
	tr = h.trace(1, "--to", socket, "--app", "pumpd")
	if tr.Arrived || tr.has("rules") != "matched pumps (severity notice becomes error); goes to all, broken" || !strings.Contains(tr.Hops[len(tr.Hops)-1].Detail, "not a directory") {
		t.Errorf("%+v", tr)
	}
	if tr = h.trace(1, "--to", socket, "--priority", "user.debug"); tr.has("rules") != "matched quiet; dropped by quiet; goes nowhere" {
		t.Errorf("%+v", tr)
	}
	if tr = h.trace(1); !strings.Contains(tr.has("taken in"), "the agent has not seen it") { // from 127.0.0.1, by UDP
		t.Errorf("%+v", tr)
	}
	expect(t, 3, "", "no agent runs", "trace", "--state", h.dir)
	expect(t, 2, "", "--priority cannot be", "trace", "--state", h.state, "--priority", "loud")
}

func TestATraceGoesToTheStore(t *testing.T) {
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	setenv(t, "OAKBARREL_URL", s.url())
	setenv(t, "OAKBARREL_TOKEN", s.token("gateway", "read"))
	if tr := h.trace(0); !tr.Arrived || tr.has("spooled") != "for cask gateway" || tr.has("confirmed") == "" || tr.has("found") != "by a search in the store" {
		t.Errorf("%+v", tr)
	}
	setenv(t, "OAKBARREL_TOKEN", s.token("other", "read"))
	if tr := h.trace(1); !strings.Contains(tr.has("found"), "may be for another cask") {
		t.Errorf("%+v", tr)
	}
	os.WriteFile(filepath.Join(h.dir, "token"), []byte("wrong"), 0o600)
	if tr := h.trace(1); !strings.Contains(tr.has("confirmed"), "the token is not known here") {
		t.Errorf("%+v", tr)
	}
}

func TestTheDoctor(t *testing.T) {
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	look := func(code int, plan, state string) map[string]string {
		t.Helper()
		var checks []doctor.Check
		out := expect(t, code, "", "", "doctor", "--plan", plan, "--state", state, "--output", "json")
		if err := json.Unmarshal([]byte(out), &checks); err != nil {
			t.Fatal(err, out)
		}
		said := map[string]string{}
		for _, c := range checks {
			said[c.Subject] += c.Verdict + ": " + c.What + "\n"
		}
		return said
	}
	if said := look(0, h.plan, h.state); !strings.HasPrefix(said["agent"], "warning: no agent runs") || !strings.Contains(said["intake wire"], "can be opened") || !strings.Contains(said["outlet centre"], "takes it into cask gateway") || !strings.HasPrefix(said["clock"], "ok") {
		t.Errorf("%v", said)
	}
	h.start()
	if said := look(0, h.plan, h.state); !strings.HasPrefix(said["agent"], "ok: process") {
		t.Errorf("%v", said)
	}
	os.WriteFile(filepath.Join(h.dir, "token"), []byte("wrong"), 0o644)
	os.Chmod(filepath.Join(h.dir, "token"), 0o644)
	good, _ := os.ReadFile(h.plan)
	h.setPlan(string(good) + "# changed")
	if said := look(1, h.plan, h.state); !strings.Contains(said["outlet centre"], "the token is not known here") || !strings.Contains(said["token"], "may be read by everybody") || !strings.Contains(said["agent"], "changed on disk") {
		t.Errorf("%v", said)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	certificate(t, h.dir)
	os.WriteFile(filepath.Join(h.dir, "file"), nil, 0o600)
	h.setPlan(`oakbarrel: 1
intakes: {wire: {syslog: {tcp: "` + l.Addr().String() + `"}}, secure: {syslog: {tls: "127.0.0.1:0", certificate: lantern.pem, key_file: lantern.key, clients: anyone}}}
otherwise: {send: [all]}
outlets: {all: {file: {path: DIR/file/all.log, keep: {total: 900000GiB}}}}
`)
	said := look(1, h.plan, filepath.Join(h.dir, "none"))
	for subject, want := range map[string]string{"intake wire": "is taken by another program", "intake secure": "its certificate ends on", "outlet all": "is not a folder"} {
		if !strings.Contains(said[subject], want) {
			t.Errorf("%s: %s", subject, said[subject])
		}
	}
	h.setPlan("oakbarrel: 2\n")
	if said := look(1, h.plan, h.state); !strings.Contains(said["plan"], "there is no version") {
		t.Errorf("%v", said)
	}
}
