package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

// Two services before one database are one: what is begun at one goes on at the other.
func TestWhicheverServiceARequestMeets(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	other := newFixture(t) // before the same database, with the same cask
	f.writer(f.agent(900)).SendStatus(ctx, f.agent(900), client.AgentStatus{Host: "tide-gw", Status: client.Status{}})
	operator := f.session("operator")
	name := strings.ToLower(t.Name()) + "-operator"

	// A sign-in holds at both, and ends at both.
	ask := func(at *httptest.Server, method string, cookies []*http.Cookie, body any) *http.Response {
		t.Helper()
		text, _ := json.Marshal(body)
		r, _ := http.NewRequest(method, at.URL+"/api/v1/session", bytes.NewReader(text))
		r.Header.Set("Content-Type", "application/json")
		for _, c := range cookies {
			r.AddCookie(c)
		}
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		return response
	}
	password := func(text string) map[string]string { return map[string]string{"name": name, "password": text} }
	session := ask(f.server, "POST", nil, password("lantern-light")).Cookies()
	if got := ask(other.server, "GET", session, nil).StatusCode; got != http.StatusOK {
		t.Errorf("signed in at the other: %d", got)
	}
	ask(other.server, "DELETE", session, nil)
	if got := ask(f.server, "GET", session, nil).StatusCode; got != http.StatusUnauthorized {
		t.Errorf("signed out at the other: %d", got)
	}

	// An order that is given at one comes to the agent that waits at the other.
	came := make(chan int, 1)
	go func() {
		open, err := f.writer(f.agent(900)).WaitForOrders(ctx, f.agent(900), 20*time.Second)
		if err != nil {
			t.Error(err)
		}
		came <- len(open)
	}()
	given := other.signIn("operator")
	if _, err := given.GiveOrder(ctx, f.agent(900), client.NewOrder{Kind: "test_record"}); err != nil {
		t.Fatal(err)
	}
	select {
	case n := <-came:
		if n != 1 {
			t.Errorf("%d orders came", n)
		}
	case <-time.After(5 * time.Second):
		t.Error("an order does not come to an agent that waits at another service")
	}
	if _, err := operator.Casks(ctx); err != nil {
		t.Error(err)
	}

	// Who follows at one sees what the other has taken.
	seen := make(chan bool, 1)
	following, stop := context.WithCancel(ctx)
	defer stop()
	go other.read.Follow(following, client.Query{Cask: f.cask}, func([]byte) error {
		seen <- true
		return context.Canceled
	})
	time.Sleep(500 * time.Millisecond)
	head, payload := pack(1, some(5))
	if _, err := f.writer(f.agent(901)).SendBatch(ctx, f.agent(901), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	select {
	case <-seen:
	case <-time.After(5 * time.Second):
		t.Error("a live view does not see what another service has taken")
	}

	// An invitation serves once, wherever.
	admin, err := access.NewToken(db, access.EveryCask, access.Admin, "noor")
	if err != nil {
		t.Fatal(err)
	}
	clientAt := func(at *httptest.Server, token string) *client.Client {
		c, err := client.New(client.Options{URLs: []string{at.URL}, Token: func() (string, error) { return token, nil }})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	made, err := clientAt(f.server, admin).Invite(ctx, client.Invite{Cask: f.cask, Minutes: 5})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := clientAt(other.server, "").Accept(ctx, client.Accept{Code: made.Code, AgentID: f.agent(902)}); err != nil {
		t.Error(err)
	}
	if _, err := clientAt(f.server, "").Accept(ctx, client.Accept{Code: made.Code, AgentID: f.agent(903)}); err == nil {
		t.Error("an invitation serves twice, at two services")
	}

	// Tries of a password are counted for both together.
	for i, at := range []*httptest.Server{f.server, other.server, f.server, other.server, f.server} {
		if got := ask(at, "POST", nil, password("not-this-one")).StatusCode; got != http.StatusUnauthorized {
			t.Errorf("try %d: %d", i+1, got)
		}
	}
	if got := ask(other.server, "POST", nil, password("lantern-light")).StatusCode; got != http.StatusTooManyRequests {
		t.Errorf("after five tries at two services: %d", got)
	}
}
