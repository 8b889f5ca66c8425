package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	cdpbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/chromedp"
)

// More of each record is shown where somebody asks for it: columns, whole traces, and the span
// before; a link holds all of it.
func TestMoreOfEachRecord(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.account("mara", "viewer")
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	now := time.Now().UTC()
	trace := "no portion for tank 4\n  in feed, line 88\n  in take, line 41"
	for i, ago := range []time.Duration{10 * time.Minute, 70 * time.Minute, 75 * time.Minute} {
		m := fmt.Sprintf(`<27>1 %s reef-02 planner 42%d - [tank@32473 id="t-%d"] %s`, now.Add(-ago).Format(time.RFC3339Nano), i, i, trace)
		h.send("tcp", fmt.Sprintf("%d %s", len(m), m)) // counted, as it has more than one line
	}
	h.waitUntilDelivered(3)
	b := newBrowser(t, s.url())
	b.size(1280, 800)
	b.signIn("mara", "lantern-light")
	b.waitForText("tide-gw")
	b.open("/logs?range=1h")
	b.waitForText("1 shown")
	if strings.Contains(b.text(), "t-0") {
		t.Error("a column is shown that nobody asked for")
	}
	b.waitFor(`((e) => e !== undefined && (e.dispatchEvent(new PointerEvent("pointerdown", {bubbles: true})), e.click(), true))([...document.querySelectorAll("button")].find((e) => e.innerText === "show…"))`)
	b.waitForText("columns, with commas between them")
	b.accessible("what else is shown")
	b.fill("#columns", "procid, tank@32473.id")
	b.press("form:has(#columns) button")
	b.waitForText("t-0")
	b.waitForText("420")
	b.press("label:has(input[type=checkbox]) input")
	b.waitForText("in take, line 41")
	b.waitFor(`new URL(location).searchParams.get("unfold") === "1" && new URL(location).searchParams.get("columns") === "procid, tank@32473.id"`)
	b.open("/logs?range=1h&beside=1&unfold=1&columns=procid,tank@32473.id")
	b.waitForText("in take, line 41")
	b.waitFor(`[...document.querySelectorAll("figure .border-t-2")].length >= 1`)
	b.picture("logs-more")
	b.fits("Logs with more of each record")
	b.open("/logs?range=1y")
	b.waitForText("3 shown")
	b.waitFor(`document.querySelectorAll("figure [role=slider] > div").length === 80`)
	dir := t.TempDir()
	if _, err := chromedp.Call(b.ctx, cdpbrowser.SetDownloadBehavior, cdpbrowser.SetDownloadBehaviorParams{Behavior: "allow", DownloadPath: dir}); err != nil {
		t.Fatal(err)
	}
	b.choose("[aria-label='save all as']", "json")
	h.eventually("the file is there, whole", func() bool {
		text, _ := os.ReadFile(filepath.Join(dir, "records.jsonl"))
		return strings.HasPrefix(string(text), "{") && strings.Count(string(text), "\n") == 3
	})
	s.kill()
	b.choose("[aria-label='save all as']", "csv")
	b.waitForText("Nothing was saved: The service cannot be reached")
	s.start()
	b.waitFor(`document.querySelectorAll("figure [role=slider] > div").length === 80`)
}
