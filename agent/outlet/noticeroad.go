package outlet

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"time"

	"oakbarrel/agent/credential"
	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/notice"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
	"oakbarrel/post"
)

// noticeRoad leads to a person, by a webhook or by mail: what a batch has is one notice.
type noticeRoad struct {
	plainRoad
	to       plan.Notify
	outlet   string
	host     func() string
	told     func(client.Told)
	gatherer notice.Gatherer
	last     time.Time // when a person was told last
	http     *http.Client
}

func newNoticeRoad(s plan.Outlet, host func() string, told func(client.Told)) *noticeRoad {
	return &noticeRoad{to: s.Notify, outlet: s.Name, host: host, told: told, http: post.Web()}
}

func (n *noticeRoad) begin(_ context.Context, here uint64) (uint64, error) { return here, nil }
func (n *noticeRoad) add(_ uint64, r *record.Record)                       { n.gatherer.Add(r) }
func (n *noticeRoad) reset()                                               { n.gatherer.Reset() }
func (n *noticeRoad) close()                                               { n.http.CloseIdleConnections() }

func (n *noticeRoad) depth() int { return 1 }

func (n *noticeRoad) pack(b spool.Batch, refused bool) delivery {
	return func(ctx context.Context) (uint64, error) { return n.deliver(ctx, b, refused) }
}

func (n *noticeRoad) deliver(ctx context.Context, b spool.Batch, refused bool) (uint64, error) {
	if b.Records == 0 || refused {
		return b.Last, nil
	}
	guard.Pause(ctx, time.Until(n.last.Add(n.to.Every))) // nobody is told more often
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	tell := n.webhook
	if n.to.Mail.Server != "" {
		tell = n.mail
	}
	if err := tell(ctx); err != nil {
		return 0, err
	}
	n.last = time.Now()
	n.told(client.Told{At: n.last.UTC(), Outlet: n.outlet, Title: n.gatherer.Title(n.host()), Text: n.gatherer.Text(time.UTC), Records: n.gatherer.Records()})
	return b.Last, nil
}

// webhookNotice is what a webhook gets.
type webhookNotice struct {
	Host    string         `json:"host"`
	Outlet  string         `json:"outlet"`
	Title   string         `json:"title"`
	Text    string         `json:"text"` // plain
	Records int64          `json:"records"`
	Groups  []notice.Group `json:"groups"`
}

// body returns what a webhook gets: ours, or what the plan says.
func (n *noticeRoad) body() ([]byte, error) {
	if n.to.Body == nil {
		return json.Marshal(webhookNotice{n.host(), n.outlet, n.gatherer.Title(n.host()), n.gatherer.Text(time.Local), n.gatherer.Records(), n.gatherer.Groups()})
	}
	worst := ""
	if groups := n.gatherer.Groups(); len(groups) > 0 {
		worst = groups[0].Word
	}
	values := map[string]string{"title": n.gatherer.Title(n.host()), "text": n.gatherer.Text(time.Local), "host": n.host(), "outlet": n.outlet, "records": strconv.FormatInt(n.gatherer.Records(), 10), "severity": worst}
	return n.to.Body.Append(nil, func(place string) []byte { return []byte(values[place]) }), nil
}

// webhook posts the notice as JSON. The address is a secret, and in no error.
func (n *noticeRoad) webhook(ctx context.Context) error {
	address, err := credential.Token(n.to.WebhookFile)
	if err != nil {
		return err
	}
	body, err := n.body()
	if err != nil {
		return err
	}
	header := http.Header{"Content-Type": {"application/json"}}
	if n.to.Body != nil && !n.to.Body.IsJSON() {
		header.Set("Content-Type", "text/plain; charset=utf-8")
	}
	places := strings.NewReplacer("{host}", n.host(), "{outlet}", n.outlet, "{records}", strconv.FormatInt(n.gatherer.Records(), 10))
	if err := setHeaders(header, n.to.Auth, places); err != nil {
		return err
	}
	return post.Request(ctx, n.http, "the webhook", address, header, body)
}

// mail sends the notice as a letter of plain text. Nothing of a record is in its head.
func (n *noticeRoad) mail(ctx context.Context) (err error) {
	m := post.Mail{Server: n.to.Mail.Server, From: n.to.Mail.From, To: strings.Fields(n.to.Mail.To), User: n.to.Mail.User}
	if m.User != "" {
		if m.Password, err = credential.Token(n.to.Mail.PasswordFile); err != nil {
			return err
		}
	}
	return m.Send(ctx, n.gatherer.Title(n.host()), n.gatherer.Text(time.Local))
}
