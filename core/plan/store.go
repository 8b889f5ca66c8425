package plan

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"oakbarrel/core/fingerprint"
)

func (r *planReader) readService(e entry) (s Service) {
	m, ok := r.mapping(e.value, e.at, "service", `{url: "https://logs.lantern.example:8440", token_file: /etc/oakbarrel/token}`, "url", "token_file", "ca_file", "fingerprint")
	if !ok {
		return s
	}
	if e, ok := m.require("url", `write url: "https://HOST:8440"`); ok {
		if v, ok := r.text(e, `an address, such as "https://logs.lantern.example:8440"`); ok {
			u, err := url.Parse(v.text)
			if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
				r.fail(e.valueAt(), fmt.Sprintf("%q is not the address of a service", shorten(v.text)), `write "https://HOST:8440"`)
			}
			s.URL = v.text
			if u != nil && u.User != nil {
				r.warn(e.valueAt(), "the address holds a secret in plain sight", "take it out; the token stands in token_file")
			}
		}
	}
	if e, ok := m.require("token_file", "write token_file: /etc/oakbarrel/token, a file that holds a token for writing"); ok {
		s.TokenFile = r.path(e, "/etc/oakbarrel/token")
	}
	if e, ok := m.get("ca_file"); ok {
		s.CAFile = r.path(e, "/etc/oakbarrel/ca.pem")
	}
	if e, ok := m.get("fingerprint"); ok {
		s.Fingerprint = r.fingerprint(e, s.URL)
	}
	return s
}

// fingerprint reads the SHA-256 of a certificate.
func (r *planReader) fingerprint(e entry, address string) string {
	v, ok := r.text(e, "the SHA-256 of the service's certificate")
	if !ok {
		return ""
	}
	if _, err := fingerprint.Parse(v.text); err != nil {
		r.fail(e.valueAt(), err.Error(), "copy it from the service's log, where it stands since the start: sha256:3F:0A:…")
	} else if strings.HasPrefix(address, "http:") {
		r.fail(e.at, "a service that is reached by http has no certificate", "write an address that begins with https, or take the fingerprint out")
	}
	return v.text
}

func (r *planReader) readStore(outlet mapping, e entry, out *Outlet) {
	out.Kind = "store"
	out.Store = Store{Service: r.service, Disk: 1 << 30, Floor: r.floor, Records: 20_000, Bytes: 4 << 20, Delay: time.Second}
	if !r.hasService {
		r.fail(e.at, "a store needs a service, and the plan names none", `write at the top: service: {url: "https://HOST:8440", token_file: /etc/oakbarrel/token}`)
	}
	m, ok := r.mapping(e.value, e.at, "store", "{cask: NAME}", "cask")
	if ok {
		if e, ok := m.require("cask", "write the name of a collection in the store: cask: gateway"); ok {
			if v, ok := r.text(e, "the name of a cask"); ok {
				out.Store.Cask = v.text
				if !isName(v.text) {
					r.fail(e.valueAt(), fmt.Sprintf("%q cannot be a cask", shorten(v.text)), "a name has letters, digits and - _ . and at most 64 of them")
				}
			}
		}
	}
	if e, ok := outlet.get("spool"); ok {
		r.readSpool(e, &out.Store)
	}
	if e, ok := outlet.get("batch"); ok {
		r.readBatch(e, &out.Store)
	}
}

func (r *planReader) readSpool(e entry, s *Store) {
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

func (r *planReader) readBatch(e entry, s *Store) {
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
	d, err := time.ParseDuration(strings.ToLower(v.text))
	if err != nil || d < least || d > most {
		r.fail(e.valueAt(), fmt.Sprintf("%s cannot be %q", e.key, shorten(v.text)), fmt.Sprintf("write a time from %s to %s, such as %s", brief(least), brief(most), example))
	}
	return d
}

// brief writes a time without the parts that are zero: 1m, not 1m0s.
func brief(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}
