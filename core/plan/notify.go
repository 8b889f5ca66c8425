package plan

import (
	"fmt"
	"net"
	"net/mail"
	"strings"
	"time"

	"oakbarrel/core/format"
)

// The settings of notices where the plan does not say other ones.
const (
	noticeDisk  = 16 << 20
	noticeWait  = 10 * time.Second
	noticeEvery = 5 * time.Minute
)

// readNotify reads an outlet that tells a person.
func (r *planReader) readNotify(outlet mapping, e entry, out *Outlet) {
	if _, ok := outlet.get("spool"); !ok {
		out.Spool.Disk = noticeDisk
	}
	if b, ok := outlet.get("batch"); ok {
		r.fail(b.at, "notices have no batch", "take it away; how long records are gathered is said in notify: {wait: 10s}")
	}
	m, ok := r.mapping(e.value, e.at, "notify", "{webhook_file: /etc/oakbarrel/duty.url}", "webhook_file", "mail", "wait", "every", "token_file", "basic", "headers", "body")
	if !ok {
		return
	}
	n := &out.Notify
	webhook, hasWebhook := m.get("webhook_file")
	letter, hasMail := m.get("mail")
	switch {
	case hasWebhook && hasMail:
		r.fail(letter.at, "notify has both webhook_file and mail", "write two outlets")
	case hasWebhook:
		n.WebhookFile = r.secret(webhook, r.path(webhook, "/etc/oakbarrel/duty.url"))
	case hasMail:
		r.readMail(letter, &n.Mail)
	case !m.faulty:
		r.fail(e.at, "notify does not say how", "write webhook_file: /etc/oakbarrel/duty.url, a file that holds an address, or mail: {server: \"HOST:25\", from: ADDRESS, to: [ADDRESS]}")
	}
	n.Auth = r.readWebAuth(m, "")
	if e, ok := m.get("body"); ok {
		n.Body = r.readBody(e, format.NoticePlaces, `body: '{"text": "{title}"}'`)
	}
	if hasMail && (n.Body != nil || n.Auth.TokenFile != "" || n.Auth.User != "" || n.Auth.Headers != nil) {
		r.fail(letter.at, "body, headers, token_file and basic belong to a webhook", "take them away, or write webhook_file")
	}
	out.Spool.Delay, n.Every = noticeWait, noticeEvery
	if e, ok := m.get("wait"); ok {
		out.Spool.Delay = r.duration(e, 10*time.Millisecond, time.Hour, "10s")
	}
	if e, ok := m.get("every"); ok {
		n.Every = r.duration(e, 10*time.Millisecond, 24*time.Hour, "5m")
	}
}

func (r *planReader) readMail(e entry, to *Mail) {
	m, ok := r.mapping(e.value, e.at, "mail", `{server: "mail.lantern.example:25", from: oak@lantern.example, to: [duty@lantern.example]}`, "server", "from", "to", "user", "password_file")
	if !ok {
		return
	}
	if e, ok := m.require("server", `write server: "HOST:25"`); ok {
		if v, ok := r.text(e, `an address, such as "mail.lantern.example:25"`); ok {
			to.Server = v.text
			if host, port, err := net.SplitHostPort(v.text); err != nil || host == "" || port == "" {
				r.fail(e.valueAt(), fmt.Sprintf("%q is not the address of a mail server", shorten(v.text)), `write "HOST:25", or another port`)
			}
		}
	}
	if e, ok := m.require("from", "write from: oak@lantern.example"); ok {
		if v, ok := r.text(e, "an address of mail"); ok {
			to.From = r.mailAddress(v)
		}
	}
	if e, ok := m.require("to", "write to: [duty@lantern.example]"); ok {
		var all []string
		for _, v := range r.oneOrMore(e, `an address of mail, such as "duty@lantern.example"`) {
			all = append(all, r.mailAddress(v))
		}
		to.To = strings.Join(all, " ")
	}
	user, hasUser := m.get("user")
	password, hasPassword := m.get("password_file")
	switch {
	case hasUser != hasPassword:
		at := user.at
		if hasPassword {
			at = password.at
		}
		r.fail(at, "user and password_file belong together", "write both, or take this one away")
	case hasUser:
		if v, ok := r.text(user, "a name"); ok {
			to.User = v.text
		}
		to.PasswordFile = r.secret(password, r.path(password, "/etc/oakbarrel/mail.password"))
	}
}

func (r *planReader) mailAddress(v scalar) string {
	a, err := mail.ParseAddress(v.text)
	if err != nil || a.Name != "" || strings.ContainsAny(a.Address, " \r\n") {
		r.fail(positionOf(v.node), fmt.Sprintf("%q is not an address of mail", shorten(v.text)), "write duty@lantern.example")
		return ""
	}
	return a.Address
}

// passing returns the numbers of the outlets that keep nothing.
func (r *planReader) passing() (numbers []int) {
	for i, o := range r.outlets {
		if o.Kind == NotifyOutlet {
			numbers = append(numbers, i)
		}
	}
	return numbers
}
