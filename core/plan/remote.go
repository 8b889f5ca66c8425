package plan

import (
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"
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
	m, ok := r.mapping(e.value, e.at, e.key, `{url: "https://receiver.lantern.example/logs"}`, append([]string{"url", "token_file", "headers", "compress"}, tlsKeys...)...)
	if !ok {
		return
	}
	if u, ok := m.require("url", `write url: "https://HOST/PATH"`); ok {
		if v, ok := r.text(u, `an address, such as "https://receiver.lantern.example/logs"`); ok {
			to.Address = r.webAddress(v, "the address of a receiver", "https://HOST/PATH")
		}
	}
	if e, ok := m.get("token_file"); ok {
		to.TokenFile = r.secret(e, r.path(e, "/etc/oakbarrel/receiver.token"))
		r.warnInTheClear(e.at, to.Address)
	}
	if e, ok := m.get("headers"); ok {
		to.Headers = r.readHeaders(e)
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

var (
	headerPlace = regexp.MustCompile(`\{([^{}]*)\}`)
	// What the protocol itself needs is not for the plan to say.
	ownHeaders = []string{"content-type", "content-length", "content-encoding", "transfer-encoding", "host", "connection"}
)

func (r *planReader) readHeaders(e entry) (all []Header) {
	for _, h := range r.names(e.value, e.at, "headers", "headers: {X-Host: '{host}'}") {
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
		all = append(all, Header{h.key, v.text})
	}
	return all
}
