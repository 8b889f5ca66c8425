package plan

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/decode"
	"oakbarrel/core/disk"
	"oakbarrel/core/route"
)

// planReader reads the parts of a plan in the order in which they need each other.
type planReader struct {
	reader
	machine
	ownValues   map[string]string
	alone       bool // it is what a host adds to a plan that is served, and none has come yet
	conditions  map[string]*namedCondition
	intakes     []Intake
	outlets     []Outlet
	rules       []ruleSource
	service     Service
	hasService  bool
	reading     decode.Reading // of times and severities, for all intakes and rules
	readingText string         // tells readings apart
	floor       disk.Floor
	untils      []untilSource
	tends       []Tend
	followedAt  []followedSource
	whens       []whenSource
	setsAt      map[string]Position // where the keep of each outlet and tend stands
	namesAt     map[string]Position // where each intake, outlet and tend is named, and keys of the whole
}

// settleAlone finds out whether this is the file of a host whose plan is served: by
// itself it takes nothing in, and keeps nothing.
func (r *planReader) settleAlone(docs []document) {
	if len(docs) > 1 || docs[0].part != "" {
		return
	}
	for _, v := range valuesOf(docs[0].body) {
		key, _ := r.scalarOf(v.Key)
		if word, ok := r.scalarOf(v.Value); ok && strings.EqualFold(key.text, "plan") && strings.EqualFold(word.text, "served") {
			docs[0].part, r.alone, r.bounds = HostPart, true, anything
		}
	}
}

// readAll reads the parts of a plan as one.
func (r *planReader) readAll(docs []document) *Plan {
	r.putValues(docs, r.readValues(docs))
	if r.bounds != nil {
		r.checkSaid(docs)
	}
	return r.read(r.merge(docs))
}

func (r *planReader) read(body ast.Node) *Plan {
	top, _ := r.mapping(body, Position{1, 1}, "the plan", "oakbarrel: 1 and the rest of the plan", "oakbarrel", "parts", "before", "after", "plan", "labels", "values", "host", "zone", "levels", "times", "service", "disk", "memory", "metrics", "conditions", "intakes", "rules", "otherwise", "outlets", "tend")
	p := &Plan{Values: r.ownValues}
	r.version(top)
	if e, ok := top.get("host"); ok {
		p.Host = r.hostName(e)
	}
	if e, ok := top.get("plan"); ok {
		p.Served = r.word(e, []string{"own", "served"}) == "served"
	}
	if e, ok := top.get("labels"); ok {
		p.Labels = r.readOwnLabels(e)
	}
	if e, ok := top.get("zone"); ok {
		r.reading.Zone = r.zone(e)
	}
	r.readTables(top, &r.reading)
	for _, key := range []string{"zone", "levels", "times"} {
		if e, ok := top.get(key); ok {
			r.readingText += " " + e.value.String()
		}
	}
	r.namesAt = namesOf(&r.reader, top)
	r.floor, r.setsAt = r.bounds.leastFloor(), map[string]Position{}
	if e, ok := top.get("disk"); ok {
		r.readDisk(e)
	}
	if e, ok := top.get("memory"); ok {
		p.Memory = r.memory(e)
	}
	if e, ok := top.get("metrics"); ok {
		p.Metrics = r.readMetrics(e)
	}
	if e, ok := top.get("service"); ok {
		r.service, r.hasService = r.readService(e), true
	}
	if e, ok := top.get("intakes"); ok {
		r.readIntakes(e)
	}
	if e, ok := top.get("outlets"); ok {
		r.readOutlets(e)
		r.readUntils()
		r.checkFollowed()
	}
	if e, ok := top.get("tend"); ok {
		r.readTends(e)
	}
	if e, ok := top.get("conditions"); ok {
		r.readConditions(e)
	}
	r.checkCircles()
	r.readWhens()
	if e, ok := top.get("rules"); ok {
		r.readRules(e)
	}
	var otherwise route.Otherwise
	if r.alone {
		if !r.hasService {
			r.fail(Position{1, 1}, "the plan is served, and there is no service to serve it", "write service: {url: …, token_file: …}")
		}
	} else if e, ok := top.require("otherwise", "say what becomes of records that no rule sends: otherwise: {send: [OUTLET]}, or {drop: true}"); ok {
		otherwise = r.readOtherwise(e)
	}
	if r.findings.Refused() {
		return nil
	}
	var rules []route.Rule
	for _, rule := range r.rules {
		rules = append(rules, rule.Rule)
	}
	if r.here {
		r.checkDisks()
	}
	r.checkHeardTwice(r.intakes)
	p.Service, p.Intakes, p.Outlets, p.Tends = r.service, r.intakes, r.outlets, r.tends
	if r.bounds != nil {
		if r.checkBounds(p); r.findings.Refused() {
			return nil
		}
	}
	p.Table = route.NewTable(rules, otherwise, len(p.Outlets))
	r.warnOfRules(p.Table)
	return p
}

// namesOf returns where the parts of a plan are named, such as "outlet all", and its keys.
func namesOf(r *reader, top mapping) map[string]Position {
	at := map[string]Position{"": {1, 1}}
	for _, e := range top.entries {
		at[e.key] = e.at
		kind := map[string]string{"intakes": "intake ", "outlets": "outlet ", "tend": "tend "}[e.key]
		if kind == "" {
			continue
		}
		for _, v := range valuesOf(e.value) {
			if name, ok := r.scalarOf(v.Key); ok {
				at[kind+name.text] = positionOf(v.Key)
			}
		}
	}
	return at
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
