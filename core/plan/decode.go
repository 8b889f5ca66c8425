package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/condition"
	"oakbarrel/core/decode"
	"oakbarrel/core/record"
)

// exampleDecode is shown where decode cannot be read.
const exampleDecode = `decode: json, decode: [json, access], or decode: {pattern: '^(?P<time>\S+) (?P<text>.*)$'}`

// readDecode reads the forms that a text is tried as: one, or several in turn.
func (r *planReader) readDecode(e entry) (steps []decode.Step) {
	list, several := e.value.(*ast.SequenceNode)
	if !several {
		return r.readStep(e)
	}
	if len(list.Values) == 0 {
		r.fail(e.valueAt(), "decode names no form", "write "+exampleDecode)
	}
	for _, item := range list.Values {
		steps = append(steps, r.readStep(entry{e.key, positionOf(item), item})...)
	}
	return steps
}

// readStep reads one form; none is returned where it cannot be.
func (r *planReader) readStep(e entry) []decode.Step {
	if _, ok := r.scalarOf(e.value); ok {
		switch form := decode.Form(r.word(e, formWords)); form {
		case "":
		case decode.Pattern:
			r.fail(e.valueAt(), "a pattern is needed", `write decode: {pattern: '^(?P<time>\S+) (?P<severity>\w+) (?P<text>.*)$'}`)
		case decode.CSV:
			r.fail(e.valueAt(), "csv needs the names of its columns", "write decode: {csv: {columns: [time, severity, tank, text]}}")
		default:
			return []decode.Step{{Form: form}}
		}
		return nil
	}
	m, ok := r.mapping(e.value, e.at, "decode", exampleDecode, "from", "json", "keyvalue", "access", "csv", "pattern", "syslog", "events")
	if !ok {
		return nil
	}
	forms := slices.DeleteFunc(slices.Clone(m.entries), func(e entry) bool { return e.key == "from" })
	switch {
	case len(forms) > 1:
		r.fail(forms[1].at, "decode names more than one form", "choose one, or write a list of them, which are tried in turn: decode: [json, keyvalue]")
	case len(forms) == 0 && !m.faulty:
		r.fail(e.at, "decode names no form", "write decode: json")
	}
	if len(forms) == 0 {
		return nil
	}
	s := r.readForm(forms[0])
	if e, ok := m.get("from"); ok {
		s.From = r.readFrom(e)
	}
	return []decode.Step{s}
}

var formWords = []string{"json", "keyvalue", "access", "csv", "pattern", "syslog", "events"}

func (r *planReader) readForm(form entry) (s decode.Step) {
	s.Form = decode.Form(form.key)
	switch s.Form {
	case decode.JSON, decode.KeyValue:
		r.readNames(form, &s)
	case decode.Syslog, decode.Access, decode.Events:
		if m, ok := r.mapping(form.value, form.at, form.key, form.key+": {}", "from"); ok {
			if e, ok := m.get("from"); ok {
				s.From = r.readFrom(e)
			}
		}
	case decode.CSV:
		r.readColumns(form, &s)
	case decode.Pattern:
		s.Pattern = r.regexp(form, `pattern: '^(?P<time>\S+) (?P<text>.*)$'`)
		if s.Pattern != nil && !slices.ContainsFunc(s.Pattern.SubexpNames(), func(n string) bool { return n != "" }) {
			r.fail(form.valueAt(), "the pattern names nothing", "name its groups, such as (?P<text>.*); "+strings.Join(decode.Properties, ", ")+" set properties, other names become fields")
		}
	}
	return s
}

// readFrom reads what is decoded: the text, or a field.
func (r *planReader) readFrom(e entry) condition.Path {
	s, ok := r.text(e, "text, or field PATH")
	if !ok || strings.EqualFold(s.text, "text") {
		return nil
	}
	path, isField := strings.CutPrefix(s.text, "field ")
	if !isField {
		r.fail(e.valueAt(), fmt.Sprintf("from cannot be %q", shorten(s.text)), "write from: text, or from: field request")
		return nil
	}
	p, err := condition.ParsePath(path)
	if err != nil {
		r.fail(e.valueAt(), fmt.Sprintf("the field cannot be read: %v", err), "write a path, such as from: field request")
	}
	return p
}

// readNames reads under which names time, severity and text are looked for.
func (r *planReader) readNames(form entry, s *decode.Step) {
	m, ok := r.mapping(form.value, form.at, form.key, form.key+": {time: ts, severity: lvl, text: msg}", "time", "severity", "text", "from")
	if !ok {
		return
	}
	for _, name := range []struct {
		key string
		to  *[]string
	}{{"time", &s.Time}, {"severity", &s.Severity}, {"text", &s.Text}} {
		e, ok := m.get(name.key)
		if !ok {
			continue
		}
		if s, one := r.scalarOf(e.value); one {
			*name.to = []string{s.text}
			continue
		}
		for _, s := range r.texts(e, "a name", name.key+": [ts, time]") {
			*name.to = append(*name.to, s.text)
		}
	}
	if e, ok := m.get("from"); ok {
		s.From = r.readFrom(e)
	}
}

// readColumns reads the columns of csv.
func (r *planReader) readColumns(form entry, s *decode.Step) {
	const example = "csv: {columns: [time, severity, tank, text]}"
	s.Separator = ','
	m, ok := r.mapping(form.value, form.at, "csv", example, "columns", "separator", "from")
	if !ok {
		return
	}
	if e, ok := m.require("columns", "write "+example+"; a column that is left out is named _"); ok {
		for _, column := range r.texts(e, "a column", "columns: [time, severity, tank, text]") {
			name := column.text
			if name == "_" {
				name = ""
			} else if slices.Contains(s.Columns, name) {
				r.fail(positionOf(column.node), fmt.Sprintf("the column %q stands there twice", shorten(name)), "give each its own name, or _ to leave it out")
			}
			s.Columns = append(s.Columns, name)
		}
	}
	if e, ok := m.get("separator"); ok {
		if v, ok := r.text(e, "a character, such as ';'"); ok {
			if text := strings.ReplaceAll(v.text, `\t`, "\t"); len(text) == 1 && text != `"` {
				s.Separator = text[0]
			} else {
				r.fail(e.valueAt(), fmt.Sprintf("the separator cannot be %q", shorten(v.text)), "write one ASCII character that is no quote, such as ';', or '\\t'")
			}
		}
	}
	if e, ok := m.get("from"); ok {
		s.From = r.readFrom(e)
	}
}

// readTables reads the levels and times that are known beside the usual ones.
func (r *planReader) readTables(m mapping, to *decode.Reading) {
	if e, ok := m.get("levels"); ok {
		to.Levels = maps.Clone(to.Levels)
		if to.Levels == nil {
			to.Levels = map[string]record.Severity{}
		}
		for _, l := range r.names(e.value, e.at, "levels", "levels: {CHATTY: debug}") {
			if s := r.severity(l); s != nil {
				to.Levels[strings.ToLower(l.key)] = *s
			}
		}
	}
	if e, ok := m.get("times"); ok {
		var own []decode.Layout
		for _, s := range r.texts(e, "a form of times", "times: ['DD.MM.YYYY hh:mm:ss']") {
			l, err := decode.ParseLayout(s.text)
			if err != nil {
				r.fail(positionOf(s.node), fmt.Sprintf("the time %q cannot be read: %v", shorten(s.text), err), "write YYYY, MM or MON, DD, hh, mm, ss, AM and zzz where they stand, such as 'DD.MM.YYYY hh:mm:ss'")
				continue
			}
			own = append(own, l)
		}
		to.Times = append(own, to.Times...)
	}
}
