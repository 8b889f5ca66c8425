package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
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
	b := newBrowser(t, demo.URL)
	b.waitForText("Sign in to read")
	b.typeInto("[name=name]", demo.Account)
	b.typeInto("[name=password]", demo.Password+"\r")
	b.waitForText("reef-02")
	b.waitForText("tide-gw")
	for _, theme := range []string{"light", "dark"} {
		b.theme(theme)
		b.size(1280, 800)
		b.open("/")
		b.waitForText("tide-gw")
		b.waitFor("document.querySelectorAll('figure [role=img] > div').length === 60")
		b.picture("console-today-" + theme)
		b.open("/logs?range=1h&q=severity+at+least+warning")
		b.waitForText(" shown")
		b.waitFor("document.querySelectorAll('[role=option]').length > 10")
		b.click("[role=option]:nth-child(4)")
		b.waitForText("As it is kept")
		b.picture("console-logs-" + theme)
		b.size(390, 800)
		b.open("/logs?range=1h")
		b.waitFor("document.querySelectorAll('[role=option]').length > 10")
		b.fits("Logs, 390 wide")
		b.picture("narrow-logs-" + theme)
		b.open("/")
		b.waitForText("tide-gw")
		b.fits("Today, 390 wide")
		b.picture("narrow-today-" + theme)
	}
}
