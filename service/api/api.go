// Package api is the service's HTTP interface: it reads requests, asks the
// other parts of the service, and answers in JSON or with problem details
// (RFC 9457). Its typed handlers describe themselves in OpenAPI 3.1.
package api

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"gorm.io/gorm"

	"oakbarrel/client"
	"oakbarrel/service/access"
	"oakbarrel/service/alerts"
	"oakbarrel/service/ingest"
	"oakbarrel/service/orders"
	"oakbarrel/service/plans"
	"oakbarrel/service/search"
	"oakbarrel/service/shelf"
)

const (
	root        = "/api/v1"
	openAPIPath = root + "/openapi"
)

// API answers requests. It may be used by several goroutines at a time.
type API struct {
	DB      *gorm.DB
	Shelves *shelf.Set
	Feeds   *ingest.Feeds
	Search  *search.Store
	Orders  *orders.Desk
	Plans   *plans.Book
	Alerts  *alerts.Book
	Carrier *alerts.Carrier
	Hub     *Hub
	Log     *slog.Logger
	Secure  bool // it is reached by https only
	// Fingerprint is that of the service's certificate, "" for none.
	Fingerprint string

	// Patience is for how long a piece of a body is waited for, 0 for 10 s.
	Patience time.Duration

	// MostBlock bounds the blocks that the database takes, in bytes, 0 for 32 MiB.
	MostBlock int64

	room     room  // for batches
	seats    seats // for readers
	refusals refusals
	meter    meter
	live     seats // for live views

	opening, committing seats // for batches
}

// Handler returns the interface as a handler of net/http.
func (a *API) Handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	a.Search.Busy = a.opening.areWaitedFor
	g := gin.New()
	g.HandleMethodNotAllowed = true
	g.NoMethod(func(c *gin.Context) {
		answer(c, problem(http.StatusMethodNotAllowed, "this address does not take "+c.Request.Method, ""))
	})
	g.Use(a.meter.measure, gin.CustomRecoveryWithWriter(io.Discard, a.recovered), sameOrigin, rememberAddress, endUnread)
	g.NoRoute(pages)
	a.register(humagin.New(g, config()))
	g.POST(root+"/feeds/:agent/:outlet", a.untyped(a.admitFeed), a.batch)
	return g
}

func config() huma.Config {
	huma.DefaultArrayNullable = false // what lists is never null, unless its type says so
	c := huma.DefaultConfig("Oak Barrel", "1")
	c.Info.Description = "Each request brings a token (Authorization: Bearer TOKEN) or, where a person has signed in, the cookie of the session."
	c.OpenAPIPath, c.DocsPath, c.SchemasPath, c.CreateHooks = openAPIPath, "", "", nil
	c.RejectUnknownQueryParameters = true
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie},
	}
	return c
}

// register makes the addresses of the typed handlers, and describes the others.
func (a *API) register(api huma.API) {
	handle(api, "GET /healthz", "Whether the database answers", nil, a.health)
	handle(api, "POST /session", "Sign in", nil, a.signIn)
	handle(api, "GET /session", "Who has signed in", a.need(access.Read), a.who)
	handle(api, "DELETE /session", "Sign out", nil, a.signOut)
	handle(api, "PUT /session/password", "Change one's own password, and end one's other sessions", a.typed(a.admitAccount), a.setPassword)
	handle(api, "GET /casks", "The casks that may be read", a.need(access.Read), a.casks)
	handle(api, "GET /casks/{cask}", "A cask, and the feeds that flow into it", a.need(access.Read), a.cask)
	handle(api, "PATCH /casks/{cask}", "Change for how long a cask keeps its records", a.need(access.Admin), a.setCask)
	handle(api, "GET /shelves", "The databases that the store is spread over", a.need(access.Operate), a.shelves)
	handle(api, "GET /audit", "Who did or read what, the newest first", a.need(access.Admin), a.audit)
	handle(api, "GET /views", "The searches that were kept", a.need(access.Read), a.views)
	handle(api, "PUT /views", "Keep a search under a name", a.need(access.Read), a.keepView)
	handle(api, "DELETE /views", "Drop a search that was kept", a.need(access.Read), a.dropView)
	handle(api, "GET /hosts", "The agents that were heard", a.need(access.Read), a.hosts)
	handle(api, "GET /status", "What each agent says of itself", a.need(access.Read), a.statuses)
	handle(api, "GET /records", "Search: a line of JSON for each record", a.seated(a.need(access.Read)), a.records)
	handle(api, "GET /export", "Search: the records as a file to be saved", a.seated(a.need(access.Read)), a.export)
	handle(api, "GET /neighbours", "What came before and after a record, the oldest first", a.seated(a.need(access.Read)), a.neighbours)
	handle(api, "GET /follow", "Follow: a server-sent event for each record that is committed from now on", a.need(access.Read), a.follow)
	handle(api, "GET /counts", "Count records", a.seated(a.need(access.Read)), a.counts)
	handle(api, "GET /shapes", "Count records by the shapes of their texts", a.seated(a.need(access.Read)), a.shapes)
	handle(api, "GET /histogram", "Count records in equal parts of a span, by severity", a.seated(a.need(access.Read)), a.histogram)
	handle(api, "GET /feeds/{agent}/{outlet}", "Which number of a feed is committed last", a.typed(a.admitFeed), a.feed)
	handle(api, "POST /feeds/{agent}/{outlet}/lease", "Ask for the right of a run of an agent to write into a feed", a.needAgent(), a.lease)
	handle(api, "GET /agents/{agent}", "What one agent says of itself", a.need(access.Read), a.agent)
	handle(api, "PUT /agents/{agent}", "Tell how an agent is", a.needAgent(), a.takeStatus)
	handle(api, "GET /agents/{agent}/orders", "The orders of an agent that are not done", a.needAgent(), a.openOrders)
	handle(api, "POST /agents/{agent}/orders", "Give an agent an order", a.need(access.Operate), a.giveOrder)
	handle(api, "GET /agents/{agent}/orders/{order}", "What came of an order", a.need(access.Operate), a.order)
	handle(api, "PUT /agents/{agent}/orders/{order}", "Tell what came of an order", a.needAgent(), a.orderDone)
	handle(api, "GET /agents/{agent}/plan", "The plan that an agent has in force", a.need(access.Read), a.planOf)
	handle(api, "PUT /agents/{agent}/plan", "Tell the plan that an agent has in force", a.needAgent(), a.takePlan)
	handle(api, "GET /plans/words", "The words that plans are made of", a.need(access.Read), a.planWords)
	handle(api, "POST /plans/check", "What is wrong in a plan, and where its records can go", a.seated(a.need(access.Read)), a.checkPlan)
	handle(api, "POST /plans/explain", "What each rule of a plan says of a message", a.seated(a.need(access.Read)), a.explainPlan)
	handle(api, "POST /plans/compare", "What another plan would do with what a cask holds", a.seated(a.need(access.Read)), a.comparePlans)
	handle(api, "GET /plans", "The plans of the service, by their last revisions", a.need(access.Operate), a.planLines)
	handle(api, "GET /plans/{plan}", "The revisions of a plan, the newest first", a.need(access.Operate), a.revisions)
	handle(api, "PUT /plans/{plan}", "Make a new revision of a plan", a.need(access.Operate), a.putPlan)
	handle(api, "GET /plans/{plan}/{revision}", "A revision with its texts", a.need(access.Operate), a.revision)
	handle(api, "GET /plans/{plan}/{revision}/judge", "On which hosts of its assignments a revision is in order", a.seated(a.need(access.Operate)), a.judgePlan)
	handle(api, "POST /plans/{plan}/{revision}/ask", "Have the hosts of a plan judge a revision themselves, and take nothing", a.seated(a.need(access.Operate)), a.askHosts)
	handle(api, "POST /plans/{plan}/judge", "On which hosts of its assignments a text would be in order", a.seated(a.need(access.Operate)), a.judgeDraft)
	handle(api, "POST /plans/{plan}/compare", "What another revision would do with what each host has sent", a.seated(a.need(access.Operate)), a.compareRevisions)
	handle(api, "GET /assignments", "Which hosts get which plan", a.need(access.Operate), a.assignments)
	handle(api, "PUT /assignments", "Make or change an assignment", a.need(access.Operate), a.assign)
	handle(api, "DELETE /assignments/{name}", "Take an assignment away", a.need(access.Operate), a.unassign)
	handle(api, "GET /overview", "The hosts, those that need a person first", a.seated(a.need(access.Read)), a.overview)
	handle(api, "GET /fleet", "The hosts as their plans are concerned", a.need(access.Read), a.fleet)
	handle(api, "PUT /agents/{agent}/labels", "Change labels and values of a host", a.need(access.Operate), a.setLabels)
	handle(api, "GET /label-values", "The values of all hosts with a label", a.need(access.Operate), a.labelValues)
	handle(api, "PUT /label-values", "Change a value of all hosts with a label", a.need(access.Operate), a.setLabelValue)
	handle(api, "GET /rollouts", "The roll-outs, the newest first", a.need(access.Operate), a.rollouts)
	handle(api, "POST /rollouts", "Begin to roll a revision out to its hosts", a.need(access.Operate), a.startRollout)
	handle(api, "GET /rollouts/{rollout}", "How far a roll-out has come", a.need(access.Operate), a.rollout)
	handle(api, "POST /rollouts/{rollout}/{where}", "Pause a roll-out, have it go on, or take it back", a.need(access.Operate), a.steerRollout)
	handle(api, "POST /invitations", "Invite a host: a code for a token of its own", a.need(access.Admin), a.invite)
	handle(api, "POST /accept", "Use the code of an invitation up", nil, a.accept)
	handle(api, "POST /agents/{agent}/revoke", "Take away the tokens that an agent was given for invitations", a.need(access.Admin), a.revoke)
	handle(api, "POST /agents/{agent}/join", "Ask to be let in as an agent, with the token of another one", a.need(access.Write), a.join)
	handle(api, "POST /agents/{agent}/adopt", "Let an agent in that waits", a.need(access.Admin), a.adopt)
	handle(api, "GET /joinings", "The agents that wait to be let in", a.need(access.Admin), a.joinings)
	handle(api, "POST /agents/{agent}/replace", "Let an agent come with another token", a.need(access.Admin), a.replace)
	handle(api, "POST /tokens", "Make a token", a.need(access.Admin), a.newToken)
	handle(api, "GET /tokens", "The tokens that there are", a.need(access.Admin), a.tokens)
	handle(api, "DELETE /tokens/{token}", "Take a token away", a.need(access.Admin), a.revokeToken)
	handle(api, "GET /accounts", "The accounts that there are", a.need(access.Admin), a.accounts)
	handle(api, "PATCH /accounts/{account}", "Give an account another role or password", a.need(access.Admin), a.setAccount)
	handle(api, "DELETE /accounts/{account}", "Remove an account", a.need(access.Admin), a.removeAccount)
	handle(api, "GET /invitations", "The invitations that were made, the newest first", a.need(access.Admin), a.invitations)
	handle(api, "GET /alerts", "The questions that the store keeps asking", a.need(access.Read), a.alerts)
	handle(api, "PUT /alerts/{alert}", "Make or change an alert", a.need(access.Operate), a.putAlert)
	handle(api, "DELETE /alerts/{alert}", "Remove an alert", a.need(access.Operate), a.removeAlert)
	handle(api, "POST /alerts/try", "When an alert would have told somebody, or what is wrong with it", a.seated(a.need(access.Read)), a.tryAlert)
	handle(api, "GET /notices", "What alerts have told, the newest first", a.need(access.Read), a.notices)
	handle(api, "GET /notices/{notice}", "What an alert has told, and how it was sent", a.need(access.Read), a.notice)
	handle(api, "POST /notices/{notice}", "Take, leave, mute or close what was told", a.need(access.Operate), a.steerNotice)
	handle(api, "GET /receivers", "Where notices go", a.need(access.Operate), a.receivers)
	handle(api, "PUT /receivers/{receiver}", "Make a receiver of notices, or put another in its place", a.need(access.Admin), a.putReceiver)
	handle(api, "DELETE /receivers/{receiver}", "Remove a receiver", a.need(access.Admin), a.removeReceiver)
	handle(api, "POST /receivers/{receiver}/try", "Send a receiver a test", a.seated(a.need(access.Admin)), a.tryReceiver)
	api.OpenAPI().AddOperation(batchOperation)
}

// maxBody bounds the body of a request with JSON, in bytes: a plan has up to 1
// MiB, and may be longer in JSON.
const maxBody = 4 << 20

// handle makes the address of one handler, "METHOD /PATH".
func handle[I, O any](api huma.API, address, summary string, need huma.Middlewares, handler func(context.Context, *I) (*O, error)) {
	method, path, _ := strings.Cut(address, " ")
	if path != "/healthz" {
		path = root + path
	}
	o := huma.Operation{Method: method, Path: path, Summary: summary, OperationID: operationID(method, path), Middlewares: need, MaxBodyBytes: maxBody}
	if need != nil {
		o.Security = security
	}
	huma.Register(api, o, handler)
}

var security = []map[string][]string{{"token": {}}, {"session": {}}}

// operationID names an operation after its address: get-agents-orders.
func operationID(method, path string) string {
	words := []string{strings.ToLower(method)}
	for _, part := range strings.Split(strings.TrimPrefix(path, root), "/") {
		if part = strings.Trim(part, "{}"); part != "" {
			words = append(words, part)
		}
	}
	return strings.Join(words, "-")
}

// batchOperation describes the handler of batches, whose body is no JSON.
var batchOperation = &huma.Operation{
	Method: "POST", Path: root + "/feeds/{agent}/{outlet}", OperationID: "post-feeds-agent-outlet", Security: security,
	Summary:     "Send a batch; the answer means that it is committed",
	Description: "The body is a block. A conflict (409) tells the number that is expected, or that the run does not have the lease.",
	Parameters: []*huma.Param{
		{Name: "agent", In: "path", Required: true, Schema: &huma.Schema{Type: "string", Pattern: "^[0-9a-f]{32}$"}},
		{Name: "outlet", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
		{Name: "cask", In: "query", Required: true, Schema: &huma.Schema{Type: "string"}},
		{Name: "generation", In: "query", Schema: &huma.Schema{Type: "string"}},
		{Name: client.BatchHeader, In: "header", Required: true, Description: "the batch's head as JSON: first, last, shed, lost, refused, hash, run, previous, maybe_twice", Schema: &huma.Schema{Type: "string"}},
	},
	RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/octet-stream": {}}},
	Responses:   map[string]*huma.Response{"200": {Description: "confirmed: the last number of the feed that is committed"}},
}

func (a *API) recovered(c *gin.Context, err any) {
	if err == http.ErrAbortHandler {
		panic(err)
	}
	a.Log.Error("a request failed", "path", c.Request.URL.Path, "why", err, "stack", string(debug.Stack()))
	answer(c, failedAt("the service has failed at this request; its log tells more"))
}

type healthOutput struct {
	Body struct {
		Status string `json:"status" example:"ok"`
	}
}

func (a *API) health(ctx context.Context, _ *struct{}) (*healthOutput, error) {
	pool, err := a.DB.DB()
	if err == nil {
		err = pool.PingContext(ctx)
	}
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	out := &healthOutput{}
	out.Body.Status = "ok"
	return out, nil
}
