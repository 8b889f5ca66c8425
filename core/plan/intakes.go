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
			switch kind {
			case SyslogIntake:
				in.Syslog = r.readSyslog(e, opened)
			case OTLPIntake:
				r.readOTLP(e, &in, opened)
			case FilesIntake:
				r.readFiles(e, &in)
			case ContainersIntake:
				r.readContainers(e, &in, opened)
			case PipesIntake:
				r.readPipes(e, &in, opened)
			default:
				r.mapping(e.value, e.at, string(kind), string(kind)+": {}")
				r.openOnce(e, string(kind), opened)
			}
		}
		if in.Kind == "" && !m.faulty {
			r.fail(named.at, what+" does not say what it is", `write syslog: {…}, files: {paths: [/srv/pumps/*.log]}, containers: {engine: docker}, otlp: {http: "127.0.0.1:4318"}, kernel: {}, or own: {}`)
		}
		if e, ok := m.get("label"); ok && in.Kind != "" {
			r.readLabel(e, &in)
		}
		r.intakes = append(r.intakes, in)
	}
}

func (r *planReader) readOTLP(e entry, in *Intake, opened map[string]Position) {
	m, ok := r.mapping(e.value, e.at, "otlp", `{http: "127.0.0.1:4318"}`, "http", "allow", "default", "decode", "levels", "times")
	if !ok {
		return
	}
	in.Syslog = Syslog{Default: record.DefaultPriority, Reading: r.reading}
	if e, ok := m.require("http", `write http: "127.0.0.1:4318"`); ok {
		in.HTTP = r.address(e)
		r.openOnce(entry{"tcp", e.at, e.value}, in.HTTP, opened)
	}
	if e, ok := m.get("allow"); ok {
		in.Syslog.Allow = r.networks(e)
	}
	r.readBodies(m, &in.Syslog)
}
