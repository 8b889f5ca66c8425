package api_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/spool"
	"oakbarrel/service/access"
)

// speaks are all the ways in which a token can speak for an agent.
func (f *fixture) speaks(ctx context.Context, c *client.Client, agent string) map[string]error {
	head, payload := pack(1, some(3))
	_, sent := c.SendBatch(ctx, agent, "centre", f.cask, head, payload)
	lost := client.BatchHead{Numbers: spool.Numbers{First: 4, Last: 1_000_003, Lost: 1_000_000}, Hash: hashOfNothing}
	_, declared := c.SendBatch(ctx, agent, "centre", f.cask, lost, nil)
	_, asked := c.Confirmed(ctx, agent, "centre", f.cask, "")
	_, status := c.SendStatus(ctx, agent, client.AgentStatus{Host: "forged", Status: map[string]any{}})
	_, orders := c.WaitForOrders(ctx, agent, 0)
	return map[string]error{
		"a batch": sent, "a declared loss": declared, "the feed's number": asked, "a status": status, "its orders": orders,
		"an outcome": c.OrderDone(ctx, agent, 1, client.Outcome{}), "its plan": c.SendPlan(ctx, agent, client.AgentPlan{}),
	}
}

const hashOfNothing = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"

// A token for writing is that of the first agent which brings it. It speaks for no
// other, and no other token speaks for that one.
func TestATokenServesOneAgent(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	honest, stolen := f.agent(1), f.agent(2)
	if _, err := f.writer(honest).SendStatus(ctx, honest, client.AgentStatus{Host: "tide-gw", Status: map[string]any{}}); err != nil {
		t.Fatal(err)
	}
	fresh, _ := f.client(access.Write) // of the same cask, not used yet
	if _, err := f.writer(stolen).SendStatus(ctx, stolen, client.AgentStatus{Host: "kelp-01", Status: map[string]any{}}); err != nil {
		t.Fatal(err)
	}
	reader, importer := f.read, f.importer()
	for name, c := range map[string]*client.Client{"that of another agent": f.writer(stolen), "one that is new": fresh, "one for reading": reader, "one for importing": importer} {
		for way, err := range f.speaks(ctx, c, honest) {
			if !refusedWith(err, 403) {
				t.Errorf("%s, %s: %v", name, way, err)
			}
		}
	}
	hosts, err := f.read.Hosts(ctx)
	if err != nil || len(hosts) != 0 { // which has no block in the cask
		t.Errorf("%+v, %v", hosts, err)
	}
	if confirmed, err := f.writer(honest).Confirmed(ctx, honest, "centre", f.cask, ""); err != nil || confirmed != 0 {
		t.Errorf("its feed has come to %d: %v", confirmed, err)
	}
	tokens, err := access.Tokens(db)
	if err != nil || !slices.ContainsFunc(tokens, func(t client.GivenToken) bool { return t.AgentID == honest && t.Host == "tide-gw" }) {
		t.Errorf("the list does not tell whose the token is: %v", err)
	}
}

func (f *fixture) importer() *client.Client {
	c, _ := f.client(access.Import)
	return c
}

// Of many that bring tokens for one agent side by side, one is let in.
func TestOneOfManyTokensIsLetIn(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	var group sync.WaitGroup
	errs := make([]error, 8)
	for i := range errs {
		c, _ := f.client(access.Write)
		group.Go(func() { _, errs[i] = c.Confirmed(ctx, f.agent(1), "centre", f.cask, "") })
	}
	group.Wait()
	in := 0
	for _, err := range errs {
		if err == nil {
			in++
		} else if !refusedWith(err, 403) {
			t.Error(err)
		}
	}
	if in != 1 {
		t.Errorf("%d are let in", in)
	}
}

// An agent that is known gets another token with proof alone: the one that it has,
// or an order of an admin. A revoked one does not make room for anybody.
func TestAKnownAgentNeedsProof(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	admin, id := f.session("admin"), f.agent(1)
	accept := func(proof string) (*client.Client, error) {
		invitation, err := admin.Invite(ctx, client.Invite{Cask: f.cask, Minutes: 5})
		if err != nil {
			t.Fatal(err)
		}
		asks, _ := client.New(client.Options{URLs: []string{f.server.URL}, Token: func() (string, error) { return proof, nil }})
		got, err := asks.Accept(ctx, client.Accept{Code: invitation.Code, AgentID: id, Host: "tide-gw"})
		c, _ := client.New(client.Options{URLs: []string{f.server.URL}, Token: func() (string, error) { return got.Token, nil }})
		return c, err
	}
	speaks := func(c *client.Client) bool {
		_, err := c.Confirmed(ctx, id, "centre", f.cask, "")
		if err != nil && !refusedWith(err, 403) && !refusedWith(err, 401) {
			t.Error(err)
		}
		return err == nil
	}
	first, token := f.client(access.Write)
	if !speaks(first) {
		t.Fatal("the first token is refused")
	}
	if _, err := accept(""); !refusedWith(err, 403) || !strings.Contains(err.Error(), "hosts replace "+id) {
		t.Errorf("without proof: %v", err)
	}
	if _, err := accept(f.writeToken); !refusedWith(err, 403) {
		t.Errorf("with another token: %v", err)
	}
	second, err := accept(token)
	if err != nil || !speaks(second) || speaks(first) {
		t.Errorf("with its own token: %v; the new one %v, the old one %v", err, speaks(second), speaks(first))
	}
	if _, err := admin.Revoke(ctx, id); err != nil {
		t.Fatal(err)
	}
	if other, _ := f.client(access.Write); speaks(other) || speaks(second) {
		t.Error("after a revocation another token speaks for it")
	}
	if err := admin.Replace(ctx, id, client.Replace{Minutes: 5}); err != nil {
		t.Fatal(err)
	}
	third, _ := f.client(access.Write)
	if !speaks(third) {
		t.Error("the replacement is refused")
	}
	if fourth, _ := f.client(access.Write); speaks(fourth) {
		t.Error("a second replacement is let in")
	}
	if err := admin.Replace(ctx, f.agent(99), client.Replace{Minutes: 5}); !refusedWith(err, 404) {
		t.Error(err)
	}
}

// A copy that was let in, and comes with another token as the one that it brought is gone
// by then, is told nothing that leads nowhere: it waits anew, and is let in once more.
func TestACopyWhoseTokenIsGoneWaitsAnew(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	admin, clone := f.session("admin"), f.agent(9)
	bound := func(n int) *client.Client {
		c := f.writer(f.agent(n))
		if _, err := c.Confirmed(ctx, f.agent(n), "centre", f.cask, ""); err != nil {
			t.Fatal(err)
		}
		return c
	}
	first, second, third := bound(1), bound(2), bound(3)
	join := func(c *client.Client) error {
		_, err := c.Join(ctx, clone, client.Join{Host: "tide-gw"})
		return err
	}
	adopt := func() {
		t.Helper()
		if err := admin.Adopt(ctx, clone); err != nil {
			t.Fatal(err)
		}
	}
	waits := func(err error) bool { return err != nil && strings.Contains(err.Error(), "waits to be let in") }
	if err := join(first); !waits(err) {
		t.Fatal(err)
	}
	adopt()
	if err := join(second); !refusedWith(err, 403) || waits(err) {
		t.Errorf("another token while the first is there: %v", err)
	}
	if _, err := admin.Revoke(ctx, f.agent(1)); err != nil {
		t.Fatal(err)
	}
	if err := join(second); !waits(err) { // for a person: who brings it may be somebody else
		t.Errorf("another token once the first is gone: %v", err)
	}
	if err := join(second); !waits(err) {
		t.Errorf("it is let in by nobody: %v", err)
	}
	if err := join(third); !refusedWith(err, 403) || !strings.Contains(err.Error(), "hosts replace "+clone) {
		t.Errorf("a third token: %v", err)
	}
	if err := admin.Replace(ctx, clone, client.Replace{Minutes: 5}); err != nil { // as it was told
		t.Error(err)
	}
	if err := join(third); !waits(err) {
		t.Errorf("after that: %v", err)
	}
	adopt()
	if err := join(third); err != nil {
		t.Error(err)
	}
	// Its folder is set back to one from before it had its own token.
	if err := join(second); !refusedWith(err, 403) || !strings.Contains(err.Error(), "hosts replace "+clone) {
		t.Errorf("another token than it has: %v", err)
	}
	for range 2 { // twice in one moment
		if err := admin.Replace(ctx, clone, client.Replace{Minutes: 5}); err != nil {
			t.Error(err)
		}
	}
	if err := join(second); err != nil {
		t.Error(err)
	}
	if err := join(second); err != nil { // the answer was lost
		t.Error(err)
	}
	if err := join(third); !refusedWith(err, 403) || waits(err) {
		t.Errorf("once more with another: %v", err)
	}
}

// An invitation for several serves as many, each with a token of its own.
func TestAnInvitationForSeveral(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	admin := f.session("admin")
	made, err := admin.Invite(ctx, client.Invite{Cask: f.cask, Minutes: 5, Uses: 3})
	if err != nil {
		t.Fatal(err)
	}
	var group sync.WaitGroup
	got := make([]error, 5)
	tokens := make([]string, 5)
	for i := range got {
		group.Go(func() {
			var a client.Accepted
			a, got[i] = admin.Accept(ctx, client.Accept{Code: made.Code, AgentID: f.agent(i), Host: "kelp-01"})
			tokens[i] = a.Token
		})
	}
	group.Wait()
	served := slices.DeleteFunc(tokens, func(t string) bool { return t == "" })
	slices.Sort(served)
	if len(slices.Compact(served)) != 3 {
		t.Errorf("it serves %d: %v", len(served), got)
	}
	for _, err := range got {
		if err != nil && !refusedWith(err, 403) {
			t.Error(err)
		}
	}
	sent, err := access.Invitations(db, 1)
	if err != nil || sent[0].Uses != 3 || sent[0].Times != 3 || sent[0].Used == nil || time.Since(*sent[0].Used) > time.Minute {
		t.Errorf("%+v, %v", sent, err)
	}
	var p *client.Problem
	if _, err := admin.Invite(ctx, client.Invite{Cask: f.cask, Minutes: 5, Uses: 20_000}); !errors.As(err, &p) || p.Status != 400 {
		t.Error(err)
	}
}
