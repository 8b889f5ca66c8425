package e2e

import (
	"fmt"
	"testing"
	"time"
)

// A plan is changed in the console, judged on its hosts as it is typed, kept, rolled out,
// watched, and taken back.
func TestTheFleetInTheConsole(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 3)
	f.rollOut(0, "done")
	f.account("noor", "operator")
	b := newBrowser(t, f.url())
	b.size(1280, 800)
	b.signIn("noor", "lantern-light")
	b.waitForText("Fleet")
	b.open("/fleet")
	b.waitForText("role is gate")
	b.waitForText("3 kept")
	b.fits("Fleet")
	b.picture("fleet")
	b.open("/fleet/gate")
	b.waitForText("in order on 3 of 3 hosts")
	write := func(text string) { // at the end of the plan
		t.Helper()
		b.click(".cm-content")
		b.waitFor(fmt.Sprintf(`((e) => { const v = e.cmTile?.view ?? e.cmView?.view; v.dispatch({changes: {from: v.state.doc.length, insert: %q}}); return true })(document.querySelector(".cm-content"))`, text))
	}
	write("nonsense: 1\n")
	b.waitForText("in order on 0 of 3 hosts")
	b.waitForText(`the plan has no key "nonsense"`)
	b.picture("fleet-plan-wrong")
	b.open("/fleet/gate")
	b.waitForText("in order on 3 of 3 hosts")
	write("values: {note: from the console}\n")
	b.waitForText("changed here")
	b.typeInto("section:has(h2) input[placeholder='quieter probes']", "a note")
	b.waitForText("What is changed here")
	b.press("form button:not([disabled]).font-semibold")
	b.waitForText("It is revision 2")
	b.waitForText("What was changed")
	b.waitFor(`document.querySelector("[aria-label='changed lines']")?.innerText.includes("+")`)
	b.waitForText("3 of 3 hosts do not have it")
	b.waitForText("nothing is changed")
	b.waitForText("from the console")
	b.picture("fleet-plan")
	b.waitFor(`((i) => { const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set; set.call(i, "5"); i.dispatchEvent(new Event("input", {bubbles: true})); return true })(document.querySelector("input[type=number][max='3600']"))`)
	b.waitFor(`((i) => { const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set; set.call(i, "from the console"); i.dispatchEvent(new Event("input", {bubbles: true})); return true })([...document.querySelectorAll("h2")].find((h) => h.textContent.startsWith("Roll out")).parentElement.querySelectorAll("input")[2])`)
	b.waitFor(`([...document.querySelectorAll("button")].find((x) => x.innerText === "Roll out").click(), true)`)
	b.waitForText("roll-out 2")
	b.waitForText("1 judged")
	b.picture("rollout-running")
	f.hosts[0].within(40*time.Second, "it is done", func() bool { return b.is(`document.querySelector("[role=status]").innerText === "done"`) })
	b.fits("a roll-out's page")
	f.have(2)
	b.waitFor(`([...document.querySelectorAll("button")].find((x) => x.innerText === "Take back").click(), true)`)
	b.waitForText("3 back")
	b.waitForText("taken back by noor")
	b.picture("rollout-taken-back")
	f.have(1)
	for _, h := range f.all() {
		if h.Drift != "" || h.InForce != 1 {
			t.Errorf("after it was taken back: %+v", h)
		}
	}
	b.open("/hosts")
	b.waitForText("role=gate")
	b.typeInto("[type=search]", "gate-02")
	b.waitForText("1 of 3 hosts")
	b.picture("fleet-hosts")
	b.press("a[href^='/hosts/']")
	b.waitForText("gates is met: role is gate")
	b.picture("fleet-host")
	b.size(390, 800)
	for _, page := range []string{"/fleet", "/fleet/gate", "/rollouts/2", "/hosts"} {
		b.open(page)
		b.waitForText("gate")
		time.Sleep(300 * time.Millisecond)
		b.fits(page + ", 390 wide")
	}
	b.open("/fleet")
	b.waitForText("role is gate")
	b.picture("narrow-fleet")
}
