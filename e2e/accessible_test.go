package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// checker is what looks through a page for what keeps people out, from the packages of the console.
const checker = "../console/node_modules/axe-core/axe.min.js"

// accessible wants the checker to find nothing on the page.
func (b *browser) accessible(what string) {
	b.t.Helper()
	source, err := os.ReadFile(checker)
	if err != nil {
		b.t.Fatalf("%v; make console installs it", err)
	}
	b.is(string(source) + "; true")
	b.waitFor(`((window.found = undefined), axe.run().then((r) => (window.found = r.violations.flatMap((v) => v.nodes.map((n) => v.id + ": " + n.failureSummary.replaceAll("\n", " ") + " " + n.html.slice(0, 200))).join("\n"))), true)`)
	b.waitFor("window.found !== undefined")
	found, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("window.found"))
	if err != nil {
		b.t.Fatal(err)
	}
	if found != "" {
		b.t.Errorf("%s:\n%s", what, found)
	}
}

// Nothing on any page keeps people out who use a keyboard alone, hear the page or see no
// colours: by day and by night, wide and narrow.
func TestPagesKeepNobodyOut(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 1)
	s, h := f.store, f.hosts[0]
	s.account("noor", "admin")
	f.rollOut(0, "done  1 kept")
	for i := range 40 {
		h.send("tcp", fmt.Sprintf("<%d>1 - kelp-01 ticketd 22 - [sale@32473 order=\"%d\"] order %d went through\n", 128+i%8, i, i))
	}
	h.waitUntilDelivered(40)
	alert := filepath.Join(t.TempDir(), "sales.yaml")
	os.WriteFile(alert, []byte("alert: 1\nby: host\nwhen: app is ticketd\nmore: {than: 3, in: 1h}\nnote: Open a second desk.\n"), 0o644)
	if _, stderr, code := s.ask(s.token("*", "admin"), "alert", "set", alert); code != 0 {
		t.Fatal(stderr)
	}
	h.send("tcp", strings.Repeat("<14>1 - kelp-01 ticketd 22 - - order 7 went through\n", 8))
	b := newBrowser(t, s.url())
	b.waitForText("Sign in to read")
	for _, theme := range []string{"light", "dark"} {
		b.theme(theme)
		b.accessible("sign-in, " + theme)
	}
	b.signIn("noor", "lantern-light")
	b.waitForText("gate-01")
	pages := []struct{ name, path, until string }{
		{"Today", "/", "gate-01"},
		{"Hosts", "/hosts", "gate-01"},
		{"a host", "", "It closes"},
		{"Plans", "/plans", "in force"},
		{"Fleet", "/fleet", "Fleet"},
		{"a plan of the fleet", "/fleet/gate", "Revisions"},
		{"a roll-out", "/rollouts/1", "gate-01"},
		{"Logs", "/logs?by=app", "48 shown"},
		{"Shapes", "/shapes", "order … went through"},
		{"Casks", "/casks", "gateway"},
		{"a cask", "/casks/gateway", "What it keeps"},
		{"Alerts", "/alerts", "What the store keeps asking"},
		{"a new alert", "/alerts/new", "it would have told you"},
		{"an alert", "/alerts/sales", "it would have told you"},
		{"Notices", "/notices", "sales: "},
		{"a notice", "/notices/1", "How it was sent"},
		{"Access", "/access", "Who did or read what"},
	}
	for _, page := range pages {
		if page.path == "" {
			b.openHost("gate-01")
		} else {
			b.open(page.path)
		}
		b.waitFor(`document.querySelector("h1") !== null`)
		b.waitForText(page.until)
		for _, theme := range []string{"light", "dark"} {
			b.theme(theme)
			for _, width := range []int64{1280, 390} {
				b.size(width, 800)
				b.accessible(fmt.Sprintf("%s, %s, %d wide", page.name, theme, width))
			}
		}
		b.size(1280, 800)
		if page.name == "Logs" {
			b.press("[role=option]")
			b.waitForText("As it is kept")
			b.accessible("a record")
			b.do(chromedp.KeyEvent("\u001b"))
		}
	}
}
