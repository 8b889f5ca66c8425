package doctor

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What would stop a host from working is found, each with a remedy; nothing is
// changed.
func TestASickHostIsDiagnosed(t *testing.T) {
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := closed.Addr().String()
	closed.Close()
	heard, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path("heard.sock"), Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer heard.Close()
	for name, content := range map[string]string{"not-a-socket": "x", "cert.pem": "no certificate", "key.pem": "", "token": "\n", "not-a-folder": "x"} {
		if err := os.WriteFile(path(name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/run/elsewhere", path("link.sock")); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(path("engine/c0ffee"), 0o755); err != nil { // of a container that has said nothing
		t.Fatal(err)
	}
	plan := strings.NewReplacer("DIR", dir, "TAKEN", taken.Addr().String(), "NOBODY", nobody).Replace(`oakbarrel: 1
service: {url: "http://NOBODY", token_file: DIR/token}
intakes:
  wire: {syslog: {tcp: "TAKEN", udp: "127.0.0.1:0", tls: "127.0.0.1:0", certificate: DIR/cert.pem, key_file: DIR/key.pem, clients: anyone}}
  one: {syslog: {socket: DIR/not-a-socket}}
  two: {syslog: {socket: DIR/heard.sock}}
  three: {syslog: {socket: DIR/link.sock}}
  four: {syslog: {socket: DIR/fresh/log.sock}}
  pumps: {files: {paths: [DIR/*.log]}}
  boxes: {containers: {engine: docker, root: DIR/engine}}
  none: {containers: {engine: docker, root: DIR/nowhere}}
rules: []
otherwise: {send: [all, inside, relay, lines, duty, centre]}
outlets:
  all: {file: {path: DIR/out/all.log, keep: forever}}
  inside: {file: {path: DIR/not-a-folder/x.log, keep: forever}}
  relay: {syslog: {tcp: "NOBODY"}}
  lines: {http: {url: "http://NOBODY/", token_file: DIR/none}}
  duty: {notify: {webhook_file: DIR/none}}
  centre: {store: {cask: reef}}
`)
	if err := os.WriteFile(path("plan.yaml"), []byte(plan), 0o600); err != nil {
		t.Fatal(err)
	}
	checks := Diagnose(context.Background(), path("plan.yaml"), path("state"))
	for _, want := range []string{
		"intake wire wrong tcp://TAKEN is taken by another program", "intake wire ok udp://127.0.0.1:0 can be opened", "intake wire wrong DIR/cert.pem holds no certificate",
		"intake one wrong DIR/not-a-socket is there already and is not a socket", "intake two wrong another program listens on DIR/heard.sock", "intake three wrong DIR/link.sock is a link to /run/elsewhere",
		"intake boxes ok no container has written anything yet", "intake none warning the folder of the engine's containers cannot be read", "intake four ok DIR/fresh is missing; the agent makes it", "outlet all ok DIR/out is missing", "outlet inside wrong DIR/not-a-folder", "outlet relay wrong tcp NOBODY cannot be reached",
		"outlet lines wrong open DIR/none", "outlet duty wrong open DIR/none", "agent warning no agent runs with DIR/state", "token warning DIR/token may be read by everybody", "outlet centre wrong",
	} {
		want = strings.NewReplacer("DIR", dir, "TAKEN", taken.Addr().String(), "NOBODY", nobody).Replace(want)
		found := false
		for _, c := range checks {
			if strings.HasPrefix(c.Subject+" "+c.Verdict+" "+c.What, want) {
				found = true
				if c.Verdict == VerdictWrong && c.Mend == "" {
					t.Errorf("%s has no remedy", want)
				}
			}
		}
		if !found {
			t.Errorf("it does not say: %s", want)
		}
	}
	if t.Failed() {
		for _, c := range checks {
			t.Logf("%s %s %s", c.Subject, c.Verdict, c.What)
		}
	}
	for _, name := range []string{"state", "fresh", "out"} {
		if _, err := os.Stat(path(name)); err == nil {
			t.Errorf("the doctor has made %s", name)
		}
	}
}

func TestATokenInTheClearIsAWarning(t *testing.T) {
	for address, warns := range map[string]bool{
		"http://logs.lantern.example:8440": true, "http://192.0.2.7/in": true, "http://[2001:db8::1]:8440": true,
		"https://logs.lantern.example:8440": false, "http://127.0.0.1:8440": false, "http://localhost:8440": false, "http://[::1]:8440": false, "": false,
	} {
		d := &doctor{}
		d.lookAtEncryption("service", address)
		if got := len(d.checks) == 1; got != warns {
			t.Errorf("%q: %+v", address, d.checks)
		}
	}
}
