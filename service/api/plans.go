package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/service/model"
	"oakbarrel/service/search"
)

type wordsOutput struct{ Body []string }

// planWords tells what plans are made of, for who completes their words.
func (a *API) planWords(context.Context, *struct{}) (*wordsOutput, error) {
	return &wordsOutput{plan.Words()}, nil
}

type planInput struct {
	Body client.PlanText
}

type checkedOutput struct{ Body client.CheckedPlan }

func findingsOf(findings plan.Findings) []client.Finding {
	all := []client.Finding{}
	for _, f := range findings {
		kind := "error"
		if f.Warning {
			kind = "warning"
		}
		all = append(all, client.Finding{Line: f.Line, Column: f.Column, Kind: kind, What: f.What, Mend: f.Mend})
	}
	return all
}

// checkPlan tells what is wrong in a plan, and where its records can go.
func (a *API) checkPlan(_ context.Context, in *planInput) (*checkedOutput, error) {
	p, findings := plan.Parse("plan.yaml", []byte(in.Body.Text))
	out := &checkedOutput{client.CheckedPlan{Findings: findingsOf(findings), Outlets: []string{}, Rules: []string{}, About: []string{}, Cells: []plan.Cell{}}}
	if p == nil {
		return out, nil
	}
	for _, o := range p.Outlets {
		out.Body.Outlets = append(out.Body.Outlets, o.Name)
	}
	out.Body.Rules = append(out.Body.Rules, p.Table.Names()...)
	for i := range out.Body.Rules {
		about := make([]byte, 0, record.Priorities)
		for _, v := range p.Table.Verdicts(i) {
			about = append(about, '0'+byte(v))
		}
		out.Body.About = append(out.Body.About, string(about))
	}
	out.Body.Cells = append(out.Body.Cells, p.Cells()...)
	return out, nil
}

// parsePlan reads a plan that must be without errors.
func parsePlan(what, text string) (*plan.Plan, error) {
	p, findings := plan.Parse(what, []byte(text))
	if p == nil {
		first := findings[0]
		for _, f := range findings {
			if !f.Warning {
				first = f
				break
			}
		}
		return nil, problem(http.StatusBadRequest, fmt.Sprintf("%s has errors: line %d, column %d: %s", what, first.Line, first.Column, first.What), first.Mend)
	}
	return p, nil
}

type explainInput struct {
	Body client.ExplainPlan
}

type explainedOutput struct{ Body plan.Explanation }

// explainPlan tells what each rule of a plan says of a message or a record.
func (a *API) explainPlan(_ context.Context, in *explainInput) (*explainedOutput, error) {
	p, err := parsePlan("the plan", in.Body.Text)
	if err != nil {
		return nil, err
	}
	r, tried := &record.Record{Received: record.StampOf(time.Now())}, []plan.Tried{}
	if in.Body.Record != nil {
		line, err := json.Marshal(in.Body.Record)
		if err == nil {
			err = r.ParseJSON(line)
		}
		if err != nil {
			return nil, problem(http.StatusBadRequest, "the record cannot be read: "+err.Error(), "")
		}
	} else {
		r, tried = p.Sample(in.Body.Intake, []byte(in.Body.Line), r.Received)
	}
	x, _ := p.Explain(r)
	x.Decoded = tried
	return &explainedOutput{x}, nil
}

type comparedOutput struct{ Body plan.Compared }

type compareInput struct {
	Body client.ComparePlans
}

// comparePlans judges what a cask holds by two plans.
func (a *API) comparePlans(ctx context.Context, in *compareInput) (*comparedOutput, error) {
	before, err := parsePlan("the old plan", in.Body.Old)
	if err != nil {
		return nil, err
	}
	after, err := parsePlan("the new plan", in.Body.New)
	if err != nil {
		return nil, err
	}
	c := plan.Compare(before, after)
	if err := a.compareRecords(ctx, c, &Range{Cask: in.Body.Cask, Since: in.Body.Since, Until: in.Body.Until, Where: in.Body.Where}, in.Body.Limit); err != nil {
		return nil, err
	}
	return &comparedOutput{c.Report()}, nil
}

// compareRecords has a comparison judge records that are kept, the newest.
func (a *API) compareRecords(ctx context.Context, c *plan.Comparison, of *Range, limit int) error {
	q, err := a.query(ctx, of)
	if err != nil {
		return err
	}
	q.Limit = limit
	err = a.Search.Search(ctx, q, func(h search.Hit) error {
		var r record.Record
		if err := r.ParseJSON(h.JSON); err != nil {
			return err
		}
		c.Add(&r)
		return nil
	})
	if err != nil {
		return a.unavailable(ctx, err)
	}
	c.Finish()
	return nil
}

type planTextOutput struct{ Body client.AgentPlan }

// planOf returns the plan that an agent has in force.
func (a *API) planOf(ctx context.Context, in *AgentPath) (*planTextOutput, error) {
	var row model.AgentPlan
	if err := a.visibleAgents(ctx).Select("id").Take(&model.Agent{}, "agents.id = ?", in.Agent).Error; errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, notHeard()
	}
	err := a.DB.WithContext(ctx).Take(&row, "agent_id = ?", in.Agent).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, problem(http.StatusNotFound, "this agent has not told its plan", "it does so with its next status, within 5 s")
	}
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &planTextOutput{client.AgentPlan{Hash: row.Hash, Text: string(plan.Hide(row.Text))}}, nil
}

type takePlanInput struct {
	AgentPath
	Body client.AgentPlan
}

// takePlan takes the plan that an agent has in force.
func (a *API) takePlan(ctx context.Context, in *takePlanInput) (*struct{}, error) {
	if plan.Hash([]byte(in.Body.Text)) != in.Body.Hash {
		return nil, problem(http.StatusBadRequest, "the plan is not the one whose hash was announced", "")
	}
	row := model.AgentPlan{AgentID: in.Agent, Hash: in.Body.Hash, Text: plan.Hide([]byte(in.Body.Text))}
	if err := a.DB.WithContext(ctx).Save(&row).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return nil, nil
}
