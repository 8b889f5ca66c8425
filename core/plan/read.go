package plan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"

	"oakbarrel/core/condition"
	"oakbarrel/core/format"
	"oakbarrel/core/nearest"
	"oakbarrel/core/roll"
	"oakbarrel/core/route"
)

// planReader reads the parts of a plan in the order in which they need each other.
type planReader struct {
	reader
	conditions map[string]*namedCondition
	intakes    []Intake
	outlets    []Outlet
	rules      []ruleSource
}

// namedCondition is a condition under conditions, compiled when it is first asked for.
type namedCondition struct {
	entry
	compiled *condition.Condition
	reading  bool
}

// ruleSource is a rule and where it stands.
type ruleSource struct {
	route.Rule
	at, whenAt Position
}

func (r *planReader) read(body ast.Node) *Plan {
	top, _ := r.mapping(body, Position{1, 1}, "the plan", "oakbarrel: 1 and the rest of the plan", "oakbarrel", "host", "conditions", "intakes", "rules", "otherwise", "outlets")
	p := &Plan{}
	r.version(top)
	if e, ok := top.get("host"); ok {
		p.Host = r.hostName(e)
	}
	if e, ok := top.get("intakes"); ok {
		r.readIntakes(e)
	}
	if e, ok := top.get("outlets"); ok {
		r.readOutlets(e)
	}
	if e, ok := top.get("conditions"); ok {
		r.readConditions(e)
	}
	if e, ok := top.get("rules"); ok {
		r.readRules(e)
	}
	var otherwise route.Otherwise
	if e, ok := top.require("otherwise", "say what becomes of records that no rule sends: otherwise: {send: [OUTLET]}, or {drop: true}"); ok {
		otherwise = r.readOtherwise(e)
	}
	if r.findings.Refused() {
		return nil
	}
	var rules []route.Rule
	for _, rule := range r.rules {
		rules = append(rules, rule.Rule)
	}
	p.Intakes, p.Outlets = r.intakes, r.outlets
	p.Table = route.NewTable(rules, otherwise, len(p.Outlets))
	r.warnOfRules(p.Table)
	return p
}

func (r *planReader) version(top mapping) {
	e, ok := top.require("oakbarrel", "begin with oakbarrel: 1, the version of the plan's format")
	if !ok {
		return
	}
	if s, ok := r.text(e, "oakbarrel: 1"); ok && s.text != "1" {
		r.fail(e.valueAt(), fmt.Sprintf("there is no version %q of the plan's format", shorten(s.text)), "write oakbarrel: 1")
	}
}

func (r *planReader) hostName(e entry) string {
	s, ok := r.text(e, "the name of the host")
	if ok && (s.text == "" || len(s.text) > 255 || strings.ContainsFunc(s.text, func(c rune) bool { return c <= ' ' || c >= 0x7f })) {
		r.fail(e.valueAt(), fmt.Sprintf("host cannot be %q", shorten(s.text)), "a host's name has no spaces and only ASCII characters")
	}
	return s.text
}

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

// path reads an absolute path of a file.
func (r *planReader) path(e entry, example string) string {
	s, ok := r.text(e, "an absolute path, such as "+example)
	if !ok {
		return ""
	}
	switch {
	case strings.ContainsFunc(s.text, func(c rune) bool { return c < ' ' || c == 0x7f }):
		r.fail(e.valueAt(), "the path holds a control character", "write a path without one")
	case !filepath.IsAbs(s.text):
		r.fail(e.valueAt(), fmt.Sprintf("the path %q is not absolute", shorten(s.text)), "begin it with /, so that it does not depend on where the agent is started")
	case strings.HasSuffix(s.text, "/"):
		r.fail(e.valueAt(), fmt.Sprintf("the path %q is a folder", shorten(s.text)), "add the name of a file, such as "+filepath.Base(example))
	default:
		return filepath.Clean(s.text)
	}
	return ""
}

func (r *planReader) readOutlets(e entry) {
	paths := map[string]entry{}
	for _, named := range r.names(e.value, e.at, "outlets", "outlets: {NAME: {file: {…}}}") {
		what := "outlet " + named.key
		out := Outlet{Name: named.key, Kind: "file"}
		r.outlets = append(r.outlets, out) // known to rules, also where it is faulty
		m, ok := r.mapping(named.value, named.at, what, "{file: {path: …, keep: …}}", "file")
		if !ok {
			continue
		}
		kind, ok := m.get("file")
		if !ok {
			if !m.faulty {
				r.fail(named.at, what+" does not say what it is", "write file: {path: …, keep: …}")
			}
			continue
		}
		pathAt := r.readFile(kind, &out)
		r.outlets[len(r.outlets)-1] = out
		if first, twice := paths[out.File.Path]; twice && out.File.Path != "" {
			r.fail(pathAt, fmt.Sprintf("outlet %s writes to this path too", first.key), fmt.Sprintf("give each outlet a path of its own; the first is at line %d", first.at.Line))
		} else {
			paths[out.File.Path] = named
		}
	}
}

// readFile fills out and returns where its path stands.
func (r *planReader) readFile(e entry, out *Outlet) (pathAt Position) {
	m, ok := r.mapping(e.value, e.at, "file", "{path: /var/log/lantern/all.log, keep: {pieces: 20}}", "path", "format", "roll", "keep", "compress", "mode")
	if !ok {
		return e.at
	}
	set := roll.Settings{Mode: 0o640, Compress: roll.NoCompression}
	if e, ok := m.require("path", "write path: /var/log/lantern/all.log"); ok {
		set.Path, pathAt = r.path(e, "/var/log/lantern/all.log"), e.valueAt()
		if i := strings.IndexAny(set.Path, "{}"); i >= 0 {
			r.fail(e.valueAt(), fmt.Sprintf("a path may not hold %q", set.Path[i]), "write the path of one file")
		}
	}
	out.Format, _ = format.Parse(format.Default)
	if e, ok := m.get("format"); ok {
		out.Format = r.readFormat(e)
	}
	if e, ok := m.get("roll"); ok {
		r.readRoll(e, &set)
	}
	if e, ok := m.require("keep", "say how long pieces stay: keep: {pieces: 20}, {days: 30}, {total: 2GiB}, or keep: forever"); ok {
		set.Keep = r.readKeep(e)
	}
	if e, ok := m.get("compress"); ok {
		set.Compress = roll.Compression(r.word(e, roll.Compressions))
	}
	if e, ok := m.get("mode"); ok {
		set.Mode = r.mode(e)
	}
	out.File = set
	return pathAt
}

func (r *planReader) readFormat(e entry) *format.Format {
	s, ok := r.text(e, "json, rfc5424, rfc3164, or a template such as '{time} {host} {app}: {text}'")
	if !ok {
		return nil
	}
	f, err := format.Parse(s.text)
	if problem, ok := err.(*format.Error); ok {
		r.fail(s.locate(problem.Offset), problem.What, problem.Mend)
	}
	return f
}

func (r *planReader) readRoll(e entry, set *roll.Settings) {
	m, ok := r.mapping(e.value, e.at, "roll", "roll: {size: 10MiB, every: day}", "size", "every")
	if !ok {
		return
	}
	if len(m.entries) == 0 && !m.faulty {
		r.fail(e.at, "roll says neither at which size nor how often", "write size: 10MiB, every: day, or both")
	}
	if e, ok := m.get("size"); ok {
		set.Size = r.size(e)
	}
	if e, ok := m.get("every"); ok {
		set.Every = r.every(e)
	}
}

func (r *planReader) readKeep(e entry) (keep roll.Keep) {
	if s, ok := r.scalarOf(e.value); ok {
		if !strings.EqualFold(s.text, "forever") {
			r.fail(e.valueAt(), fmt.Sprintf("keep cannot be %q", shorten(s.text)), "write keep: {pieces: 20}, {days: 30}, {total: 2GiB}, or keep: forever")
		}
		return keep
	}
	m, ok := r.mapping(e.value, e.at, "keep", "{pieces: 20, days: 30, total: 2GiB}, or forever", "pieces", "days", "total")
	if !ok {
		return keep
	}
	if len(m.entries) == 0 && !m.faulty {
		r.fail(e.at, "keep has no limit", "write pieces, days or total, or keep: forever")
	}
	if e, ok := m.get("pieces"); ok {
		keep.Pieces = r.count(e, "pieces")
	}
	if e, ok := m.get("days"); ok {
		keep.Days = r.count(e, "days")
	}
	if e, ok := m.get("total"); ok {
		keep.Total = r.size(e)
	}
	return keep
}

func (r *planReader) readConditions(e entry) {
	r.conditions = map[string]*namedCondition{}
	named := r.names(e.value, e.at, "conditions", "conditions: {NAME: severity at least error}")
	for _, n := range named {
		r.conditions[n.key] = &namedCondition{entry: n}
	}
	for _, n := range named {
		r.Condition(n.key)
	}
}

// Condition returns a condition by its name, for those that refer to it.
func (r *planReader) Condition(name string) (*condition.Condition, *condition.Error) {
	c, ok := r.conditions[name]
	if !ok {
		var known []string
		for name := range r.conditions {
			known = append(known, name)
		}
		slices.Sort(known)
		mend := "write one under conditions"
		if word, near := nearest.Word(name, known); near {
			mend = fmt.Sprintf("did you mean %s?", word)
		} else if len(known) > 0 {
			mend = "known are " + strings.Join(known, ", ")
		}
		return nil, &condition.Error{What: fmt.Sprintf("there is no condition %q", name), Mend: mend}
	}
	if c.reading {
		return nil, &condition.Error{What: fmt.Sprintf("condition %s refers to itself", name), Mend: "write out what is meant in one of them"}
	}
	if c.compiled == nil {
		c.reading = true
		c.compiled, _ = r.condition(c.entry)
		c.reading = false
	}
	return c.compiled, nil
}

// condition compiles the condition that is the value of e.
func (r *planReader) condition(e entry) (*condition.Condition, bool) {
	s, ok := r.text(e, "a condition, such as severity at least warning")
	if !ok {
		return always, false
	}
	c, err := condition.Parse(s.text, r)
	if err == nil {
		for _, in := range c.Intakes() {
			r.checkIntakeName(in, s)
		}
		return c, true
	}
	problem := err.(*condition.Error)
	r.fail(s.locate(problem.Offset), problem.What, mendCondition(s, problem))
	return always, false
}

// mendCondition tells how to mend a condition; where YAML took a part of it
// away, that is what is to be mended.
func mendCondition(s scalar, problem *condition.Error) string {
	quoted := func(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }
	if !s.plain() {
		if s.token.Type != token.LiteralType && s.token.Type != token.FoldedType && problem.Offset == 0 && !strings.Contains(s.text, `"`) {
			return fmt.Sprintf("YAML takes one pair of quotes away: to look for this text write %s", quoted(`"`+s.text+`"`))
		}
		return problem.Mend
	}
	cut := problem.Offset >= len(strings.TrimRight(s.text, " ")) || strings.Count(s.text, "(") > strings.Count(s.text, ")") || strings.Count(s.text, `"`)%2 == 1
	if !cut {
		return problem.Mend
	}
	behind := s.behind()
	switch trimmed := strings.TrimLeft(behind, " \t"); {
	case strings.HasPrefix(trimmed, "#") && trimmed != behind:
		return fmt.Sprintf("in YAML ' #' begins a comment, which cut the condition short: put the whole condition in quotes: %s", quoted(s.text+behind))
	case strings.HasPrefix(trimmed, ","):
		return "between { and } a comma ends a value in YAML, which cut the condition short: put the whole condition in quotes: '…'"
	}
	return problem.Mend
}

func (r *planReader) checkIntakeName(in condition.IntakeName, s scalar) {
	var known []string
	for _, i := range r.intakes {
		known = append(known, i.Name)
	}
	if slices.Contains(known, in.Name) {
		return
	}
	mend := "the plan has no intakes yet"
	if word, near := nearest.Word(in.Name, known); near {
		mend = fmt.Sprintf("did you mean %s?", word)
	} else if len(known) > 0 {
		mend = "the intakes are " + strings.Join(known, ", ")
	}
	r.warn(s.locate(in.Offset), fmt.Sprintf("no intake is named %q, so this test never holds", in.Name), mend)
}

func (r *planReader) readRules(e entry) {
	items, _ := r.list(e, "a list of rules, or [] for none")
	for i, item := range items {
		r.rules = append(r.rules, r.readRule(item, i))
	}
}

func (r *planReader) readRule(n ast.Node, i int) (rule ruleSource) {
	rule.at = positionOf(n)
	rule.Name = fmt.Sprintf("rule %d", i+1)
	what := "the rule"
	rule.When = always
	if r.cutByComma(n) {
		return rule
	}
	m, ok := r.mapping(n, rule.at, what, "{when: CONDITION, send: [OUTLET]}", "name", "when", "send", "drop", "then")
	if !ok {
		return rule
	}
	if e, ok := m.get("name"); ok {
		if s, ok := r.text(e, "a name for the rule"); ok {
			rule.Name = s.text
		}
	}
	if e, ok := m.require("when", "write when: CONDITION, or when: any"); ok {
		rule.whenAt = e.valueAt()
		rule.When, _ = r.condition(e)
	}
	rule.Send, rule.Drop = r.action(m)
	if e, ok := m.get("then"); ok {
		rule.Done = r.word(e, []string{"done"}) != ""
	}
	return rule
}

// cutByComma reports a rule between { and } whose condition was cut at a comma:
// "{when: severity in (error, alert), …}" leaves a key "alert)" without a value.
func (r *planReader) cutByComma(n ast.Node) bool {
	m, ok := n.(*ast.MappingNode)
	if !ok || !m.IsFlowStyle {
		return false
	}
	for _, v := range m.Values {
		key, isScalar := r.scalarOf(v.Key)
		if _, null := v.Value.(*ast.NullNode); !null || !isScalar || !strings.Contains(key.text, ")") {
			continue
		}
		r.fail(positionOf(v.Key), "between { and } a comma ends a value in YAML, which cut the condition short", "put the whole condition in quotes: '…'")
		return true
	}
	return false
}

// action reads send or drop, one of which must be there.
func (r *planReader) action(m mapping) (send []int, drop bool) {
	sendEntry, hasSend := m.get("send")
	dropEntry, hasDrop := m.get("drop")
	if hasSend {
		send = r.outletNumbers(sendEntry)
	}
	if hasDrop {
		drop = r.yes(dropEntry)
	}
	switch {
	case hasSend && hasDrop:
		second := dropEntry
		if sendEntry.at.Line > dropEntry.at.Line || sendEntry.at.Line == dropEntry.at.Line && sendEntry.at.Column > dropEntry.at.Column {
			second = sendEntry
		}
		r.fail(second.at, m.what+" has both send and drop", "take one away")
	case !hasSend && !hasDrop && !slices.Contains(m.meant, "send") && !slices.Contains(m.meant, "drop"):
		r.fail(m.at, m.what+" has neither send nor drop", "write send: [OUTLET], or drop: true")
	}
	return send, drop
}

func (r *planReader) outletNumbers(e entry) (numbers []int) {
	items, ok := r.list(e, "a list of outlets: send: [OUTLET]")
	if ok && len(items) == 0 {
		r.fail(e.valueAt(), "send names no outlet", "write send: [OUTLET], or drop: true")
	}
	for _, item := range items {
		s, ok := r.scalarOf(item)
		if !ok {
			r.wrongType(item, e.at, "an outlet", "a name", "the name of an outlet")
			continue
		}
		number := slices.IndexFunc(r.outlets, func(o Outlet) bool { return o.Name == s.text })
		if number < 0 {
			r.unknownOutlet(positionOf(item), s.text)
			continue
		}
		numbers = append(numbers, number)
	}
	return numbers
}

func (r *planReader) unknownOutlet(at Position, name string) {
	var known []string
	for _, o := range r.outlets {
		known = append(known, o.Name)
	}
	mend := "write it under outlets"
	if word, near := nearest.Word(name, known); near {
		mend = fmt.Sprintf("did you mean %s?", word)
	} else if len(known) > 0 {
		mend = "the outlets are " + strings.Join(known, ", ")
	}
	r.fail(at, fmt.Sprintf("there is no outlet %q", shorten(name)), mend)
}

func (r *planReader) readOtherwise(e entry) route.Otherwise {
	m, ok := r.mapping(e.value, e.at, "otherwise", "otherwise: {send: [OUTLET]}, or {drop: true}", "send", "drop")
	if !ok {
		return route.Otherwise{}
	}
	send, drop := r.action(m)
	return route.Otherwise{Send: send, Drop: drop}
}

// warnOfRules tells of rules that do nothing.
func (r *planReader) warnOfRules(t *route.Table) {
	for _, rule := range r.rules {
		if rule.When.Contradicts() {
			r.warn(rule.whenAt, "this condition can never hold", "look which of its parts exclude each other")
		}
	}
	for _, i := range t.Unreachable() {
		r.warn(r.rules[i].at, "nothing reaches this rule, because rules before it end the walk for all that it matches", "move it up, or take it away")
	}
}
