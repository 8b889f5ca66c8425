package e2e

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/fingerprint"
)

const transports = `oakbarrel: 1
host: tide-gw
intakes: {in: {syslog: {%s}}}
otherwise: {send: [all]}
outlets: {all: {file: {path: DIR/all.log, keep: forever}}}
`

// written waits until so many lines are in the only file, and returns them.
func (h *host) written(n int) string {
	h.t.Helper()
	return strings.Join(h.waitForLines("all.log", n), "\n")
}

func TestAUnixStreamSocketKnowsItsPeer(t *testing.T) {
	h := newHost(t, fmt.Sprintf(transports, "stream: DIR/lines.sock"))
	h.start()
	conn, err := net.Dial("unix", filepath.Join(h.dir, "lines.sock"))
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "<13>pumpd[412]: by line\n<13>pumpd: by NUL\x0018 <13>pumpd: counted<13>pumpd: left")
	conn.Close()
	got := h.written(4)
	if want := fmt.Sprintf(`"peer":{"pid":%d,"uid":%d`, os.Getpid(), os.Getuid()); strings.Count(got, want) != 4 || !strings.Contains(got, `"text":"left"`) {
		t.Errorf("%s", got)
	}
	h.stop()
	if _, err := os.Lstat(filepath.Join(h.dir, "lines.sock")); !os.IsNotExist(err) {
		t.Errorf("the socket is left: %v", err)
	}
}

func TestAnIntakeReadsAsThePlanSays(t *testing.T) {
	h := newHost(t, fmt.Sprintf(transports, `udp: "127.0.0.1:0", tcp: "127.0.0.1:0", largest: 1KiB, default: local3.error, zone: Asia/Tokyo, host: peer`))
	h.start()
	h.send("udp", "no header", "<13>Nov 25 10:15:00 kelp-01 ticketd: sold", "<13>x: "+strings.Repeat("a", 3000))
	h.send("tcp", "<13>1 - claimed ticketd - - - "+strings.Repeat("b", 3000)+"\n<13>x: after\n")
	got := h.written(5)
	for _, want := range []string{`"facility":"local3","severity":"error"`, `10:15:00+09:00"`, `"cut@32473":{}`, `"text":"after"`} {
		if !strings.Contains(got, want) {
			t.Errorf("%s is missing:\n%.2000s", want, got)
		}
	}
	if strings.Count(got, `"host":"127.0.0.1"`) != 5 || strings.Contains(got, strings.Repeat("a", 1020)) || strings.Contains(got, strings.Repeat("b", 1000)) || h.status().Intakes[0].Cut != 2 {
		t.Errorf("%.3000s", got)
	}
}

func TestWhatClaimsToBeOfTheKernelIsMarked(t *testing.T) {
	h := newHost(t, fmt.Sprintf(transports, `udp: "127.0.0.1:0"`))
	h.start()
	h.send("udp", `<4>x: bare`, `<4>1 - - - - - [tank@32473 id="4"] with data`, `<4>1 - - - - - [claimed@32473 facility="kern"] relayed`, `<12>x: of a user`)
	got := h.written(4)
	for _, want := range []string{
		`"text":"bare","fields":{"claimed@32473":{"facility":"kern"}}`, `"text":"with data","fields":{"tank@32473":{"id":"4"},"claimed@32473":{"facility":"kern"}}`,
		`"text":"relayed","fields":{"claimed@32473":{"facility":"kern"}}`, `"text":"of a user","intake"`,
	} {
		if !strings.Contains(got, want) {
			t.Errorf("%s is missing:\n%s", want, got)
		}
	}
}

func TestOnlyAllowedNetworksAreHeard(t *testing.T) {
	h := newHost(t, fmt.Sprintf(transports, `udp: "127.0.0.1:0", tcp: "127.0.0.1:0", allow: ["127.0.0.2", "10.20.0.0/16"]`))
	h.start()
	h.send("udp", "<13>x: from 127.0.0.1")
	conn, err := net.Dial("tcp", h.address("tcp"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Read(make([]byte, 1)); err == nil {
		t.Error("a connection that is not allowed is kept")
	}
	from := net.UDPAddr{IP: net.IPv4(127, 0, 0, 2)}
	to, _ := net.ResolveUDPAddr("udp", h.address("udp"))
	allowed, err := net.DialUDP("udp", &from, to)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(allowed, "<13>x: from 127.0.0.2")
	if got := h.written(1); !strings.Contains(got, "from 127.0.0.2") {
		t.Errorf("%s", got)
	}
	if st := h.status(); st.Intakes[0].TurnedAway != 2 || !st.Balance.Closes {
		t.Errorf("%+v", st.Intakes)
	}
}

func TestConnectionsAreBounded(t *testing.T) {
	h := newHost(t, fmt.Sprintf(transports, `tcp: "127.0.0.1:0", connections: 3, idle: 1s`))
	h.start()
	var conns []net.Conn
	for range 5 {
		c, err := net.Dial("tcp", h.address("tcp"))
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		conns = append(conns, c)
		time.Sleep(20 * time.Millisecond)
	}
	h.eventually("two are turned away", func() bool { return h.status().Intakes[0].TurnedAway == 2 })
	fmt.Fprint(conns[0], "<13>x: begun and never")
	h.eventually("idle ones are closed", func() bool { return h.status().Intakes[0].Connections == 0 })
	if got := h.written(1); !strings.Contains(got, "begun and never") {
		t.Errorf("%s", got)
	}
}

// What openssl sends over TLS arrives; who has no certificate, or another one, is turned away.
func TestTLSWithOpenSSL(t *testing.T) {
	need(t, "openssl")
	h := newHost(t, "")
	openssl := func(args ...string) {
		t.Helper()
		c := exec.Command("openssl", args...)
		c.Dir = h.dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("openssl %v: %v\n%s", args, err, out)
		}
	}
	for _, name := range []string{"ca", "host", "kelp", "stranger"} {
		openssl("req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", name+".key", "-out", name+".pem", "-days", "2", "-subj", "/CN="+name)
	}
	openssl("req", "-new", "-key", "kelp.key", "-subj", "/CN=kelp-01", "-out", "kelp.csr")
	openssl("x509", "-req", "-in", "kelp.csr", "-CA", "ca.pem", "-CAkey", "ca.key", "-CAcreateserial", "-days", "2", "-out", "kelp.pem")
	openssl("x509", "-in", "kelp.pem", "-outform", "DER", "-out", "kelp.der")
	der, _ := os.ReadFile(filepath.Join(h.dir, "kelp.der"))
	plan := func(clients string) string {
		return fmt.Sprintf(transports, `tls: "127.0.0.1:0", certificate: host.pem, key_file: host.key, clients: `+clients)
	}
	send := func(text string, args ...string) {
		c := exec.Command("openssl", append([]string{"s_client", "-quiet", "-no_ign_eof", "-connect", h.address("tls")}, args...)...)
		c.Dir, c.Stdin = h.dir, strings.NewReader(text)
		c.Run()
	}
	as := func(name string) []string { return []string{"-cert", name + ".pem", "-key", name + ".key"} }
	h.setPlan(plan("ca.pem"))
	h.start()
	send("20 <13>kelp: by openssl<13>kelp: rest", as("kelp")...)
	send("<13>x: a stranger\n", as("stranger")...)
	send("<13>x: nobody\n")
	if got := h.written(2); !strings.Contains(got, "by openssl") || !strings.Contains(got, `"text":"rest"`) {
		t.Errorf("%s", got)
	}
	h.eventually("two are turned away", func() bool { return h.status().Intakes[0].TurnedAway == 2 })

	h.setPlan(plan(fmt.Sprintf("[%q]", fingerprint.Of(der))))
	h.reload()
	send("<13>kelp: by fingerprint\n", as("kelp")...)
	send("<13>x: a stranger\n", as("stranger")...)
	h.written(3)
	h.eventually("one more is turned away", func() bool { return h.status().Intakes[0].TurnedAway == 3 })

	h.setPlan(plan("nowhere.pem"))
	if st := h.reload(); st.Plan.Refused == nil || !strings.Contains(st.Plan.Refused.Why, "the authority of the clients cannot be read") {
		t.Errorf("%+v", st.Plan)
	}
	h.setPlan(plan("anyone"))
	h.reload()
	send("<13>x: somebody\n")
	h.written(4)

	// Another certificate is taken without a reload.
	openssl("req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", "host.key", "-out", "host.pem", "-days", "2", "-subj", "/CN=renewed")
	h.eventually("the new certificate is shown", func() bool {
		out, _ := exec.Command("sh", "-c", "openssl s_client -connect "+h.address("tls")+" </dev/null 2>/dev/null").Output()
		return strings.Contains(string(out), "CN = renewed")
	})
}

// An init system holds the socket: what is sent while the agent is away is not lost.
func TestSocketActivation(t *testing.T) {
	h := newHost(t, fmt.Sprintf(transports, "socket: auto"))
	path := filepath.Join(h.dir, "held.sock")
	held, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	file, err := held.File()
	if err != nil {
		t.Fatal(err)
	}
	sender, err := net.Dial("unixgram", path)
	if err != nil {
		t.Fatal(err)
	}
	h.activate = file
	for round := range 3 {
		fmt.Fprintf(sender, "<13>x: while away %d", round)
		h.start()
		fmt.Fprintf(sender, "<13>x: while there %d", round)
		h.written(2 * (round + 1))
		if a := h.status().Intakes[0].Addresses; len(a) != 1 || a[0] != "unix:"+path {
			t.Errorf("addresses %v", a)
		}
		h.stop()
	}
}

func TestWhatTheKernelSays(t *testing.T) {
	if f, err := os.OpenFile("/dev/kmsg", os.O_RDWR, 0); err != nil {
		t.Skipf("the kernel's records cannot be read and written here: %v", err)
	} else {
		f.Close()
	}
	h := newHost(t, strings.Replace(transports, "{syslog: {%s}}", "{kernel: {}}", 1))
	say := func(text string) {
		t.Helper()
		// Without a newline it may go on, and is not shown yet.
		if err := os.WriteFile("/dev/kmsg", []byte("<12>"+text+"\n"), 0); err != nil {
			t.Fatal(err)
		}
	}
	mark := fmt.Sprintf("tank-%d", os.Getpid())
	say(mark + " before")
	h.start()
	say(mark + " while it runs")
	count := func() int { return strings.Count(strings.Join(h.lines("all.log"), "\n"), mark) }
	h.eventually("both are there", func() bool { return count() == 2 })
	h.stop()
	say(mark + " while away")
	h.start()
	say(mark + " again")
	h.eventually("the others are there, and none twice", func() bool { return count() == 4 })
	got := strings.Join(h.lines("all.log"), "\n")
	if !strings.Contains(got, `"facility":"user","severity":"warning","host":"tide-gw","agent":"tide-gw","text":"`+mark+` before","intake":"in"}`) || !strings.Contains(got, `"facility":"kern"`) {
		t.Errorf("%s", got[max(0, len(got)-2000):])
	}
}

func TestTheAgentsOwnLog(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
host: tide-gw
intakes: {own: {own: {}}, wire: {syslog: {udp: "127.0.0.1:0"}}}
otherwise: {send: [all]}
outlets: {all: {file: {path: DIR/all.log, keep: forever}}}
`)
	h.start()
	h.written(1)
	good, _ := os.ReadFile(h.plan)
	h.setPlan("oakbarrel: 2\n")
	h.reload()
	got := h.written(2)
	for _, want := range []string{`"facility":"syslog","severity":"info","host":"tide-gw","agent":"tide-gw","app":"oakbarrel"`, `"text":"agent is ready"`, `"severity":"error"`, `"log@32473":{"why":"`, `"intake":"own"`} {
		if !strings.Contains(got, want) {
			t.Errorf("%s is missing:\n%s", want, got)
		}
	}
	h.setPlan(strings.Replace(string(good), "own: {own: {}}, ", "", 1))
	h.reload()
	h.setPlan("oakbarrel: 2\n")
	h.reload()
	h.send("udp", "<13>x: after")
	h.eventually("what comes by the wire is written", func() bool { return strings.Contains(strings.Join(h.lines("all.log"), "\n"), "after") })
	if got := strings.Join(h.lines("all.log"), "\n"); strings.Count(got, "not taken") != 1 {
		t.Errorf("without the intake it is taken in still:\n%s", got)
	}
}

// A sender that floods is held to its limit; others are not disturbed, and the balance closes.
func TestAFloodIsLimited(t *testing.T) {
	h := newHost(t, strings.Replace(fmt.Sprintf(transports, `udp: "127.0.0.1:0", tcp: "127.0.0.1:0", limit: {rate: 60/h, burst: 50}`), "otherwise:", "rules: [{name: chatty, when: app is chatty, limit: {rate: 1/h, burst: 3}, send: [all]}]\notherwise:", 1))
	h.start()
	h.send("tcp", strings.Repeat("<13>flood: x\n", 200))
	from := net.UDPAddr{IP: net.IPv4(127, 0, 0, 2)}
	to, _ := net.ResolveUDPAddr("udp", h.address("udp"))
	other, err := net.DialUDP("udp", &from, to)
	if err != nil {
		t.Fatal(err)
	}
	for range 10 {
		fmt.Fprint(other, "<13>chatty: y")
	}
	h.eventually("all is read", func() bool { return h.status().Intakes[0].Read == 210 })
	got := h.written(53)
	if st := h.status(); strings.Count(got, `"app":"flood"`) != 50 || st.Intakes[0].Limited != 150 || st.Rules.Dropped != 7 || st.Rules.Limited != 7 {
		t.Errorf("%+v, %+v", st.Intakes[0], st.Rules)
	}
	expect(t, 0, "in has given up 150 records of senders that sent too many", "", "status", "--state", h.state)
}

// Who connects and says nothing, or too little, holds up nobody.
func TestSlowOnesDisturbNobody(t *testing.T) {
	need(t, "openssl")
	h := newHost(t, `oakbarrel: 1
host: tide-gw
intakes: {secure: {syslog: {tls: "127.0.0.1:0", certificate: lantern.pem, key_file: lantern.key, clients: anyone}}, apps: {otlp: {http: "127.0.0.1:0"}}}
otherwise: {send: [all]}
outlets: {all: {file: {path: DIR/all.log, keep: forever}}}
`)
	certificate(t, h.dir)
	h.start()
	for _, network := range []string{"tls", "http"} {
		for i := range 100 {
			c, err := net.Dial("tcp", h.address(network))
			if err != nil {
				t.Fatal(err)
			}
			defer c.Close()
			fmt.Fprint(c, []string{"", "\x16\x03", "POST /v1/logs HTTP/1.1\r\nContent-Length: 100\r\n", "\r\n"}[i%4])
		}
	}
	start := time.Now()
	c := exec.Command("openssl", "s_client", "-quiet", "-no_ign_eof", "-connect", h.address("tls"))
	c.Stdin = strings.NewReader("<13>x: over TLS\n")
	c.Run()
	response, err := http.Post("http://"+h.address("http")+"/v1/logs", "application/json", strings.NewReader(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"over OTLP"}}]}]}]}`))
	if err != nil || response.StatusCode != 200 {
		t.Fatal(response, err)
	}
	response.Body.Close()
	h.written(2)
	if d := time.Since(start); d > 5*time.Second {
		t.Errorf("it took %v", d)
	}
	if code := h.stop(); code != 0 {
		t.Errorf("exit code %d", code)
	}
}
