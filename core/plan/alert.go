package plan

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/alert"
	"oakbarrel/core/condition"
)

// alertBy is by what an alert may look at records, beside a field.
var alertBy = []string{"host", "agent", "app", "intake", "unit"}

// alertKeys are the keys of an alert.
var alertKeys = []string{"alert", "cask", "when", "by", "more", "fewer", "value", "silent", "new_shape", "share", "tell", "quiet", "zone", "note"}

const (
	leastSpan    = time.Minute // that an alert counts in
	mostSpan     = 7 * 24 * time.Hour
	usualSpan    = 10 * time.Minute
	mostNote     = 1000 // bytes
	mostTell     = 20   // receivers
	mostAlert    = 64 << 10
	alertExample = "alert: 1 in the first line"
)

// ParseAlert reads the text of an alert, YAML; it is nil where any finding is an error.
func ParseAlert(name, file string, source []byte) (*alert.Alert, Findings) {
	r := &planReader{reader: reader{source: newSource(string(source)), file: file}}
	if len(source) > mostAlert {
		r.fail(Position{1, 1}, fmt.Sprintf("an alert has at most %d KiB", mostAlert>>10), "write a shorter one")
		return nil, r.findings
	}
	if strings.TrimSpace(string(source)) == "" {
		r.fail(Position{1, 1}, "the alert is empty", "begin with alert: 1")
		return nil, r.findings
	}
	docs, problem := r.parseYAML()
	if problem != nil {
		problem.File = file
		return nil, Findings{*problem}
	}
	a := &alert.Alert{Name: name}
	if m, ok := r.mapping(docs[0].body, Position{1, 1}, "the alert", alertExample, alertKeys...); ok {
		r.readAlert(m, a)
	}
	r.findings.sort()
	if r.findings.Refused() {
		return nil, r.findings
	}
	return a, r.findings
}

func (r *planReader) readAlert(m mapping, a *alert.Alert) {
	if e, ok := m.require("alert", "write alert: 1 first, which is the version of what follows"); ok {
		if v, ok := r.text(e, "1"); ok && v.text != "1" {
			r.fail(e.valueAt(), fmt.Sprintf("alerts of version %q cannot be read", shorten(v.text)), "write alert: 1")
		}
	}
	if e, ok := m.get("cask"); ok {
		a.Cask = r.nameIn(e, "the name of a cask")
	}
	if e, ok := m.get("when"); ok {
		if a.When = r.alertCondition(e); a.When != nil && a.When.String() == "any" {
			a.When = nil
		}
	}
	r.readKind(m, a)
	if e, ok := m.get("by"); ok {
		a.By = r.alertByOf(e)
		if a.Kind == alert.NewShape {
			r.fail(e.at, "a shape is looked at by itself", "take by away")
		}
	}
	if e, ok := m.get("tell"); ok {
		for _, s := range r.texts(e, "a receiver", "tell: [duty]") {
			if !isName(s.text) {
				r.fail(positionOf(s.node), fmt.Sprintf("%q cannot be the name of a receiver", shorten(s.text)), "oakbarrel receiver list tells them")
			}
			a.Tell = append(a.Tell, s.text)
		}
		if len(a.Tell) > mostTell {
			r.fail(e.at, fmt.Sprintf("%d receivers are told", len(a.Tell)), fmt.Sprintf("name %d at most", mostTell))
		}
	}
	r.readQuiet(m, a)
	if e, ok := m.get("note"); ok {
		if s, ok := r.text(e, "a text"); ok {
			if a.Note = s.text; len(a.Note) > mostNote {
				r.fail(e.valueAt(), fmt.Sprintf("note has %d bytes", len(a.Note)), fmt.Sprintf("write %d at most", mostNote))
			}
		}
	}
}

// nameIn reads a name.
func (r *planReader) nameIn(e entry, what string) string {
	s, ok := r.text(e, what)
	if ok && !isName(s.text) {
		r.fail(e.valueAt(), fmt.Sprintf("%q cannot be %s", shorten(s.text), what), "a name has letters, digits and - _ . and at most 64 of them")
	}
	return s.text
}

// alertCondition reads a condition, which stands alone; nil where there is none.
func (r *planReader) alertCondition(e entry) *condition.Condition {
	s, ok := r.text(e, "a condition, such as severity at least error")
	if !ok {
		return nil
	}
	c, err := condition.Parse(s.text, nil)
	if err != nil {
		problem := err.(*condition.Error)
		r.fail(s.locate(problem.Offset), problem.What, mendCondition(s, problem))
		return nil
	}
	return c
}

// alertByOf reads by what an alert looks at records.
func (r *planReader) alertByOf(e entry) string {
	s, ok := r.text(e, "host, app, or field PATH")
	if !ok {
		return ""
	}
	word, path, _ := strings.Cut(s.text, " ")
	if strings.EqualFold(word, "field") && path != "" {
		if _, err := condition.ParsePath(path); err != nil {
			r.fail(e.valueAt(), err.Error(), "write by: field tank.id")
		}
		return "field " + path
	}
	return r.word(e, append(slices.Clone(alertBy), "field PATH"))
}

// readKind reads what the alert asks for: one of the kinds.
func (r *planReader) readKind(m mapping, a *alert.Alert) {
	var found []entry
	for _, kind := range alert.Kinds {
		if e, ok := m.get(string(kind)); ok {
			found = append(found, e)
		}
	}
	switch {
	case len(found) == 0 && !m.faulty:
		r.fail(m.at, "the alert does not say what it asks for", "write one of more: {than: 5, in: 10m}, fewer: {than: 5, in: 10m}, value: {field: tank.temperature, over: 28}, silent: {for: 30m}, new_shape: {}, share: {of: severity at least error, over: 5%, in: 10m}")
		return
	case len(found) == 0:
		return
	case len(found) > 1:
		r.fail(found[1].at, fmt.Sprintf("the alert asks for both %s and %s", found[0].key, found[1].key), "write two alerts")
		return
	}
	e := found[0]
	a.Kind, a.Span = alert.Kind(e.key), usualSpan
	switch a.Kind {
	case alert.More, alert.Fewer:
		if k, ok := r.mapping(e.value, e.at, e.key, "{than: 5, in: 10m}", "than", "in"); ok {
			r.readThan(k, a)
			r.readSpan(k, "in", true, a)
		}
	case alert.Value:
		if k, ok := r.mapping(e.value, e.at, e.key, "{field: tank.temperature, over: 28}", "field", "over", "under", "in"); ok {
			r.readValue(k, a)
			r.readSpan(k, "in", false, a)
		}
	case alert.Silent:
		if k, ok := r.mapping(e.value, e.at, e.key, "{for: 30m}", "for"); ok {
			r.readSpan(k, "for", true, a)
		}
	case alert.NewShape:
		r.mapping(e.value, e.at, e.key, "{}")
	case alert.Share:
		if k, ok := r.mapping(e.value, e.at, e.key, "{of: severity at least error, over: 5%, in: 10m}", "of", "over", "in", "least"); ok {
			r.readShare(k, a)
			r.readSpan(k, "in", true, a)
		}
	}
}

func (r *planReader) readThan(m mapping, a *alert.Alert) {
	e, ok := m.require("than", "write than: 5")
	if !ok {
		return
	}
	s, ok := r.text(e, "a number of records")
	if !ok {
		return
	}
	n, err := strconv.ParseInt(s.text, 10, 64)
	if least := int64(len(m.what) - len("more")); err != nil || n < least || n > 1e12 { // fewer than 0 never is
		r.fail(e.valueAt(), fmt.Sprintf("than cannot be %q", shorten(s.text)), fmt.Sprintf("write a whole number of records, from %d", least))
	}
	a.Than = n
}

func (r *planReader) readSpan(m mapping, key string, must bool, a *alert.Alert) {
	e, ok := m.get(key)
	if must {
		e, ok = m.require(key, "write "+key+": 10m")
	}
	if ok {
		a.Span = r.duration(e, leastSpan, mostSpan, "10m")
	}
}

func (r *planReader) readValue(m mapping, a *alert.Alert) {
	if e, ok := m.require("field", "write field: tank.temperature"); ok {
		if s, ok := r.text(e, "the path of a field"); ok {
			if a.Field = s.text; !isPath(s.text) {
				r.fail(e.valueAt(), fmt.Sprintf("%q is not the path of a field", shorten(s.text)), "write tank.temperature; a part that has dots or spaces stands in quotes")
			}
		}
	}
	over, isOver := m.get("over")
	under, isUnder := m.get("under")
	switch {
	case isOver && isUnder:
		r.fail(under.at, "value has both over and under", "write two alerts")
	case isOver:
		a.Bound = r.number(over)
	case isUnder:
		a.Bound, a.Under = r.number(under), true
	case !m.faulty:
		r.fail(m.at, "value has no bound", "write over: 28, or under: 4")
	}
}

func isPath(text string) bool {
	_, err := condition.ParsePath(text)
	return err == nil
}

func (r *planReader) number(e entry) float64 {
	s, ok := r.text(e, "a number")
	if !ok {
		return 0
	}
	v, err := strconv.ParseFloat(s.text, 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		r.fail(e.valueAt(), fmt.Sprintf("%s cannot be %q", e.key, shorten(s.text)), "write a number, such as 28 or -1.5")
	}
	return v
}

func (r *planReader) readShare(m mapping, a *alert.Alert) {
	if e, ok := m.require("of", "write of: severity at least error"); ok {
		a.Of = r.alertCondition(e)
	}
	if e, ok := m.require("over", "write over: 5%"); ok {
		if s, ok := r.text(e, "a share, such as 5%"); ok {
			percent, isPercent := strings.CutSuffix(s.text, "%")
			v, err := strconv.ParseFloat(strings.TrimSpace(percent), 64)
			if !isPercent || err != nil || !(v >= 0 && v < 100) {
				r.fail(e.valueAt(), fmt.Sprintf("over cannot be %q", shorten(s.text)), "write a share from 0% to below 100%, such as 5%")
			}
			a.Over = v / 100
		}
	}
	a.Least = 20
	if e, ok := m.get("least"); ok {
		a.Least = int64(r.count(e, "records"))
	}
}

// readQuiet reads when nobody is told.
func (r *planReader) readQuiet(m mapping, a *alert.Alert) {
	a.Zone = time.UTC
	if e, ok := m.get("zone"); ok {
		if s, ok := r.text(e, "a zone, such as Europe/Stockholm"); ok {
			zone, err := time.LoadLocation(s.text)
			if err != nil || s.text == "" || strings.EqualFold(s.text, "local") {
				r.fail(e.valueAt(), fmt.Sprintf("there is no zone %q", shorten(s.text)), "write one such as Europe/Stockholm or UTC")
			} else {
				a.Zone = zone
			}
		}
	}
	e, ok := m.get("quiet")
	if !ok {
		return
	}
	const example = `quiet: [{from: "22:00", to: "06:00"}, {days: [sat, sun]}]`
	items, _ := r.list(e, example)
	for _, item := range items {
		a.Quiet = append(a.Quiet, r.quiet(item, e.at, example))
	}
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

func (r *planReader) quiet(n ast.Node, at Position, example string) (q alert.Quiet) {
	m, ok := r.mapping(n, at, "quiet", example, "from", "to", "days")
	if !ok {
		return q
	}
	from, hasFrom := m.get("from")
	to, hasTo := m.get("to")
	if hasFrom != hasTo {
		r.fail(positionOf(n), "from and to belong together", `write {from: "22:00", to: "06:00"}`)
	}
	if hasFrom && hasTo {
		if q.From, q.To = r.clock(from), r.clock(to); q.From == q.To {
			r.fail(to.valueAt(), "the time ends when it begins", "write another end; without from and to the whole day is quiet")
		}
	}
	days, hasDays := m.get("days")
	if !hasDays {
		if !hasFrom && !m.faulty {
			r.fail(positionOf(n), "quiet does not say when", "write "+example)
		}
		return q
	}
	for _, s := range r.texts(days, "a day", "days: [sat, sun]") {
		day := slices.Index(weekdays, strings.ToLower(s.text[:min(3, len(s.text))]))
		if day < 0 || !strings.HasPrefix(strings.ToLower(time.Weekday(day).String()), strings.ToLower(s.text)) {
			r.fail(positionOf(s.node), fmt.Sprintf("%q is not a day", shorten(s.text)), "write mon, tue, wed, thu, fri, sat or sun")
			continue
		}
		q.Days = append(q.Days, time.Weekday(day))
	}
	return q
}

// clock reads a time of the day, in minutes.
func (r *planReader) clock(e entry) int {
	s, ok := r.text(e, `a time, such as "22:00"`)
	if !ok {
		return 0
	}
	t, err := time.Parse("15:04", s.text)
	if err != nil {
		r.fail(e.valueAt(), fmt.Sprintf("%s cannot be %q", e.key, shorten(s.text)), `write hours and minutes, such as "22:00"`)
		return 0
	}
	return t.Hour()*60 + t.Minute()
}
