package e2e

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"oakbarrel/demo/mariadb"
)

// Two services before one database give the same answers. An agent that knows
// both goes on with the other when one is killed, and with the first again.
func TestTwoServicesBeforeOneDatabase(t *testing.T) {
	first := newStore(t)
	second := &store{t: t, dir: first.dir, log: new(logBuffer), database: first.database, address: freeAddress(t)}
	second.start()
	t.Cleanup(second.kill)
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: tide-gw
service: {url: ["%s", "%s"], token_file: DIR/token}
intakes: {wire: {syslog: {udp: "127.0.0.1:0"}}}
otherwise: {send: [centre]}
outlets: {centre: {store: {cask: gateway}, batch: {wait: 20ms}}}
`, first.url(), second.url()))
	os.WriteFile(filepath.Join(h.dir, "token"), []byte(first.token("gateway", "write")+"\n"), 0o600)
	h.start()
	reader := first.token("gateway", "read")
	same := func(records int) {
		t.Helper()
		h.waitUntilDelivered(int64(records))
		for _, args := range [][]string{{"read", "--since", "1h", "--oldest-first"}, {"count", "--since", "1h", "--by", "severity"}, {"cask", "show", "gateway", "--output", "json"}} {
			var answers []string
			for _, s := range []*store{first, second} {
				if s.process == nil {
					continue
				}
				out, stderr, code := s.ask(reader, args...)
				if code != 0 {
					t.Fatal(stderr)
				}
				answers = append(answers, out)
			}
			if len(answers) == 2 && answers[0] != answers[1] {
				t.Errorf("%v: the first answers %s\nthe second %s", args, answers[0], answers[1])
			}
			if args[0] == "read" && strings.Count(answers[0], "\n") != records {
				t.Errorf("%d records: %s", records, answers[0])
			}
		}
	}
	h.send("udp", "<11>app: one")
	same(1)
	first.kill()
	h.send("udp", "<11>app: two")
	same(2)
	first.start()
	second.kill()
	h.send("udp", "<11>app: three")
	same(3)
	second.start()
	h.send("udp", "<11>app: four")
	same(4)
}

// Five services that start together on an empty database all serve, and have one store.
func TestFiveServicesStartTogether(t *testing.T) {
	t.Parallel()
	need(t, "mariadbd")
	dir := shortDir(t)
	db, err := mariadb.Start(t.Context(), filepath.Join(dir, "db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Kill)
	file := filepath.Join(dir, "database")
	os.WriteFile(file, []byte(db.DSN+"\n"), 0o600)
	var services []*store
	said := make(chan string)
	for range 5 {
		s := &store{t: t, dir: dir, log: new(logBuffer), database: file, address: freeAddress(t)}
		s.process = exec.Command(binary, "serve", "--listen", s.address, "--database-file", file)
		s.process.Stderr = s.log
		out, err := s.process.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := s.process.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.kill)
		services = append(services, s)
		go func() {
			line, _ := bufio.NewReader(out).ReadString('\n')
			said <- line
		}()
	}
	for range services {
		if line := <-said; line != "ready\n" {
			t.Errorf("a service says %q", line)
		}
	}
	token := services[0].token("gateway", "read")
	for _, s := range services {
		if _, stderr, code := s.ask(token, "casks"); code != 0 {
			t.Errorf("%s\n%s", stderr, s.log)
		}
	}
}
