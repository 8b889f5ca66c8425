package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"oakbarrel/client"
	"oakbarrel/demo"
)

// browser is a tab of a headless Chromium.
type browser struct {
	t   *testing.T
	ctx context.Context
	url string
}

func newBrowser(t *testing.T, url string) *browser {
	t.Helper()
	need(t, "chromium")
	dir, err := os.MkdirTemp("", "ob")
	if err != nil {
		t.Fatal(err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.UserDataDir(dir), chromedp.NoSandbox, chromedp.WindowSize(1280, 800))
	for _, flag := range []string{"disable-gpu", "disable-quic", "no-first-run", "no-default-browser-check", "disable-background-networking", "disable-component-update", "disable-sync", "hide-scrollbars"} {
		options = append(options, chromedp.Flag(flag, true))
	}
	allocator, endAll := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, end := chromedp.NewContext(allocator)
	t.Cleanup(func() {
		end()
		endAll()
		for range 50 { // its processes may still write
			if os.RemoveAll(dir) == nil {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
	if err := chromedp.Do(ctx); err != nil { // starts it, without a time limit
		t.Fatal(err)
	}
	b := &browser{t, ctx, url}
	b.size(1280, 800)
	b.open("/")
	return b
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 20*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		b.t.Fatalf("the browser: %v; the page says: %s", err, b.text())
	}
}

func (b *browser) open(path string) { b.t.Helper(); b.do(chromedp.Navigate(b.url + path)) }

func (b *browser) size(width, height int64) { b.do(chromedp.EmulateViewport(width, height)) }

func (b *browser) theme(name string) {
	features := []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: name}}
	if _, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: features}); err != nil {
		b.t.Fatal(err)
	}
}

// text returns what the page says.
func (b *browser) text() string {
	text, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	return text
}

func (b *browser) is(expression string) bool {
	ok, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](expression))
	return err == nil && ok
}

// waitFor waits until an expression of the page holds.
func (b *browser) waitFor(expression string) {
	b.t.Helper()
	for deadline := time.Now().Add(10 * time.Second); !b.is(expression); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			b.t.Fatalf("it does not come about that %s; the page says:\n%s", expression, b.text())
		}
	}
}

func (b *browser) waitForText(text string) {
	b.t.Helper()
	b.waitFor(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

func (b *browser) click(selector string) { b.t.Helper(); b.do(chromedp.Click(chromedp.CSS(selector))) }

// openHost opens the page of a host, from a list of them.
func (b *browser) openHost(name string) {
	b.t.Helper()
	b.waitFor(fmt.Sprintf(`((e) => e !== undefined && (e.click(), true))([...document.querySelectorAll("a[href^='/hosts/']")].find((a) => a.innerText === %q))`, name))
}

// press clicks something that may move while lists around it are asked for again.
func (b *browser) press(selector string) {
	b.t.Helper()
	b.waitFor(fmt.Sprintf("((e) => e !== null && (e.click(), true))(document.querySelector(%q))", selector))
}

func (b *browser) typeInto(selector, text string) {
	b.t.Helper()
	b.do(chromedp.SendKeys(chromedp.CSS(selector), text))
}

// picture keeps a picture of the page where OAKBARREL_PICTURES names a folder.
func (b *browser) picture(name string) {
	dir := os.Getenv("OAKBARREL_PICTURES")
	if dir == "" {
		return
	}
	time.Sleep(300 * time.Millisecond)
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644)
	}
	if err != nil {
		b.t.Fatal(err)
	}
}

// fits demands that nothing has to be scrolled sideways.
func (b *browser) fits(what string) {
	b.t.Helper()
	if !b.is("document.documentElement.scrollWidth <= window.innerWidth") {
		b.t.Errorf("%s has to be scrolled sideways", what)
	}
}

// signIn signs in at the page that asks for it.
func (b *browser) signIn(name, password string) {
	b.t.Helper()
	b.waitForText("Sign in to read")
	b.typeInto("[name=name]", name)
	b.typeInto("[name=password]", password+"\r")
}

// The console shows who is told, and what was told last.
func TestNoticesInTheConsole(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	duty, err := demo.StartDuty(t.Context(), filepath.Join(s.dir, "duty"))
	if err != nil {
		t.Fatal(err)
	}
	s.account("amara", "viewer")
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: reef-02
service: {url: "%s", token_file: DIR/token}
intakes: {local: {syslog: {socket: DIR/log}}}
rules: [{name: worst, when: severity at least critical, send: [duty]}]
otherwise: {send: [centre]}
outlets:
  centre: {store: {cask: reef}, batch: {wait: 20ms}}
  duty: {notify: {webhook_file: DIR/duty.url, wait: 50ms, every: 50ms}}
`, s.url()))
	os.WriteFile(filepath.Join(h.dir, "token"), []byte(s.token("reef", "write")), 0o600)
	os.WriteFile(filepath.Join(h.dir, "duty.url"), []byte(duty.Webhook), 0o600)
	h.start()
	b := newBrowser(t, s.url())
	b.signIn("amara", "lantern-light")
	b.waitForText("reef-02")
	b.open("/notices")
	b.waitForText("Nothing yet.")
	h.send("unix", "<26>pumpd: pump P1 stalled", "<26>pumpd: <i>pump</i> P2 stalled")
	b.waitForText("records on reef-02, the worst is critical")
	b.click("summary")
	b.waitForText("<i>pump</i> P2 stalled")
	b.picture("notices")
	b.fits("Notices")
	h.kill()
	h.start()
	if told := h.status().Told; len(told) == 0 || told[0].Outlet != "duty" {
		t.Errorf("after a kill it is not known what was told: %+v", told)
	}
}

// What one host says of itself, whatever it is, keeps nobody from seeing the others.
func TestAHostThatSaysNonsenseHidesNoOther(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.account("amara", "viewer")
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.send("udp", "<11>by-hand: one")
	h.waitUntilDelivered(1)
	for i, nonsense := range []any{nil, map[string]any{}, "a word", map[string]any{"outlets": 7, "intakes": map[string]any{}, "forecast": "x"}} {
		token := s.token("gateway", "write")
		stranger, err := client.New(client.Options{URLs: []string{s.url()}, Token: func() (string, error) { return token, nil }})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := stranger.SendStatus(context.Background(), fmt.Sprintf("%032x", 9000+i), client.AgentStatus{Host: fmt.Sprint("moray-", i), Status: nonsense}); err != nil {
			t.Logf("%v is refused: %v", nonsense, err)
		}
	}
	b := newBrowser(t, "http://"+s.address)
	b.signIn("amara", "lantern-light")
	b.waitForText("moray-1")
	b.waitForText("tide-gw")
	b.waitForText("1 in")
	b.click("a[href='/hosts']")
	b.waitForText("moray-1")
	b.waitForText("tide-gw")
	b.click("a[href='/notices']")
	b.waitForText("Who is told")
	b.waitForText("Nobody yet")
}

// An admin takes tokens away and changes accounts, by command and in the console;
// everybody changes the own password.
func TestAccessIsChanged(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	password := filepath.Join(s.dir, "password")
	os.WriteFile(password, []byte("lantern-light\n"), 0o600)
	database := []string{"--database-file", s.database}
	do := func(code int, want, wrong string, args ...string) {
		t.Helper()
		expect(t, code, want, wrong, append(args, database...)...)
	}
	do(0, "there is no account yet", "", "account", "list")
	do(0, "there is no token yet", "", "token", "list")
	for name, role := range map[string]string{"amara": "viewer", "noor": "admin"} {
		do(0, "", "", "account", "add", name, "--role", role, "--password-file", password)
	}
	read := s.token("gateway", "read")
	do(0, "read  gateway", "", "token", "list")
	do(1, "", "it is the only account that is admin", "account", "remove", "noor")
	do(1, "", "it is the only account that is admin", "account", "set", "noor", "--role", "viewer")
	do(1, "", "there is no account of that name", "account", "set", "nobody", "--role", "viewer")
	do(2, "", "there is nothing to change", "account", "set", "amara")
	do(2, "", "the id of a token is a number", "token", "revoke", "one")
	do(0, "account amara is changed", "", "account", "set", "amara", "--role", "operator")
	do(0, "operator", "", "account", "list")
	setenv(t, "OAKBARREL_URL", s.url())
	setenv(t, "OAKBARREL_TOKEN", s.token("*", "admin"))
	expect(t, 0, "admin  *", "", "token", "list")
	expect(t, 1, "", "there is no token 99", "token", "revoke", "99")

	b := newBrowser(t, "http://"+s.address)
	b.signIn("noor", "lantern-light")
	b.waitForText("Records in the store")
	b.click("a[href='/access']")
	b.waitForText("Who did or read what")
	b.waitForText("every one")
	token := s.token("gateway", "write")
	copied, err := client.New(client.Options{URLs: []string{s.url()}, Token: func() (string, error) { return token, nil }})
	if err != nil {
		t.Fatal(err)
	}
	original, other := strings.Repeat("a", 32), strings.Repeat("b", 32)
	if _, err := copied.Confirmed(context.Background(), original, "centre", "gateway", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := copied.Join(context.Background(), other, client.Join{Host: "kelp-02"}); err == nil {
		t.Error("a copy is let in by itself")
	}
	b.waitForText("Hosts that wait to be let in")
	b.waitForText("kelp-02")
	b.fits("Access")
	b.picture("access")
	b.press("[aria-label='revoke token 1']")
	b.press("[aria-label='revoke token 1 for good']")
	b.waitFor(`!document.querySelector("[aria-label='revoke token 1']")`)
	b.waitForText("revoke token")
	if _, stderr, code := s.ask(read, "casks"); code != 3 || !strings.Contains(stderr, "the token is not known here") {
		t.Errorf("a token that is revoked: %d %s", code, stderr)
	}
	b.press("[aria-label='let in agent " + other + "']")
	b.press("[aria-label='let in agent " + other + " for good']")
	b.waitFor(`!document.body.innerText.includes("Hosts that wait to be let in")`)
	if got, err := copied.Join(context.Background(), other, client.Join{Host: "kelp-02"}); err != nil || got.Cask != "gateway" {
		t.Errorf("%+v, %v", got, err)
	}
	b.press("[aria-label='remove amara']")
	b.press("[aria-label='remove amara for good']")
	b.waitFor(`!document.querySelector("[aria-label='remove amara']")`)
	b.press("[aria-label='remove noor']")
	b.press("[aria-label='remove noor for good']")
	b.waitForText("it is the only account that is admin")
	b.typeInto("[autocomplete=current-password]", "lantern-light")
	b.typeInto("[autocomplete=new-password]", "another-lantern\r")
	b.waitForText("your other sign-ins have ended")
	b.size(390, 800)
	b.fits("Access, 390 wide")
	do(0, "admin", "", "account", "list", "--output", "json")
}

// An admin sets what a cask keeps, and what is set is what the command tells.
func TestCasksInTheConsole(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.account("noor", "admin")
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	h.send("udp", "<11>by-hand: one")
	h.waitUntilDelivered(1)
	b := newBrowser(t, "http://"+s.address)
	b.signIn("noor", "lantern-light")
	b.waitForText("Records in the store")
	b.click("a[href='/hosts']")
	b.typeInto("[list=casks]", "gateway")
	b.click("form button")
	b.waitForText("On the host, once, until")
	b.fits("an invitation")
	b.picture("invite")
	text, _ := chromedp.Run(b.ctx, chromedp.Text(chromedp.CSS("code")))
	args := append(strings.Fields(text)[1:], "--state", filepath.Join(s.dir, "invited"), "--token-file", filepath.Join(s.dir, "invited-token"))
	expect(t, 0, "centre: {store: {cask: gateway}}", "Its token is in", args...)
	b.click("a[href='/casks']")
	b.waitForText("nothing bounds it")
	b.click("a[href='/casks/gateway']")
	b.waitForText("What it keeps")
	b.waitForText("tide-gw")
	b.typeInto("label:nth-of-type(1) input", "30")
	b.typeInto("label:nth-of-type(2) input", "1.5")
	b.waitForText("What is over goes within a minute")
	b.click("form button")
	b.waitForText("It keeps 30 days, and 1.5 GiB at most.")
	b.fits("a cask")
	b.size(390, 800)
	b.fits("a cask, 390 wide")
	setenv(t, "OAKBARREL_URL", s.url())
	setenv(t, "OAKBARREL_TOKEN", s.token("gateway", "read"))
	expect(t, 0, "keeps 30 days, and 1.5 GiB at most", "", "cask", "show", "gateway")
	expect(t, 3, "", "the token may read", "cask", "set", "gateway", "--hold")
	setenv(t, "OAKBARREL_TOKEN", s.token("*", "admin"))
	expect(t, 0, "keeps everything, as it is on hold, in no case longer than 400 days", "", "cask", "set", "gateway", "--hold", "--days-at-most", "400")
	expect(t, 2, "", "--keep-total cannot be", "cask", "set", "gateway", "--keep-total", "20")
	expect(t, 2, "", "nothing is to be set", "cask", "set", "gateway")
	expect(t, 0, "set cask", "", "audit")
	expect(t, 0, "1 blocks of 1 feeds with 1 records", "", "store", "check", "--database-file", s.database)
}

func TestTheConsole(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	password := filepath.Join(s.dir, "password")
	os.WriteFile(password, []byte("lantern-light\n"), 0o600)
	expect(t, 0, "account amara is made, as viewer", "", "account", "add", "amara", "--role", "viewer", "--password-file", password, "--database-file", s.database)
	expect(t, 1, "", "an account of that name", "account", "add", "amara", "--role", "viewer", "--password-file", password, "--database-file", s.database)
	expect(t, 0, "", "", "account", "add", "noor", "--role", "operator", "--password-file", password, "--database-file", s.database)
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	now := time.Now().UTC().Add(-time.Minute)
	var lines []string
	for i := range 300 {
		lines = append(lines, fmt.Sprintf("<%d>1 %s kelp-01 ticketd 22 - [sale@32473 order=\"%d\"] order %d went through", 128+i%8, now.Add(-time.Duration(i)*10*time.Second).Format(time.RFC3339), i, i))
	}
	h.send("tcp", strings.Join(lines, "\n")+"\n")
	h.waitUntilDelivered(300)

	b := newBrowser(t, "http://"+s.address)
	b.waitForText("Sign in to read")
	b.picture("console-signin")
	b.typeInto("[name=name]", "amara")
	b.typeInto("[name=password]", "wrong-password\r")
	b.waitForText("the name or the password is wrong")
	b.do(chromedp.KeyEvent("lantern-light\r")) // the wrong one is selected

	b.waitForText("Records in the store, the last hour")
	b.waitForText("tide-gw")
	b.waitForText("300 in")
	b.click("a[href^='/hosts/']")
	b.waitForText("An operator can send a test record")
	if strings.Contains(b.text(), "Send a test record") {
		t.Error("a viewer is offered to give orders")
	}
	b.fits("Today")
	b.picture("today")

	b.click("a[href='/logs']")
	b.waitForText("300 shown")
	b.waitFor(`document.body.dispatchEvent(new KeyboardEvent("keydown", {key: "/", bubbles: true, cancelable: true})) === false`)
	b.waitFor(`document.activeElement.getAttribute("aria-label") === "condition"`)
	b.typeInto("[aria-label=condition]", "severity at least warning and text has word 12\r")
	b.waitForText("1 shown")
	b.waitFor(`location.search.includes("severity+at+least+warning")`)
	b.click("[role=option]")
	b.waitForText("sale@32473")
	b.waitForText("Before and after by the agent of tide-gw")
	b.waitFor(`document.querySelectorAll("aside li button").length === 11`)
	b.picture("neighbours")
	b.waitForText("As it is kept")
	b.do(chromedp.KeyEvent("\u001b"))
	b.waitFor(`!document.querySelector("aside")`)
	b.open("/logs?q=app+is+ticketd&range=6h")
	b.waitForText("300 shown")
	b.waitFor(`([...document.querySelectorAll("button")].find((x) => x.innerText.includes("Views")).click(), true)`)
	b.waitForText("None is kept yet")
	b.typeInto("[aria-label='name of the view']", "tickets\r")
	b.waitForText("app is ticketd · 6h")
	b.picture("views")
	b.open("/logs")
	b.waitForText("300 shown")
	b.typeInto("[aria-label=condition]", "sev")
	b.waitFor(`document.querySelector("[aria-label=condition]").getAttribute("aria-expanded") === "true"`)
	b.do(chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.Tab))
	b.waitFor(`document.querySelector("[aria-label=condition]").value === "severity at most "`)
	b.open("/logs?q=severity+>+error")
	b.waitForText("severities have no >")
	b.waitFor(`([...document.querySelectorAll("button")].find((x) => x.innerText.includes("Views")).click(), true)`)
	b.waitForText("app is ticketd · 6h")
	b.click("li button")
	b.waitForText("300 shown")
	b.waitFor(`location.search.includes("range=6h")`)
	setenv(t, "OAKBARREL_URL", s.url())
	read := s.token("gateway", "read")
	setenv(t, "OAKBARREL_TOKEN", read)
	expect(t, 1, "", "no view \"tickets\"", "count", "--view", "tickets") // it is amara's own
	shared := []string{"views", "keep", "tickets", "--since", "6h", "--where", "app is ticketd", "--shared"}
	expect(t, 3, "", "a view for all takes an operator", shared...)
	setenv(t, "OAKBARREL_TOKEN", s.token("*", "admin"))
	expect(t, 0, "all", "", shared...)
	setenv(t, "OAKBARREL_TOKEN", read)
	expect(t, 3, "", "a view for all takes an operator", "views", "drop", "tickets")
	expect(t, 0, "300", "", "count", "--view", "tickets")
	expect(t, 0, "1", "", "count", "--view", "tickets", "--where", "text has word 12")
	expect(t, 1, "", "no view \"nothing\"", "read", "--view", "nothing")
	expect(t, 2, "", "--where, column 1", "views", "keep", "x", "--where", "nme is y")
	expect(t, 0, "errors", "", "views", "keep", "errors", "--since", "2d", "--where", "severity at least error")
	expect(t, 0, "tickets", "", "views", "drop", "errors")

	b.open("/logs?q=app+is+by-hand&live=1")
	b.waitForText("Pause")
	time.Sleep(300 * time.Millisecond) // until the stream is open
	var took []time.Duration
	late := true
	for late && len(took) < 3 { // on a busy machine one may take longer
		start := time.Now()
		text := fmt.Sprintf("seen at once, try %d", len(took))
		h.send("udp", "<11>by-hand: "+text)
		b.waitForText(text)
		took = append(took, time.Since(start))
		late = took[len(took)-1] > time.Second
	}
	if late && os.Getenv("OAKBARREL_RACE") == "" {
		t.Errorf("new records are seen after %v", took)
	}
	for name, path := range map[string]string{"Today": "/", "Logs": "/logs", "Hosts": "/hosts", "Plans": "/plans", "Casks": "/casks", "a cask": "/casks/gateway", "Notices": "/notices"} {
		b.size(390, 800)
		b.open(path)
		b.waitFor("document.querySelector('main')?.innerText.length > 20")
		b.fits(name + ", 390 wide")
		if !b.is("document.querySelector('nav').offsetHeight < 50") {
			t.Errorf("%s, 390 wide: the navigation has more than one line", name)
		}
	}
	b.open("/logs?range=24h&q=app+is+ticketd")
	b.waitFor("document.querySelector('[role=option]')?.innerText.includes('kelp-01')") // also where it is narrow
	b.waitFor("[...document.querySelectorAll('[role=option]')].every((x, i, all) => i === 0 || x.getBoundingClientRect().top >= all[i - 1].getBoundingClientRect().bottom - 1)")
	b.size(1280, 800)
	b.click("header button:last-child")
	b.waitForText("Sign in to read")
	if b.open("/api/v1/casks"); !strings.Contains(b.text(), "no token") {
		t.Errorf("signed out, the page says %s", b.text())
	}

	var more strings.Builder
	for i := range 2500 {
		fmt.Fprintf(&more, "<134>1 %s kelp-01 ticketd 22 - - older %d\n", now.Add(-time.Hour).Add(time.Duration(i)*time.Millisecond).Format(time.RFC3339Nano), i)
	}
	h.send("tcp", more.String())
	h.waitUntilDelivered(2801)
	b.open("/")
	b.signIn("noor", "lantern-light")
	b.waitForText("Records in the store")
	b.click("a[href^='/hosts/']")
	b.waitForText("It closes: nothing is lost")
	b.waitForText("None is open: every rule has its own threshold.")
	b.fits("a host's page")
	b.waitFor(`document.querySelector("[aria-label=rule]")?.value === "errors"`)
	b.waitFor(`([...document.querySelectorAll("button")].find((x) => x.innerText === "Open").click(), true)`)
	b.waitForText("rule errors takes debug instead of error until")
	b.waitForText("close")
	b.waitForText("Send a test record")
	b.click("[aria-live] button")
	b.waitForText("ordered by noor: went to centre")
	b.waitForText("by intake by order")
	b.waitForText("confirmed · centre")
	b.waitForText("by a search in the store, asked from here")
	b.click("[aria-live] a")
	b.waitForText("1 shown")
	b.waitForText("ordered by noor")
	b.click("[role=option]")
	b.click("aside a")
	b.waitForText("The record, judged by the plan")
	b.waitForText("It goes to centre, by otherwise.")
	b.click("[role=tab]:first-child")
	b.waitForText("? depends on more")
	b.do(chromedp.Focus(chromedp.CSS("[aria-label=rules] button")))
	b.waitFor(`document.querySelectorAll("td.outline-amber").length === 24 * 4`)
	b.open("/hosts")
	b.waitForText("tide-gw")
	b.fits("Hosts")
	b.click("a[href^='/hosts/']")
	b.click("a[href^='/plans']")
	b.waitForText("in force, nothing to mend")
	b.waitForText("? depends on more")
	b.fits("Plans")
	b.click("td button[title^='local3.error']")
	b.waitFor(`document.querySelector("[aria-label=message]").value === "<155>1 - tide-gw app 1 - - text"`)
	b.click("[data-state=active] form button")
	b.waitForText("It goes to centre, by otherwise.")
	b.do(chromedp.Click(chromedp.CSS(".cm-line:last-child")), chromedp.KeyEvent("nonsense: 1 # why?"))
	b.waitForText("1 to mend")
	if b.is(`document.querySelector("[role=dialog]") !== null`) {
		t.Error("a question mark that is written opens the list of keys")
	}
	b.click("a[href='/hosts']") // and back: what was written is there still
	b.waitForText("heard")
	b.click("a[href='/plans']")
	b.waitForText("nonsense: 1 # why?")
	b.waitForText("1 to mend")
	b.waitFor(`document.querySelector(".cm-lintRange-error") !== null`)
	b.do(chromedp.Click(chromedp.CSS(".cm-line:last-child")), chromedp.KeyEvent("\nwebh"))
	b.waitForText("webhook_file") // the words come from the service
	b.do(chromedp.KeyEvent("\u001b"))
	b.click("header ~ main button")
	b.waitForText("in force, nothing to mend")
	b.click("[role=tab]:last-child")
	b.waitForText("What is in force against what you write")
	b.click("[data-state=active] form button")
	b.waitForText("as before, 0 somewhere else, 0 kept no longer")

	b.open("/logs?range=6h")
	b.do(chromedp.Focus(chromedp.CSS("[role=slider]")), chromedp.KeyEvent(kb.End))
	b.waitFor(`document.activeElement.getAttribute("aria-valuenow") === document.activeElement.getAttribute("aria-valuemax")`)
	b.do(chromedp.KeyEvent(kb.ArrowLeft, chromedp.KeyModifiers(chromedp.ModifierShift)))
	b.picture("histogram-keys")
	b.do(chromedp.KeyEvent(kb.Enter))
	b.waitFor(`location.search.includes("since=") && location.search.includes("until=")`)

	b.open("/logs?range=6h")
	b.waitForText("2,000 shown of 2,802")
	b.waitFor(`(document.querySelector("[role=listbox]").scrollTop = 1e9) && document.body.innerText.includes("2,802 shown")`)
	b.waitFor(`(document.querySelector("[role=listbox]").scrollTop = 1e9) && document.body.innerText.includes("older 0")`)
}

func TestASessionIsGuarded(t *testing.T) {
	s := newStore(t)
	ask := func(method, body string, header http.Header) string {
		t.Helper()
		request, err := http.NewRequest(method, "http://"+s.address+"/api/v1/session", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		request.Header = header
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		b, _ := io.ReadAll(response.Body)
		return string(b)
	}
	if got := ask("DELETE", "", http.Header{"Origin": {"http://evil.example"}}); !strings.Contains(got, "the request comes from another site") {
		t.Errorf("from another site: %s", got)
	}
	const wrong = `{"name": "amara", "password": "guess"}`
	for range 5 {
		if got := ask("POST", wrong, nil); !strings.Contains(got, "the name or the password is wrong") {
			t.Errorf("a guess: %s", got)
		}
	}
	if got := ask("POST", wrong, nil); !strings.Contains(got, "too many wrong passwords") {
		t.Errorf("the sixth guess: %s", got)
	}
}

// Records are counted by unit, in the console and by command, and a click leads to those of one.
func TestRecordsAreCountedByUnit(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.account("mara", "viewer")
	h := s.host("gateway", s.token("gateway", "write"))
	h.start()
	for i := range 12 {
		unit := []string{"lantern-pumps.service", "lantern-pumps.service", "ssh.service"}[i%3]
		h.send("tcp", fmt.Sprintf("<14>1 - tide-gw pumpd - - [journal@32473 unit=\"%s\"] number %d\n", unit, i))
	}
	h.send("tcp", "<14>1 - tide-gw pumpd - - - of no unit\n")
	h.waitUntilDelivered(13)
	reader := s.token("*", "read")
	if out, stderr, code := s.ask(reader, "count", "--by", "unit", "--output", "json"); code != 0 || !strings.Contains(out, `{"key":"lantern-pumps.service","count":8},{"key":"ssh.service","count":4},{"key":"(missing)","count":1}`) {
		t.Errorf("%d: %s%s", code, out, stderr)
	}
	if out, _, code := s.ask(reader, "count", "--where", "unit is ssh.service and text contains number"); code != 0 || !strings.Contains(out, "4") {
		t.Errorf("%d: %s", code, out)
	}
	b := newBrowser(t, s.url())
	b.signIn("mara", "lantern-light")
	b.waitForText("tide-gw")
	b.open("/logs?by=unit")
	b.waitForText("lantern-pumps.service")
	b.waitForText("By unit, 13 records")
	b.picture("console-counted")
	b.size(390, 800)
	b.fits("records counted by unit, 390 wide")
	b.picture("narrow-counted")
	b.size(1280, 800)
	b.press(`section[aria-label="records by unit"] li:nth-child(2) button`)
	b.waitFor(`document.querySelectorAll("[role=option]").length === 4`)
	b.press(`section[aria-label="records by unit"] li button`)
	b.waitFor(`new URL(location).searchParams.get("q") === 'unit is "ssh.service" and unit is "ssh.service"'`)
	b.open(`/logs?by=unit&q=unit missing`)
	b.waitFor(`document.querySelectorAll("[role=option]").length === 1`)
	b.open(`/logs?q=unit starts with lantern`)
	b.waitFor(`document.querySelectorAll("[role=option]").length === 8`)
	b.press("[role=option]")
	b.waitFor(`document.querySelector("aside[aria-label=record]")?.innerText.includes("unit\nlantern-pumps.service") === true`)
}
