package agent

import (
	"bytes"
	"compress/gzip"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"oakbarrel/client"
)

// addressOf returns the address of an intake of a network, as net.Dial takes it.
func (r *running) addressOf(intake, network string) string {
	r.t.Helper()
	for _, in := range r.status().Intakes {
		for _, address := range in.Addresses {
			if rest, found := strings.CutPrefix(address, network+"://"); found && in.Name == intake {
				return rest
			}
		}
	}
	r.t.Fatalf("intake %s has no address of %s", intake, network)
	return ""
}

func (r *running) say(network, address, message string) {
	r.t.Helper()
	conn, err := net.Dial(network, address)
	if err == nil {
		_, err = io.WriteString(conn, message)
		conn.Close()
	}
	if err != nil {
		r.t.Fatal(err)
	}
}

// certify writes a certificate for 127.0.0.1 and its key into the folder of the test.
func certify(t *testing.T, r *running) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: der}, "key.pem": {Type: "PRIVATE KEY", Bytes: pkcs8}} {
		if err := os.WriteFile(r.path(name), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// Each way in is heard, whether a message comes whole, in parts, or as the last
// thing on a connection, and what is not let in is counted.
func TestEachWayInIsHeard(t *testing.T) {
	r := &running{t: t, dir: t.TempDir(), ended: make(chan error, 1), reload: make(chan os.Signal)}
	certify(t, r)
	r.writePlan(`oakbarrel: 1
host: reef-02
intakes:
  wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0", tls: "127.0.0.1:0", certificate: DIR/cert.pem, key_file: DIR/key.pem, clients: anyone}}
  local: {syslog: {socket: DIR/log.sock, stream: DIR/stream.sock}}
  spans: {otlp: {http: "127.0.0.1:0"}}
  closed: {syslog: {tcp: "127.0.0.1:0", allow: [10.9.8.0/24]}}
  gate: {pipes: {paths: [DIR/gate.pipe]}}
  pumps: {files: {paths: [DIR/pumps/*.log]}}
  own: {own: {}}
rules: []
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, format: '{intake} {text}', keep: forever}}
`)
	r.start()
	defer func() { os.Remove(r.path("gate.pipe")) }() // ends the process that holds it
	r.say("udp", r.addressOf("wire", "udp"), "<13>by udp")
	r.say("tcp", r.addressOf("wire", "tcp"), "<13>by tcp\n12 <13>counted.<13>and the rest of it")
	r.say("unixgram", r.path("log.sock"), "<13>by unixgram")
	r.say("unix", r.path("stream.sock"), "<13>by stream\n")
	r.say("tcp", r.addressOf("closed", "tcp"), "<13>nobody\n")
	conn, err := tls.Dial("tcp", r.addressOf("wire", "tls"), &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "10 <13>by tls")
	conn.Close()
	var packed bytes.Buffer
	zip := gzip.NewWriter(&packed)
	io.WriteString(zip, `{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"severityNumber":9,"body":{"stringValue":"by otlp"}}]}]}]}`)
	zip.Close()
	exports := "http://" + r.addressOf("spans", "http") + "/v1/logs"
	for _, c := range []struct {
		media, coding string
		body          []byte
		want          int
	}{
		{"application/json", "gzip", packed.Bytes(), 200},
		{"application/json", "gzip", []byte("not gzip"), 400},
		{"application/json", "", []byte("{"), 400},
		{"text/plain", "", []byte("by mistake"), 415},
		{"application/x-protobuf", "brotli", nil, 415},
	} {
		request, _ := http.NewRequest("POST", exports, bytes.NewReader(c.body))
		request.Header.Set("Content-Type", c.media)
		request.Header.Set("Content-Encoding", c.coding)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		if answer.StatusCode != c.want {
			t.Errorf("%s %s: %s, want %d", c.media, c.coding, answer.Status, c.want)
		}
	}
	r.write("gate.pipe", "by pipe\n")
	if err := os.MkdirAll(r.path("pumps"), 0o755); err != nil {
		t.Fatal(err)
	}
	r.write("pumps/a.log", "by file\n")
	want := []string{"gate by pipe", "local by stream", "local by unixgram", "pumps by file", "spans by otlp", "wire and the rest of it", "wire by tcp", "wire by tls", "wire by udp", "wire counted."}
	r.until("all is written", func() bool {
		times := r.times("all.log")
		return !slices.ContainsFunc(want, func(l string) bool { return times[l] == 0 })
	})
	r.until("its own log, and who is turned away", func() bool {
		return r.times("all.log")["own agent is ready"] == 1 && slices.ContainsFunc(r.status().Intakes, func(in client.IntakeStatus) bool { return in.Name == "closed" && in.TurnedAway == 1 })
	})
	s := r.status()
	if !s.Balance.Closes {
		t.Errorf("the balance does not close: %+v", s.Balance)
	}
	for _, l := range want {
		if n := r.times("all.log")[l]; n != 1 {
			t.Errorf("%q is there %d times", l, n)
		}
	}
	r.stop()
}

// receiver takes what outlets send, by TCP, UDP and HTTP, and keeps it as one text.
type receiver struct {
	mu       sync.Mutex
	got      strings.Builder
	refuses  bool
	tcp, udp string
	http     *httptest.Server
}

func (c *receiver) Write(b []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.got.Write(b)
}

func (c *receiver) has(text string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return strings.Contains(c.got.String(), text)
}

func newReceiver(t *testing.T) *receiver {
	t.Helper()
	c := &receiver{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	u, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	c.tcp, c.udp = l.Addr().String(), u.LocalAddr().String()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go io.Copy(c, conn)
		}
	}()
	go io.Copy(c, u.(*net.UDPConn))
	c.http = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, request *http.Request) {
		c.mu.Lock()
		refuses := c.refuses
		c.mu.Unlock()
		body, _ := io.ReadAll(request.Body)
		if refuses && bytes.Contains(body, []byte("poison")) {
			http.Error(w, "no poison here", http.StatusBadRequest)
			return
		}
		fmt.Fprintf(c, "%s %s %s\n", request.URL.Path, request.Header.Get("Authorization")+request.Header.Get("X-Key"), body)
	}))
	t.Cleanup(func() { l.Close(); u.Close(); c.http.Close() })
	return c
}

// What a receiver and a webhook get is as the plan says: its head from files, and its body.
func TestRequestsAreAsThePlanSays(t *testing.T) {
	c := newReceiver(t)
	r := &running{t: t, dir: t.TempDir(), ended: make(chan error, 1), reload: make(chan os.Signal)}
	r.write("key", "sea-key\n")
	r.write("password", "horse\n")
	r.write("duty.url", c.http.URL+"/duty\n")
	r.writePlan(fmt.Sprintf(`oakbarrel: 1
host: reef-02
intakes: {local: {syslog: {socket: DIR/log.sock}}}
otherwise: {send: [lines, duty]}
outlets:
  lines: {http: {url: "%[1]s/lines", basic: {user: sea, password_file: DIR/password}, body: '{"m": "{severity} {text}", "all": {record}}', compress: none}, batch: {wait: 50ms}}
  duty: {notify: {webhook_file: DIR/duty.url, headers: {X-Key: {file: DIR/key}}, body: '{"text": "{title} ({severity})", "n": {records}}', wait: 50ms, every: 1s}}
`, c.http.URL))
	r.start()
	r.say("unixgram", r.path("log.sock"), `<26>pumpd: say "dry"`)
	r.until("both have come", func() bool { return c.has("/duty") && c.has("/lines") })
	for _, text := range []string{`/lines Basic c2VhOmhvcnNl {"m": "critical say \"dry\"", "all": {"time":`, `"host":"reef-02","agent":"reef-02","app":"pumpd"`, `/duty sea-key {"text": "a record on reef-02, the worst is critical (critical)", "n": 1}`} {
		if !c.has(text) {
			t.Errorf("%q has not come: %s", text, c.got.String())
		}
	}
	r.stop()
}

// Each way out delivers, and a record that one refuses is written down while the
// others go on.
func TestEachWayOutDelivers(t *testing.T) {
	c := newReceiver(t)
	c.refuses = true
	r := &running{t: t, dir: t.TempDir(), ended: make(chan error, 1), reload: make(chan os.Signal)}
	r.write("token", "seahorse\n")
	r.write("duty.url", c.http.URL+"/duty\n")
	r.writePlan(fmt.Sprintf(`oakbarrel: 1
host: reef-02
intakes: {local: {syslog: {socket: DIR/log.sock}}}
rules: []
otherwise: {send: [all, counted, datagrams, lines, spans, duty]}
outlets:
  all: {file: {path: DIR/all.log, format: '{text}', keep: {pieces: 3}, roll: {size: 1MiB}}}
  counted: {syslog: {tcp: "%[1]s"}, batch: {wait: 50ms}}
  datagrams: {syslog: {udp: "%[2]s", format: rfc3164}, batch: {wait: 50ms}}
  lines: {http: {url: "%[3]s/lines", token_file: DIR/token, compress: none}, batch: {wait: 50ms}}
  spans: {otlp: {url: "%[3]s/v1/logs", compress: none}, batch: {wait: 50ms}}
  duty: {notify: {webhook_file: DIR/duty.url, wait: 50ms, every: 1s}}
`, c.tcp, c.udp, c.http.URL))
	r.start()
	for i := range 5 {
		r.say("unixgram", r.path("log.sock"), fmt.Sprintf("<26>pumpd: stall %d", i))
	}
	r.say("unixgram", r.path("log.sock"), "<26>pumpd: poison")
	r.say("unixgram", r.path("log.sock"), "<26>pumpd: after it")
	r.until("all is delivered, but for what is refused", func() bool {
		s := r.status()
		for _, o := range s.Outlets[:5] {
			if o.Out+o.Refused != 7 {
				return false
			}
		}
		return s.Outlets[5].Out == 7 || s.Outlets[5].Trouble != "" // the webhook does not take the poison
	})
	for _, text := range []string{"- stall 4", "<26>", "/lines Bearer seahorse {", `"text":"after it"`, "/v1/logs"} {
		if !c.has(text) {
			t.Errorf("%q has not come", text)
		}
	}
	s := r.status()
	if s.Outlets[3].Refused != 1 || s.Outlets[4].Refused != 1 || !s.Balance.Closes {
		t.Errorf("refused are %d and %d, %+v", s.Outlets[3].Refused, s.Outlets[4].Refused, s.Balance)
	}
	if refused := r.lines("state/refused/lines.jsonl"); len(refused) != 1 || !strings.Contains(refused[0], "no poison here") || !strings.Contains(refused[0], `"text":"poison"`) {
		t.Errorf("written down is %q", refused)
	}
	c.mu.Lock()
	c.refuses = false
	c.mu.Unlock()
	r.until("a person is told", func() bool { return len(r.status().Told) > 0 && c.has(`/duty  {"host":"reef-02"`) })
	r.stop()
	if got := len(r.lines("all.log")); got != 7 {
		t.Errorf("%d lines in the file", got)
	}
}
