package plans

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/core/fleet"
	"oakbarrel/core/plan"
	"oakbarrel/service/model"
	"oakbarrel/service/orders"
)

// How a roll-out goes where it does not say.
const (
	usualWaves   = "1, 10%, all"
	usualSeconds = 60
)

// The states of a host in a roll-out.
const (
	waiting   = "waiting"
	ordered   = "ordered"
	judged    = "judged" // in force, and not yet for good
	kept      = "kept"
	failed    = "failed" // refused, or taken back by the host itself
	silent    = "silent"
	goingBack = "going back"
	back      = "back"
	away      = "away" // it was to go back, and was not heard
)

// Start begins a roll-out to the hosts that are assigned to a plan and do not have its
// revision. Where an assignment asks for it, it waits for another person.
func (s *Book) Start(ctx context.Context, n client.NewRollout, who Person) (client.Rollout, error) {
	waves, err := fleet.ParseWaves(cmp.Or(n.Waves, usualWaves))
	if err != nil {
		return client.Rollout{}, refuse("write --waves '"+usualWaves+"'", "%v", err)
	}
	row := model.Rollout{Plan: n.Plan, Waves: cmp.Or(n.Waves, usualWaves), Seconds: cmp.Or(n.Seconds, usualSeconds), Failures: cmp.Or(n.Failures, 1), State: string(client.RolloutRunning), By: who.Name, Owner: who.Owner, Why: n.Why, Created: time.Now(), Changed: time.Now()}
	err = model.Transact(s.DB.WithContext(ctx), func(tx *gorm.DB) error {
		row.ID = 0
		if err := lockPlans(tx); err != nil {
			return err
		}
		r, err := find(tx, n.Plan, n.Revision)
		if err != nil {
			return err
		}
		force, err := inForce(tx)
		if err != nil {
			return err
		}
		row.Revision, row.Before = r.Number, force[r.Plan]
		w, err := look(tx, nil)
		if err != nil {
			return err
		}
		if err := s.mayStart(tx, &w, r); err != nil {
			return err
		}
		hosts, err := s.hostsOf(tx, &w, r, row, waves)
		if err != nil {
			return err
		}
		if w.needsApproval(n.Plan, hosts) {
			row.State, row.Note = string(client.RolloutProposed), "it waits for another person to approve it"
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		for i := range hosts {
			hosts[i].RolloutID = row.ID
		}
		return tx.CreateInBatches(&hosts, 500).Error
	})
	if err != nil {
		return client.Rollout{}, err
	}
	return s.Rollout(ctx, row.ID)
}

// mayStart tells why a revision cannot be rolled out: another is under way, or it is not
// in order on a host.
func (s *Book) mayStart(tx *gorm.DB, w *world, r model.Revision) error {
	var under model.Rollout
	err := tx.Where("plan = ? AND state NOT IN ?", r.Plan, []client.RolloutState{client.RolloutDone, client.RolloutTakenBack}).Take(&under).Error
	if err == nil {
		return &Refusal{What: fmt.Sprintf("roll-out %d of plan %s is %s", under.ID, r.Plan, under.State), Mend: fmt.Sprintf("oakbarrel rollout watch %d, or take-back %d", under.ID, under.ID), Conflict: true}
	}
	if !errors.Is(err, gorm.ErrRecordNotFound) {
		return err
	}
	j, err := s.judgeAll(tx, w, r)
	bad, good := j.Judged, j.InOrder
	switch {
	case err != nil:
		return err
	case len(bad) > 0:
		return refuse("mend the plan, or the values of the host: oakbarrel plans check "+r.Plan, "revision %d of plan %s is not in order on %d of %d hosts; on %s: %s", r.Number, r.Plan, len(bad), len(bad)+good, bad[0].Host, bad[0].Findings[0])
	case good == 0:
		return refuse("say which hosts it is for: oakbarrel assign NAME --plan "+r.Plan+" --when 'role is gate'", "no host is assigned to plan %s", r.Plan)
	}
	return nil
}

// coming returns the revisions of plans that are being rolled out.
func coming(db *gorm.DB) (map[string]int, error) {
	var rows []model.Rollout
	err := db.Where("state IN ?", []client.RolloutState{client.RolloutRunning, client.RolloutPaused}).Find(&rows).Error
	all := map[string]int{}
	for _, r := range rows {
		all[r.Plan] = r.Revision
	}
	return all, err
}

// hostsOf returns the hosts of a roll-out, and in which wave each comes.
func (s *Book) hostsOf(tx *gorm.DB, w *world, r model.Revision, row model.Rollout, waves []fleet.Wave) (hosts []model.RolloutHost, err error) {
	whole, err := s.whole(tx, r)
	if err != nil {
		return nil, err
	}
	for _, a := range w.agents {
		if !a.Served.Takes || !w.gets(a, row.Plan) || w.has(whole, row, a) {
			continue
		}
		hosts = append(hosts, model.RolloutHost{AgentID: a.ID, Host: a.Host, State: waiting, BeforePlan: a.Served.Plan, BeforeRevision: a.Served.Revision, Changed: time.Now()})
	}
	if len(hosts) == 0 {
		return nil, refuse("nothing is to be rolled out", "all hosts of plan %s that take plans (plan: served) have revision %d", row.Plan, row.Revision)
	}
	// The first wave shows what comes: hosts that were heard last go first.
	heard := map[string]time.Time{}
	for _, a := range w.agents {
		heard[a.ID] = a.LastHeard.Truncate(silentTime)
	}
	slices.SortStableFunc(hosts, func(a, b model.RolloutHost) int { return heard[b.AgentID].Compare(heard[a.AgentID]) })
	at := 0
	for wave, size := range fleet.Waves(waves, len(hosts)) {
		for range size {
			hosts[at].Wave = wave
			at++
		}
	}
	return hosts, nil
}

// has tells whether a host has the very text that a roll-out brings.
func (w *world) has(whole []byte, row model.Rollout, a model.Agent) bool {
	text, err := w.serve(whole, a)
	return err == nil && a.Served.Plan == row.Plan && a.Served.Revision == row.Revision && a.Served.State == string(client.Kept) && a.Served.Hash == plan.Hash(text)
}

// Rollouts lists them, the newest first, without their hosts.
func (s *Book) Rollouts(ctx context.Context) ([]client.Rollout, error) {
	var rows []model.Rollout
	if err := s.DB.WithContext(ctx).Order("id DESC").Limit(200).Find(&rows).Error; err != nil {
		return nil, err
	}
	all := []client.Rollout{}
	for _, row := range rows {
		r, err := s.valueOf(ctx, row)
		if err != nil {
			return nil, err
		}
		r.Hosts = []client.RolloutHost{}
		all = append(all, r)
	}
	return all, nil
}

// Rollout tells how far one has come.
func (s *Book) Rollout(ctx context.Context, id uint64) (client.Rollout, error) {
	var row model.Rollout
	err := s.DB.WithContext(ctx).Take(&row, id).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return client.Rollout{}, &Refusal{What: fmt.Sprintf("there is no roll-out %d", id), Mend: "oakbarrel rollout list tells those that there are", Unknown: true}
	}
	if err != nil {
		return client.Rollout{}, err
	}
	return s.valueOf(ctx, row)
}

func (s *Book) valueOf(ctx context.Context, row model.Rollout) (client.Rollout, error) {
	r := client.Rollout{ID: row.ID, Plan: row.Plan, Revision: row.Revision, State: client.RolloutState(row.State), Note: row.Note, Waves: []int{}, Wave: row.Wave + 1, Seconds: row.Seconds, Failures: row.Failures,
		By: row.By, Approved: row.Approved, Why: row.Why, Created: row.Created, Changed: row.Changed, Counts: map[string]int{}, Hosts: []client.RolloutHost{}}
	var hosts []model.RolloutHost
	if err := s.DB.WithContext(ctx).Where("rollout_id = ?", row.ID).Order("wave, host, agent_id").Find(&hosts).Error; err != nil {
		return r, err
	}
	for _, h := range hosts {
		for len(r.Waves) <= h.Wave {
			r.Waves = append(r.Waves, 0)
		}
		r.Waves[h.Wave]++
		r.Counts[h.State]++
		r.Hosts = append(r.Hosts, client.RolloutHost{AgentID: h.AgentID, Host: h.Host, Wave: h.Wave + 1, State: h.State, Why: h.Why, Changed: h.Changed})
	}
	return r, nil
}

// Steer pauses a roll-out, has it go on, or takes it back.
func (s *Book) Steer(ctx context.Context, id uint64, where string, who Person) (client.Rollout, error) {
	err := model.Transact(s.DB.WithContext(ctx), func(tx *gorm.DB) error {
		var row model.Rollout
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&row, id).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return &Refusal{What: fmt.Sprintf("there is no roll-out %d", id), Mend: "oakbarrel rollout list tells those that there are", Unknown: true}
		}
		if err != nil {
			return err
		}
		if where == "take-back" {
			if err := isLast(tx, &row); err != nil {
				return err
			}
		}
		if err := steer(&row, where, who); err != nil {
			return err
		}
		row.Changed = time.Now()
		return tx.Save(&row).Error
	})
	if err != nil {
		return client.Rollout{}, err
	}
	return s.Rollout(ctx, id)
}

// isLast refuses to take a roll-out back that others of its plan came after: its hosts
// would go to a revision that was left long ago.
func isLast(tx *gorm.DB, row *model.Rollout) error {
	var later model.Rollout
	err := tx.Where("plan = ? AND id > ? AND state <> ?", row.Plan, row.ID, client.RolloutTakenBack).Order("id DESC").Take(&later).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return &Refusal{What: fmt.Sprintf("roll-out %d of plan %s came after roll-out %d", later.ID, row.Plan, row.ID), Mend: fmt.Sprintf("take that one back first: oakbarrel rollout take-back %d", later.ID), Conflict: true}
}

func steer(row *model.Rollout, where string, who Person) error {
	state := client.RolloutState(row.State)
	conflict := &Refusal{What: fmt.Sprintf("roll-out %d is %s", row.ID, row.State), Mend: "look at it: oakbarrel rollout watch", Conflict: true}
	switch {
	case where == "take-back" && state == client.RolloutTakenBack, where == "take-back" && state == client.RolloutGoingBack:
		return conflict
	case where == "take-back":
		row.State, row.Note = string(client.RolloutGoingBack), "taken back by "+who.Name
	case where == "pause" && state == client.RolloutRunning:
		row.State, row.Note = string(client.RolloutPaused), "paused by "+who.Name
	case where == "go-on" && state == client.RolloutPaused:
		row.State, row.Note = string(client.RolloutRunning), ""
	case where == "go-on" && state == client.RolloutProposed:
		if err := mayApprove(row, who); err != nil {
			return err
		}
		row.State, row.Note, row.Approved = string(client.RolloutRunning), "", who.Name
	default:
		return conflict
	}
	return nil
}

// Roller moves roll-outs on.
type Roller struct {
	Book   *Book
	Orders *orders.Desk
	Holder string // tells this service apart from others
	// Tell is told of each step, for the audit trail.
	Tell func(ctx context.Context, by, what, detail string)
	// Failed is told why a step could not be made.
	Failed func(error)
}

// Times of a roll-out.
const (
	stepTime  = time.Second
	leaseTime = 15 * time.Second // for which one service moves them on
	// patience is for how long an order waits for a host that says nothing.
	patience = 90 * time.Second
)

// Run moves roll-outs on until ctx ends.
func (r *Roller) Run(ctx context.Context) {
	for ctx.Err() == nil {
		if err := r.Step(ctx); err != nil && ctx.Err() == nil {
			r.Failed(err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(stepTime):
		}
	}
}

// Step moves each roll-out on by what has come since.
func (r *Roller) Step(ctx context.Context) error {
	lease := model.Lease{Job: "rollouts", Holder: r.Holder, For: leaseTime}
	mine, err := lease.Take(r.Book.DB.WithContext(ctx))
	if err != nil || !mine {
		return err
	}
	var ids []uint64
	states := []client.RolloutState{client.RolloutRunning, client.RolloutPaused, client.RolloutGoingBack}
	if err := r.Book.DB.WithContext(ctx).Model(&model.Rollout{}).Where("state IN ?", states).Pluck("id", &ids).Error; err != nil {
		return err
	}
	for _, id := range ids {
		err = errors.Join(err, r.move(ctx, id))
	}
	return errors.Join(err, r.settle(ctx))
}

// step is one roll-out in one transaction.
type step struct {
	*Roller
	tx     *gorm.DB
	row    model.Rollout
	hosts  []model.RolloutHost
	said   map[string]model.Agent // what the agents of its hosts say
	done   map[uint64]model.Order // its orders that are done
	orders map[string]client.NewOrder
	tells  [][2]string
}

// move moves one roll-out on.
func (r *Roller) move(ctx context.Context, id uint64) error {
	var s step
	wake := func() {}
	err := model.Transact(r.Book.DB.WithContext(ctx), func(tx *gorm.DB) error {
		s = step{Roller: r, tx: tx, orders: map[string]client.NewOrder{}}
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&s.row, id).Error; err != nil {
			return err
		}
		if err := s.read(); err != nil {
			return err
		}
		before := slices.Clone(s.hosts)
		state := s.row.State
		s.hear()
		if s.row.State == string(client.RolloutGoingBack) {
			s.goBack()
		} else {
			s.goOn()
		}
		ids, tell, err := r.Orders.GiveAll(tx, s.orders, fmt.Sprintf("roll-out %d", s.row.ID))
		if err != nil {
			return err
		}
		wake = tell
		for i := range s.hosts {
			if order := ids[s.hosts[i].AgentID]; order != 0 {
				s.hosts[i].OrderID = order
			}
			if s.hosts[i] != before[i] {
				s.hosts[i].Changed = time.Now()
				if err := tx.Save(&s.hosts[i]).Error; err != nil {
					return err
				}
			}
		}
		if s.row.State != state {
			s.row.Changed = time.Now()
			s.tell("rollout "+s.row.State, "")
			if err := s.putInForce(); err != nil {
				return err
			}
		}
		return tx.Save(&s.row).Error
	})
	if err != nil {
		return fmt.Errorf("roll-out %d: %w", id, err)
	}
	wake()
	for _, t := range s.tells {
		r.Tell(ctx, fmt.Sprintf("roll-out %d", id), t[0], t[1])
	}
	return nil
}

// putInForce has the hosts be to have the revision of a roll-out that is done, or once
// it is taken back the one before.
func (s *step) putInForce() error {
	switch client.RolloutState(s.row.State) {
	case client.RolloutDone:
		return keep(s.tx, &model.PlanInForce{Plan: s.row.Plan, Revision: s.row.Revision}, false)
	case client.RolloutTakenBack:
		force, err := inForce(s.tx)
		if err != nil || force[s.row.Plan] != s.row.Revision {
			return err
		}
		return keep(s.tx, &model.PlanInForce{Plan: s.row.Plan, Revision: s.row.Before}, s.row.Before == 0)
	}
	return nil
}

func (s *step) tell(what, detail string) {
	text := fmt.Sprintf("plan %s, revision %d", s.row.Plan, s.row.Revision)
	if s.row.Note != "" && detail == "" {
		detail = s.row.Note
	}
	if detail != "" {
		text += ": " + detail
	}
	s.tells = append(s.tells, [2]string{what, text})
}

// read reads the hosts, and what their agents have said since.
func (s *step) read() error {
	if err := s.tx.Where("rollout_id = ?", s.row.ID).Order("wave, host, agent_id").Find(&s.hosts).Error; err != nil {
		return err
	}
	s.said, s.done = map[string]model.Agent{}, map[uint64]model.Order{}
	var agents, waitsFor = []string{}, []uint64{}
	for _, h := range s.hosts {
		if h.State != waiting && h.State != failed && h.State != back {
			agents, waitsFor = append(agents, h.AgentID), append(waitsFor, h.OrderID)
		}
	}
	for some := range slices.Chunk(agents, 500) {
		var rows []model.Agent
		if err := s.tx.Omit("status", "tallies").Where("id IN ?", some).Find(&rows).Error; err != nil {
			return err
		}
		for _, a := range rows {
			s.said[a.ID] = a
		}
	}
	for some := range slices.Chunk(waitsFor, 500) {
		var rows []model.Order
		if err := s.tx.Where("id IN ? AND done IS NOT NULL", some).Find(&rows).Error; err != nil {
			return err
		}
		for _, o := range rows {
			s.done[o.ID] = o
		}
	}
	return nil
}

// hear notes what the agents have said.
func (s *step) hear() {
	for i := range s.hosts {
		h := &s.hosts[i]
		if h.State != ordered && h.State != judged && h.State != goingBack && h.State != silent {
			continue
		}
		was := h.State
		s.hearOne(h)
		if h.State != was && h.State != judged {
			s.tell("rollout host", fmt.Sprintf("host %s (agent %s): %s %s", h.Host, h.AgentID, h.State, h.Why))
		}
	}
}

func (s *step) hearOne(h *model.RolloutHost) {
	said := s.said[h.AgentID].Served
	outcome, done := s.done[h.OrderID]
	why := orders.OutcomeOf(outcome).Why
	same := said.Order == h.OrderID
	switch {
	case h.State == goingBack && done && why != "":
		h.State, h.Why = failed, "it cannot go back: "+why
	case h.State == goingBack && done && !same && said.Plan == h.BeforePlan && said.Revision == h.BeforeRevision: // it had it already
		h.State = back
	case h.State == goingBack && same && (said.State == string(client.Kept) || said.State == string(client.NoPlan)):
		h.State = back
	case h.State == goingBack && same && said.State == string(client.TakenBack):
		h.State, h.Why = failed, "it cannot go back: "+said.Why
	case h.State == goingBack:
	case done && why != "":
		h.State, h.Why = failed, why
	case same && said.State == string(client.Judged) && h.State == judged && time.Since(h.Changed) > patience+time.Duration(s.row.Seconds)*time.Second:
		h.State, h.Why = silent, "it took the plan, and has said nothing since"
	case same && said.State == string(client.Judged) && h.State != silent:
		h.State = judged
	case same && said.State == string(client.Kept), done && !same && said.Plan == s.row.Plan && said.Revision == s.row.Revision && said.State == string(client.Kept):
		h.State, h.Why = kept, ""
	case same && said.State == string(client.TakenBack):
		h.State, h.Why = failed, said.Why
	case h.State == ordered && time.Since(h.Changed) > patience:
		h.State, h.Why = silent, "it says nothing; it gets the plan once it is heard, for as long as the roll-out goes on"
	}
}

// goOn gives the hosts of the wave their order, and begins the next wave once all of
// them have kept the plan.
func (s *step) goOn() {
	failures, open := 0, false
	for i := range s.hosts {
		h := &s.hosts[i]
		switch {
		case h.State == failed:
			failures++
		case h.Wave <= s.row.Wave && (h.State == waiting || h.State == ordered || h.State == judged):
			open = true
		}
	}
	if failures >= s.row.Failures {
		s.row.State, s.row.Note = string(client.RolloutGoingBack), fmt.Sprintf("%d hosts have failed", failures)
		if failures == 1 {
			at := slices.IndexFunc(s.hosts, func(h model.RolloutHost) bool { return h.State == failed })
			s.row.Note = fmt.Sprintf("host %s has failed: %s", s.hosts[at].Host, s.hosts[at].Why)
		}
		s.goBack()
		return
	}
	if s.row.State == string(client.RolloutPaused) {
		return
	}
	if !open && s.row.Wave < s.hosts[len(s.hosts)-1].Wave {
		if s.row.Wave == 0 && !slices.ContainsFunc(s.hosts, func(h model.RolloutHost) bool { return h.State == kept }) {
			s.row.State, s.row.Note = string(client.RolloutPaused), "no host of the first wave was heard, so nothing shows that the plan does no harm"
			return
		}
		s.row.Wave++
	} else if !open {
		s.row.State, s.row.Note = string(client.RolloutDone), ""
		if n := count(s.hosts, silent); n > 0 {
			s.row.Note = fmt.Sprintf("%d hosts were silent, and do not have it", n)
		}
		return
	}
	for i := range s.hosts {
		h := &s.hosts[i]
		isLate := h.State == silent && time.Since(h.Changed) > orders.LifeTime // its order is gone
		if h.Wave <= s.row.Wave && h.State == waiting || isLate {
			h.State, h.Changed = ordered, time.Now()
			s.orders[h.AgentID] = client.NewOrder{Kind: client.TakePlan, Plan: s.row.Plan, Revision: s.row.Revision, Seconds: s.row.Seconds}
		}
	}
}

func count(hosts []model.RolloutHost, state string) (n int) {
	for _, h := range hosts {
		if h.State == state {
			n++
		}
	}
	return n
}

// goBack has the hosts that have the plan, or may get it still, take the one before.
func (s *step) goBack() {
	open := false
	for i := range s.hosts {
		h := &s.hosts[i]
		if said := s.said[h.AgentID].Served; h.State == kept && (said.Plan != s.row.Plan || said.Revision != s.row.Revision) {
			h.State, h.Why = back, "it has another plan by now"
			continue
		}
		switch {
		case h.State == ordered || h.State == judged || h.State == kept || h.State == silent:
			h.State, h.Why = goingBack, ""
			s.orders[h.AgentID] = client.NewOrder{Kind: client.TakePlan, Plan: h.BeforePlan, Revision: h.BeforeRevision}
		case h.State == goingBack && time.Since(h.Changed) > orders.LifeTime: // nobody has asked for the order
			h.State, h.Why = away, "it says nothing; it goes back once it is heard"
		}
		open = open || h.State == goingBack
	}
	if open {
		return
	}
	s.row.State = string(client.RolloutTakenBack)
	if n := count(s.hosts, away); n > 0 {
		s.row.Note += fmt.Sprintf("; %d hosts were not heard, and go back once they are", n)
	}
}

// settle gives a host that takes plans, and has none yet or one that was taken back while
// it was away, the one that is in force for its assignment.
func (r *Roller) settle(ctx context.Context) error {
	db := r.Book.DB.WithContext(ctx)
	ended := []client.RolloutState{client.RolloutDone, client.RolloutTakenBack}
	var unsettled []string
	err := db.Model(&model.Agent{}).Where("served_takes AND last_heard > ?", time.Now().Add(-silentTime)).
		Where("(served_plan = '' OR EXISTS (SELECT 1 FROM rollout_hosts JOIN rollouts ON rollouts.id = rollout_id WHERE rollout_hosts.agent_id = agents.id AND rollout_hosts.state = ? AND plan = served_plan AND revision = served_revision))", away).
		Where("NOT EXISTS (SELECT 1 FROM orders WHERE orders.agent_id = agents.id AND kind = ? AND created > ?)", string(client.TakePlan), time.Now().Add(-orders.LifeTime)).
		Where("NOT EXISTS (SELECT 1 FROM rollout_hosts JOIN rollouts ON rollouts.id = rollout_id WHERE rollout_hosts.agent_id = agents.id AND rollouts.state NOT IN ?)", ended).
		Limit(500).Pluck("id", &unsettled).Error
	if err != nil || len(unsettled) == 0 {
		return err
	}
	w, err := look(db, db.Model(&model.Agent{}).Where("id IN ?", unsettled))
	if err != nil {
		return err
	}
	give := map[string]client.NewOrder{}
	for _, a := range w.agents {
		d := w.decide(a)
		if d.By == nil || w.inForce[d.By.Plan] == 0 || !w.isFree(a, d.By.Name) || a.Served.Plan == d.By.Plan && a.Served.Revision == w.inForce[d.By.Plan] {
			continue
		}
		give[a.ID] = client.NewOrder{Kind: client.TakePlan, Plan: d.By.Plan, Revision: w.inForce[d.By.Plan], Seconds: usualSeconds}
	}
	_, wake, err := r.Orders.GiveAll(db, give, "the assignment")
	if err == nil {
		wake()
	}
	return err
}
