package api_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

// Who may ask for what, by address. Everybody else is refused, whatever they send.
var (
	anybody   = []string{"nobody", "unknown", "revoked", "reader", "writer", "other writer", "importer", "viewer", "operator", "admin", "admin token"}
	readers   = []string{"reader", "viewer", "operator", "admin", "admin token"}
	accounts  = []string{"viewer", "operator", "admin"}
	operators = []string{"operator", "admin", "admin token"}
	admins    = []string{"admin", "admin token"}
	theAgent  = []string{"writer"}
	theImport = []string{"importer"}
	anyWriter = []string{"writer", "other writer"}
)

var may = map[string][]string{
	"GET /healthz":                          anybody,
	"POST /session":                         anybody, // with the password
	"DELETE /session":                       anybody, // one's own
	"GET /session":                          accounts,
	"PUT /session/password":                 accounts,
	"GET /casks":                            readers,
	"GET /casks/{cask}":                     readers,
	"PATCH /casks/{cask}":                   admins,
	"GET /shelves":                          operators,
	"GET /audit":                            admins,
	"GET /views":                            readers,
	"GET /alerts":                           readers,
	"POST /alerts/try":                      readers,
	"PUT /alerts/{alert}":                   operators,
	"DELETE /alerts/{alert}":                operators,
	"GET /notices":                          readers,
	"GET /notices/{notice}":                 readers,
	"POST /notices/{notice}":                operators,
	"GET /receivers":                        operators,
	"PUT /receivers/{receiver}":             admins,
	"DELETE /receivers/{receiver}":          admins,
	"POST /receivers/{receiver}/try":        admins,
	"PUT /views":                            readers,
	"DELETE /views":                         readers,
	"GET /hosts":                            readers,
	"GET /status":                           readers,
	"GET /records":                          readers,
	"GET /neighbours":                       readers,
	"GET /counts":                           readers,
	"GET /histogram":                        readers,
	"GET /follow":                           readers,
	"GET /feeds/{agent}/{outlet}":           theAgent,
	"POST /feeds/{agent}/{outlet}":          theAgent,
	"GET /feeds/{agent}/{outlet} (import)":  theImport,
	"POST /feeds/{agent}/{outlet} (import)": theImport,
	"POST /feeds/{agent}/{outlet}/lease":    theAgent,
	"GET /agents/{agent}":                   readers,
	"PUT /agents/{agent}":                   theAgent,
	"GET /agents/{agent}/orders":            theAgent,
	"POST /agents/{agent}/orders":           operators,
	"GET /agents/{agent}/orders/{order}":    operators,
	"PUT /agents/{agent}/orders/{order}":    theAgent,
	"GET /agents/{agent}/plan":              readers,
	"PUT /agents/{agent}/plan":              theAgent,
	"POST /agents/{agent}/revoke":           admins,
	"POST /agents/{agent}/replace":          admins,
	"POST /agents/{agent}/adopt":            admins,
	"POST /agents/{agent}/join":             anyWriter, // and waits
	"GET /joinings":                         admins,
	"GET /shapes":                           readers,
	"GET /export":                           readers,
	"GET /plans/words":                      readers,
	"POST /plans/check":                     readers,
	"POST /plans/explain":                   readers,
	"POST /plans/compare":                   readers,
	"GET /plans":                            operators,
	"GET /plans/{plan}":                     operators,
	"PUT /plans/{plan}":                     operators,
	"GET /plans/{plan}/{revision}":          operators,
	"GET /plans/{plan}/{revision}/judge":    operators,
	"POST /plans/{plan}/compare":            operators,
	"POST /plans/{plan}/{revision}/ask":     operators,
	"POST /plans/{plan}/judge":              operators,
	"GET /assignments":                      operators,
	"PUT /assignments":                      operators,
	"DELETE /assignments/{name}":            operators,
	"GET /fleet":                            readers,
	"GET /overview":                         readers,
	"PUT /agents/{agent}/labels":            operators,
	"GET /label-values":                     operators,
	"PUT /label-values":                     operators,
	"GET /rollouts":                         operators,
	"POST /rollouts":                        operators,
	"GET /rollouts/{rollout}":               operators,
	"POST /rollouts/{rollout}/{where}":      operators,
	"POST /invitations":                     admins,
	"GET /invitations":                      admins,
	"POST /accept":                          anybody, // with the code
	"POST /tokens":                          admins,
	"GET /tokens":                           admins,
	"DELETE /tokens/{token}":                admins,
	"GET /accounts":                         admins,
	"PATCH /accounts/{account}":             admins,
	"DELETE /accounts/{account}":            admins,
}

// A hostile client tries every address of the interface with every kind of
// credential. An address that the table does not name fails the test: whoever adds one
// says who may ask for it.
func TestEveryAddressAsksWhoComes(t *testing.T) {
	oneAtATime(t)
	f := newFixture(t)
	agent := f.agent(1)
	tokens := map[string]string{"unknown": "ob_" + strings.Repeat("x", 43), "reader": f.readToken}
	for kind, use := range map[string]string{"revoked": access.Read, "writer": access.Write, "other writer": access.Write, "importer": access.Import} {
		_, tokens[kind] = f.client(use)
	}
	bind := func(token, agent string) {
		if status, body := f.get(tokens[token], "/feeds/"+agent+"/centre?cask="+f.cask); status != 200 {
			t.Fatal(status, body)
		}
	}
	bind("writer", agent)
	bind("other writer", f.agent(2))
	admin, err := access.NewToken(db, access.EveryCask, access.Admin, "")
	if err != nil {
		t.Fatal(err)
	}
	tokens["admin token"] = admin
	f.revoke(tokens["revoked"])
	sessions := map[string]*http.Cookie{}
	for _, role := range []string{"viewer", "operator", "admin"} {
		sessions[role] = f.cookie(role)
	}
	named := map[string]bool{}
	for _, address := range f.addresses() {
		if address == "POST /session" || address == "DELETE /session" { // asked for last, and by others, it ends what is tried here
			named[address] = true
			continue
		}
		for _, part := range []string{"", " (import)"} {
			who, known := may[address+part]
			if !known {
				if part == "" {
					t.Errorf("nobody says who may ask for %s", address)
				}
				continue
			}
			named[address+part] = true
			for _, kind := range anybody {
				status := f.tryAs(address, part != "", agent, tokens[kind], sessions[kind])
				refused := status == http.StatusUnauthorized || status == http.StatusForbidden
				waits := address == "POST /agents/{agent}/join" && kind == "other writer" && status == http.StatusForbidden
				if allowed := slices.Contains(who, kind); allowed == refused && !waits || status >= 500 {
					t.Errorf("%s%s by %s: %d", address, part, kind, status)
				}
			}
		}
	}
	if len(named) < 40 {
		t.Errorf("only %d addresses were tried", len(named))
	}
}

// addresses lists those that the interface describes.
func (f *fixture) addresses() (all []string) {
	b, err := os.ReadFile(filepath.Join("..", "..", "console", "openapi.json"))
	if err != nil {
		f.t.Fatal(err)
	}
	var described struct{ Paths map[string]map[string]any }
	if err := json.Unmarshal(b, &described); err != nil {
		f.t.Fatal(err)
	}
	for path, methods := range described.Paths {
		for method := range methods {
			all = append(all, strings.ToUpper(method)+" "+strings.TrimPrefix(path, "/api/v1"))
		}
	}
	slices.Sort(all)
	const last = "POST /agents/{agent}/revoke" // after it the agent has no token
	return append(slices.DeleteFunc(all, func(a string) bool { return a == last }), last)
}

// tryAs asks for an address with a credential, and returns the status of the answer.
func (f *fixture) tryAs(address string, imports bool, agent, token string, session *http.Cookie) int {
	f.t.Helper()
	method, path, _ := strings.Cut(address, " ")
	if path != "/healthz" {
		path = "/api/v1" + path
	}
	for from, to := range map[string]string{"{cask}": f.cask, "{agent}": agent, "{outlet}": "centre", "{order}": "999999", "{token}": "999999", "{account}": "nobody-here", "{plan}": "gate", "{revision}": "1", "{rollout}": "999999", "{where}": "pause", "{name}": "none"} {
		path = strings.ReplaceAll(path, from, to)
	}
	query := ""
	switch {
	case imports:
		query = "?generation=import&cask=" + f.cask
	case strings.Contains(address, "/feeds/"), address == "GET /export": // other tests have damaged blocks
		query = "?cask=" + f.cask
	case address == "DELETE /views":
		query = "?name=none"
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	body := ""
	if method != "GET" {
		body = "{}"
	}
	r, err := http.NewRequestWithContext(ctx, method, f.server.URL+path+query, strings.NewReader(body))
	if err != nil {
		f.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set(client.BatchHeader, "{}")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if session != nil {
		r.AddCookie(session)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		f.t.Fatal(address, err)
	}
	defer answer.Body.Close()
	if !strings.Contains(path, "/follow") { // which goes on
		io.Copy(io.Discard, answer.Body)
	}
	return answer.StatusCode
}

// revoke takes a token away.
func (f *fixture) revoke(token string) {
	f.t.Helper()
	t, err := access.Find(db, token)
	if err == nil {
		err = access.RevokeToken(db, t.ID)
	}
	if err != nil {
		f.t.Fatal(err)
	}
}

// cookie signs in as a role, and returns what a browser keeps of it.
func (f *fixture) cookie(role string) *http.Cookie {
	f.t.Helper()
	f.session(role)
	name := strings.ToLower(f.t.Name()) + "-" + role
	answer, err := http.Post(f.server.URL+"/api/v1/session", "application/json", strings.NewReader(`{"name":"`+name+`","password":"lantern-light"}`))
	if err != nil || len(answer.Cookies()) != 1 {
		f.t.Fatal(answer, err)
	}
	answer.Body.Close()
	return answer.Cookies()[0]
}

// Each promise of docs/security.md names the test that tries it.
func TestEachPromiseNamesItsTest(t *testing.T) {
	root := filepath.Join("..", "..")
	doc, err := os.ReadFile(filepath.Join(root, "docs", "security.md"))
	if err != nil {
		t.Fatal(err)
	}
	tests := map[string]bool{}
	filepath.WalkDir(root, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() && (e.Name() == "node_modules" || e.Name() == ".git") {
			return filepath.SkipDir
		}
		if strings.HasSuffix(path, "_test.go") {
			b, _ := os.ReadFile(path)
			for _, m := range regexp.MustCompile(`(?m)^func (Test\w+|Fuzz\w+)\(`).FindAllSubmatch(b, -1) {
				tests[string(m[1])] = true
			}
		}
		return nil
	})
	names := regexp.MustCompile("`((?:Test|Fuzz)\\w+)`")
	promises := 0
	for line := range strings.Lines(string(doc)) {
		found := names.FindAllStringSubmatch(line, -1)
		if strings.HasPrefix(line, "| ") && !strings.HasPrefix(line, "| |") && !strings.HasPrefix(line, "| promise") && strings.Count(line, "|") == 3 && !strings.HasPrefix(line, "|--") {
			promises++
			if len(found) == 0 {
				t.Errorf("no test is named: %s", line)
			}
		}
		for _, m := range found {
			if !tests[m[1]] {
				t.Errorf("there is no test %s", m[1])
			}
		}
	}
	if promises < 20 {
		t.Errorf("only %d promises are found", promises)
	}
}

// Whoever tries on and on is answered late, and nobody else.
func TestWhoIsRefusedOftenWaits(t *testing.T) {
	f := newFixture(t)
	stolen := f.writer(f.agent(1))
	if _, err := stolen.Confirmed(context.Background(), f.agent(1), "centre", f.cask, ""); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	for range 30 {
		if _, err := stolen.Confirmed(context.Background(), f.agent(2), "centre", f.cask, ""); !refusedWith(err, 403) {
			t.Fatal(err)
		}
	}
	if took := time.Since(began); took < time.Second {
		t.Errorf("30 refusals take %s", took)
	}
	soon(t, "another one", 200*time.Millisecond, func() error {
		_, err := f.read.Casks(context.Background())
		return err
	})
}
