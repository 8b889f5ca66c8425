package plan

import (
	"fmt"
	"strings"
)

func (r *planReader) readIntakes(e entry) {
	opened := map[string]Position{}
	for _, named := range r.names(e.value, e.at, "intakes", "intakes: {NAME: {syslog: {udp: \":514\"}}}") {
		what := "intake " + named.key
		m, ok := r.mapping(named.value, named.at, what, "{syslog: {…}}", "syslog", "keep_raw")
		if !ok {
			continue
		}
		in := Intake{Name: named.key, Kind: "syslog"}
		if raw, ok := m.get("keep_raw"); ok {
			in.KeepRaw = r.bool(raw)
		}
		if kind, ok := m.get("syslog"); ok {
			in.Syslog = r.readSyslog(kind, opened)
		} else if !m.faulty {
			r.fail(named.at, what+" does not say what it is", `write syslog: {…}`)
		}
		r.intakes = append(r.intakes, in)
	}
}

func (r *planReader) readSyslog(e entry, opened map[string]Position) (s Syslog) {
	m, ok := r.mapping(e.value, e.at, "syslog", `{socket: /dev/log}, {udp: ":514"} or {tcp: ":514"}`, "socket", "udp", "tcp")
	if !ok {
		return s
	}
	if len(m.entries) == 0 && !m.faulty {
		r.fail(e.at, "this intake opens nothing", `write at least one of socket, udp and tcp, such as udp: ":514"`)
	}
	for _, inner := range m.entries {
		var address string
		switch inner.key {
		case "socket":
			address = r.socketPath(inner)
			s.Socket = address
		case "udp":
			address = r.address(inner)
			s.UDP = address
		case "tcp":
			address = r.address(inner)
			s.TCP = address
		}
		what := inner.key + " " + address
		if address == "" || strings.HasSuffix(address, ":0") {
			continue
		}
		if first, twice := opened[what]; twice {
			r.fail(inner.valueAt(), fmt.Sprintf("%s is opened a second time", what), fmt.Sprintf("one intake can open it; the first is at line %d", first.Line))
		}
		opened[what] = inner.valueAt()
	}
	return s
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
