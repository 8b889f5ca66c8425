package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
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
		for _, args := range [][]string{{"read", "--since", "1h", "--oldest-first"}, {"count", "--since", "1h", "--by", "severity"}, {"cask", "show", "gateway"}} {
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
