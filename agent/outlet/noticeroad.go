package outlet

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"oakbarrel/agent/credential"
	"oakbarrel/agent/guard"
	"oakbarrel/client"
	"oakbarrel/core/notice"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
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

const noticeTime = 30 * time.Second // for which a notice may take

func newNoticeRoad(s plan.Outlet, host func() string, told func(client.Told)) *noticeRoad {
	return &noticeRoad{to: s.Notify, outlet: s.Name, host: host, told: told, http: &http.Client{Timeout: noticeTime, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
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
	request, err := http.NewRequestWithContext(ctx, "POST", address, bytes.NewReader(body))
	if err != nil || request.URL.Host == "" {
		return fmt.Errorf("what stands in %s is no address", n.to.WebhookFile)
	}
	request.Header.Set("Content-Type", "application/json")
	if n.to.Body != nil && !n.to.Body.IsJSON() {
		request.Header.Set("Content-Type", "text/plain; charset=utf-8")
	}
	places := strings.NewReplacer("{host}", n.host(), "{outlet}", n.outlet, "{records}", strconv.FormatInt(n.gatherer.Records(), 10))
	if err := setHeaders(request.Header, n.to.Auth, places); err != nil {
		return err
	}
	response, err := n.http.Do(request)
	if err != nil {
		return &client.RetryLater{Err: fmt.Errorf("the webhook cannot be reached: %w", WithoutAddress(errors.Unwrap(err)))}
	}
	defer response.Body.Close()
	io.Copy(io.Discard, io.LimitReader(response.Body, 1<<20))
	why := fmt.Errorf("the webhook answers %s", response.Status)
	switch {
	case response.StatusCode < 300:
		return nil
	case response.StatusCode == http.StatusTooManyRequests, response.StatusCode >= 500:
		return &client.RetryLater{After: client.RetryAfter(response), Err: why}
	}
	return why
}

// mail sends the notice as a letter of plain text. Nothing of a record is in its head.
func (n *noticeRoad) mail(ctx context.Context) error {
	letter, err := n.letter()
	if err != nil {
		return err
	}
	post, err := n.post()
	if err != nil {
		return err
	}
	if err := post.DialWithContext(ctx); err != nil {
		return &client.RetryLater{Err: &client.Unreachable{Address: n.to.Mail.Server, Err: WithoutAddress(err)}}
	}
	defer post.Close()
	if err := post.Send(letter); err != nil {
		return &client.RetryLater{Err: fmt.Errorf("the mail server %s does not take the letter: %w", n.to.Mail.Server, err)}
	}
	return nil
}

// post returns what speaks to the mail server: encrypted where that can.
func (n *noticeRoad) post() (*mail.Client, error) {
	host, port, err := net.SplitHostPort(n.to.Mail.Server)
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(noticeTime), mail.WithTLSPolicy(mail.TLSOpportunistic)}
	if user := n.to.Mail.User; user != "" {
		password, err := credential.Token(n.to.Mail.PasswordFile)
		if err != nil {
			return nil, err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthPlain), mail.WithUsername(user), mail.WithPassword(password))
	}
	return mail.NewClient(host, options...)
}

func (n *noticeRoad) letter() (*mail.Msg, error) {
	m := mail.NewMsg(mail.WithEncoding(mail.EncodingB64), mail.WithNoDefaultUserAgent())
	if err := errors.Join(m.From(n.to.Mail.From), m.To(strings.Fields(n.to.Mail.To)...)); err != nil {
		return nil, err
	}
	m.Subject(n.gatherer.Title(n.host()))
	m.SetDate()
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	m.SetBodyString(mail.TypeTextPlain, n.gatherer.Text(time.Local))
	return m, nil
}
