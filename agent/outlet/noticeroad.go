package outlet

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/smtp"
	"strings"
	"time"

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

// webhook posts the notice as JSON. The address is a secret, and in no error.
func (n *noticeRoad) webhook(ctx context.Context) error {
	address, err := credential.Token(n.to.WebhookFile)
	if err != nil {
		return err
	}
	var body bytes.Buffer
	encoder := json.NewEncoder(&body)
	encoder.SetEscapeHTML(true)
	if err := encoder.Encode(webhookNotice{n.host(), n.outlet, n.gatherer.Title(n.host()), n.gatherer.Text(time.Local), n.gatherer.Records(), n.gatherer.Groups()}); err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, "POST", address, &body)
	if err != nil || request.URL.Host == "" {
		return fmt.Errorf("what stands in %s is no address", n.to.WebhookFile)
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("User-Agent", "oakbarrel")
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
	m := n.to.Mail
	ctx, cancel := context.WithTimeout(ctx, noticeTime)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", m.Server)
	if err != nil {
		return &client.RetryLater{Err: &client.Unreachable{Address: m.Server, Err: WithoutAddress(err)}}
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if err := n.talk(conn); err != nil {
		return &client.RetryLater{Err: fmt.Errorf("the mail server %s does not take the letter: %w", m.Server, err)}
	}
	return nil
}

// talk speaks SMTP (RFC 5321) over a connection, encrypted where the server can.
func (n *noticeRoad) talk(conn net.Conn) error {
	m := n.to.Mail
	host, _, _ := net.SplitHostPort(m.Server)
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return err
	}
	defer c.Close()
	if can, _ := c.Extension("STARTTLS"); can {
		if err := c.StartTLS(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}); err != nil {
			return err
		}
	}
	if m.User != "" {
		password, err := credential.Token(m.PasswordFile)
		if err != nil {
			return err
		}
		if err := c.Auth(smtp.PlainAuth("", m.User, password, host)); err != nil {
			return err
		}
	}
	if err := c.Mail(m.From); err != nil {
		return err
	}
	for _, to := range strings.Fields(m.To) {
		if err := c.Rcpt(to); err != nil {
			return err
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := w.Write(n.letter()); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	c.Quit() // the letter is taken already
	return nil
}

// letter writes the notice as a message (RFC 5322) in UTF-8.
func (n *noticeRoad) letter() []byte {
	var b bytes.Buffer
	head := func(name, value string) { fmt.Fprintf(&b, "%s: %s\r\n", name, value) }
	head("From", "<"+n.to.Mail.From+">")
	head("To", "<"+strings.Join(strings.Fields(n.to.Mail.To), ">, <")+">")
	head("Subject", mime.QEncoding.Encode("utf-8", n.gatherer.Title(n.host())))
	head("Date", time.Now().Format(time.RFC1123Z))
	head("Auto-Submitted", "auto-generated") // RFC 3834
	head("MIME-Version", "1.0")
	head("Content-Type", "text/plain; charset=utf-8")
	head("Content-Transfer-Encoding", "base64")
	b.WriteString("\r\n")
	text := base64.StdEncoding.EncodeToString([]byte(n.gatherer.Text(time.Local)))
	for len(text) > 0 {
		line := text[:min(76, len(text))]
		b.WriteString(line + "\r\n")
		text = text[len(line):]
	}
	return b.Bytes()
}
