package plan

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const someBounds = `read: [/var/log, /srv/pumps, /etc/oakbarrel/keys]
write: [/var/log/lantern, /run/gate]
ports: [514, "6000-6100"]
receivers: [logs.lantern.example, "relay.lantern.example:514"]
memory: 64MiB
disk: 1GiB
floor: 10%
`

func bounds(t *testing.T, text string) *Bounds {
	t.Helper()
	b, findings := ParseBounds("bounds.yaml", []byte(text))
	if b == nil {
		t.Fatal(findings)
	}
	return b
}

// servedPlan returns a plan of the service with what a host adds; add is what is tried.
func servedPlan(add string) []byte {
	text := "oakbarrel: 1\n" + add + "\n"
	if !strings.Contains(add, "otherwise:") {
		text += "otherwise: {drop: true}\n"
	}
	return Join([]Part{{"gate", []byte(text)}})
}

var ownFile = []byte("plan: served\nservice: {url: 'https://store.lantern.example', token_file: /etc/oakbarrel/token}\n")

// A bound is never passed, whatever is tried.
func TestABoundIsNeverPassed(t *testing.T) {
	file := func(path string) string {
		return fmt.Sprintf("outlets: {all: {file: {path: '%s', roll: {size: 1MiB}, keep: {pieces: 2}}}}", path)
	}
	follow := func(path string) string { return fmt.Sprintf("intakes: {in: {files: {paths: ['%s']}}}", path) }
	tend := func(path, after string) string {
		return fmt.Sprintf("tend: {t: {paths: ['%s'], roll: {size: 1MiB}, keep: {pieces: 2}, how: rename%s}}", path, after)
	}
	listen := func(what, address string) string {
		return fmt.Sprintf("intakes: {in: {syslog: {%s: '%s'}}}", what, address)
	}
	outlet := func(what string) string { return "outlets: {all: {" + what + "}}" }
	var tries []string
	for _, path := range []string{"/etc/passwd", "/", "/var", "/var/log", "/var/logs/x.log", "/var/log/lantern2/x", "/var/log/lantern/../x", "/var/log/lantern/../../../etc/cron.d/x",
		"/var/log/./../spool/x", "//etc/x", "/{host}/x", "/var/log/{app}/x", "/var/log/lan{host}", "/proc/self/mem", "/dev/sda", "/root/.ssh/authorized_keys", "/etc/oakbarrel/bounds.yaml", "/etc/oakbarrel/keys/x"} {
		tries = append(tries, file(path))
	}
	for _, path := range []string{"/etc/shadow", "/*", "/**", "/*/shadow", "/var/*/x", "/var/lo?/x", "/var/log/../../etc/shadow", "/var/log/*/../../../etc/shadow", "/srv/*", "/srv/pump*/x", "/srv/pumps2/x",
		"/[e]tc/shadow", "/etc/[s]hadow", "/etc/oakbarrel/token", "/root/**", "/home/*/.bash_history", "/proc/1/environ", "/dev/kmsg", "/srv"} {
		tries = append(tries, follow(path))
	}
	for _, path := range []string{"/var/log/*.log", "/var/log/syslog", "/etc/*", "/var/log/lantern*/x.log", "/var/log/*/x.log", "/**", "/srv/pumps/a.log", "/var/log/lantern/../*.log"} {
		tries = append(tries, tend(path, ""))
	}
	for _, after := range []string{"{command: [/bin/sh, -c, reboot], within: 5s}", "{signal: HUP, pid_file: /var/log/lantern/p.pid}", "{signal: HUP, pid_file: /run/sshd.pid}", "{command: [/var/log/lantern/x]}"} {
		tries = append(tries, tend("/var/log/lantern/a.log", ", after: "+after))
	}
	for _, address := range []string{":22", ":513", ":515", "127.0.0.1:5999", "[::]:6101", ":0", ":65535"} {
		for _, what := range []string{"udp", "tcp"} {
			tries = append(tries, listen(what, address))
		}
	}
	tries = append(tries,
		listen("socket", "/dev/log"), listen("socket", "auto"), listen("stream", "/run/x.sock"), listen("socket", "/run/gate/../x.sock"),
		"intakes: {in: {pipes: {paths: [/etc/cron.d/x]}}}", "intakes: {in: {pipes: {paths: [/run/gate2/x]}}}", "intakes: {in: {pipes: {paths: [/run/gate/../x]}}}",
		"intakes: {in: {kernel: {}}}", "intakes: {in: {containers: {engine: docker, root: /var/lib/docker/containers}}}",
		"intakes: {in: {otlp: {http: ':4318'}}}", "intakes: {in: {otlp: {grpc: ':4317'}}}", "intakes: {in: {otlp: {http: ':6000', token_file: /etc/oakbarrel/token}}}",
		"intakes: {in: {syslog: {tls: ':6000', certificate: /etc/ssl/x.pem, key_file: /etc/oakbarrel/keys/k, clients: any}}}",
		"intakes: {in: {syslog: {tls: ':6000', certificate: /etc/oakbarrel/keys/c, key_file: /etc/ssl/private/k, clients: any}}}",
		"intakes: {in: {syslog: {tls: ':6000', certificate: /etc/oakbarrel/keys/c, key_file: /etc/oakbarrel/keys/k, clients: /etc/ssl/ca.pem}}}",
		outlet("syslog: {udp: 'evil.example:514'}"), outlet("syslog: {tcp: 'relay.lantern.example:515'}"), outlet("syslog: {tls: '10.0.0.1:514'}"), outlet("syslog: {tcp: 'xlogs.lantern.example:514'}"),
		outlet("http: {url: 'https://evil.example/x'}"), outlet("http: {url: 'https://logs.lantern.example.evil.example/'}"), outlet("http: {url: 'https://logs.lantern.example@evil.example/'}"),
		outlet("http: {url: 'https://logs.lantern.example/', token_file: /etc/oakbarrel/token}"), outlet("http: {url: 'https://logs.lantern.example/', headers: {X-A: {file: /etc/shadow}}}"),
		outlet("http: {url: 'https://logs.lantern.example/', proxy: 'http://evil.example:3128'}"), outlet("http: {url: 'https://logs.lantern.example/', ca_file: /etc/x}"),
		outlet("otlp: {url: 'https://evil.example'}"), outlet("notify: {webhook_file: /etc/shadow}"), outlet("notify: {mail: {server: 'evil.example:25', from: a@b.example, to: c@d.example}}"),
		outlet("store: {cask: gate, service: {url: 'https://evil.example', token_file: /etc/oakbarrel/token}}"), outlet("store: {cask: gate, service: {url: 'https://logs.lantern.example', token_file: /etc/oakbarrel/token}}"),
		"service: {url: 'https://logs.lantern.example', token_file: /etc/oakbarrel/keys/t}", "host: other", "labels: {role: admin}", "plan: own",
		"metrics: {listen: ':9440'}", "memory: 65MiB", "disk: {floor: 9%}", "disk: {floor: 1GiB}", "disk: {floor: 0%}",
		"outlets: {all: {file: {path: /var/log/lantern/x, keep: forever}}}", "outlets: {all: {file: {path: /var/log/lantern/x, roll: {size: 600MiB}, keep: {pieces: 2}}}}",
		outlet("file: {path: '/var/log/lantern/{app}.log', files: 1000, roll: {size: 1MiB}, keep: {pieces: 2}}"),
		"outlets: {all: {store: {cask: gate}, spool: {disk: 2GiB}}}",
	)
	tries = append(tries, "otherwise: {drop: true}\n--- # part host\nhost: other", "otherwise: {drop: true}\n--- # part host\nservice: {url: 'https://evil.example', token_file: /x}", "otherwise: {drop: true}\n--- # part more\nhost: other")
	if len(tries) < 100 {
		t.Errorf("there are %d tries", len(tries))
	}
	b := bounds(t, someBounds)
	for _, try := range tries {
		p, findings := ParseServed("gate.yaml", servedPlan(try), ownFile, b)
		if p != nil {
			t.Errorf("this is let through: %s", try)
			continue
		}
		if text := findings[0].String(); !strings.Contains(text, ".yaml:") {
			t.Errorf("%s: %s", try, text)
		}
	}
}

func TestWhatBoundsAllow(t *testing.T) {
	b := bounds(t, someBounds+"after: commands\n")
	for _, try := range []string{
		"intakes: {in: {files: {paths: ['/var/log/**/*.log', /srv/pumps/a]}}}", "intakes: {in: {syslog: {udp: ':514', tcp: '127.0.0.1:6100', socket: /run/gate/log}}}", "intakes: {own: {own: {}}}",
		"outlets: {all: {file: {path: '/var/log/lantern/{host}/x.log', files: 10, roll: {size: 1MiB}, keep: {pieces: 2}}}}", "outlets: {all: {store: {cask: gate}, spool: {disk: 512MiB}}}",
		"outlets: {all: {http: {url: 'https://LOGS.lantern.example:8443/in', token_file: /etc/oakbarrel/keys/t}}}", "outlets: {all: {syslog: {udp: 'relay.lantern.example:514'}}}",
		"tend: {t: {paths: ['/var/log/lantern/*.log'], roll: {size: 1MiB}, keep: {pieces: 2}, how: rename, after: {command: [/bin/true]}}}", "memory: 64MiB", "disk: {floor: 20%}",
	} {
		if p, findings := ParseServed("gate.yaml", servedPlan(try), ownFile, b); p == nil {
			t.Errorf("%s: %v", try, findings)
		}
	}
}

// Without a file of bounds a plan reads /var/log, writes in the state folder, and does nothing else.
func TestBoundsByDefault(t *testing.T) {
	b, findings, err := LoadBounds(filepath.Join(t.TempDir(), "bounds.yaml"), "/var/lib/oakbarrel")
	if err != nil || findings != nil {
		t.Fatal(findings, err)
	}
	for try, allowed := range map[string]bool{
		"intakes: {in: {files: {paths: ['/var/log/*.log']}}}":                       true,
		"outlets: {all: {file: {path: /var/lib/oakbarrel/all.log, keep: forever}}}": true,
		"outlets: {all: {store: {cask: gate}}}":                                     true,
		"outlets: {all: {file: {path: /var/log/all.log, keep: forever}}}":           false,
		"intakes: {in: {syslog: {udp: ':514'}}}":                                    false,
		"outlets: {all: {syslog: {udp: 'relay.lantern.example:514'}}}":              false,
		"intakes: {in: {files: {paths: ['/srv/*.log']}}}":                           false,
	} {
		if p, findings := ParseServed("gate.yaml", servedPlan(try), ownFile, b); (p != nil) != allowed {
			t.Errorf("%s: %v", try, findings)
		}
	}
}

// A plan from the service never touches the agent's own files, whatever else its bounds allow.
func TestTheAgentsOwnFilesAreLeftAlone(t *testing.T) {
	dir := t.TempDir()
	state, link := filepath.Join(dir, "state"), filepath.Join(dir, "link")
	if err := errors.Join(os.Mkdir(state, 0o755), os.Symlink(state, link)); err != nil {
		t.Fatal(err)
	}
	everything := filepath.Join(dir, "bounds.yaml")
	if err := os.WriteFile(everything, []byte("read: [/]\nwrite: [/]\nports: [514]\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, file := range []string{everything, filepath.Join(dir, "none.yaml")} {
		b, findings, err := LoadBounds(file, link)
		if err != nil || findings != nil {
			t.Fatal(findings, err)
		}
		for path, allowed := range map[string]bool{
			"/all.log": true, "/{app}.log": true, "/logs/{host}/{app}": true, "/logs/served.json": true, "/spooler": true,
			"/served.json": false, "/served.json.twin": false, "/served.json.new": false, "/agent-id": false, "/spool/x": false, "/spool/centre/lane": false,
			"/{app}": false, "/{app}.json": false, "/{app}/x.log": false, "/logs/../token.json": false, "/./token.json": false, "//plan.yaml": false,
		} {
			try := fmt.Sprintf("outlets: {all: {file: {path: '%s%s', keep: forever}}}", link, path)
			if p, findings := ParseServed("gate.yaml", servedPlan(try), ownFile, b); (p != nil) != allowed {
				t.Errorf("%s: %v", try, findings)
			} else if !allowed && !strings.Contains(findings[0].String(), "own; write another path") && !strings.Contains(path, "..") {
				t.Errorf("%s: %v", try, findings)
			}
		}
	}
	b, _, _ := LoadBounds(everything, link)
	for _, try := range []string{
		"intakes: {in: {files: {paths: ['" + state + "/token.json']}}}", "intakes: {in: {files: {paths: ['" + dir + "/*/*.twin']}}}", "intakes: {in: {files: {paths: ['" + dir + "/**']}}}",
		"tend: {t: {paths: ['" + state + "/sp*/*/*'], roll: {size: 1MiB}, keep: {pieces: 2}, how: rename}}", "intakes: {in: {syslog: {socket: " + state + "/control.sock}}}",
		"outlets: {all: {file: {path: '" + state + "/intents/x', keep: forever}}}", "outlets: {all: {file: {path: '" + dir + "/{app}/served.json', keep: forever}}}",
	} {
		if p, _ := ParseServed("gate.yaml", servedPlan(try), ownFile, b); p != nil {
			t.Errorf("this is let through: %s", try)
		}
	}
}

func TestMistakesInBounds(t *testing.T) {
	for text, want := range map[string]string{
		"reed: [/x]\n":        `bounds.yaml:1:1: the file of bounds has no key "reed"; did you mean read?`,
		"read: [log]\n":       `bounds.yaml:1:8: "log" is not the path of a folder; write an absolute path without patterns; all that is in it is meant`,
		"write: ['/srv/*']\n": `bounds.yaml:1:9: "/srv/*" is not the path of a folder`,
		"ports: [99999]\n":    `bounds.yaml:1:9: "99999" is no port; write a port, or a range of them, such as "6000-6100"`,
		"ports: ['9-1']\n":    `bounds.yaml:1:9: "9-1" is no port`,
		"after: comands\n":    `bounds.yaml:1:8: after cannot be "comands"; did you mean commands?`,
		"disk: 5\n":           `bounds.yaml:1:7: disk cannot be "5"; a size has a unit: 5MiB, or 5B for bytes`,
		"floor: 95%\n":        `bounds.yaml:1:8: floor cannot be "95%"`,
		"read: [/x\n":         `bounds.yaml:1:`,
	} {
		b, findings := ParseBounds("bounds.yaml", []byte(text))
		if b != nil || !strings.HasPrefix(findings[0].String(), want) {
			t.Errorf("%q\nwant %s\ngot  %v", text, want, findings)
		}
	}
}

// Bounds that another than root could have written are not taken.
func TestBoundsAreRoots(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can write what is root's")
	}
	file := filepath.Join(t.TempDir(), "bounds.yaml")
	if err := os.WriteFile(file, []byte(someBounds), 0o644); err != nil {
		t.Fatal(err)
	}
	if b, findings, err := LoadBounds(file, "/s"); b == nil {
		t.Fatal(findings, err)
	}
	os.Chmod(file, 0o666)
	if b, findings, _ := LoadBounds(file, "/s"); b != nil || len(findings) != 1 {
		t.Error("a file that all may write is taken", findings)
	}
	os.Chmod(file, 0o644)
	os.Chown(file, 12345, 0)
	if b, findings, _ := LoadBounds(file, "/s"); b != nil || len(findings) != 1 {
		t.Error("a file of another is taken", findings)
	}
	link := file + ".link"
	os.Chown(file, 0, 0)
	os.Symlink(file, link)
	if b, findings, _ := LoadBounds(link, "/s"); b != nil || len(findings) != 1 {
		t.Error("a link is taken", findings)
	}
}
