package plan

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"oakbarrel/core/fingerprint"
)

func (r *planReader) readService(e entry) (s Service) {
	m, ok := r.mapping(e.value, e.at, "service", `{url: "https://logs.lantern.example:8440", token_file: /etc/oakbarrel/token}`, append([]string{"url", "token_file", "proxy"}, tlsKeys...)...)
	if !ok {
		return s
	}
	if e, ok := m.require("url", `write url: "https://HOST:8440"`); ok {
		var all []string
		for _, v := range r.oneOrMore(e, `an address, such as "https://logs.lantern.example:8440"`) {
			all = append(all, r.webAddress(v, "the address of a service", "https://HOST:8440"))
			r.warnInTheClear(positionOf(v.node), v.text)
		}
		s.URLs = strings.Join(all, " ")
	}
	if e, ok := m.require("token_file", "write token_file: /etc/oakbarrel/token, a file that holds a token for writing"); ok {
		s.TokenFile = r.secret(e, r.path(e, "/etc/oakbarrel/token"))
	}
	if e, ok := m.get("proxy"); ok {
		if v, ok := r.text(e, `an address, such as "http://proxy.lantern.example:3128"`); ok {
			s.Proxy = r.webAddress(v, "the address of a proxy", "http://HOST:3128")
		}
	}
	s.TLS = r.readRemoteTLS(m, strings.Contains(s.URLs, "https:"))
	return s
}

// oneOrMore reads one text, or a list of them.
func (r *planReader) oneOrMore(e entry, what string) []scalar {
	if _, one := r.scalarOf(e.value); one {
		if v, ok := r.text(e, what); ok {
			return []scalar{v}
		}
		return nil
	}
	return r.texts(e, what, e.key+": ["+what[strings.Index(what, `"`):]+"]")
}

// webAddress reads an address of http or https.
func (r *planReader) webAddress(v scalar, what, example string) string {
	u, err := url.Parse(v.text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		r.fail(positionOf(v.node), fmt.Sprintf("%q is not %s", shorten(v.text), what), fmt.Sprintf("write %q", example))
		return ""
	}
	if u.User != nil {
		r.warn(positionOf(v.node), "the address holds a secret in plain sight", "take it out: a service has token_file, and the environment of the agent can name a proxy, as HTTPS_PROXY")
	}
	return v.text
}

// tlsKeys are the keys of an other side that is reached by TLS.
var tlsKeys = []string{"ca_file", "fingerprint", "certificate", "key_file"}

// readRemoteTLS reads how the certificate of another side is judged, and which is shown to it.
func (r *planReader) readRemoteTLS(m mapping, encrypted bool) (t TLS) {
	for _, key := range tlsKeys {
		if e, ok := m.get(key); ok && !encrypted {
			r.fail(e.at, key+" belongs to TLS, with which this is not reached", "write an address that begins with https, or tls, or take it away")
			return t
		}
	}
	if e, ok := m.get("ca_file"); ok {
		t.CAFile = r.path(e, "/etc/oakbarrel/ca.pem")
	}
	if e, ok := m.get("fingerprint"); ok {
		if v, ok := r.text(e, "the SHA-256 of the other side's certificate"); ok {
			if _, err := fingerprint.Parse(v.text); err != nil {
				r.fail(e.valueAt(), err.Error(), "copy it from the service's log, where it stands since the start: sha256:3F:0A:…")
			}
			t.Fingerprint = v.text
		}
	}
	certificate, hasCertificate := m.get("certificate")
	key, hasKey := m.get("key_file")
	switch {
	case hasCertificate && hasKey:
		t.Certificate, t.KeyFile = r.besidePlan(certificate, "host.pem"), r.secret(key, r.besidePlan(key, "host.key"))
	case hasCertificate:
		r.fail(certificate.at, "certificate and key_file belong together", "write key_file: host.key, the file of the certificate's key")
	case hasKey:
		r.fail(key.at, "certificate and key_file belong together", "write certificate: host.pem, the certificate that is shown to the other side")
	}
	return t
}

// readWaiting reads how the records of an outlet wait for delivery.
func (r *planReader) readWaiting(outlet mapping, out *Outlet) {
	out.Spool = Spool{Disk: 1 << 30, Floor: r.floor, Records: 20_000, Bytes: 4 << 20, Delay: time.Second}
	if e, ok := outlet.get("spool"); ok {
		r.readSpool(e, &out.Spool)
	}
	if e, ok := outlet.get("batch"); ok {
		r.readBatch(e, &out.Spool)
	}
}

func (r *planReader) readStore(e entry, out *Outlet) {
	out.Store.Service = r.service
	if !r.hasService {
		r.fail(e.at, "a store needs a service, and the plan names none", `write at the top: service: {url: "https://HOST:8440", token_file: /etc/oakbarrel/token}`)
	}
	m, ok := r.mapping(e.value, e.at, "store", "{cask: NAME}", "cask")
	if !ok {
		return
	}
	if e, ok := m.require("cask", "write the name of a collection in the store: cask: gateway"); ok {
		if v, ok := r.text(e, "the name of a cask"); ok {
			out.Store.Cask = v.text
			if !isName(v.text) {
				r.fail(e.valueAt(), fmt.Sprintf("%q cannot be a cask", shorten(v.text)), "a name has letters, digits and - _ . and at most 64 of them")
			}
		}
	}
}

func (r *planReader) readSpool(e entry, s *Spool) {
	m, ok := r.mapping(e.value, e.at, "spool", "{disk: 1GiB, overflow: shed}", "disk", "overflow", "sync")
	if !ok {
		return
	}
	if e, ok := m.get("disk"); ok {
		if s.Disk = r.size(e); s.Disk > 0 && s.Disk < 1<<20 {
			r.fail(e.valueAt(), "a spool of less than 1MiB can hold next to nothing", "write disk: 1GiB")
		}
	}
	if e, ok := m.get("overflow"); ok {
		s.Wait = r.word(e, []string{"shed", "wait"}) == "wait"
	}
	if e, ok := m.get("sync"); ok {
		s.SyncEach = r.word(e, []string{"each", "1s"}) == "each"
	}
}

func (r *planReader) readBatch(e entry, s *Spool) {
	m, ok := r.mapping(e.value, e.at, "batch", "{records: 20000, bytes: 4MiB, wait: 1s}", "records", "bytes", "wait")
	if !ok {
		return
	}
	if e, ok := m.get("records"); ok {
		s.Records = r.count(e, "records")
	}
	if e, ok := m.get("bytes"); ok {
		size := r.size(e)
		if s.Bytes = int(size); size > 16<<20 {
			r.fail(e.valueAt(), "a batch has at most 16MiB", "write bytes: 4MiB")
		}
	}
	if e, ok := m.get("wait"); ok {
		s.Delay = r.duration(e, 10*time.Millisecond, time.Minute, "1s")
	}
}

// duration reads a time within bounds.
func (r *planReader) duration(e entry, least, most time.Duration, example string) time.Duration {
	v, ok := r.text(e, "a time, such as "+example)
	if !ok {
		return least
	}
	d, err := parseTime(strings.ToLower(v.text))
	if err != nil || d < least || d > most {
		r.fail(e.valueAt(), fmt.Sprintf("%s cannot be %q", e.key, shorten(v.text)), fmt.Sprintf("write a time from %s to %s, such as %s", brief(least), brief(most), example))
	}
	return d
}

// parseTime reads a time such as 90s, 1h30m or 7d.
func parseTime(text string) (time.Duration, error) {
	days, isDays := strings.CutSuffix(text, "d")
	if !isDays {
		return time.ParseDuration(text)
	}
	n, err := strconv.ParseUint(days, 10, 16)
	return time.Duration(n) * 24 * time.Hour, err
}

// brief writes a time without the parts that are zero: 1m, not 1m0s.
func brief(d time.Duration) string {
	if day := 24 * time.Hour; d >= 2*day && d%day == 0 {
		return fmt.Sprintf("%dd", d/day)
	}
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}
