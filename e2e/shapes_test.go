package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// What is new is on the page Today, and a kind of messages leads to its records, in the console
// as on the command line.
func TestShapesInTheConsole(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.account("mara", "viewer")
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	now := time.Now().UTC()
	say := func(ago time.Duration, n int, text func(i int) string) {
		for i := range n {
			h.send("tcp", fmt.Sprintf("<14>1 %s kelp-01 ticketd - - - %s\n", now.Add(-ago-time.Duration(i)*time.Second).Format(time.RFC3339), text(i)))
		}
	}
	sold := func(i int) string { return fmt.Sprintf("sold %d tickets, slot %d:00", i, i%12) }
	say(30*time.Hour, 60, sold)
	say(26*time.Hour, 40, func(i int) string { return fmt.Sprintf("tide table %d read", i) })
	say(time.Hour, 60, sold)
	say(10*time.Minute, 3, func(i int) string { return fmt.Sprintf("order %d failed: gate %q says no", i, "north") })
	h.waitUntilDelivered(163)

	reader := s.token("*", "read")
	out, stderr, code := s.ask(reader, "shapes", "--since", "1d")
	for _, want := range []string{"60      60", "sold … tickets, slot …", "ceased", "tide table … read", "new", `order … failed: gate "…" says no`, "63 records in all, and 100 in the span before"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("%d: %q is not in\n%s%s", code, want, out, stderr)
		}
	}
	if out, _, _ := s.ask(reader, "shapes", "--since", "1d", "--only", "new", "--output", "json"); strings.Count(out, `"shape":`) != 1 || !strings.Contains(out, `"what":"new"`) {
		t.Error(out)
	}
	if out, _, _ := s.ask(reader, "count", "--since", "2d", "--where", `shape is "sold 1 tickets, slot 2:00"`); !strings.Contains(out, "120") {
		t.Error(out)
	}
	for _, wrong := range [][]string{{"--only", "odd"}, {"--limit", "0"}, {"--new-since", "soon"}, {"--where", "shape"}} {
		if _, stderr, code := s.ask(reader, append([]string{"shapes"}, wrong...)...); code != 2 || stderr == "" {
			t.Errorf("%v: %d, %s", wrong, code, stderr)
		}
	}

	b := newBrowser(t, s.url())
	b.signIn("mara", "lantern-light")
	b.waitForText("What is new, beside the day before")
	b.waitForText(`order … failed: gate "…" says no`)
	b.waitForText("tide table … read")
	b.waitFor(`!document.body.innerText.includes("sold …")`)
	b.picture("today-new")
	b.press(`a[href="/shapes"]`)
	b.waitForText("63 records in the last 24h, 100 in the 24h before")
	b.waitFor(`document.querySelectorAll("tbody tr").length === 3`)
	b.fits("Shapes")
	b.press("tbody tr button") // leave out
	b.waitFor(`new URL(location).searchParams.get("q") === 'not shape is "sold … tickets, slot …"'`)
	b.waitFor(`document.querySelectorAll("tbody tr").length === 2`)
	b.press(`tbody tr a[href^="/logs"]`)
	b.waitForText("3 shown")
	b.waitFor(`[...document.querySelectorAll("[aria-label='save all as'] option")].map((o) => o.value).join() === ",json,csv,rfc5424"`)
	b.press("[role=option]")
	b.waitForText("only records of this shape")
	b.press("aside p + button")
	b.waitFor(`new URL(location).searchParams.get("q").endsWith('shape is "order 0 failed: gate \\"north\\" says no"')`)
	b.waitForText("3 shown")
	b.open("/logs?range=24h&by=app")
	b.waitForText("By app, 63 records")
	b.press("[aria-label='leave out ticketd']")
	b.waitFor(`new URL(location).searchParams.get("q") === 'not app is "ticketd"'`)
	b.waitForText("Nothing in this span")
	b.open("/logs?range=toString") // no range: the last hour
	b.waitForText("3 shown")
	b.waitFor(`((s) => (s.value = "", s.dispatchEvent(new Event("change", {bubbles: true})), true))(document.querySelector("[aria-label=span]"))`)
	b.waitFor(`new URL(location).searchParams.has("since") && document.querySelectorAll("input[type=datetime-local]").length === 2`)
	b.waitFor(fmt.Sprintf(`((i) => (Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, %q), i.dispatchEvent(new Event("input", {bubbles: true})), true))(document.querySelector("[aria-label=from]"))`, now.Add(-3*time.Hour).Local().Format("2006-01-02T15:04:05")))
	b.waitForText("63 shown")
	b.picture("logs-span")
	b.size(390, 800)
	b.fits("a span with its ends, 390 wide")
	b.picture("narrow-logs-span")
	b.size(1280, 800)
	b.open("/shapes?only=risen")
	b.waitForText("No kind of message is new")
	b.open("/shapes?q=shape")
	b.waitForText("column")
	b.size(390, 800)
	b.open("/shapes")
	b.waitForText("sold …")
	b.fits("Shapes, 390 wide")
}
