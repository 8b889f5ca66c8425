package plan

import (
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/format"
)

// HeaderPlaces are the places that the value of a header may have: the agent's
// host and id, the outlet, and the numbers of the batch.
var HeaderPlaces = []string{"host", "agent", "outlet", "first", "last", "records"}

// readRemote reads an outlet that speaks a protocol that is not ours.
func (r *planReader) readRemote(e entry, out *Outlet) {
	if e.key == "syslog" {
		r.readSyslogOutlet(e, &out.Remote)
		return
	}
	r.readWebOutlet(e, &out.Remote)
}

var networks = []string{"udp", "tcp", "tls"}

func (r *planReader) readSyslogOutlet(e entry, to *Remote) {
	m, ok := r.mapping(e.value, e.at, "syslog", `{tls: "relay.lantern.example:6514"}`, append(append([]string{"format"}, networks...), tlsKeys...)...)
	if !ok {
		return
	}
	to.Format = "rfc5424"
	if e, ok := m.get("format"); ok {
		to.Format = r.word(e, []string{"rfc5424", "rfc3164"})
	}
	for _, network := range networks {
		e, ok := m.get(network)
		if !ok {
			continue
		}
		if to.Network != "" {
			r.fail(e.at, fmt.Sprintf("the outlet goes over %s and %s", to.Network, network), "write two outlets, or take one away")
			continue
		}
		to.Network = network
		if v, ok := r.text(e, `an address, such as "relay.lantern.example:6514"`); ok {
			to.Address = v.text
			if host, port, err := net.SplitHostPort(v.text); err != nil || host == "" || port == "" || port == "0" {
				r.fail(e.valueAt(), fmt.Sprintf("%q is not the address of a receiver", shorten(v.text)), `write "HOST:PORT"; usual are 514 for udp, 601 for tcp and 6514 for tls`)
			}
		}
	}
	if to.Network == "" && !m.faulty {
		r.fail(e.at, "syslog does not say where it goes", `write tls: "HOST:6514", tcp: "HOST:601" or udp: "HOST:514"`)
	}
	to.TLS = r.readRemoteTLS(m, to.Network == "tls" || to.Network == "")
}

func (r *planReader) readWebOutlet(e entry, to *Remote) {
	m, ok := r.mapping(e.value, e.at, e.key, `{url: "https://receiver.lantern.example/logs"}`, append([]string{"url", "token_file", "basic", "headers", "body", "compress"}, tlsKeys...)...)
	if !ok {
		return
	}
	if u, ok := m.require("url", `write url: "https://HOST/PATH"`); ok {
		if v, ok := r.text(u, `an address, such as "https://receiver.lantern.example/logs"`); ok {
			to.Address = r.webAddress(v, "the address of a receiver", "https://HOST/PATH")
		}
	}
	to.Auth = r.readWebAuth(m, to.Address)
	if b, ok := m.get("body"); ok && e.key != "http" {
		r.fail(b.at, "the protocol says what the body of otlp is", "take it away, or send to an http outlet")
	} else if ok {
		to.Body = r.readBody(b, format.RecordPlaces, `body: '{"text": "{text}"}'`)
	}
	forms := []string{"gzip", "none"}
	if e.key == "http" {
		forms = append(forms, "zstd")
	}
	to.Compress = "gzip"
	if e, ok := m.get("compress"); ok {
		to.Compress = r.word(e, forms)
	}
	to.TLS = r.readRemoteTLS(m, !strings.HasPrefix(to.Address, "http:"))
}

// readWebAuth reads what requests to an address show of who asks.
func (r *planReader) readWebAuth(m mapping, address string) (a WebAuth) {
	token, hasToken := m.get("token_file")
	basic, hasBasic := m.get("basic")
	switch {
	case hasToken && hasBasic:
		r.fail(basic.at, "there are both token_file and basic", "take one away")
	case hasToken:
		a.TokenFile = r.secret(token, r.path(token, "/etc/oakbarrel/receiver.token"))
		r.warnInTheClear(token.at, address)
	case hasBasic:
		if b, ok := r.mapping(basic.value, basic.at, "basic", "basic: {user: oak, password_file: /etc/oakbarrel/receiver.password}", "user", "password_file"); ok {
			if e, ok := b.require("user", "write user: oak"); ok {
				if v, ok := r.text(e, "the name of a user"); ok {
					a.User = v.text
				}
				if a.User == "" || strings.ContainsAny(a.User, ":\r\n") {
					r.fail(e.valueAt(), fmt.Sprintf("the user cannot be %q", shorten(a.User)), "write a name without a colon")
				}
			}
			if e, ok := b.require("password_file", "write password_file: /etc/oakbarrel/receiver.password"); ok {
				a.PasswordFile = r.secret(e, r.path(e, "/etc/oakbarrel/receiver.password"))
			}
		}
		r.warnInTheClear(basic.at, address)
	}
	if e, ok := m.get("headers"); ok {
		a.Headers = r.readHeaders(e)
	}
	return a
}

// readBody reads the body of requests.
func (r *planReader) readBody(e entry, places []string, example string) *format.Body {
	s, ok := r.text(e, "a body, such as "+example)
	if !ok {
		return nil
	}
	b, err := format.ParseBody(s.text, places)
	var wrong *format.Error
	if errors.As(err, &wrong) {
		r.fail(s.locate(wrong.Offset), wrong.What, wrong.Mend)
	}
	return b
}

var (
	headerPlace = regexp.MustCompile(`\{([^{}]*)\}`)
	// What the protocol itself needs is not for the plan to say.
	ownHeaders = []string{"content-type", "content-length", "content-encoding", "transfer-encoding", "host", "connection"}
)

func (r *planReader) readHeaders(e entry) (all []Header) {
	for _, h := range r.names(e.value, e.at, "headers", "headers: {X-Host: '{host}'}") {
		if _, isMapping := h.value.(*ast.MappingNode); isMapping {
			if m, ok := r.mapping(h.value, h.at, h.key, h.key+": {file: /etc/oakbarrel/receiver.key}", "file"); ok {
				if e, ok := m.require("file", "write file: /etc/oakbarrel/receiver.key, whose text is the value"); ok {
					all = append(all, Header{Name: h.key, File: r.secret(e, r.path(e, "/etc/oakbarrel/receiver.key"))})
				}
			}
			continue
		}
		v, ok := r.text(h, "the value of a header")
		if !ok {
			continue
		}
		name := strings.ToLower(h.key)
		switch {
		case slices.Contains(ownHeaders, name):
			r.fail(h.at, h.key+" is set by the agent itself", "take it away")
		case strings.ContainsFunc(v.text, func(c rune) bool { return c < ' ' || c > '~' }):
			r.fail(h.valueAt(), "the value of a header has a sign that it may not have", "write printable ASCII")
		case name == "authorization":
			r.warn(h.valueAt(), "the plan holds a secret in plain sight", "write token_file: /etc/oakbarrel/receiver.token; what stands there goes behind Bearer")
		}
		for _, place := range headerPlace.FindAllStringSubmatch(v.text, -1) {
			if !slices.Contains(HeaderPlaces, place[1]) {
				r.fail(h.valueAt(), fmt.Sprintf("a header has no place {%s}", shorten(place[1])), "known are {"+strings.Join(HeaderPlaces, "}, {")+"}")
			}
		}
		all = append(all, Header{Name: h.key, Value: v.text})
	}
	return all
}
