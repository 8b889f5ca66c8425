package e2e

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/fingerprint"
)

// certificate writes a certificate for this machine that signs itself, and its
// key, and returns its fingerprint.
func certificate(t *testing.T, dir string) fingerprint.Fingerprint {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Lantern Bay"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{"lantern.pem": {Type: "CERTIFICATE", Bytes: der}, "lantern.key": {Type: "PRIVATE KEY", Bytes: keyDER}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return fingerprint.Of(der)
}

func TestOverHTTPS(t *testing.T) {
	s := newStore(t)
	s.kill()
	print := certificate(t, s.dir)
	ca := filepath.Join(s.dir, "lantern.pem")
	s.options = []string{"--certificate", ca, "--key", filepath.Join(s.dir, "lantern.key")}
	s.start()
	token := s.token("gateway", "write")
	other := fingerprint.Of([]byte("another"))
	h := s.host("gateway", token)
	plan, _ := os.ReadFile(h.plan)
	trust := func(keys string) {
		h.setPlan(strings.Replace(string(plan), "token_file:", keys+" token_file:", 1))
	}
	h.start()
	h.send("udp", "<13>x: kept")
	told := func(what string) {
		t.Helper()
		h.eventually("status tells: "+what, func() bool { return strings.Contains(h.status().Outlets[0].Trouble, what) })
	}
	told("certificate signed by unknown authority")
	trust(fmt.Sprintf("fingerprint: %q,", other))
	h.reload()
	told("another fingerprint, " + print.String())
	trust(fmt.Sprintf("fingerprint: %q,", print))
	h.reload()
	h.waitUntilDelivered(1)
	trust(fmt.Sprintf("ca_file: %q,", ca))
	h.reload()
	h.send("udp", "<13>x: by authority")
	h.waitUntilDelivered(2)

	if !strings.Contains(s.log.String(), print.String()) {
		t.Error("the service does not tell the fingerprint of its certificate")
	}
	reader := s.token("gateway", "read")
	for name, value := range map[string]string{"OAKBARREL_CA_FILE": ca, "OAKBARREL_FINGERPRINT": print.String()} {
		t.Setenv("OAKBARREL_CA_FILE", "")
		t.Setenv("OAKBARREL_FINGERPRINT", "")
		if _, stderr, code := s.ask(reader, "casks"); code != 3 || !strings.Contains(stderr, "unknown authority") {
			t.Errorf("without trust: %d, %s", code, stderr)
		}
		t.Setenv(name, value)
		if out, stderr, code := s.ask(reader, "casks"); code != 0 || !strings.Contains(out, "gateway") {
			t.Errorf("%s: %d, %s", name, code, stderr)
		}
	}
	for args, want := range map[string]string{
		"--key " + ca: "go together", "--key " + ca + " --certificate " + ca: "cannot be used",
	} {
		_, stderr, code := run(t, append([]string{"serve", "--listen", "127.0.0.1:0", "--database-file", s.database}, strings.Fields(args)...)...)
		if code == 0 || !strings.Contains(stderr, want) {
			t.Errorf("serve %s: %d, %s", args, code, stderr)
		}
	}
}

func TestTheServiceMakesTokensForAdmins(t *testing.T) {
	s := newStore(t)
	for _, role := range []string{"viewer", "admin"} {
		os.WriteFile(filepath.Join(s.dir, role), []byte("lantern-light\n"), 0o600)
		expect(t, 0, "as "+role, "", "account", "add", role, "--role", role, "--password-file", filepath.Join(s.dir, role), "--database-file", s.database)
	}
	ask := func(token string, code int, want string, args ...string) string {
		t.Helper()
		stdout, stderr, got := s.ask(token, append([]string{"token", "new"}, args...)...)
		if got != code || !strings.Contains(stdout+stderr, want) {
			t.Errorf("%v: exit code %d, %s%s", args, got, stdout, stderr)
		}
		return strings.TrimSpace(stdout)
	}
	asAccount := func(name string) []string {
		return []string{"--cask", "gateway", "--may", "read", "--account", name, "--password-file", filepath.Join(s.dir, name)}
	}
	ask("", 2, "write --database-file FILE, or --account NAME", "--cask", "gateway", "--may", "read")
	ask("", 3, "viewer is viewer and may not make tokens; it takes an account that is admin", asAccount("viewer")...)
	reader := ask("", 0, "ob_", asAccount("admin")...)
	if _, stderr, code := s.ask(reader, "casks"); code != 0 {
		t.Error(stderr)
	}
	ask(reader, 3, "the token may read, not make tokens", "--cask", "gateway", "--may", "write")
	ask("", 2, "write --cask '*'", "--cask", "gateway", "--may", "admin", "--database-file", s.database)
	admin := s.token("*", "admin")
	ask(admin, 0, `"cask":"gateway","may":"write","label":"tide-gw"}`, "--cask", "gateway", "--may", "write", "--label", "tide-gw", "--output", "json")
	os.WriteFile(filepath.Join(s.dir, "viewer"), []byte("another-password"), 0o600)
	ask("", 3, "the name or the password is wrong", asAccount("viewer")...)
}

// An order reaches an agent at once, passes its rules, and leaves the balance closed.
func TestATestRecordIsOrdered(t *testing.T) {
	s := newStore(t)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	admin := s.token("*", "admin")
	operator, err := client.New(client.Options{URLs: []string{s.url()}, Token: func() (string, error) { return admin, nil }})
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	id := h.status().AgentID
	h.eventually("the agent is heard", func() bool {
		hosts, _ := operator.Hosts(ctx)
		return len(hosts) == 1
	})
	given, err := operator.GiveOrder(ctx, id, client.NewOrder{Kind: "test_record"})
	if err != nil {
		t.Fatal(err)
	}
	var o client.Order
	h.eventually("the order is done", func() bool {
		o, err = operator.Order(ctx, id, given.ID)
		return err == nil && o.Done != nil
	})
	if fmt.Sprint(o.Outcome.GoesTo) != "[centre]" || o.Outcome.Text != fmt.Sprintf("test record %d, ordered by a token", given.ID) {
		t.Errorf("%+v", o)
	}
	var hops []string
	for _, hop := range o.Outcome.Hops {
		hops = append(hops, strings.TrimSpace(fmt.Sprint(hop.Hop, " ", hop.Outlet, hop.Done)))
	}
	if got := strings.Join(hops, ", "); got != "taken in true, rules true, spooled centretrue, confirmed centretrue" {
		t.Errorf("the hops are %s", got)
	}
	h.waitUntilDelivered(1)
	st := h.status()
	if last := st.Intakes[len(st.Intakes)-1]; !st.Balance.Closes || last.Name != "by order" || last.Passed != 1 || st.Rules.In != 1 {
		t.Errorf("%+v", st)
	}
	for _, c := range []struct{ kind, rule, want, why string }{
		{"detail_open", "none", "", "the plan has no rule"}, {"detail_open", "errors", "rule errors takes debug instead of error until", ""}, {"detail_close", "errors", "the window of rule errors is closed", ""}, {"detail_close", "errors", "", "no window open"},
	} {
		given, err := operator.GiveOrder(ctx, id, client.NewOrder{Kind: client.OrderKind(c.kind), Rule: c.rule, To: "debug", Seconds: 60})
		if err != nil {
			t.Fatal(err)
		}
		h.eventually("the order is done", func() bool {
			o, err = operator.Order(ctx, id, given.ID)
			return err == nil && o.Done != nil
		})
		if !strings.HasPrefix(o.Outcome.Text, c.want) || !strings.Contains(o.Outcome.Why, c.why) || (c.why == "") != (o.Outcome.Why == "") {
			t.Errorf("%s of %s: %+v", c.kind, c.rule, o.Outcome)
		}
	}
	out, _, _ := s.ask(admin, "read", "--where", "intake is \"by order\" and msgid is TEST", "--output", "json")
	if !strings.Contains(out, `"host":"tide-gw","agent":"tide-gw","app":"oakbarrel"`) || strings.Count(out, "\n") != 1 {
		t.Errorf("in the store: %s", out)
	}
}

// Whoever serves everybody without encryption, or with a key that everybody may read,
// is told what that means.
func TestServeWarnsOfWhatAnybodyCanRead(t *testing.T) {
	s := newStore(t)
	c := exec.Command(binary, "serve", "--listen", "0.0.0.0:0", "--database-file", s.database)
	stderr, err := c.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { c.Process.Signal(os.Interrupt); c.Wait() }()
	for lines := bufio.NewScanner(stderr); lines.Scan(); {
		if line := lines.Text(); strings.Contains(line, "without encryption, for anybody on the way to read") && strings.Contains(line, "level=WARN") && strings.Contains(line, "--certificate") {
			return
		} else if strings.Contains(line, "service is ready") {
			break
		}
	}
	t.Error("it does not warn")
}
