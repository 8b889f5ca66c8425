package plans

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/core/fleet"
	"oakbarrel/core/plan"
	"oakbarrel/service/model"
)

// silentTime is after how long without a word a host is silent.
const silentTime = 5 * time.Minute

// world is all that decides which plan hosts get, as it is at a time.
type world struct {
	agents      []model.Agent
	labels      map[string]map[string]string // by agent
	values      map[string]map[string]string
	ofLabels    []fleet.LabelValue
	assignments []fleet.Assignment
	approve     map[string]bool // by assignment: it asks for approval
	inForce     map[string]int
	coming      map[string]int // the revisions of plans that are being rolled out
}

// look reads it, of the agents that a choice is of.
func look(db *gorm.DB, agents *gorm.DB) (w world, err error) {
	if agents == nil {
		agents = db.Model(&model.Agent{})
	}
	var labels []model.HostLabel
	var values []model.HostValue
	var ofLabels []model.LabelValue
	var assignments []model.Assignment
	for _, read := range []func() error{
		func() error {
			return agents.Omit("status", "tallies", "summary").Order("host, id").Find(&w.agents).Error
		},
		func() error { return ofAgents(db, "agent_id", w.agents).Find(&labels).Error },
		func() error { return ofAgents(db, "agent_id", w.agents).Find(&values).Error },
		func() error { return db.Order("label, of, name").Find(&ofLabels).Error },
		func() error { return db.Order("name").Find(&assignments).Error },
		func() error { w.inForce, err = inForce(db); return err },
		func() error { w.coming, err = coming(db); return err },
	} {
		if err := read(); err != nil {
			return w, err
		}
	}
	w.labels, w.values = map[string]map[string]string{}, map[string]map[string]string{}
	put := func(to map[string]map[string]string, agent, name, text string) {
		if to[agent] == nil {
			to[agent] = map[string]string{}
		}
		to[agent][name] = text
	}
	for _, a := range w.agents {
		if a.System != "" {
			put(w.labels, a.ID, SystemLabel, a.System)
		}
		var own map[string]string
		json.Unmarshal([]byte(a.OwnLabels), &own) // the service wrote it
		for name, value := range own {
			put(w.labels, a.ID, "own/"+name, value)
		}
	}
	for _, l := range labels {
		put(w.labels, l.AgentID, l.Name, l.Value)
	}
	for _, v := range values {
		put(w.values, v.AgentID, v.Name, v.Text)
	}
	for _, v := range ofLabels {
		w.ofLabels = append(w.ofLabels, fleet.LabelValue{Label: v.Label, Of: v.Of, Name: v.Name, Text: v.Text})
	}
	w.approve = map[string]bool{}
	for _, a := range assignments {
		w.approve[a.Name] = a.Approve
		when, err := fleet.Parse(a.Condition)
		if err != nil {
			return w, fmt.Errorf("assignment %s: %w", a.Name, err)
		}
		w.assignments = append(w.assignments, fleet.Assignment{Name: a.Name, Plan: a.Plan, When: when})
	}
	return w, nil
}

// SystemLabel is the label that says which system a host has, unless somebody gave it another.
const SystemLabel = "system"

// few is for how many agents what is theirs alone is asked for.
const few = 20

// ofAgents chooses the rows of agents, which a column names, or all where they are many.
func ofAgents(db *gorm.DB, column string, agents []model.Agent) *gorm.DB {
	if len(agents) > few {
		return db
	}
	ids := []string{}
	for _, a := range agents {
		ids = append(ids, a.ID)
	}
	return db.Where(column+" IN ?", ids)
}

func (w *world) decide(a model.Agent) fleet.Decision {
	return fleet.Decide(a.Host, w.labels[a.ID], w.assignments)
}

// gets tells whether a host is to have a plan.
func (w *world) gets(a model.Agent, name string) bool {
	d := w.decide(a)
	return d.By != nil && d.By.Plan == name
}

// forHost returns what the service adds to a plan for a host: the values of its places.
func (w *world) forHost(a model.Agent) (plan.Part, error) {
	values, err := fleet.Values(w.labels[a.ID], w.ofLabels, w.values[a.ID])
	if err != nil {
		return plan.Part{}, err
	}
	return plan.PartOfValues(values), nil
}

// serve returns the text of a whole plan for a host.
func (w *world) serve(whole []byte, a model.Agent) ([]byte, error) {
	part, err := w.forHost(a)
	if err != nil {
		return nil, err
	}
	return append(slices.Clone(whole), plan.Join([]plan.Part{part})...), nil
}

// ownValues are those that a host gives itself.
func ownValues(a model.Agent) (own map[string]string) {
	json.Unmarshal([]byte(a.OwnValues), &own) // the service wrote it
	return own
}

// standIn is what the file of a host says, as far as it matters here.
func standIn(a model.Agent) []byte { return plan.StandIn(ownValues(a)) }

// TextFor returns a revision for a host, with its parts and values.
func (s *Book) TextFor(ctx context.Context, agentID, name string, number int) (string, error) {
	db := s.DB.WithContext(ctx)
	w, err := look(db, db.Model(&model.Agent{}).Where("id = ?", agentID))
	if err != nil || len(w.agents) == 0 {
		return "", err
	}
	whole, err := s.wholeOf(db, name, number)
	if err != nil {
		return "", err
	}
	text, err := w.serve(whole, w.agents[0])
	return string(text), err
}

// Judge tells on which hosts of its assignments a revision is not in order.
func (s *Book) Judge(ctx context.Context, name string, number int) (j client.JudgedPlan, err error) {
	r, w, err := s.revisionAndWorld(ctx, name, number)
	if err != nil {
		return j, err
	}
	return s.judgeAll(s.DB.WithContext(ctx), &w, r)
}

// revisionAndWorld reads a revision, 0 for the last one, and all hosts.
func (s *Book) revisionAndWorld(ctx context.Context, name string, number int) (r model.Revision, w world, err error) {
	db := s.DB.WithContext(ctx)
	if r, err = find(db, name, number); err == nil {
		w, err = look(db, nil)
	}
	return r, w, err
}

// JudgeText is Judge for a text that may become a revision, also of a part: then the hosts
// are those of the plans that have it.
func (s *Book) JudgeText(ctx context.Context, name, text string) (j client.JudgedPlan, err error) {
	j = nobodyJudged()
	if found := plan.CheckPart(plan.Part{Name: name, Text: []byte(text)}); found.Refused() {
		tellFindings(&j, found, name)
		return j, nil
	}
	db := s.DB.WithContext(ctx)
	w, err := look(db, nil)
	if err != nil {
		return j, err
	}
	rows, err := lines(db)
	if err != nil {
		return j, err
	}
	for _, of := range append([]string{name}, usedBy(rows, name)...) {
		draft := []byte(text)
		if of != name {
			r, err := find(db, of, 0)
			if err != nil {
				return j, err
			}
			draft = r.Text
		}
		whole, findings := plan.Assemble(of, of+".yaml", draft, func(part string) ([]byte, error) {
			if part == name {
				return []byte(text), nil
			}
			r, err := find(db, part, 0)
			return r.Text, err
		})
		if findings.Refused() {
			tellFindings(&j, findings, name)
			continue
		}
		w.judgeOn(&j, of, asPart(of, whole), name)
	}
	return j, nil
}

func nobodyJudged() client.JudgedPlan {
	return client.JudgedPlan{Judged: []client.PlanOnHost{}, Findings: []client.Finding{}, Silent: []string{}}
}

// tellFindings adds what was found in a text itself, each once.
func tellFindings(j *client.JudgedPlan, findings plan.Findings, own string) {
	for _, f := range findings {
		kind := "error"
		if f.Warning {
			kind = "warning"
		}
		told := client.Finding{Line: f.Line, Column: f.Column, Kind: kind, What: f.What, Mend: f.Mend}
		if f.File == own+".yaml" && !slices.Contains(j.Findings, told) {
			j.Findings = append(j.Findings, told)
		}
	}
}

// judgeOn judges a whole plan on each host that it is assigned to.
func (w *world) judgeOn(j *client.JudgedPlan, name string, whole []byte, own string) {
	same := map[string]plan.Findings{} // what was found, by the values of the host
	for _, a := range w.agents {
		if !w.gets(a, name) {
			continue
		}
		part, err := w.forHost(a)
		if err != nil {
			j.Judged = append(j.Judged, client.PlanOnHost{AgentID: a.ID, Host: a.Host, Findings: []string{err.Error()}})
			continue
		}
		key := string(part.Text) + a.OwnValues
		findings, known := same[key]
		if !known {
			_, findings = plan.ParseServed(name+".yaml", append(slices.Clone(whole), plan.Join([]plan.Part{part})...), standIn(a), nil)
			same[key] = findings
			tellFindings(j, findings, own)
		}
		if !findings.Refused() {
			j.InOrder++
			continue
		}
		bad := client.PlanOnHost{AgentID: a.ID, Host: a.Host}
		for _, f := range findings {
			if !f.Warning {
				bad.Findings = append(bad.Findings, f.String())
			}
		}
		j.Judged = append(j.Judged, bad)
	}
}

func (s *Book) judgeAll(db *gorm.DB, w *world, r model.Revision) (client.JudgedPlan, error) {
	j := nobodyJudged()
	whole, err := s.whole(db, r)
	if err == nil {
		w.judgeOn(&j, r.Plan, whole, r.Plan)
	}
	return j, err
}

// Fleet lists hosts as their plans are concerned; agents chooses them, nil for all.
func (s *Book) Fleet(ctx context.Context, agents *gorm.DB) ([]client.FleetHost, error) {
	db := s.DB.WithContext(ctx)
	w, err := look(db, agents)
	if err != nil {
		return nil, err
	}
	wholes := map[string][]byte{} // of the plans in force
	for name, number := range w.inForce {
		if wholes[name], err = s.wholeOf(db, name, number); err != nil {
			return nil, err
		}
	}
	said, err := summaries(db, w.agents)
	if err != nil {
		return nil, err
	}
	all := []client.FleetHost{}
	for _, a := range w.agents {
		h := client.FleetHost{AgentID: a.ID, Host: a.Host, LastHeard: a.LastHeard, Held: a.Held, Summary: said[a.ID], Version: said[a.ID].Version, Labels: given(w.labels[a.ID]), Values: given(w.values[a.ID]),
			Served: a.Served.Takes, Plan: a.Served.Plan, Revision: a.Served.Revision, State: client.ServedState(a.Served.State)}
		values, _ := fleet.Values(w.labels[a.ID], w.ofLabels, w.values[a.ID]) // drift tells what is wrong with them
		h.Places = given(values)
		maps.Copy(h.Places, ownValues(a))
		d := w.decide(a)
		h.Why = d.Why()
		if d.By != nil {
			h.Assigned, h.Assignment, h.InForce = d.By.Plan, d.By.Name, w.inForce[d.By.Plan]
		}
		if time.Since(a.LastHeard) > quietTime {
			h.Summary.Troubles = append([]string{"not heard since " + a.LastHeard.UTC().Format("2006-01-02 15:04 UTC")}, h.Summary.Troubles...)
		}
		h.Drift = w.drift(a, h, wholes[h.Assigned], len(d.Tie) > 0)
		all = append(all, h)
	}
	return all, nil
}

func given(all map[string]string) map[string]string {
	if all == nil {
		return map[string]string{}
	}
	return all
}

// drift tells how a host is other than it is assigned, "" where it is not.
func (w *world) drift(a model.Agent, h client.FleetHost, whole []byte, tie bool) string {
	switch {
	case tie:
		return h.Why
	case h.Assigned == "" && h.Plan != "":
		return fmt.Sprintf("it has plan %s, and none is assigned to it", h.Plan)
	case h.Assigned == "":
		return ""
	case !h.Served:
		return "it keeps a plan of its own (plan: own)"
	case time.Since(a.LastHeard) > silentTime:
		return "it is silent"
	case h.InForce == 0:
		return ""
	case h.State == client.Judged, h.Plan == h.Assigned && h.Revision == w.coming[h.Plan]:
		return ""
	case h.Plan != h.Assigned || h.Revision != h.InForce:
		why := ""
		if a.Served.Why != "" {
			why = ": " + a.Served.Why
		}
		if h.Plan == "" && why == "" && !w.isFree(a, h.Assignment) {
			why = ": assignment " + w.asks(a) + " asks that it is approved; roll it out"
		}
		if h.Plan == "" {
			return "it has no plan yet" + why
		}
		return fmt.Sprintf("it has revision %d of plan %s%s", h.Revision, h.Plan, why)
	}
	text, err := w.serve(whole, a)
	switch {
	case err != nil:
		return err.Error()
	case plan.Hash(text) != a.Served.Hash:
		return "its values are others since it took the plan"
	}
	return ""
}

// SetLabels changes labels and values of a host.
func (s *Book) SetLabels(ctx context.Context, agentID string, set client.SetLabels, who Person) error {
	for name, value := range set.Labels {
		if value == "" {
			value = "x" // it is taken away
		}
		if wrong := plan.WrongLabel(name, value); wrong != "" {
			return refuse("write NAME=VALUE, such as role=gate", "%s", wrong)
		}
	}
	for name, text := range set.Values {
		if wrong := plan.WrongValue(text); wrong != "" || !plan.IsPartName(name) {
			return refuse("write NAME=TEXT, such as port=514", "the value %s cannot be this: %s", strconv.Quote(name), wrong)
		}
	}
	return model.Transact(s.DB.WithContext(ctx), func(tx *gorm.DB) error {
		var agent model.Agent
		if err := tx.Select("id").Take(&agent, "id = ?", agentID).Error; errors.Is(err, gorm.ErrRecordNotFound) {
			return &Refusal{What: "no agent with this id was heard", Mend: "oakbarrel hosts lists them", Unknown: true}
		} else if err != nil {
			return err
		}
		if err := mayChangeHost(tx, who, agentID); err != nil {
			return err
		}
		for name, value := range set.Labels {
			row := model.HostLabel{AgentID: agentID, Name: name, Value: value}
			if err := keep(tx, &row, value == ""); err != nil {
				return err
			}
		}
		for name, text := range set.Values {
			row := model.HostValue{AgentID: agentID, Name: name, Text: text}
			if err := keep(tx, &row, text == ""); err != nil {
				return err
			}
		}
		return nil
	})
}

// keep puts a row in the place of the one with its key, or removes that.
func keep[T any](tx *gorm.DB, row *T, remove bool) error {
	if remove {
		return tx.Delete(row).Error
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(row).Error
}

// LabelValues lists the values of all hosts with a label.
func (s *Book) LabelValues(ctx context.Context) ([]client.ValueOfLabel, error) {
	var rows []model.LabelValue
	err := s.DB.WithContext(ctx).Order("label, of, name").Find(&rows).Error
	all := []client.ValueOfLabel{}
	for _, r := range rows {
		all = append(all, client.ValueOfLabel(r))
	}
	return all, err
}

// SetLabelValue changes a value of all hosts with a label.
func (s *Book) SetLabelValue(ctx context.Context, v client.ValueOfLabel, who Person) error {
	if wrong := plan.WrongLabel(v.Label, v.Of); wrong != "" {
		return refuse("write LABEL=VALUE, such as site=north", "%s", wrong)
	}
	if wrong := plan.WrongValue(v.Text); wrong != "" || !plan.IsPartName(v.Name) {
		return refuse("write NAME=TEXT, such as port=514", "the value %s cannot be this: %s", strconv.Quote(v.Name), wrong)
	}
	row := model.LabelValue(v)
	return model.Transact(s.DB.WithContext(ctx), func(tx *gorm.DB) error {
		if err := mayChangeLabel(tx, who, v); err != nil {
			return err
		}
		return keep(tx, &row, v.Text == "")
	})
}

// Assignments lists them.
func (s *Book) Assignments(ctx context.Context) ([]client.PlanAssignment, error) {
	var rows []model.Assignment
	if err := s.DB.WithContext(ctx).Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	w, err := look(s.DB.WithContext(ctx), nil)
	if err != nil {
		return nil, err
	}
	hosts := map[string]int{}
	for _, a := range w.agents {
		if d := w.decide(a); d.By != nil {
			hosts[d.By.Name]++
		}
	}
	all := []client.PlanAssignment{}
	for _, r := range rows {
		all = append(all, client.PlanAssignment{Name: r.Name, Plan: r.Plan, When: r.Condition, Approve: r.Approve, By: r.By, Changed: r.Changed, Hosts: hosts[r.Name]})
	}
	return all, nil
}

// Assign makes or changes an assignment.
func (s *Book) Assign(ctx context.Context, a client.PlanAssignment, who Person) error {
	if _, err := fleet.Parse(a.When); err != nil {
		wrong := err.(*fleet.Error)
		return refuse(wrong.Mend, "when, column %d: %s", len([]rune(a.When[:wrong.Offset]))+1, wrong.What)
	}
	return model.Transact(s.DB.WithContext(ctx), func(tx *gorm.DB) error {
		if err := lockPlans(tx); err != nil {
			return err
		}
		if _, err := find(tx, a.Plan, 0); err != nil {
			return err
		}
		if err := mayChangeAssignment(tx, who, a.Name); err != nil {
			return err
		}
		return keep(tx, &model.Assignment{Name: a.Name, Plan: a.Plan, Condition: a.When, Approve: a.Approve, By: who.Name, Changed: time.Now()}, false)
	})
}

// Unassign takes an assignment away.
func (s *Book) Unassign(ctx context.Context, name string, who Person) error {
	return model.Transact(s.DB.WithContext(ctx), func(tx *gorm.DB) error {
		if err := lockPlans(tx); err != nil {
			return err
		}
		if err := mayChangeAssignment(tx, who, name); err != nil {
			return err
		}
		done := tx.Where("name = ?", name).Delete(&model.Assignment{})
		if done.Error == nil && done.RowsAffected == 0 {
			return &Refusal{What: "there is no assignment " + strconv.Quote(name), Mend: "oakbarrel assign lists those that there are", Unknown: true}
		}
		return done.Error
	})
}

// HostPlans are two revisions of a plan for a host.
type HostPlans struct {
	AgentID, Host string
	Old, New      *plan.Plan
}

// Both returns two revisions for each host that is assigned to the plan; from 0 stands for
// no plan at all. Hosts on which one of them is not in order are left out.
func (s *Book) Both(ctx context.Context, name string, from, to int) (number int, hosts []HostPlans, err error) {
	db := s.DB.WithContext(ctx)
	after, w, err := s.revisionAndWorld(ctx, name, to)
	if err != nil {
		return 0, nil, err
	}
	wholes := [2][]byte{asPart(name, []byte("oakbarrel: 1\notherwise: {drop: true}\n"))}
	if from > 0 {
		if wholes[0], err = s.wholeOf(db, name, from); err != nil {
			return 0, nil, err
		}
	}
	if wholes[1], err = s.whole(db, after); err != nil {
		return 0, nil, err
	}
	for _, a := range w.agents {
		if !w.gets(a, name) {
			continue
		}
		both := [2]*plan.Plan{}
		for i, whole := range wholes {
			if text, err := w.serve(whole, a); err == nil {
				both[i], _ = plan.ParseServed(name+".yaml", text, standIn(a), nil)
			}
		}
		if both[0] != nil && both[1] != nil {
			hosts = append(hosts, HostPlans{a.ID, a.Host, both[0], both[1]})
		}
	}
	return after.Number, hosts, nil
}
