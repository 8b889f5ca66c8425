package e2e

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// choose takes one of the options of a list.
func (b *browser) choose(selector, value string) {
	b.t.Helper()
	b.waitFor(fmt.Sprintf(`((s) => s !== null && [...s.options].some((o) => o.value === %[2]q) && (Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %[2]q), s.dispatchEvent(new Event("change", {bubbles: true})), true))(document.querySelector(%[1]q))`, selector, value))
}

// fill puts a text in the place of what stands in a field.
func (b *browser) fill(selector, text string) {
	b.t.Helper()
	b.waitFor(fmt.Sprintf(`((i) => i !== null && (Object.getOwnPropertyDescriptor(i.constructor.prototype, "value").set.call(i, %[2]q), i.dispatchEvent(new Event("input", {bubbles: true})), true))(document.querySelector(%[1]q))`, selector, text))
}

// onFirstScreen wants a text to be in sight without scrolling.
func (b *browser) onFirstScreen(text string) {
	b.t.Helper()
	b.waitFor(fmt.Sprintf(`[...document.querySelectorAll("tr, li")].some((e) => e.innerText.includes(%q) && e.getBoundingClientRect().bottom <= window.innerHeight)`, text))
}

// bayWithFaults sends two days of what Lantern Bay writes, in order, by a seed, with three faults
// of the last day: a new kind of error on one host, a program that ceased, and timeouts that rise
// slowly.
func bayWithFaults(h *host, now time.Time, lines int, seed uint64) {
	h.t.Helper()
	rnd := rand.New(rand.NewPCG(seed, 1))
	const day, span = 24 * time.Hour, 48 * time.Hour
	type event struct {
		ago  time.Duration
		line string
	}
	write := func(ago time.Duration, severity int, host, app, text string) event {
		return event{ago, fmt.Sprintf("<%d>1 %s %s %s - - - %s\n", 24+severity, now.Add(-ago).Format(time.RFC3339Nano), host, app, text)}
	}
	var faults []event
	for range 20 {
		faults = append(faults, write(time.Duration(rnd.Int64N(50*60*1e9)), 3, "kelp-02", "feeder", fmt.Sprintf("hatch %d stuck, motor draws %d mA", rnd.IntN(9), 900+rnd.IntN(90))))
	}
	for ago := span - time.Minute; ago > 0; ago -= 10 * time.Minute { // timeouts: few at first, more and more
		n := 1
		if ago < day {
			n = 1 + int((day-ago)*8/day)
		}
		for range n {
			faults = append(faults, write(ago, 4, "tide-gw", "tide-link", fmt.Sprintf("request %d to the harbour: timeout after %d ms", rnd.IntN(1e6), 5000+rnd.IntN(900))))
		}
	}
	slices.SortFunc(faults, func(a, b event) int { return cmp.Compare(b.ago, a.ago) })
	programs := []struct{ host, app, text string }{
		{"kelp-01", "ticketd", "sold %d tickets, slot %d:00"}, {"reef-02", "pumpd", "pump P%02d at %d rpm, flow 20.4 l/min, winding 41.2 C, vibration 0.08 mm"}, {"tide-gw", "door-badge", "badge %d let in at door %d"},
		{"reef-02", "salinity-probe", "tank %d salinity 34.%d ppt, temperature 25.1 C, sensor warm, bus quiet"}, {"kelp-02", "feeder", "feeder %d gave %d g of krill"}, {"tide-gw", "tide-gauge", "level %d.%d m"},
	}
	conn := h.dial("tcp")
	out := bufio.NewWriterSize(conn, 1<<20)
	sent := len(faults)
	for n := range lines {
		ago := span - time.Duration(float64(span)*float64(n)/float64(lines))
		for len(faults) > 0 && faults[0].ago >= ago {
			out.WriteString(faults[0].line)
			faults = faults[1:]
		}
		p := programs[rnd.IntN(len(programs))]
		if p.app == "tide-gauge" && ago < day+time.Hour { // it ceased more than a day ago
			continue
		}
		out.WriteString(write(ago, 6, p.host, p.app, fmt.Sprintf(p.text, rnd.IntN(30), rnd.IntN(100))).line)
		sent++
	}
	for _, f := range faults {
		out.WriteString(f.line)
	}
	if err := out.Flush(); err != nil {
		h.t.Fatal(err)
	}
	conn.Close()
	for deadline := time.Now().Add(10*time.Second + time.Duration(lines)*50*time.Microsecond); ; time.Sleep(100 * time.Millisecond) {
		if o := h.status().Outlets[0]; o.Held == 0 && o.Out == int64(sent) {
			return
		} else if time.Now().After(deadline) {
			h.t.Fatalf("%d of %d records are delivered", o.Out, sent)
		}
	}
}

// Three faults of a day are on the first screen of Today, and somebody new makes, in less than
// two minutes, an alert for each that would have told of it; what comes then is told, to a
// person and in the list, until it is closed.
func TestFaultsAreFoundByAlerts(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.account("noor", "admin")
	s.account("mara", "viewer")
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	now := time.Now().UTC()
	lines := 6000
	if n, err := strconv.Atoi(os.Getenv("OAKBARREL_LINES")); err == nil {
		lines = n // five million are about a gigabyte in the store's words
	}
	bayWithFaults(h, now, lines, 11)
	var got atomic.Value
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got.Store(string(body))
	}))
	t.Cleanup(receiver.Close)

	b := newBrowser(t, s.url())
	b.size(1280, 800)
	b.signIn("noor", "lantern-light")
	b.waitForText("What is new, beside the day before")
	for _, fault := range []string{"hatch … stuck, motor draws … mA", "level … m", "request … to the harbour: timeout after … ms"} {
		b.onFirstScreen(fault)
	}
	b.picture("today-faults")

	b.press(`a[href="/alerts"]`)
	b.waitForText("Nothing yet: more errors than usual")
	b.press("summary") // a receiver
	b.fill("input[name=name]", "duty")
	b.fill("input[name=address]", receiver.URL+"/hidden")
	b.press("details form button")
	b.waitForText("a webhook at " + strings.TrimPrefix(receiver.URL, "http://"))
	b.press(`[aria-label="send duty a test"]`)
	b.waitForText("duty has taken a test.")
	b.waitFor(`!document.body.innerText.includes("hidden")`)

	began := time.Now()
	makeAlert := func(name, kind, told string, fill func()) {
		t.Helper()
		b.press(`a[href="/alerts/new"]`)
		b.fill("input[aria-label=name]", name)
		b.choose("[aria-label=kind]", kind)
		fill()
		b.press("input[type=checkbox]") // tell duty
		b.waitForText(told)
		b.picture("alert-" + name)
		b.fits("the form of an alert")
		b.press("form:has([aria-label=kind]) button:not([type=button]):last-of-type")
		b.waitFor(`location.pathname === "/alerts"`)
		b.waitForText(name)
	}
	makeAlert("new-errors", "new_shape", "never there before: hatch … stuck, motor draws … mA", func() { b.fill("[aria-label=condition]", "severity at least error") })
	makeAlert("silent", "silent", "tide-gauge: silent for", func() {
		b.fill("[aria-label='how long']", "6")
		b.choose("[aria-label='unit of time']", "h")
		b.choose("[aria-label=by]", "app")
	})
	makeAlert("timeouts", "more", "within 1h, more than 40", func() {
		b.fill("[aria-label='how many']", "40")
		b.fill("[aria-label='how long']", "1")
		b.choose("[aria-label='unit of time']", "h")
		b.fill("[aria-label=condition]", `text has word timeout`)
	})
	if took := time.Since(began); took > 2*time.Minute {
		t.Errorf("three alerts took %s", took)
	}
	b.picture("alerts")
	b.fits("Alerts")

	var more strings.Builder
	for i := range 50 {
		fmt.Fprintf(&more, "<28>1 %s tide-gw tide-link - - - request %d to the harbour: timeout after 5009 ms\n", time.Now().UTC().Format(time.RFC3339Nano), i)
	}
	fmt.Fprintf(&more, "<27>1 %s kelp-02 feeder - - - gear 4 broke\n<27>1 %[1]s kelp-01 ticketd - - - printer 2 is out of paper\n", time.Now().UTC().Format(time.RFC3339Nano))
	h.send("tcp", more.String())
	b.open("/")
	b.onFirstScreen("new-errors: never there before: gear … broke (and 1 more)")
	b.onFirstScreen("timeouts: 50 records within 1h, more than 40")
	b.picture("today-needs")
	b.fits("Today with notices")
	for deadline := time.Now().Add(10 * time.Second); got.Load() == nil || !strings.Contains(got.Load().(string), "within 1h") && !strings.Contains(got.Load().(string), "gear"); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("nobody was told: %v", got.Load())
		}
	}
	b.press(`li[aria-label="notice 1"] a[href^="/notices/"]`)
	b.waitForText("How it was sent")
	b.waitForText("duty")
	b.picture("notice")
	b.press(`[aria-label^="I am on it"]`)
	b.waitForText("◐ noor")
	b.press(`a[href^="/logs"]`)
	b.waitForText("shown")
	b.waitFor(`!document.body.innerText.includes("Nothing in this span")`)
	b.open("/notices")
	b.press(`[aria-label="done, notice 1"]`)
	b.fill("[aria-label='why it is done']", "the gear was changed")
	b.press("li form button")
	b.choose("[aria-label=which]", "done")
	b.waitForText("the gear was changed")
	b.size(390, 800)
	for _, page := range []string{"/notices", "/alerts", "/alerts/new", "/notices/1", "/"} {
		b.open(page)
		b.waitFor(`document.querySelectorAll("section").length > 0`)
		b.fits(page + ", 390 wide")
	}
	b.picture("narrow-today-needs")

	// The same on the command line.
	admin := s.token("*", "admin")
	dir := t.TempDir()
	for _, c := range []struct {
		args []string
		want string
		code int
	}{
		{[]string{"alert", "list"}, "more than 40 records within 1h, where text has word timeout", 0},
		{[]string{"alert", "show", "timeouts"}, `when: "text has word timeout"`, 0},
		{[]string{"notice", "list", "--state", "told,seen,done"}, "the gear was changed", 0},
		{[]string{"notice", "take", "2"}, "notice 2 is seen", 0},
		{[]string{"notice", "mute", "2", "--for", "2h"}, "nobody is told of it until", 0},
		{[]string{"notice", "show", "2"}, "oakbarrel read --since", 0},
		{[]string{"notice", "done", "2", "--why", "the harbour is slow"}, "notice 2 is done", 0},
		{[]string{"notice", "take", "2"}, "", 1},
		{[]string{"notice", "take", "99"}, "", 1},
		{[]string{"receiver", "list"}, "a webhook at", 0},
		{[]string{"receiver", "try", "duty"}, "duty has taken it", 0},
		{[]string{"alert", "pull", dir}, "timeouts.yaml is number 1", 0},
		{[]string{"alert", "push", dir}, "nothing was changed", 0},
		{[]string{"alert", "off", "silent"}, "it is off", 0},
		{[]string{"alert", "remove", "silent"}, "alert silent is removed", 0},
		{[]string{"receiver", "remove", "duty"}, "", 1},
	} {
		out, stderr, code := s.ask(admin, c.args...)
		if code != c.code || !strings.Contains(out, c.want) || code != 0 && stderr == "" {
			t.Errorf("%v: %d, want %q in\n%s%s", c.args, code, c.want, out, stderr)
		}
		if strings.Contains(out+stderr, "hidden") {
			t.Errorf("%v tells a secret", c.args)
		}
	}
	file := filepath.Join(dir, "alerts", "timeouts.yaml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.Replace(string(text), "than: 40", "than: 4", 1)
	os.WriteFile(file, []byte(changed), 0o644)
	if out, stderr, code := s.ask(admin, "alert", "try", file, "--days", "2"); code != 0 || !strings.Contains(out, "it would have told somebody") {
		t.Errorf("%d: %s%s", code, out, stderr)
	}
	if out, stderr, code := s.ask(admin, "alert", "push", dir); code != 0 || !strings.Contains(out, "alert timeouts, number 2") {
		t.Errorf("%d: %s%s", code, out, stderr)
	}
	os.WriteFile(file, []byte(strings.Replace(changed, "than: 4", "then: 4", 1)), 0o644)
	for _, command := range []string{"check", "try", "set"} {
		if out, stderr, code := s.ask(admin, "alert", command, file); code != 1 || !strings.Contains(out+stderr, "did you mean than?") {
			t.Errorf("%s: %d: %s%s", command, code, out, stderr)
		}
	}
	reader := s.token("gateway", "read")
	if out, _, code := s.ask(reader, "alert", "list"); code != 0 || strings.Contains(out, "timeouts") { // which asks every cask
		t.Errorf("%d: %s", code, out)
	}
	if _, stderr, code := s.ask(reader, "notice", "take", "1"); code == 0 || !strings.Contains(stderr, "may read, not give orders") {
		t.Errorf("%d: %s", code, stderr)
	}
}
