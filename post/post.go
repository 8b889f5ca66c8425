// Package post brings a text to a person: as a letter, or by a request over HTTP. Nothing that
// the text has comes into the head of a letter or of a request unencoded.
//
// An error says what is wrong without the address, which may be a secret. Where another try may
// go well it is a [client.RetryLater].
package post

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"oakbarrel/client"
)

// Patience is for how long a receiver may take.
const Patience = 30 * time.Second

// Mail is a mail server, from whom letters are, and to whom.
type Mail struct {
	Server         string // HOST:PORT
	From           string
	To             []string
	User, Password string // "" for none
}

// Send sends a letter of plain text: encrypted where the server can.
func (m Mail) Send(ctx context.Context, title, text string) error {
	letter, err := m.letter(title, text)
	if err != nil {
		return err
	}
	server, err := m.client()
	if err != nil {
		return err
	}
	if err := server.DialWithContext(ctx); err != nil {
		return &client.RetryLater{Err: &client.Unreachable{Address: m.Server, Err: client.WithoutAddress(err)}}
	}
	defer server.Close()
	if err := server.Send(letter); err != nil {
		return &client.RetryLater{Err: fmt.Errorf("the mail server %s does not take the letter: %w", m.Server, err)}
	}
	return nil
}

func (m Mail) client() (*mail.Client, error) {
	host, port, err := net.SplitHostPort(m.Server)
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(Patience), mail.WithTLSPolicy(mail.TLSOpportunistic)}
	if m.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthPlain), mail.WithUsername(m.User), mail.WithPassword(m.Password))
	}
	return mail.NewClient(host, options...)
}

func (m Mail) letter(title, text string) (*mail.Msg, error) {
	letter := mail.NewMsg(mail.WithEncoding(mail.EncodingB64), mail.WithNoDefaultUserAgent())
	if err := errors.Join(letter.From(m.From), letter.To(m.To...)); err != nil {
		return nil, err
	}
	letter.Subject(title)
	letter.SetDate()
	letter.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	letter.SetBodyString(mail.TypeTextPlain, text)
	return letter, nil
}

// Web returns what sends requests to receivers. Where one leads elsewhere nothing follows: what
// is sent is for nobody else.
func Web() *http.Client {
	return &http.Client{Timeout: Patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// Request sends a request with a body, and judges the answer.
func Request(ctx context.Context, web *http.Client, what, address string, header http.Header, body []byte) error {
	request, err := http.NewRequestWithContext(ctx, "POST", address, bytes.NewReader(body))
	if err != nil || request.URL.Host == "" {
		return fmt.Errorf("the address of %s is none", what)
	}
	request.Header = header
	header.Set("User-Agent", "oakbarrel")
	response, err := web.Do(request)
	if err != nil {
		return &client.RetryLater{Err: fmt.Errorf("%s cannot be reached: %w", what, client.WithoutAddress(errors.Unwrap(err)))}
	}
	defer response.Body.Close()
	io.Copy(io.Discard, io.LimitReader(response.Body, 1<<20)) // so that the connection can be used again
	why := fmt.Errorf("%s answers %s", what, response.Status)
	switch {
	case response.StatusCode < 300:
		return nil
	case response.StatusCode == http.StatusTooManyRequests, response.StatusCode >= 500:
		return &client.RetryLater{After: client.RetryAfter(response), Err: why}
	}
	return why
}
