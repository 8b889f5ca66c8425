package plan

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
