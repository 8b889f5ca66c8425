package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestPictures takes the pictures of the console for docs/screenshots, from the
// demo. It runs only where OAKBARREL_PICTURES names a folder for them.
func TestPictures(t *testing.T) {
	if os.Getenv("OAKBARREL_PICTURES") == "" {
		t.Skip("make screenshots runs it")
	}
	dir := t.TempDir()
	c := exec.Command(binary, "demo", "--dir", dir, "--rate", "40")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		c.Process.Signal(syscall.SIGTERM)
		c.Wait()
	}()
	h := &host{t: t, dir: dir}
	var demo struct{ URL, Account, Password string }
	h.eventually("demo.json is written", func() bool {
		text, err := os.ReadFile(filepath.Join(dir, "demo.json"))
		return err == nil && json.Unmarshal(text, &demo) == nil
	})
	time.Sleep(25 * time.Second) // until something has gone wrong
	change := filepath.Join(dir, "fleet", "kiosk.yaml")
	plan, err := os.ReadFile(change)
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(change, []byte(strings.Replace(string(plan), "nobody is here", "the screen is dimmed", 1)), 0o644)
	t.Setenv("OAKBARREL_URL", demo.URL)
	as := []string{"--account", demo.Account, "--password-file", filepath.Join(dir, "store", "password")}
	expect(t, 0, "revision 2", "", append([]string{"plans", "push", filepath.Join(dir, "fleet"), "--why", "quieter screens"}, as...)...)
	b := newBrowser(t, demo.URL)
	b.signIn(demo.Account, demo.Password)
	b.waitForText("reef-02")
	b.waitForText("tide-gw")
	expect(t, 0, "is running", "", append([]string{"rollout", "start", "kiosk", "--waves", "1, 50%, all", "--wait", "4s", "--why", "quieter screens"}, as...)...)
	b.size(1280, 800)
	b.theme("dark")
	b.open("/rollouts/2")
	b.waitFor(`document.body.innerText.includes("4 judged") || document.body.innerText.includes("3 judged")`)
	b.picture("console-rollout-dark")
	b.open("/hosts")
	b.waitForText("site=north")
	b.picture("console-hosts-dark")
	for _, theme := range []string{"light", "dark"} {
		b.theme(theme)
		b.size(1280, 800)
		b.open("/")
		b.waitForText("tide-gw")
		b.waitFor("document.querySelectorAll('figure [role=slider] > div').length === 60")
		b.picture("console-today-" + theme)
		b.open("/logs?range=1h&q=severity+at+least+warning")
		b.waitForText(" shown")
		b.waitFor("document.querySelectorAll('[role=option]').length > 10")
		b.click("[role=option]:nth-child(4)")
		b.waitForText("As it is kept")
		b.picture("console-logs-" + theme)
		b.open("/shapes?range=15m")
		b.waitForText("pump P… at … rpm")
		b.picture("console-shapes-" + theme)
		b.open("/alerts/new?q=severity+at+least+error")
		b.fill("input[aria-label=name]", "errors")
		b.choose("[aria-label=by]", "app")
		b.fill("[aria-label='how many']", "2")
		b.waitFor(`document.querySelectorAll("[aria-label^=when] li").length > 0`)
		b.picture("console-alert-" + theme)
		b.open("/casks/gateway")
		b.waitForText("What it keeps")
		b.waitForText("tide-gw")
		b.picture("console-cask-" + theme)
		b.open("/fleet/kiosk")
		b.waitForText("in order on 10 of 10 hosts")
		b.waitForText("kiosk-10")
		b.picture("console-fleet-" + theme)
		b.open("/fleet")
		b.waitForText("role is kiosk")
		b.picture("console-plans-of-the-fleet-" + theme)
		b.open("/access")
		b.waitForText("Who did or read what")
		b.waitForText("sign in")
		b.picture("console-access-" + theme)
		b.open("/hosts")
		b.waitForText("tide-gw")
		b.openHost("reef-02")
		b.waitForText("It closes")
		b.picture("console-host-" + theme)
		b.is(`[...document.querySelectorAll("h3")].find((h) => h.textContent === "Followed files").scrollIntoView() === undefined`)
		b.picture("console-followed-" + theme)
		b.click("li:nth-child(2) > button[aria-expanded]")
		b.waitForText("Last lines")
		b.click("[aria-expanded=true] + div button")
		b.waitForText("in it")
		b.waitFor(`(document.querySelector("figure").scrollIntoView(), true)`)
		b.picture("console-files-" + theme)
		if theme == "light" {
			b.waitFor(`([...document.querySelectorAll("button")].find((x) => x.innerText.includes("Send a test record")).click(), true)`)
			b.waitForText("written · everything")
			b.waitFor("(scrollTo(0, 1e6), true)")
			b.picture("console-trace")
		}
		b.open("/plans")
		b.waitForText("in force")
		b.waitForText("? depends on more")
		b.waitFor("document.querySelectorAll('td button span + span').length > 5")
		b.picture("console-plans-" + theme)
		b.click("td button[title^='local3.error']")
		b.click("[data-state=active] form button")
		b.waitForText("It goes to")
		b.picture("explain-" + theme)
		b.size(390, 800)
		b.open("/hosts")
		b.waitForText("tide-gw")
		b.openHost("reef-02")
		b.waitForText("It closes")
		b.fits("a host's page, 390 wide")
		b.picture("narrow-host-" + theme)
		b.open("/plans")
		b.waitForText("in force")
		b.fits("Plans, 390 wide")
		b.picture("narrow-plans-" + theme)
		b.open("/logs?range=1h")
		b.waitFor("document.querySelectorAll('[role=option]').length > 10")
		b.fits("Logs, 390 wide")
		b.picture("narrow-logs-" + theme)
		b.open("/shapes?range=15m")
		b.waitForText("pump P… at … rpm")
		b.fits("Shapes, 390 wide")
		b.picture("narrow-shapes-" + theme)
		b.open("/")
		b.waitForText("tide-gw")
		b.fits("Today, 390 wide")
		b.picture("narrow-today-" + theme)
	}
}
