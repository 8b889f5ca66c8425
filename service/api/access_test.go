package api_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

// refusedWith tells whether an error is an answer of the service with a status.
func refusedWith(err error, status int) bool {
	var p *client.Problem
	return errors.As(err, &p) && p.Status == status
}

// A token that is revoked is refused from the next request on, and the list tells
// which token that was.
func TestATokenIsListedAndRevoked(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	admin := f.session("admin")
	made, err := admin.NewToken(ctx, client.NewToken{Cask: f.cask, May: "read", Label: "a colleague's"})
	if err != nil {
		t.Fatal(err)
	}
	theirs, _ := client.New(client.Options{URLs: []string{f.server.URL}, Token: func() (string, error) { return made.Token, nil }})
	if _, err := theirs.Casks(ctx); err != nil {
		t.Fatal(err)
	}
	tokens, err := admin.Tokens(ctx)
	at := slices.IndexFunc(tokens, func(g client.GivenToken) bool { return g.Label == "a colleague's" })
	if err != nil || at < 0 || tokens[at].Cask != f.cask || tokens[at].May != "read" || tokens[at].Used == nil {
		t.Fatalf("%+v, %v", tokens, err)
	}
	for name, c := range map[string]*client.Client{"a token for reading": theirs, "a viewer": f.session("viewer"), "an operator": f.session("operator")} {
		if _, err := c.Tokens(ctx); !refusedWith(err, 403) {
			t.Errorf("%s lists tokens: %v", name, err)
		}
		if err := c.RevokeToken(ctx, tokens[at].ID); !refusedWith(err, 403) {
			t.Errorf("%s revokes a token: %v", name, err)
		}
	}
	if err := admin.RevokeToken(ctx, tokens[at].ID); err != nil {
		t.Fatal(err)
	}
	if _, err := theirs.Casks(ctx); !refusedWith(err, 401) {
		t.Errorf("a revoked token: %v", err)
	}
	if err := admin.RevokeToken(ctx, tokens[at].ID); !refusedWith(err, 404) {
		t.Errorf("revoked twice: %v", err)
	}
	acts, err := admin.Audit(ctx, time.Now().Add(-time.Minute), 10)
	if err != nil || !slices.ContainsFunc(acts, func(a client.Act) bool { return a.What == "revoke token" }) {
		t.Errorf("the audit trail has %+v, %v", acts, err)
	}
}

// Another role holds from the next request on; with another password all sign-ins
// end; who is removed is out at once.
func TestAnAccountIsChangedAtOnce(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	admin, other := f.session("admin"), f.session("viewer")
	accounts, err := admin.Accounts(ctx)
	at := slices.IndexFunc(accounts, func(g client.GivenAccount) bool { return g.Role == "viewer" })
	if err != nil || at < 0 || accounts[at].Sessions != 1 {
		t.Fatalf("%+v, %v", accounts, err)
	}
	name := accounts[at].Name
	if _, err := other.Accounts(ctx); !refusedWith(err, 403) {
		t.Errorf("a viewer lists accounts: %v", err)
	}
	if err := other.SetAccount(ctx, name, client.SetAccount{Role: "admin"}); !refusedWith(err, 403) {
		t.Errorf("a viewer makes itself an admin: %v", err)
	}
	if err := admin.SetAccount(ctx, name, client.SetAccount{Role: "admin"}); err != nil {
		t.Fatal(err)
	}
	if _, err := other.Accounts(ctx); err != nil {
		t.Errorf("its new role does not hold: %v", err)
	}
	if err := admin.SetAccount(ctx, name, client.SetAccount{Password: "another-lantern"}); err != nil {
		t.Fatal(err)
	}
	if _, err := other.Casks(ctx); !refusedWith(err, 401) {
		t.Errorf("it is signed in with the old password still: %v", err)
	}
	if _, err := other.SignIn(ctx, name, "another-lantern"); err != nil {
		t.Fatal(err)
	}
	if err := admin.RemoveAccount(ctx, name); err != nil {
		t.Fatal(err)
	}
	if _, err := other.Casks(ctx); !refusedWith(err, 401) {
		t.Errorf("an account that was removed is signed in: %v", err)
	}
	for what, err := range map[string]error{
		"no such account": admin.RemoveAccount(ctx, name), "no such role": admin.SetAccount(ctx, name, client.SetAccount{Role: "harbour master"}), "a short password": admin.SetAccount(ctx, name, client.SetAccount{Password: "short"}),
	} {
		if !refusedWith(err, 404) && !refusedWith(err, 400) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// One's own password is changed with the old one, and ends one's other sign-ins but
// not this one.
func TestOnesOwnPasswordIsChanged(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	here, there := f.session("viewer"), f.signIn("viewer")
	if err := here.SetPassword(ctx, client.SetPassword{Old: "not-this-one", New: "another-lantern"}); !refusedWith(err, 403) {
		t.Errorf("with a wrong old one: %v", err)
	}
	if err := here.SetPassword(ctx, client.SetPassword{Old: "lantern-light", New: "another-lantern"}); err != nil {
		t.Fatal(err)
	}
	if _, err := here.Casks(ctx); err != nil {
		t.Errorf("who changed it is out: %v", err)
	}
	if _, err := there.Casks(ctx); !refusedWith(err, 401) {
		t.Errorf("another sign-in goes on: %v", err)
	}
	if err := f.read.SetPassword(ctx, client.SetPassword{Old: "lantern-light", New: "another-lantern"}); !refusedWith(err, 403) {
		t.Errorf("a token changes a password: %v", err)
	}
}

// Whoever asks, and however many at a time: one admin stays.
func TestTheLastAdminStays(t *testing.T) {
	newFixture(t)
	ctx := context.Background()
	if err := db.Where("1 = 1").Delete(&model.Account{}).Error; err != nil { // of the tests before
		t.Fatal(err)
	}
	names := []string{"ada", "bo", "cy"}
	for _, name := range names {
		if err := access.AddAccount(db, name, access.Admin, "lantern-light"); err != nil {
			t.Fatal(err)
		}
	}
	var all sync.WaitGroup
	for _, name := range names {
		all.Go(func() { access.RemoveAccount(db.WithContext(ctx), name) })
	}
	all.Wait()
	left, err := access.Accounts(db)
	if err != nil || len(left) != 1 || left[0].Role != access.Admin {
		t.Fatalf("%+v, %v", left, err)
	}
	if err := access.RemoveAccount(db, left[0].Name); !errors.Is(err, access.ErrLastAdmin) {
		t.Errorf("the last one is removed: %v", err)
	}
	if err := access.SetAccount(db, left[0].Name, "viewer", "", ""); !errors.Is(err, access.ErrLastAdmin) {
		t.Errorf("the last one is made a viewer: %v", err)
	}
}

// get asks with a token, and returns what comes back.
func (f *fixture) get(token, path string) (status int, body string) {
	f.t.Helper()
	request, _ := http.NewRequest("GET", f.server.URL+"/api/v1"+path, nil)
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		f.t.Fatal(err)
	}
	defer response.Body.Close()
	b, _ := io.ReadAll(response.Body)
	return response.StatusCode, string(b)
}

// A token for one cask sees the hosts that write into it, what they say and their
// plans, and of no other host even that there is one.
func TestAReaderSeesTheHostsOfItsCask(t *testing.T) {
	f, other := newFixture(t), &fixture{}
	ctx := context.Background()
	other.t, other.server, other.cask = t, f.server, "another-"+f.cask[:20]
	otherWrite, _ := other.client(access.Write)
	otherRead, otherToken := other.client(access.Read)
	ours, theirs := f.agent(7001), f.agent(7002)
	for agent, w := range map[string]struct {
		c    *client.Client
		cask string
	}{ours: {f.write, f.cask}, theirs: {otherWrite, other.cask}} {
		head, payload := pack(1, some(3))
		if _, err := w.c.SendBatch(ctx, agent, "centre", w.cask, head, payload); err != nil {
			t.Fatal(err)
		}
		if _, err := w.c.SendStatus(ctx, agent, client.AgentStatus{Host: "kelp-01", Status: map[string]any{"since": "2026-11-29T00:00:00Z"}}); err != nil {
			t.Fatal(err)
		}
		text := "oakbarrel: 1 # of " + agent
		sum := sha256.Sum256([]byte(text))
		if err := w.c.SendPlan(ctx, agent, client.AgentPlan{Hash: hex.EncodeToString(sum[:]), Text: text}); err != nil {
			t.Fatal(err)
		}
	}
	for name, r := range map[string]struct {
		c                   *client.Client
		token, sees, hidden string
	}{"ours": {f.read, f.readToken, ours, theirs}, "theirs": {otherRead, otherToken, theirs, ours}} {
		hosts, err := r.c.Hosts(ctx)
		if err != nil || len(hosts) != 1 || hosts[0].AgentID != r.sees {
			t.Errorf("%s: the hosts are %+v, %v", name, hosts, err)
		}
		for _, path := range []string{"/status", "/agents/" + r.sees, "/agents/" + r.sees + "/plan"} {
			if status, body := f.get(r.token, path); status != 200 || strings.Contains(body, r.hidden) {
				t.Errorf("%s %s: %d %s", name, path, status, body)
			}
		}
		for _, path := range []string{"/agents/" + r.hidden, "/agents/" + r.hidden + "/plan"} {
			if status, body := f.get(r.token, path); status != 404 {
				t.Errorf("%s %s: %d %s", name, path, status, body)
			}
		}
	}
}

// Every order is in the audit trail, with who gave it, to whom, and what came of it;
// an agent cannot look like an account there.
func TestOrdersAreInTheAuditTrail(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	admin, operator := f.session("admin"), f.session("operator")
	id := f.agent(7003)
	if _, err := f.writer(id).SendStatus(ctx, id, client.AgentStatus{Host: "noor", Status: map[string]any{}}); err != nil {
		t.Fatal(err)
	}
	o, err := operator.GiveOrder(ctx, id, client.NewOrder{Kind: client.LastLines, Path: "/var/log/lantern/all.log"})
	if err != nil {
		t.Fatal(err)
	}
	if err := f.writer(id).OrderDone(ctx, id, o.ID, client.Outcome{Why: "the agent has no rolled set of that path"}); err != nil {
		t.Fatal(err)
	}
	acts, err := admin.Audit(ctx, time.Now().Add(-time.Minute), 2)
	if err != nil || len(acts) != 2 {
		t.Fatalf("%+v, %v", acts, err)
	}
	if done := acts[0]; done.By != "agent "+id || done.Detail != fmt.Sprintf("order %d: not done: the agent has no rolled set of that path", o.ID) {
		t.Errorf("%+v", done)
	}
	if given := acts[1]; !strings.HasSuffix(given.By, "-operator") || given.Detail != fmt.Sprintf("order %d to agent %s: last_lines path /var/log/lantern/all.log", o.ID, id) {
		t.Errorf("%+v", given)
	}
}

// Tries of passwords are counted exactly, however many come side by side, however the
// name is spelled, and whichever service is asked; meanwhile the others go on.
func TestTriesOfPasswordsAreCounted(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	f.session("viewer")
	name := strings.ToLower(t.Name()) + "-viewer"
	var wrong, tooOften atomic.Int64
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			spelled := name
			if i%2 == 0 {
				spelled = strings.ToUpper(name)
			}
			switch _, _, err := access.SignIn(ctx, db, spelled, "not-this-one", fmt.Sprint("10.0.0.", i)); {
			case errors.Is(err, access.ErrWrong):
				wrong.Add(1)
			case errors.Is(err, access.ErrTooOften):
				tooOften.Add(1)
			default:
				t.Error(err)
			}
		})
	}
	soon(t, "who reads meanwhile", time.Second, func() error {
		_, err := f.read.Casks(ctx)
		return err
	})
	all.Wait()
	if wrong.Load() != 5 || tooOften.Load() != 35 {
		t.Errorf("%d passwords were looked at, %d were not", wrong.Load(), tooOften.Load())
	}
	if _, _, err := access.SignIn(ctx, db, name, "lantern-light", "10.0.0.99"); !errors.Is(err, access.ErrTooOften) {
		t.Errorf("the right one, too early: %v", err)
	}
	if err := db.Model(&model.Try{}).Where("1 = 1").Update("begun", time.Now().Add(-2*time.Minute)).Error; err != nil {
		t.Fatal(err)
	}
	for range 8 { // a right one takes back what was counted
		if _, _, err := access.SignIn(ctx, db, name, "lantern-light", "10.0.0.99"); err != nil {
			t.Fatal(err)
		}
	}
	var refused atomic.Int64
	for i := range 60 { // whoever goes through names is stopped by the address; side by side, as a slow machine needs more than a minute for one after the other
		all.Go(func() {
			if _, _, err := access.SignIn(ctx, db, fmt.Sprint("nobody-", i), "password", "10.0.1.1"); errors.Is(err, access.ErrTooOften) {
				refused.Add(1)
			}
		})
	}
	all.Wait()
	if refused.Load() != 30 {
		t.Errorf("of 60 tries from one address %d were refused", refused.Load())
	}
}

// What will hurt of a database is told, with what to do.
func TestADatabaseIsLookedAt(t *testing.T) {
	newFixture(t)
	found, err := model.Look(db)
	if err != nil || len(found) != 0 {
		t.Errorf("of a sound one: %+v, %v", found, err)
	}
	asRoot := func(what string) {
		t.Helper()
		if out, err := exec.Command("mariadb", "--no-defaults", "-uroot", "--password=lantern", "--socket="+socket, "-e", what).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	asRoot("SET GLOBAL max_allowed_packet = 16777216")
	defer asRoot("SET GLOBAL max_allowed_packet = 268435456")
	if err := db.Exec("CREATE TABLE oddity (id INT) ENGINE=Aria").Error; err != nil {
		t.Fatal(err)
	}
	defer db.Exec("DROP TABLE oddity")
	found, err = model.Look(db)
	if err != nil || len(found) != 2 || !strings.Contains(found[0].What, "no more than 16 MiB") || !strings.Contains(found[1].What, "table oddity is not of InnoDB") || found[0].Mend == "" || found[1].Mend == "" {
		t.Errorf("%+v, %v", found, err)
	}
}

// Invitations are listed with who made them and what became of them, without their codes.
func TestInvitationsAreListed(t *testing.T) {
	f := newFixture(t)
	ctx := context.Background()
	admin := f.session("admin")
	made, err := admin.Invite(ctx, client.Invite{Cask: f.cask, Label: "the pumps", Minutes: 5})
	if err != nil {
		t.Fatal(err)
	}
	token, err := access.NewToken(db, access.EveryCask, access.Admin, "noor's machine")
	if err != nil {
		t.Fatal(err)
	}
	if status, body := f.get(f.readToken, "/invitations"); status != 403 {
		t.Errorf("a reader: %d %s", status, body)
	}
	status, body := f.get(token, "/invitations")
	if status != 200 || !strings.Contains(body, `{"cask":"`+f.cask+`","label":"the pumps","by":"`+strings.ToLower(t.Name())+`-admin","ends":"`) || strings.Contains(body, made.Code) {
		t.Errorf("%d %s", status, body)
	}
	if _, err := admin.Accept(ctx, client.Accept{Code: made.Code, AgentID: f.agent(7100), Host: "reef-02"}); err != nil {
		t.Fatal(err)
	}
	if _, body := f.get(token, "/invitations"); !strings.Contains(body, `"agent_id":"`+f.agent(7100)+`"`) {
		t.Errorf("after it was used: %s", body)
	}
}
