package plan

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/fingerprint"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// The limits of a syslog intake, where the plan does not say other ones.
const (
	defaultLargest     = 64 << 10
	defaultConnections = 10_000
	mostLargest        = 1 << 20
	leastLargest       = 1 << 10
)

func (r *planReader) readSyslog(e entry, opened map[string]Position) (s Syslog) {
	m, ok := r.mapping(e.value, e.at, "syslog", `{socket: /dev/log}, {udp: ":514"} or {tcp: ":514"}`,
		"socket", "stream", "udp", "tcp", "tls", "certificate", "key_file", "clients", "allow", "limit", "largest", "connections", "idle", "frames", "default", "zone", "host", "decode", "levels", "times")
	if !ok {
		return s
	}
	s = Syslog{Largest: defaultLargest, Connections: defaultConnections, Default: record.DefaultPriority, Reading: r.reading}
	opens := false
	for _, address := range []struct {
		key  string
		read func(entry) string
		to   *string
	}{{"socket", r.socketOrAuto, &s.Socket}, {"stream", r.socketPath, &s.Stream}, {"udp", r.address, &s.UDP}, {"tcp", r.address, &s.TCP}, {"tls", r.address, &s.TLS}} {
		if inner, ok := m.get(address.key); ok {
			opens = true
			r.checkLacking(inner)
			*address.to = address.read(inner)
			r.openOnce(inner, *address.to, opened)
		}
	}
	if !opens && !m.faulty {
		r.fail(e.at, "this intake opens nothing", `write at least one of socket, stream, udp, tcp and tls, such as udp: ":514"`)
	}
	r.readTLS(m, &s)
	r.readLimits(m, &s)
	r.readBodies(m, &s)
	return s
}

// readBodies reads how messages are read that do not say all, and what their texts hold.
func (r *planReader) readBodies(m mapping, s *Syslog) {
	r.readTables(m, &s.Reading)
	r.readReading(m, s)
	if e, ok := m.get("decode"); ok {
		s.Decode = r.readDecode(e)
	}
}

// openOnce reports an address that an intake opens already.
func (r *planReader) openOnce(e entry, address string, opened map[string]Position) {
	if address == "" || strings.HasSuffix(address, ":0") {
		return
	}
	network := e.key
	if network == "tls" {
		network = "tcp"
	}
	what := network + " " + address
	if first, twice := opened[what]; twice {
		r.fail(e.valueAt(), fmt.Sprintf("%s is opened a second time", strings.TrimSuffix(e.key+" "+address, " "+e.key)), fmt.Sprintf("one intake can open it; the first is at %s", r.place(first)))
	}
	opened[what] = e.valueAt()
}

// maxSocketPath is what the kernel allows, in bytes.
const maxSocketPath = 107

func (r *planReader) socketPath(e entry) string {
	path := r.path(e, "/dev/log")
	if len(path) > maxSocketPath {
		r.fail(e.valueAt(), fmt.Sprintf("the path of the socket is %d bytes long", len(path)), fmt.Sprintf("the system allows %d; choose a shorter path", maxSocketPath))
		return ""
	}
	return path
}

func (r *planReader) socketOrAuto(e entry) string {
	if s, ok := r.scalarOf(e.value); ok && strings.EqualFold(s.text, AutoSocket) {
		return AutoSocket
	}
	return r.socketPath(e)
}

// readTLS reads what belongs to tls, all of which must be there with it.
func (r *planReader) readTLS(m mapping, s *Syslog) {
	if _, ok := m.get("tls"); !ok {
		for _, key := range []string{"certificate", "key_file", "clients"} {
			if e, ok := m.get(key); ok {
				r.fail(e.at, key+" belongs to tls, which this intake does not open", `write tls: ":6514" beside it, or take it away`)
			}
		}
		return
	}
	r.readCertificate(m, s)
}

// readCertificate reads what TLS needs: the intake's own certificate, and who may connect.
func (r *planReader) readCertificate(m mapping, s *Syslog) {
	if e, ok := m.require("certificate", "write certificate: host.pem, the file of the intake's own certificate"); ok {
		s.Certificate = r.besidePlan(e, "host.pem")
	}
	if e, ok := m.require("key_file", "write key_file: host.key, the file of the certificate's key"); ok {
		s.KeyFile = r.secret(e, r.besidePlan(e, "host.key"))
	}
	if e, ok := m.require("clients", "say who may connect: clients: ca.pem, clients: [sha256:…], or clients: anyone"); ok {
		s.Clients = r.readClients(e)
	}
}

func (r *planReader) readClients(e entry) (c Clients) {
	list, ok := e.value.(*ast.SequenceNode)
	if !ok {
		if s, ok := r.scalarOf(e.value); ok && strings.EqualFold(s.text, "anyone") {
			return Clients{Anyone: true}
		}
		return Clients{CAFile: r.besidePlan(e, "ca.pem")}
	}
	for _, item := range list.Values {
		s, ok := r.scalarOf(item)
		f, err := fingerprint.Parse(s.text)
		if !ok || err != nil {
			r.fail(positionOf(item), "a client is named by the SHA-256 of its certificate, 64 hexadecimal digits", "write clients: [sha256:3F:0A:…], or clients: ca.pem for all that an authority has signed")
			continue
		}
		c.Fingerprints = append(c.Fingerprints, f)
	}
	if len(list.Values) == 0 {
		r.fail(e.valueAt(), "clients names nobody", "write clients: ca.pem, clients: [sha256:…], or clients: anyone")
	}
	return c
}

// besidePlan reads the path of a file; one that is not absolute is looked for beside the plan.
func (r *planReader) besidePlan(e entry, example string) string {
	s, ok := r.text(e, "a path, such as "+example)
	if !ok || s.text == "" {
		return ""
	}
	if filepath.IsAbs(s.text) {
		return filepath.Clean(s.text)
	}
	return filepath.Join(filepath.Dir(r.file), s.text)
}

// readLimits reads how much is taken, and of whom.
func (r *planReader) readLimits(m mapping, s *Syslog) {
	if e, ok := m.get("allow"); ok {
		s.Allow = r.networks(e)
		if s.UDP == "" && s.TCP == "" && s.TLS == "" {
			r.fail(e.at, "allow names networks, and this intake listens to none", "take it away, or open udp, tcp or tls")
		}
	}
	if e, ok := m.get("limit"); ok {
		s.Limit, _ = r.limit(e)
	}
	if e, ok := m.get("largest"); ok {
		s.Largest = r.largest(e)
	}
	if e, ok := m.get("connections"); ok {
		s.Connections = r.count(e, "connections")
	}
	if e, ok := m.get("frames"); ok {
		if s.Frames = wire.Frames(r.word(e, []string{"auto", "lf", "nul", "counted"})); s.Frames == "auto" {
			s.Frames = wire.AutoFrames
		}
		if s.TCP == "" && s.TLS == "" && s.Stream == "" {
			r.fail(e.at, "frames says what ends a message of a stream, and this intake has none", "take it away, or open tcp, tls or stream")
		}
	}
	if e, ok := m.get("idle"); ok {
		s.Idle = r.duration(e, time.Second, 24*time.Hour, "10m")
	}
}

func (r *planReader) largest(e entry) int {
	size := r.size(e)
	if size > mostLargest || size > 0 && size < leastLargest {
		r.fail(e.valueAt(), "the largest message has from 1KiB to 1MiB", "write largest: 64KiB")
	}
	return int(size)
}

// readReading reads how messages are read that do not say all.
func (r *planReader) readReading(m mapping, s *Syslog) {
	if e, ok := m.get("default"); ok {
		if v, ok := r.text(e, "a priority, such as user.notice"); ok {
			p, ok := record.ParsePriority(v.text)
			if !ok {
				r.fail(e.valueAt(), fmt.Sprintf("default cannot be %q", shorten(v.text)), "write a facility and a severity, such as default: local3.notice")
			}
			s.Default = p
		}
	}
	if e, ok := m.get("zone"); ok {
		s.Reading.Zone = r.zone(e)
	}
	if e, ok := m.get("host"); ok {
		s.PeerHost = r.word(e, []string{"claimed", "peer"}) == "peer"
	}
}

func (r *planReader) zone(e entry) *time.Location {
	v, ok := r.text(e, "a time zone, such as Europe/Lisbon or UTC")
	if !ok {
		return nil
	}
	zone, err := time.LoadLocation(v.text)
	if err != nil || v.text == "" || v.text == "Local" {
		r.fail(e.valueAt(), fmt.Sprintf("there is no time zone %q", shorten(v.text)), "write the name of a region and a city, such as Europe/Lisbon, or UTC")
		return nil
	}
	return zone
}

// networks reads a list of networks; an address alone is a network of one.
func (r *planReader) networks(e entry) (all []netip.Prefix) {
	items, ok := r.list(e, `a list of networks: ["10.20.0.0/16"]`)
	if ok && len(items) == 0 {
		r.fail(e.valueAt(), "allow names no network, so that nothing could come in", `write allow: ["10.20.0.0/16"], or take it away`)
	}
	for _, item := range items {
		s, _ := r.scalarOf(item)
		network, err := netip.ParsePrefix(s.text)
		if addr, addrErr := netip.ParseAddr(s.text); addrErr == nil {
			network, err = netip.PrefixFrom(addr, addr.BitLen()), nil
		}
		if err != nil {
			r.fail(positionOf(item), fmt.Sprintf("%q is not a network", shorten(s.text)), "write an address and the length of its prefix, such as 10.20.0.0/16 or fd00::/8")
			continue
		}
		all = append(all, network.Masked())
	}
	return all
}
