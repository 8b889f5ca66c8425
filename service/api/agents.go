package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"regexp"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"oakbarrel/client"
	"oakbarrel/service/model"
	"oakbarrel/service/orders"
)

// AgentPath names an agent.
type AgentPath struct {
	Agent string `path:"agent" pattern:"^[0-9a-f]{32}$" doc:"the id of the agent"`
}

type statusInput struct {
	AgentPath
	Body client.AgentStatus
}

// takeStatus takes what an agent says of itself.
func (a *API) takeStatus(ctx context.Context, in *statusInput) (*statusOutput, error) {
	said, status, err := typedStatus(in.Body.Status)
	if err != nil {
		return nil, problem(http.StatusUnprocessableEntity, "this is not the status of an agent: "+err.Error(), "the service is to be of the agent's version, or a later one")
	}
	tallies, err := a.tallies(ctx, in.Agent, status)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	served, labels, values := servedOf(said.Plan)
	summary, err := json.Marshal(said.Summary(troubleOf(tallies), time.Now()))
	if err != nil {
		return nil, err
	}
	row := model.Agent{ID: in.Agent, Summary: string(summary), Served: served, OwnLabels: labels, OwnValues: values, System: systemOf(said), Host: in.Body.Host, PlanHash: in.Body.PlanHash, Held: in.Body.Held, LastHeard: time.Now(), Status: status, Tallies: tallies}
	if err := a.DB.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	var known int64
	if err := a.DB.WithContext(ctx).Model(&model.AgentPlan{}).Where("agent_id = ? AND hash = ?", in.Agent, in.Body.PlanHash).Count(&known).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &statusOutput{client.StatusTaken{WantsPlan: known == 0}}, nil
}

// systemName is what the name of a host's system looks like.
var systemName = regexp.MustCompile(`^[a-z0-9]{1,16}$`)

// systemOf returns the system of a host, "" where the agent does not say, or says something else.
func systemOf(said client.Status) string { return systemName.FindString(said.System) }

// typedStatus returns what is said as a status that has nothing but what one has, and as JSON.
func typedStatus(said any) (status client.Status, text []byte, err error) {
	b, err := json.Marshal(said)
	switch {
	case err != nil:
		return status, nil, err
	case len(b) > client.MostStatus:
		return status, nil, fmt.Errorf("it has %d bytes, and may have %d", len(b), client.MostStatus)
	case said == nil:
		return status, nil, errors.New("it is empty")
	}
	in := json.NewDecoder(bytes.NewReader(b))
	in.DisallowUnknownFields()
	if err := in.Decode(&status); err != nil {
		return status, nil, err
	}
	text, err = json.Marshal(status)
	return status, text, err
}

// tallies returns what is known of an agent's tallies with this status.
func (a *API) tallies(ctx context.Context, agent string, status []byte) (string, error) {
	var row model.Agent
	err := a.DB.WithContext(ctx).Select("tallies").Take(&row, "id = ?", agent).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return "", err
	}
	old := map[string]tallyMark{}
	json.Unmarshal([]byte(row.Tallies), &old) // the service wrote it
	marks, err := json.Marshal(compareTallies(old, status, time.Now()))
	return string(marks), err
}

type statusOutput struct{ Body client.StatusTaken }

type hostsOutput struct{ Body []client.Host }

// visibleAgents are the agents that the visitor may see: with a token for one cask
// those that have written into it.
func (a *API) visibleAgents(ctx context.Context) *gorm.DB {
	db := a.DB.WithContext(ctx).Model(&model.Agent{})
	if only := visitor(ctx).Cask; only != nil {
		db = db.Where("EXISTS (SELECT 1 FROM feeds JOIN blocks ON blocks.feed_id = feeds.id AND blocks.cask_id = ? WHERE feeds.agent_id = agents.id)", *only)
	}
	return db
}

// hosts lists the agents that were heard.
func (a *API) hosts(ctx context.Context, _ *struct{}) (*hostsOutput, error) {
	var rows []model.Agent
	if err := a.visibleAgents(ctx).Omit("status", "tallies", "summary").Order("host, id").Find(&rows).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	out := &hostsOutput{Body: []client.Host{}}
	for _, r := range rows {
		out.Body = append(out.Body, hostOf(r))
	}
	return out, nil
}

func hostOf(r model.Agent) client.Host {
	return client.Host{Name: r.Host, AgentID: r.ID, LastHeard: r.LastHeard, PlanHash: r.PlanHash, Held: r.Held}
}

// hostStatus is a [client.HostStatus] whose status is as the agent said it: a newer
// one may tell more than is known here.
type hostStatus struct {
	client.Host
	Status       saidStatus            `json:"status"`
	TallyTrouble []client.TallyTrouble `json:"tally_trouble"`
}

// saidStatus is a [client.Status] as JSON.
type saidStatus struct{ json.RawMessage }

// Schema implements [huma.SchemaProvider].
func (saidStatus) Schema(r huma.Registry) *huma.Schema {
	return r.Schema(reflect.TypeFor[client.Status](), true, "Status")
}

type statusesOutput struct{ Body []hostStatus }

// statuses tells what each agent says of itself, as it said it.
func (a *API) statuses(ctx context.Context, _ *struct{}) (*statusesOutput, error) {
	var rows []model.Agent
	if err := a.visibleAgents(ctx).Order("host, id").Find(&rows).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	out := &statusesOutput{Body: []hostStatus{}}
	for _, r := range rows {
		out.Body = append(out.Body, statusOf(r))
	}
	return out, nil
}

func statusOf(r model.Agent) hostStatus {
	return hostStatus{hostOf(r), saidStatus{json.RawMessage(r.Status)}, troubleOf(r.Tallies)}
}

type agentOutput struct{ Body hostStatus }

// agent tells what one agent says of itself.
func (a *API) agent(ctx context.Context, in *AgentPath) (*agentOutput, error) {
	var row model.Agent
	err := a.visibleAgents(ctx).Take(&row, "agents.id = ?", in.Agent).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, notHeard()
	}
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &agentOutput{statusOf(row)}, nil
}

func notHeard() error {
	return problem(http.StatusNotFound, "no agent with this id was heard", "oakbarrel hosts lists them")
}

type giveInput struct {
	AgentPath
	Body client.NewOrder
}

type orderOutput struct{ Body client.Order }

// giveOrder takes an order for an agent.
func (a *API) giveOrder(ctx context.Context, in *giveInput) (*orderOutput, error) {
	err := a.DB.WithContext(ctx).Omit("status").Take(&model.Agent{}, "id = ?", in.Agent).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, notHeard()
	}
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	o, err := a.Orders.Give(ctx, in.Agent, in.Body, visitor(ctx).Name)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "order", fmt.Sprintf("order %d to agent %s: %s", o.ID, in.Agent, wordsOf(in.Body)))
	return &orderOutput{o}, nil
}

// wordsOf tells what an order is, on one line.
func wordsOf(o client.NewOrder) string {
	words := []string{string(o.Kind)}
	for _, p := range [][2]string{{"outlet", o.Outlet}, {"path", o.Path}, {"rule", o.Rule}, {"to", o.To}} {
		if p[1] != "" {
			words = append(words, p[0], p[1])
		}
	}
	return strings.Join(words, " ")
}

type ordersInput struct {
	AgentPath
	Wait int `query:"wait" minimum:"0" maximum:"60" doc:"seconds to wait for an order where there is none"`
}

type ordersOutput struct{ Body []client.Order }

// openOrders gives an agent its orders. The answer waits for one.
func (a *API) openOrders(ctx context.Context, in *ordersInput) (*ordersOutput, error) {
	heard := a.DB.WithContext(ctx).Model(&model.Agent{}).Where("id = ?", in.Agent).Update("last_heard", time.Now())
	if heard.Error != nil {
		return nil, a.unavailable(ctx, heard.Error)
	}
	known := heard.RowsAffected
	if known == 0 { // also where it was heard within the same millisecond
		if err := a.DB.WithContext(ctx).Model(&model.Agent{}).Where("id = ?", in.Agent).Count(&known).Error; err != nil {
			return nil, a.unavailable(ctx, err)
		}
	}
	if known == 0 && in.Agent != client.NoAgent { // its status was lost, or has not come yet
		time.Sleep(time.Second)
		return &ordersOutput{[]client.Order{{NewOrder: client.NewOrder{Kind: client.SayAgain}}}}, nil
	}
	open, err := a.Orders.Wait(ctx, in.Agent, time.Duration(in.Wait)*time.Second)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	if err := a.withPlans(ctx, in.Agent, open); err != nil {
		return nil, a.refused(ctx, err)
	}
	return &ordersOutput{open}, nil
}

// OrderPath names an order of an agent.
type OrderPath struct {
	AgentPath
	Order uint64 `path:"order" doc:"the order's id"`
}

// order tells what came of an order.
func (a *API) order(ctx context.Context, in *OrderPath) (*orderOutput, error) {
	o, err := a.Orders.Find(ctx, in.Agent, in.Order)
	switch {
	case errors.Is(err, orders.ErrUnknown):
		return nil, problem(http.StatusNotFound, err.Error(), "")
	case err != nil:
		return nil, a.unavailable(ctx, err)
	}
	return &orderOutput{o}, nil
}

type outcomeInput struct {
	OrderPath
	Body client.Outcome
}

// orderDone takes what came of an order.
func (a *API) orderDone(ctx context.Context, in *outcomeInput) (*struct{}, error) {
	if err := a.Orders.Done(ctx, in.Agent, in.Order, in.Body); err != nil {
		return nil, a.unavailable(ctx, err)
	}
	came := "done"
	if in.Body.Why != "" {
		came = "not done: " + in.Body.Why
	}
	a.noteFor(ctx, agentName(in.Agent), "order done", fmt.Sprintf("order %d: %s", in.Order, came))
	return nil, nil
}
