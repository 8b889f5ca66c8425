package api_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
	"oakbarrel/service/plans"
)

// gates are hosts of one role, the plan for them, and what moves roll-outs on.
type gates struct {
	*fixture
	ctx    context.Context
	admin  *client.Client
	plan   string
	role   string
	hosts  []*gate
	roller *plans.Roller
}

// gate is a host that takes every plan which it is told to take, unless it is to fail.
type gate struct {
	*gates
	id, name string
	has      client.ServedPlan
	fails    string // why it takes the next plan back
}

func newGates(t *testing.T, n int) *gates {
	t.Helper()
	g := &gates{fixture: newFixture(t), ctx: context.Background(), role: strings.ToLower(t.Name())}
	g.plan, g.admin = g.role, g.fixture.admin()
	g.takeOver()
	for i := range n {
		h := &gate{gates: g, id: g.agent(i), name: fmt.Sprintf("%s-%02d", g.role, i), has: client.ServedPlan{State: client.NoPlan}}
		h.say()
		g.must(g.admin.SetLabels(g.ctx, h.id, client.SetLabels{Labels: map[string]string{"role": g.role}}))
		g.hosts = append(g.hosts, h)
	}
	g.put()
	g.assign(g.admin, g.role, g.plan, "role is "+g.role, false)
	t.Cleanup(func() { db.Where("name LIKE ?", g.role+"%").Delete(&model.Assignment{}) })
	return g
}

// takeOver has another service move roll-outs on, as if the one that did were away.
func (g *gates) takeOver() {
	g.t.Helper()
	g.must(db.Exec("UPDATE jobs SET until = '2001-01-01' WHERE name = 'rollouts'").Error)
	g.roller = g.newRoller()
}

func (g *gates) newRoller() *plans.Roller {
	return &plans.Roller{Book: g.api.Plans, Orders: g.api.Orders, Holder: model.NewID(), Tell: func(context.Context, string, string, string) {}, Failed: func(err error) { g.t.Error(err) }}
}

func (g *gates) must(err error) {
	g.t.Helper()
	if err != nil {
		g.t.Fatal(err)
	}
}

// refused expects that a call is, with a status and a text.
func (g *gates) refused(err error, status int, text string) {
	g.t.Helper()
	if !refusedWith(err, status) || !strings.Contains(err.Error(), text) {
		g.t.Errorf("%v, want %d: %s", err, status, text)
	}
}

// put makes a new revision, and returns its number.
func (g *gates) put() int {
	g.t.Helper()
	put, err := g.admin.PutPlan(g.ctx, g.plan, client.NewRevision{Text: "oakbarrel: 1\notherwise: {drop: true}\nvalues: {note: " + model.NewID() + "}\n", Why: "the tests want it"})
	g.must(err)
	return put.Revision
}

func (g *gates) assign(by *client.Client, name, plan, when string, approve bool) {
	g.t.Helper()
	g.must(by.Assign(g.ctx, client.PlanAssignment{Name: name, Plan: plan, When: when, Approve: approve}))
}

func (g *gates) start(by *client.Client, waves string) (client.Rollout, error) {
	return by.StartRollout(g.ctx, client.NewRollout{Plan: g.plan, Waves: waves, Seconds: 1, Why: "the tests want it"})
}

func (g *gates) step() {
	g.t.Helper()
	g.must(g.roller.Step(g.ctx))
}

// run has the hosts obey and the roll-out go on until it has ended.
func (g *gates) run(id uint64) client.Rollout {
	g.t.Helper()
	for range 50 {
		g.step()
		for _, h := range g.hosts {
			h.obey()
		}
		if r := g.rollout(id); r.State == client.RolloutDone || r.State == client.RolloutTakenBack {
			return r
		}
	}
	r := g.rollout(id)
	g.t.Fatalf("it does not end: %s, %s, %v", r.State, r.Note, r.Counts)
	return r
}

func (g *gates) rollout(id uint64) client.Rollout {
	g.t.Helper()
	r, err := g.admin.Rollout(g.ctx, id)
	g.must(err)
	return r
}

// say sends the status of a host.
func (h *gate) say() {
	h.t.Helper()
	has := h.has
	_, err := h.writer(h.id).SendStatus(h.ctx, h.id, client.AgentStatus{Host: h.name, Status: map[string]any{"plan": client.PlanStatus{Served: &has}}})
	h.must(err)
}

// obey does what the service orders.
func (h *gate) obey() {
	h.t.Helper()
	open, err := h.writer(h.id).WaitForOrders(h.ctx, h.id, 0)
	h.must(err)
	for _, o := range open {
		if o.Kind == client.TakePlan {
			h.take(o)
			h.say()
		}
		h.must(h.writer(h.id).OrderDone(h.ctx, h.id, o.ID, client.Outcome{}))
	}
}

func (h *gate) take(o client.Order) {
	before := h.has
	switch {
	case o.Plan == "":
		h.has = client.ServedPlan{State: client.NoPlan, Order: o.ID}
	case h.fails != "" && o.Seconds > 0: // else it is not judged
		h.has = client.ServedPlan{Plan: before.Plan, Revision: before.Revision, Hash: before.Hash, State: client.TakenBack, Why: h.fails, Order: o.ID}
	default:
		h.has = client.ServedPlan{Plan: o.Plan, Revision: o.Revision, Hash: plan.Hash([]byte(o.Text)), State: client.Kept, Order: o.ID}
	}
}

// have expects that all hosts have a revision, 0 for none, and that the fleet's page says so.
func (g *gates) have(revision int) {
	g.t.Helper()
	said := map[string]int{}
	all, err := g.admin.Fleet(g.ctx)
	g.must(err)
	for _, f := range all {
		said[f.AgentID] = f.Revision
	}
	for _, h := range g.hosts {
		if h.has.Revision != revision || said[h.id] != revision {
			g.t.Errorf("%s has revision %d, the page says %d, want %d", h.name, h.has.Revision, said[h.id], revision)
		}
	}
}

func TestARolloutGoesInWaves(t *testing.T) {
	g := newGates(t, 5)
	r, err := g.start(g.admin, "1, 2, all")
	g.must(err)
	for wave, want := range []int{1, 2, 5} {
		g.step()
		g.step() // which gives nothing more
		for _, h := range g.hosts {
			h.obey()
		}
		got := 0
		for _, h := range g.hosts {
			got += h.has.Revision
		}
		if got != want {
			t.Errorf("after wave %d %d hosts have it, want %d", wave+1, got, want)
		}
		g.step()
	}
	if r := g.rollout(r.ID); r.State != client.RolloutDone || r.Counts["kept"] != 5 {
		t.Errorf("%+v", r)
	}
	g.have(1)
	g.put()
	g.hosts[0].fails, g.hosts[1].fails, g.hosts[2].fails, g.hosts[3].fails = "no records", "no records", "no records", "no records"
	r, err = g.start(g.admin, "all")
	g.must(err)
	if r := g.run(r.ID); r.State != client.RolloutTakenBack || r.Counts["failed"] != 4 || r.Counts["back"] != 1 {
		t.Errorf("%+v", r)
	}
	g.have(1)
}

// Who has proposed a roll-out does not approve it, and an operator can neither make
// away with what asks for approval nor reach the hosts past it.
func TestApprovalIsNotPassedBy(t *testing.T) {
	g := newGates(t, 2)
	first, err := g.start(g.admin, "all")
	g.must(err)
	g.run(first.ID)
	g.assign(g.admin, g.role, g.plan, "role is "+g.role, true)
	operator := g.session("operator")
	host := g.hosts[0]

	g.refused(operator.Assign(g.ctx, client.PlanAssignment{Name: g.role, Plan: g.plan, When: "role is " + g.role}), 403, "is for an admin to change")
	g.refused(operator.Assign(g.ctx, client.PlanAssignment{Name: g.role, Plan: g.plan, When: "role is nothing", Approve: true}), 403, "asks that changes are approved")
	g.refused(operator.Unassign(g.ctx, g.role), 403, "ask an admin")
	g.refused(operator.SetLabels(g.ctx, host.id, client.SetLabels{Labels: map[string]string{"role": "other"}}), 403, host.name)
	g.refused(operator.SetLabels(g.ctx, host.id, client.SetLabels{Values: map[string]string{"port": "1"}}), 403, host.name)
	g.refused(operator.SetLabelValue(g.ctx, client.ValueOfLabel{Label: "role", Of: g.role, Name: "port", Text: "1"}), 403, "role="+g.role)
	g.must(operator.SetLabelValue(g.ctx, client.ValueOfLabel{Label: "role", Of: g.role + "x", Name: "port", Text: "1"}))

	// A plan of another name, and a more exact assignment without approval.
	_, err = operator.PutPlan(g.ctx, g.plan+"-other", client.NewRevision{Text: "oakbarrel: 1\notherwise: {drop: true}\n", Why: "mine"})
	g.must(err)
	g.assign(operator, g.role+"-other", g.plan+"-other", "role is "+g.role+" and host is "+host.name, false)
	for name, of := range map[string]string{"a more exact assignment": g.plan + "-other", "the plan itself": g.plan} {
		g.put()
		r, err := operator.StartRollout(g.ctx, client.NewRollout{Plan: of, Waves: "all", Seconds: 1, Why: "mine"})
		g.must(err)
		_, err = operator.SteerRollout(g.ctx, r.ID, "go-on")
		if r.State != client.RolloutProposed || !refusedWith(err, 422) {
			t.Errorf("%s: %s, %v", name, r.State, err)
		}
		g.step()
		for _, h := range g.hosts {
			h.obey()
		}
		_, err = operator.SteerRollout(g.ctx, r.ID, "take-back")
		g.must(err)
		g.step()
	}
	g.have(1)

	// What another plan has in force comes to no new host by itself.
	g.must(db.Save(&model.PlanInForce{Plan: g.plan + "-other", Revision: 1}).Error)
	host.has = client.ServedPlan{State: client.NoPlan}
	host.say()
	g.step()
	if host.obey(); host.has.Plan != "" {
		t.Errorf("it has %+v", host.has)
	}

	// Two tokens of one name are two; one is not another for having its name.
	g.must(g.admin.Unassign(g.ctx, g.role+"-other"))
	r, err := g.start(operator, "all")
	g.must(err)
	token, err := access.NewToken(db, access.EveryCask, access.Admin, strings.ToLower(t.Name())+"-operator")
	g.must(err)
	namesake, err := client.New(client.Options{URLs: []string{g.server.URL}, Token: func() (string, error) { return token, nil }})
	g.must(err)
	if r, err = namesake.SteerRollout(g.ctx, r.ID, "go-on"); err != nil || r.State != client.RolloutRunning {
		t.Errorf("%+v, %v", r, err)
	}
	g.run(r.ID)
	g.have(r.Revision)
}

// A roll-out that others came after is not taken back: its hosts would go to what was
// left long ago. Nor does one take from a host what it has got by another plan since.
func TestOnlyTheLastRolloutIsTakenBack(t *testing.T) {
	g := newGates(t, 2)
	first, err := g.start(g.admin, "all")
	g.must(err)
	g.run(first.ID)
	second := g.put()
	r, err := g.start(g.admin, "all")
	g.must(err)
	g.run(r.ID)
	_, err = g.admin.SteerRollout(g.ctx, first.ID, "take-back")
	g.refused(err, 409, fmt.Sprintf("roll-out %d of plan %s came after roll-out %d", r.ID, g.plan, first.ID))
	g.step()
	g.have(second)
	moved := g.hosts[0]
	moved.has.Plan, moved.has.Revision = "another", 7
	moved.say()
	_, err = g.admin.SteerRollout(g.ctx, r.ID, "take-back")
	g.must(err)
	g.run(r.ID)
	if moved.has.Plan != "another" || g.hosts[1].has.Revision != 1 {
		t.Errorf("%+v, %+v", moved.has, g.hosts[1].has)
	}
}

// A host that says nothing keeps nobody waiting, and if none is heard the roll-out waits
// for a person.
func TestSilentHostsAreNotWaitedFor(t *testing.T) {
	g := newGates(t, 3)
	r, err := g.start(g.admin, "1, all")
	g.must(err)
	g.step()
	later := func() {
		g.must(db.Exec("UPDATE rollout_hosts SET changed = changed - INTERVAL 2 MINUTE WHERE rollout_id = ?", r.ID).Error)
		g.step()
		g.step()
	}
	later()
	if now := g.rollout(r.ID); now.State != client.RolloutPaused || now.Counts["silent"] != 1 || now.Counts["waiting"] != 2 {
		t.Errorf("%+v", now)
	}
	_, err = g.admin.SteerRollout(g.ctx, r.ID, "go-on")
	g.must(err)
	for _, h := range g.hosts { // one of them is heard after all
		if h.obey(); h.has.Revision == 1 {
			break
		}
	}
	g.step()
	g.step()
	later()
	now := g.rollout(r.ID)
	if now.State != client.RolloutDone || now.Counts["kept"] != 1 || now.Counts["silent"] != 2 || now.Note != "2 hosts were silent, and do not have it" {
		t.Errorf("%+v", now)
	}
}

// A host that is away when a roll-out is taken back keeps nobody from the next one, and
// goes back once it is heard.
func TestAHostThatWasAwayGoesBackLater(t *testing.T) {
	g := newGates(t, 2)
	r, err := g.start(g.admin, "all")
	g.must(err)
	g.run(r.ID)
	g.put()
	r, err = g.start(g.admin, "all")
	g.must(err)
	g.run(r.ID)
	_, err = g.admin.SteerRollout(g.ctx, r.ID, "take-back")
	g.must(err)
	g.step()
	g.hosts[0].obey()
	g.step()
	later := func() {
		g.must(db.Exec("UPDATE rollout_hosts SET changed = changed - INTERVAL 20 MINUTE WHERE rollout_id = ?", r.ID).Error)
		g.must(db.Exec("UPDATE orders SET created = created - INTERVAL 20 MINUTE").Error)
		g.step()
	}
	later()
	if now := g.rollout(r.ID); now.State != client.RolloutTakenBack || now.Counts["back"] != 1 || now.Counts["away"] != 1 || !strings.HasSuffix(now.Note, "1 hosts were not heard, and go back once they are") {
		t.Errorf("%+v", now)
	}
	g.hosts[1].obey()
	g.step()
	g.hosts[1].obey()
	g.have(1)
	later()
	if open, err := g.writer(g.hosts[1].id).WaitForOrders(g.ctx, g.hosts[1].id, 0); err != nil || len(open) != 0 {
		t.Errorf("it is ordered again: %+v, %v", open, err)
	}
}

// A host that takes a plan and says nothing more keeps nobody waiting either, whatever
// it does on purpose.
func TestAHostThatJudgesForEverIsSilent(t *testing.T) {
	g := newGates(t, 2)
	r, err := g.start(g.admin, "all")
	g.must(err)
	g.step()
	open, err := g.writer(g.hosts[0].id).WaitForOrders(g.ctx, g.hosts[0].id, 0)
	g.must(err)
	g.hosts[0].has = client.ServedPlan{Plan: g.plan, Revision: 1, State: client.Judged, Order: open[0].ID}
	g.hosts[0].say()
	g.hosts[1].obey()
	g.step()
	if now := g.rollout(r.ID); now.Counts["judged"] != 1 || now.Counts["kept"] != 1 {
		t.Errorf("%+v", now)
	}
	g.must(db.Exec("UPDATE rollout_hosts SET changed = changed - INTERVAL 100 SECOND WHERE rollout_id = ?", r.ID).Error)
	g.step()
	if now := g.rollout(r.ID); now.State != client.RolloutDone || now.Counts["silent"] != 1 {
		t.Errorf("%+v", now)
	}
}

// Of two services one moves a roll-out on, and who takes over gives no order twice.
func TestOneServiceMovesARollout(t *testing.T) {
	g := newGates(t, 20)
	r, err := g.start(g.admin, "all")
	g.must(err)
	rollers := []*plans.Roller{g.roller, g.newRoller(), g.newRoller()}
	var all sync.WaitGroup
	for _, roller := range rollers {
		all.Go(func() {
			for range 5 {
				if err := roller.Step(g.ctx); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	g.takeOver()
	g.step()
	for _, h := range g.hosts {
		open, err := h.writer(h.id).WaitForOrders(g.ctx, h.id, 0)
		g.must(err)
		if len(open) != 1 {
			t.Errorf("%s has %d orders", h.name, len(open))
		}
		h.obey()
	}
	if r := g.run(r.ID); r.Counts["kept"] != 20 {
		t.Errorf("%+v", r)
	}
}

// Of operators who change a plan at a time from one revision, one is first.
func TestOneOfManyChangesIsFirst(t *testing.T) {
	g := newGates(t, 1)
	var all sync.WaitGroup
	var mu sync.Mutex
	done, told := 0, 0
	for i := range 8 {
		all.Go(func() {
			base := 1
			_, err := g.admin.PutPlan(g.ctx, g.plan, client.NewRevision{Text: fmt.Sprintf("oakbarrel: 1\notherwise: {drop: true}\nvalues: {n: \"%d\"}\n", i), Base: &base, Why: "mine"})
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				done++
			case refusedWith(err, 409):
				told++
			default:
				t.Error(err)
			}
		})
	}
	all.Wait()
	if done != 1 || told != 7 {
		t.Errorf("%d are done, %d are told", done, told)
	}
}

// Whatever goes wrong on the way, in the end each of fifty hosts has the plan that the
// page says: answers that are lost, hosts that are away, take plans back or obey twice,
// services that take turns, and people who pause, go on and take back.
func TestFaultsDuringRollouts(t *testing.T) {
	g := newGates(t, 50)
	random := rand.New(rand.NewPCG(11, 29))
	force := 0
	for round := range 6 {
		if round > 0 {
			g.put()
		}
		r, err := g.start(g.admin, []string{"1, 10%, all", "5, all", "all"}[round%3])
		g.must(err)
		for range 15 {
			g.step()
			for _, h := range g.hosts {
				g.fault(h, random)
			}
			switch random.IntN(12) {
			case 0:
				g.admin.SteerRollout(g.ctx, r.ID, "pause") // refused where it does not run
			case 1:
				g.admin.SteerRollout(g.ctx, r.ID, "go-on")
			case 2:
				if round%3 == 2 {
					g.admin.SteerRollout(g.ctx, r.ID, "take-back")
				}
			case 3:
				g.takeOver()
			}
		}
		for _, h := range g.hosts {
			h.fails = ""
			h.say()
		}
		g.admin.SteerRollout(g.ctx, r.ID, "go-on")
		if r = g.run(r.ID); r.State == client.RolloutDone {
			force = r.Revision
		}
		if t.Logf("round %d: %s, %v", round, r.State, r.Counts); len(r.Hosts) != 50 {
			t.Fatalf("%d hosts", len(r.Hosts))
		}
		g.have(force)
		if t.Failed() {
			return
		}
	}
}

// fault has a host do what its order says, or something that goes wrong.
func (g *gates) fault(h *gate, random *rand.Rand) {
	h.fails = ""
	switch random.IntN(40) {
	case 0, 1, 2, 3, 4, 5: // it is away
	case 6: // it takes the plan, and its answer is lost
		open, err := h.writer(h.id).WaitForOrders(h.ctx, h.id, 0)
		g.must(err)
		for _, o := range open {
			h.take(o)
		}
	case 7: // its status is lost
		was := h.has
		h.obey()
		now := h.has
		h.has = was
		h.say()
		h.has = now
	case 8: // what it says comes twice
		h.obey()
		h.say()
	case 9:
		if random.IntN(6) == 0 {
			h.fails = "no records"
		}
		h.obey()
	default:
		h.obey()
	}
}

// Of many hosts those that need a person are told first, and all words of a search are
// to be found in what is shown of a host.
func TestTheOverviewOfManyHosts(t *testing.T) {
	g := newGates(t, 12)
	r, err := g.start(g.admin, "all")
	g.must(err)
	g.run(r.ID)
	tell := func(h *gate, s client.Status) {
		has := h.has
		s.Plan.Served, s.Balance.Closes, s.Version.Version = &has, true, "9.9.9"
		_, err := h.writer(h.id).SendStatus(g.ctx, h.id, client.AgentStatus{Host: h.name, Status: s})
		g.must(err)
	}
	for _, h := range g.hosts {
		tell(h, client.Status{})
	}
	tell(g.hosts[7], client.Status{Outlets: []client.OutletStatus{{Name: "centre", Trouble: "the disk is full"}}})
	g.hosts[4].has.Revision = 9 // which is not what is in force
	tell(g.hosts[4], client.Status{})
	g.must(db.Exec("UPDATE agents SET last_heard = last_heard - INTERVAL 1 HOUR WHERE id = ?", g.hosts[2].id).Error)
	for search, want := range map[string][]int{
		g.role:                        {2, 7, 4, 0, 1, 3, 5, 6, 8, 9, 10, 11},
		g.role + " DISK full":         {7},
		g.role + " not heard since":   {2},
		"role=" + g.role + " v 9.9":   {2, 7, 4, 0, 1, 3, 5, 6, 8, 9, 10, 11},
		g.plan + " 9 it has":          {4},
		g.hosts[5].id:                 {5},
		g.role + " nothing of theirs": {},
	} {
		o, err := g.admin.Overview(g.ctx, search, 1000)
		g.must(err)
		got := []string{}
		for _, h := range o.Hosts {
			got = append(got, h.Host)
		}
		names := []string{}
		for _, i := range want {
			names = append(names, g.hosts[i].name)
		}
		if strings.Join(got, " ") != strings.Join(names, " ") || o.Found != len(want) || o.All < 12 {
			t.Errorf("%q: %d of %d: %v, want %v", search, o.Found, o.All, got, names)
		}
	}
	o, err := g.admin.Overview(g.ctx, g.role, 2)
	if err != nil || len(o.Hosts) != 2 || o.Found != 12 || o.Need != 3 {
		t.Errorf("%+v, %v", o, err)
	}
	if o, err = g.read.Overview(g.ctx, "", 10); err != nil || o.All != 0 { // none has a block in its cask
		t.Errorf("a reader of one cask sees %+v, %v", o, err)
	}
}

// The system of a host is a label of its own, unless somebody gave it another one; what is none is none.
func TestHostsAreChosenByTheirSystem(t *testing.T) {
	g := newGates(t, 3)
	systems := []string{"windows", "linux", "Windows; DROP"}
	for i, h := range g.hosts {
		_, err := h.writer(h.id).SendStatus(g.ctx, h.id, client.AgentStatus{Host: h.name, Status: map[string]any{"system": systems[i], "plan": client.PlanStatus{Served: &h.has}}})
		g.must(err)
	}
	g.assign(g.admin, g.role+"-w", g.plan, "system is windows and role is "+g.role, false)
	by := func(h *gate) (label, assignment string) {
		all, err := g.admin.Fleet(g.ctx)
		g.must(err)
		for _, host := range all {
			if host.AgentID == h.id {
				label, assignment = host.Labels["system"], host.Assignment
			}
		}
		return label, assignment
	}
	for i, want := range [][2]string{{"windows", g.role + "-w"}, {"linux", g.role}, {"", g.role}} {
		if label, assignment := by(g.hosts[i]); label != want[0] || assignment != want[1] {
			t.Errorf("%s: the system is %q, and %s decides", systems[i], label, assignment)
		}
	}
	g.must(g.admin.SetLabels(g.ctx, g.hosts[0].id, client.SetLabels{Labels: map[string]string{"system": "core"}}))
	if label, assignment := by(g.hosts[0]); label != "core" || assignment != g.role {
		t.Errorf("the system is %q, and %s decides", label, assignment)
	}
}
