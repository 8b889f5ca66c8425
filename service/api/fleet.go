package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
	"oakbarrel/service/plans"
	"oakbarrel/service/refusal"
)

// refused is what a refusal is to who asks, and else an error of the database.
func (a *API) refused(ctx context.Context, err error) error {
	var r *refusal.Refusal
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &r):
		return a.unavailable(ctx, err)
	case r.Conflict:
		return problem(http.StatusConflict, r.What, r.Mend)
	case r.Unknown:
		return problem(http.StatusNotFound, r.What, r.Mend)
	case r.Forbidden:
		return problem(http.StatusForbidden, r.What, r.Mend)
	}
	return problem(http.StatusUnprocessableEntity, r.What, r.Mend)
}

// person is who asks, as the plans know people.
func person(ctx context.Context) plans.Person {
	v := visitor(ctx)
	return plans.Person{Name: v.Name, Owner: v.Owner(), Admin: v.Need(access.Admin) == nil}
}

// PlanPath names a plan of the service.
type PlanPath struct {
	Plan string `path:"plan" pattern:"^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$" doc:"the name of the plan"`
}

type planLinesOutput struct{ Body []client.PlanLine }

// planLines lists the plans of the service.
func (a *API) planLines(ctx context.Context, _ *struct{}) (*planLinesOutput, error) {
	all, err := a.Plans.Lines(ctx)
	return &planLinesOutput{all}, a.refused(ctx, err)
}

type revisionsOutput struct{ Body []client.PlanRevision }

// revisions lists those of a plan.
func (a *API) revisions(ctx context.Context, in *PlanPath) (*revisionsOutput, error) {
	all, err := a.Plans.Revisions(ctx, in.Plan)
	return &revisionsOutput{all}, a.refused(ctx, err)
}

type revisionInput struct {
	PlanPath
	Revision int `path:"revision" minimum:"0" doc:"0 for the last"`
}

type revisionOutput struct{ Body client.PlanRevision }

// revision returns one with its texts.
func (a *API) revision(ctx context.Context, in *revisionInput) (*revisionOutput, error) {
	r, err := a.Plans.Revision(ctx, in.Plan, in.Revision)
	return &revisionOutput{r}, a.refused(ctx, err)
}

type putPlanInput struct {
	PlanPath
	Body client.NewRevision
}

type putPlanOutput struct{ Body client.PutPlan }

// putPlan makes a new revision.
func (a *API) putPlan(ctx context.Context, in *putPlanInput) (*putPlanOutput, error) {
	put, err := a.Plans.Put(ctx, in.Plan, in.Body, visitor(ctx).Name)
	if err != nil {
		return nil, a.refused(ctx, err)
	}
	if !put.Same {
		a.record(ctx, "put plan", fmt.Sprintf("plan %s, revision %d: %s", in.Plan, put.Revision, in.Body.Why))
	}
	for _, of := range append([]client.PartOf{{Part: put.Plan, Revision: put.Revision}}, put.Also...) {
		judged, err := a.Plans.Judge(ctx, of.Part, of.Revision)
		if err != nil {
			return nil, a.refused(ctx, err)
		}
		put.Judged, put.InOrder = append(put.Judged, judged.Judged...), put.InOrder+judged.InOrder
	}
	return &putPlanOutput{put}, nil
}

type judgedOutput struct{ Body client.JudgedPlan }

// judgePlan tells on which hosts a revision is not in order.
func (a *API) judgePlan(ctx context.Context, in *revisionInput) (*judgedOutput, error) {
	judged, err := a.Plans.Judge(ctx, in.Plan, in.Revision)
	return &judgedOutput{judged}, a.refused(ctx, err)
}

// askHosts has the hosts of a plan judge a revision themselves.
func (a *API) askHosts(ctx context.Context, in *revisionInput) (*judgedOutput, error) {
	judged, err := a.Plans.Ask(ctx, a.Orders, in.Plan, in.Revision, visitor(ctx).Name)
	return &judgedOutput{judged}, a.refused(ctx, err)
}

type draftInput struct {
	PlanPath
	Body client.PlanDraft
}

// judgeDraft tells on which hosts a text would be in order.
func (a *API) judgeDraft(ctx context.Context, in *draftInput) (*judgedOutput, error) {
	judged, err := a.Plans.JudgeText(ctx, in.Plan, in.Body.Text)
	return &judgedOutput{judged}, a.refused(ctx, err)
}

type assignmentsOutput struct{ Body []client.PlanAssignment }

// assignments lists which hosts get which plan.
func (a *API) assignments(ctx context.Context, _ *struct{}) (*assignmentsOutput, error) {
	all, err := a.Plans.Assignments(ctx)
	return &assignmentsOutput{all}, a.refused(ctx, err)
}

type assignInput struct{ Body client.PlanAssignment }

// assign makes or changes an assignment.
func (a *API) assign(ctx context.Context, in *assignInput) (*struct{}, error) {
	if err := a.Plans.Assign(ctx, in.Body, person(ctx)); err != nil {
		return nil, a.refused(ctx, err)
	}
	a.record(ctx, "assign plan", fmt.Sprintf("%s: plan %s when %s", in.Body.Name, in.Body.Plan, in.Body.When))
	return nil, nil
}

type unassignInput struct {
	Name string `path:"name" maxLength:"64"`
}

// unassign takes an assignment away.
func (a *API) unassign(ctx context.Context, in *unassignInput) (*struct{}, error) {
	if err := a.Plans.Unassign(ctx, in.Name, person(ctx)); err != nil {
		return nil, a.refused(ctx, err)
	}
	a.record(ctx, "unassign plan", in.Name)
	return nil, nil
}

type fleetOutput struct{ Body []client.FleetHost }

// fleet lists the hosts as their plans are concerned.
func (a *API) fleet(ctx context.Context, _ *struct{}) (*fleetOutput, error) {
	all, err := a.Plans.Fleet(ctx, a.visibleAgents(ctx))
	return &fleetOutput{all}, a.refused(ctx, err)
}

type overviewInput struct {
	Search string `query:"search" maxLength:"256" doc:"words that all stand in a host's name, labels, plan, version, drift or troubles"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}

type overviewOutput struct{ Body client.Overview }

// overview lists hosts, those that need a person first.
func (a *API) overview(ctx context.Context, in *overviewInput) (*overviewOutput, error) {
	o, err := a.Plans.Overview(ctx, a.visibleAgents(ctx), in.Search, in.Limit)
	return &overviewOutput{o}, a.refused(ctx, err)
}

type labelsInput struct {
	AgentPath
	Body client.SetLabels
}

// setLabels changes labels and values of a host.
func (a *API) setLabels(ctx context.Context, in *labelsInput) (*struct{}, error) {
	if err := a.Plans.SetLabels(ctx, in.Agent, in.Body, person(ctx)); err != nil {
		return nil, a.refused(ctx, err)
	}
	words, err := json.Marshal(in.Body)
	if err != nil {
		return nil, err
	}
	a.record(ctx, "label host", fmt.Sprintf("agent %s: %s", in.Agent, words))
	return nil, nil
}

type labelValuesOutput struct{ Body []client.ValueOfLabel }

// labelValues lists the values of all hosts with a label.
func (a *API) labelValues(ctx context.Context, _ *struct{}) (*labelValuesOutput, error) {
	all, err := a.Plans.LabelValues(ctx)
	return &labelValuesOutput{all}, a.refused(ctx, err)
}

type labelValueInput struct{ Body client.ValueOfLabel }

// setLabelValue changes one of them.
func (a *API) setLabelValue(ctx context.Context, in *labelValueInput) (*struct{}, error) {
	if err := a.Plans.SetLabelValue(ctx, in.Body, person(ctx)); err != nil {
		return nil, a.refused(ctx, err)
	}
	a.record(ctx, "value of label", fmt.Sprintf("%s=%s: %s=%s", in.Body.Label, in.Body.Of, in.Body.Name, in.Body.Text))
	return nil, nil
}

type rolloutsOutput struct{ Body []client.Rollout }

// rollouts lists the roll-outs, the newest first.
func (a *API) rollouts(ctx context.Context, _ *struct{}) (*rolloutsOutput, error) {
	all, err := a.Plans.Rollouts(ctx)
	return &rolloutsOutput{all}, a.refused(ctx, err)
}

// RolloutPath names a roll-out.
type RolloutPath struct {
	Rollout uint64 `path:"rollout" doc:"the number of the roll-out"`
}

type rolloutOutput struct{ Body client.Rollout }

// rollout tells how far one has come.
func (a *API) rollout(ctx context.Context, in *RolloutPath) (*rolloutOutput, error) {
	r, err := a.Plans.Rollout(ctx, in.Rollout)
	return &rolloutOutput{r}, a.refused(ctx, err)
}

type startInput struct{ Body client.NewRollout }

// startRollout begins one.
func (a *API) startRollout(ctx context.Context, in *startInput) (*rolloutOutput, error) {
	r, err := a.Plans.Start(ctx, in.Body, person(ctx))
	if err != nil {
		return nil, a.refused(ctx, err)
	}
	a.record(ctx, "start rollout", fmt.Sprintf("roll-out %d: plan %s, revision %d, to %d hosts: %s", r.ID, r.Plan, r.Revision, len(r.Hosts), in.Body.Why))
	return &rolloutOutput{r}, nil
}

type steerInput struct {
	RolloutPath
	Where string `path:"where" enum:"pause,go-on,take-back"`
}

// steerRollout pauses one, has it go on, or takes it back.
func (a *API) steerRollout(ctx context.Context, in *steerInput) (*rolloutOutput, error) {
	r, err := a.Plans.Steer(ctx, in.Rollout, in.Where, person(ctx))
	if err != nil {
		return nil, a.refused(ctx, err)
	}
	a.record(ctx, in.Where+" rollout", fmt.Sprintf("roll-out %d: plan %s, revision %d", r.ID, r.Plan, r.Revision))
	return &rolloutOutput{r}, nil
}

// NoteStep notes a step of a roll-out in the audit trail.
func (a *API) NoteStep(ctx context.Context, by, what, detail string) {
	a.noteFor(ctx, by, what, detail)
}

// withPlans gives orders that have an agent take a plan its text, with the values of the host.
func (a *API) withPlans(ctx context.Context, agent string, open []client.Order) error {
	for i := range open {
		o := &open[i]
		if o.Plan == "" {
			continue
		}
		text, err := a.Plans.TextFor(ctx, agent, o.Plan, o.Revision)
		if err != nil {
			return err
		}
		o.Text = text
	}
	return nil
}

// servedOf returns what a status says of the plan that was served, and what the host gives itself.
func servedOf(said client.PlanStatus) (served model.Served, labels, values string) {
	if s := said.Served; s != nil {
		served = model.Served{Takes: true, Plan: s.Plan, Revision: s.Revision, Hash: s.Hash, State: string(s.State), Order: s.Order, Why: s.Why}
	}
	of, _ := json.Marshal(said.Labels) // texts always can be written
	own, _ := json.Marshal(said.Values)
	return served, string(of), string(own)
}

type compareRevisionsInput struct {
	PlanPath
	Body client.ComparePlan
}

type comparedRevisionsOutput struct{ Body client.ComparedPlan }

// compareRevisions judges what each host of a plan has sent by two revisions.
func (a *API) compareRevisions(ctx context.Context, in *compareRevisionsInput) (*comparedRevisionsOutput, error) {
	number, hosts, err := a.Plans.Both(ctx, in.Plan, in.Body.From, in.Body.To)
	if err != nil {
		return nil, a.refused(ctx, err)
	}
	out := &comparedRevisionsOutput{client.ComparedPlan{Plan: in.Plan, From: in.Body.From, To: number, Hosts: []client.ComparedHost{}}}
	for _, h := range hosts {
		c := plan.Compare(h.Old, h.New)
		if err := a.compareRecords(ctx, c, &Range{Since: in.Body.Since, Where: "agent is " + inQuotes(h.Host)}, in.Body.Limit); err != nil {
			return nil, err
		}
		r := c.Report()
		one := client.ComparedHost{AgentID: h.AgentID, Host: h.Host, Records: r.Records, Same: r.Same, Moved: r.Moved, NoLongerKept: r.NoLongerKept, NewlyKept: r.NewlyKept, OldAtMost: atMost(h.Old), NewAtMost: atMost(h.New)}
		for _, o := range r.Outlets {
			one.OldBytesDay, one.NewBytesDay = plus(one.OldBytesDay, o.OldBytesDay), plus(one.NewBytesDay, o.NewBytesDay)
		}
		out.Body.Hosts = append(out.Body.Hosts, one)
	}
	out.Body.Together = together(out.Body.Hosts)
	return out, nil
}

// together adds up what hosts have.
func together(hosts []client.ComparedHost) client.ComparedHost {
	var none int64
	sum := client.ComparedHost{Host: "together", OldAtMost: &none, NewAtMost: &none}
	for _, h := range hosts {
		sum.Records, sum.Same, sum.Moved, sum.NoLongerKept, sum.NewlyKept = sum.Records+h.Records, sum.Same+h.Same, sum.Moved+h.Moved, sum.NoLongerKept+h.NoLongerKept, sum.NewlyKept+h.NewlyKept
		if h.OldBytesDay != nil && h.NewBytesDay != nil {
			sum.OldBytesDay, sum.NewBytesDay = plus(sum.OldBytesDay, h.OldBytesDay), plus(sum.NewBytesDay, h.NewBytesDay)
		}
		sum.OldAtMost, sum.NewAtMost = bounded(sum.OldAtMost, h.OldAtMost), bounded(sum.NewAtMost, h.NewAtMost)
	}
	return sum
}

// bounded adds up bounds: with something that has none there is none.
func bounded(a, b *int64) *int64 {
	if a == nil || b == nil {
		return nil
	}
	return plus(a, b)
}

// atMost is what the sets and spools of a plan may take, nil where nothing bounds them.
func atMost(p *plan.Plan) *int64 {
	bytes, unbounded := p.AtMost()
	if unbounded != "" {
		return nil
	}
	return &bytes
}

// plus adds up what is known.
func plus(a, b *int64) *int64 {
	if a == nil || b == nil {
		return cmp.Or(a, b)
	}
	sum := *a + *b
	return &sum
}
