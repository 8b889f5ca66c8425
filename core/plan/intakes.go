package plan

import (
	"fmt"

	"oakbarrel/core/record"
)

func (r *planReader) readIntakes(e entry) {
	opened := map[string]Position{}
	for _, named := range r.names(e.value, e.at, "intakes", "intakes: {NAME: {syslog: {udp: \":514\"}}}") {
		what := "intake " + named.key
		m, ok := r.mapping(named.value, named.at, what, "{syslog: {…}}", append(keysOf(intakeKinds), "keep_raw", "label")...)
		if !ok {
			continue
		}
		in := Intake{Name: named.key}
		if raw, ok := m.get("keep_raw"); ok {
			in.KeepRaw = r.bool(raw)
		}
		for _, kind := range intakeKinds {
			e, ok := m.get(string(kind))
			if !ok {
				continue
			}
			if in.Kind != "" {
				r.fail(e.at, fmt.Sprintf("%s is both %s and %s", what, in.Kind, kind), "write two intakes")
				continue
			}
			in.Kind = kind
			r.checkLacking(e)
			switch kind {
			case SyslogIntake:
				in.Syslog = r.readSyslog(e, opened)
			case OTLPIntake:
				r.readOTLP(e, &in, opened)
			case FilesIntake:
				r.readFiles(e, &in)
			case ContainersIntake:
				r.readContainers(e, &in, opened)
			case JournalIntake:
				r.readJournal(e, &in)
			case EventsIntake:
				r.readEvents(e, &in)
			case PipesIntake:
				r.readPipes(e, &in, opened)
			default:
				r.mapping(e.value, e.at, string(kind), string(kind)+": {}")
				r.openOnce(e, string(kind), opened)
			}
		}
		if in.Kind == "" && !m.faulty {
			r.fail(named.at, what+" does not say what it is", `write syslog: {…}, files: {paths: [/srv/pumps/*.log]}, containers: {engine: docker}, otlp: {http: "127.0.0.1:4318"}, kernel: {}, journal: {}, events: {channels: [System]}, or own: {}`)
		}
		if e, ok := m.get("label"); ok && in.Kind != "" {
			r.readLabel(e, &in)
		}
		r.intakes = append(r.intakes, in)
	}
}

func (r *planReader) readOTLP(e entry, in *Intake, opened map[string]Position) {
	m, ok := r.mapping(e.value, e.at, "otlp", `{http: "127.0.0.1:4318"}`, "http", "grpc", "certificate", "key_file", "clients", "token_file", "allow", "default", "decode", "levels", "times")
	if !ok {
		return
	}
	in.Syslog = Syslog{Default: record.DefaultPriority, Reading: r.reading}
	for key, to := range map[string]*string{"http": &in.HTTP, "grpc": &in.GRPC} {
		if e, ok := m.get(key); ok {
			*to = r.address(e)
			r.openOnce(entry{"tcp", e.at, e.value}, *to, opened)
		}
	}
	if in.HTTP == "" && in.GRPC == "" && !m.faulty {
		r.fail(e.at, "this intake opens nothing", `write http: "127.0.0.1:4318", grpc: "127.0.0.1:4317", or both`)
	}
	if _, ok := m.get("certificate"); ok {
		r.readCertificate(m, &in.Syslog)
	} else {
		for _, key := range []string{"key_file", "clients"} {
			if e, ok := m.get(key); ok {
				r.fail(e.at, key+" belongs to a certificate, which this intake does not have", "write certificate: host.pem beside it, or take it away")
			}
		}
	}
	if e, ok := m.get("token_file"); ok {
		in.Syslog.TokenFile = r.secret(e, r.path(e, "/etc/oakbarrel/otlp.token"))
	}
	if e, ok := m.get("allow"); ok {
		in.Syslog.Allow = r.networks(e)
	}
	r.readBodies(m, &in.Syslog)
}
