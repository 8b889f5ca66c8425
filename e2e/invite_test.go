package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oakbarrel/client"
)

// A host gets in with an invitation and nothing else; the invitation works
// once, the token for this host alone, and until it is revoked.
func TestAHostIsInvitedAndRevoked(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.kill()
	certificate(t, s.dir)
	ca := filepath.Join(s.dir, "lantern.pem")
	s.options = []string{"--certificate", ca, "--key", filepath.Join(s.dir, "lantern.key")}
	s.start()
	admin := s.token("*", "admin")
	setenv(t, "OAKBARREL_CA_FILE", ca)
	out, stderr, code := s.ask(admin, "hosts", "invite", "--cask", "gateway", "--label", "the gateway")
	invitation := strings.TrimSpace(out)
	if code != 0 || !strings.HasPrefix(invitation, "barrel-") || !strings.Contains(stderr, "once, until") {
		t.Fatal(code, out, stderr)
	}
	setenv(t, "OAKBARREL_CA_FILE", "") // the host knows nothing but the invitation

	h := newHost(t, "oakbarrel: 1\notherwise: {drop: true}\n")
	token := filepath.Join(h.dir, "token")
	accept := func(text string) (string, string, int) {
		return run(t, "accept", text, "--state", h.state, "--token-file", token)
	}
	if _, stderr, code := accept(invitation[:30]); code != 2 || !strings.Contains(stderr, "a part of it is missing") {
		t.Error(code, stderr)
	}
	ticket, err := client.ParseTicket(invitation)
	if err != nil {
		t.Fatal(err)
	}
	forged := ticket
	forged.Fingerprint = "sha256:" + strings.Repeat("00:", 31) + "00"
	if _, stderr, code := accept(forged.String()); code != 3 || !strings.Contains(stderr, "another fingerprint") {
		t.Error(code, stderr)
	}
	section, stderr, code := accept(invitation)
	if code != 0 || !strings.Contains(stderr, "knows this host as the gateway") {
		t.Fatal(code, stderr)
	}
	if st, err := os.Stat(token); err != nil || st.Mode() != 0o600 {
		t.Error(st, err)
	}
	if _, stderr, code := accept(invitation); code != 3 || !strings.Contains(stderr, "was used") {
		t.Error(code, stderr)
	}

	h.setPlan("oakbarrel: 1\nhost: tide-gw\nintakes: {local: {syslog: {socket: DIR/log}}}\notherwise: {send: [centre]}\n" + section) // as it was printed
	h.start()
	h.send("unix", "<13>app: one")
	h.waitUntilDelivered(1)
	setenv(t, "OAKBARREL_CA_FILE", ca)
	out, _, _ = s.ask(admin, "cask", "show", "gateway", "--output", "json")
	var cask client.CaskAndFeeds
	if err := json.Unmarshal([]byte(out), &cask); err != nil || len(cask.Feeds) != 1 || cask.Feeds[0].Sender != "the gateway" || cask.Feeds[0].Host != "tide-gw" {
		t.Errorf("%v: %s", err, out)
	}

	other := newHost(t, fmt.Sprintf("oakbarrel: 1\nintakes: {local: {syslog: {socket: DIR/log}}}\notherwise: {send: [centre]}\n%s", section))
	other.start()
	other.send("unix", "<13>app: forged")
	other.eventually("the token is refused for another agent", func() bool {
		return strings.Contains(other.status().Outlets[0].Trouble, "this agent brings the token of another one, and waits to be let in")
	})

	id := cask.Feeds[0].AgentID
	if out, stderr, code := s.ask(admin, "hosts", "revoke", id); code != 0 {
		t.Error(out, stderr)
	}
	h.send("unix", "<13>app: two")
	h.eventually("what comes after the revocation is held, and the reason told", func() bool {
		o := h.status().Outlets[0]
		return o.Held == 1 && strings.Contains(o.Trouble, "the token is not known here")
	})
	if _, stderr, code := s.ask(admin, "hosts", "revoke", id); code != 1 || !strings.Contains(stderr, "no token of its own") {
		t.Error(code, stderr)
	}

	// Of two hosts from one image that come back, the one that is known needs an order.
	out, stderr, code = s.ask(admin, "hosts", "invite", "--cask", "gateway", "--uses", "2", "--valid", "1d")
	if code != 0 || !strings.Contains(stderr, "2 times, until") {
		t.Fatal(code, out, stderr)
	}
	if _, stderr, code := accept(strings.TrimSpace(out)); code != 3 || !strings.Contains(stderr, "hosts replace "+id) {
		t.Error(code, stderr)
	}
	if out, stderr, code := s.ask(admin, "hosts", "replace", id, "--valid", "5m"); code != 0 || !strings.Contains(out, "may come with another token until") {
		t.Error(code, out, stderr)
	}
	if _, stderr, code := s.ask(admin, "hosts", "replace", strings.Repeat("0", 32)); code != 1 || !strings.Contains(stderr, "no agent with this id") {
		t.Error(code, stderr)
	}
	if _, stderr, code := accept(strings.TrimSpace(out)); code != 0 {
		t.Error(code, stderr)
	}
	h.waitUntilDelivered(2)
	if out, _, _ := s.ask(admin, "token", "list"); !strings.Contains(out, "tide-gw "+id[:8]) {
		t.Errorf("whose the token is, is not told:\n%s", out)
	}
}
