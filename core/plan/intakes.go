package plan

import "fmt"

func (r *planReader) readIntakes(e entry) {
	opened := map[string]Position{}
	for _, named := range r.names(e.value, e.at, "intakes", "intakes: {NAME: {syslog: {udp: \":514\"}}}") {
		what := "intake " + named.key
		m, ok := r.mapping(named.value, named.at, what, "{syslog: {…}}", "syslog", "kernel", "own", "keep_raw")
		if !ok {
			continue
		}
		in := Intake{Name: named.key}
		if raw, ok := m.get("keep_raw"); ok {
			in.KeepRaw = r.bool(raw)
		}
		for _, kind := range []string{"syslog", "kernel", "own"} {
			e, ok := m.get(kind)
			if !ok {
				continue
			}
			if in.Kind != "" {
				r.fail(e.at, fmt.Sprintf("%s is both %s and %s", what, in.Kind, kind), "write two intakes")
				continue
			}
			in.Kind = kind
			switch kind {
			case "syslog":
				in.Syslog = r.readSyslog(e, opened)
			default:
				r.mapping(e.value, e.at, kind, kind+": {}")
				r.openOnce(e, kind, opened)
			}
		}
		if in.Kind == "" && !m.faulty {
			r.fail(named.at, what+" does not say what it is", `write syslog: {…}, kernel: {}, or own: {}`)
		}
		r.intakes = append(r.intakes, in)
	}
}
