package format

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"oakbarrel/core/record"
)

// Path is the path of a file with places for properties, so that one outlet
// writes many files. It may be used by several goroutines at a time.
type Path struct {
	text  string
	parts []pathPart
}

// pathPart is a place and the text before it; the last part has no place.
type pathPart struct{ text, place string }

// pathPlaces are the properties that a path may have.
var pathPlaces = []string{"date", "host", "app", "unit", "facility", "severity"}

// Other stands for values for which there is no room any more.
const Other = "other"

// longestPlace bounds what a record adds to a path, in bytes.
const longestPlace = 64

// ParsePath reads a path such as /var/log/lantern/{host}/{app}.log. It returns
// nil where the path has no places. The error, if any, is an *[Error].
func ParsePath(s string) (*Path, error) {
	p := &Path{text: s}
	rest := s
	for {
		text, after, found := strings.Cut(rest, "{")
		if at := strings.IndexByte(text, '}'); at >= 0 {
			return nil, &Error{len(s) - len(rest) + at, "this } closes nothing", "take it away, or write {app}"}
		}
		name, behind, closed := strings.Cut(after, "}")
		if !found {
			p.parts = append(p.parts, pathPart{text, ""})
			break
		}
		at := len(s) - len(after)
		if !closed {
			return nil, &Error{at - 1, "this { is not closed", "write {app}, for example"}
		}
		place := strings.ToLower(name)
		if !slices.Contains(pathPlaces, place) {
			return nil, &Error{at, fmt.Sprintf("a path has no place %q", name), "known are " + strings.Join(pathPlaces, ", ")}
		}
		p.parts = append(p.parts, pathPart{text, place})
		rest = behind
	}
	if len(p.parts) == 1 {
		return nil, nil
	}
	return p, nil
}

// String returns the path as the plan has it.
func (p *Path) String() string { return p.text }

// HasDate tells whether there is a place for the date.
func (p *Path) HasDate() bool {
	return slices.ContainsFunc(p.parts, func(part pathPart) bool { return part.place == "date" })
}

// OnlyDate tells whether the date is the only place.
func (p *Path) OnlyDate() bool {
	return !slices.ContainsFunc(p.parts, func(part pathPart) bool { return part.place != "date" && part.place != "" })
}

// Append writes the path for a record. The date is that of its arrival, on the
// clock of zone. Nothing that a record says leads out of its place: it has no
// separators, no dot first, no control characters and at most 64 bytes.
func (p *Path) Append(dst []byte, r *record.Record, zone *time.Location) []byte {
	for _, part := range p.parts {
		dst = append(dst, part.text...)
		switch part.place {
		case "date":
			dst = time.Unix(r.Received.Sec, 0).In(zone).AppendFormat(dst, time.DateOnly)
		case "host":
			dst = appendPlace(dst, r.Host)
		case "app":
			dst = appendPlace(dst, r.App)
		case "unit":
			dst = appendPlace(dst, unitOf(r))
		case "facility":
			dst = append(dst, r.Facility().String()...)
		case "severity":
			dst = append(dst, r.Severity().String()...)
		}
	}
	return dst
}

// AppendOther writes the path of the file that the rest goes to.
func (p *Path) AppendOther(dst []byte, r *record.Record, zone *time.Location) []byte {
	rest := record.Record{Host: []byte(Other), App: []byte(Other), Priority: r.Priority, Received: r.Received}
	rest.SetData([]byte(`{"journal@32473":{"unit":"` + Other + `"}}`))
	return p.Append(dst, &rest, zone)
}

// appendPlace writes a value so that it is one harmless part of a path.
func appendPlace(dst, value []byte) []byte {
	if len(value) == 0 {
		return append(dst, missing)
	}
	start := len(dst)
	for i := 0; i < len(value); {
		c, size := utf8.DecodeRune(value[i:])
		if len(dst)-start+size > longestPlace {
			break
		}
		if c == '/' || c == '\\' || c == utf8.RuneError || c == '.' && i == 0 || c == '{' || c == '}' || record.Dangerous(c) {
			dst = append(dst, '_')
		} else {
			dst = append(dst, value[i:i+size]...)
		}
		i += size
	}
	return dst
}

// Prefix returns the folder that no record leads out of.
func (p *Path) Prefix() string { return filepath.Dir(p.parts[0].text + "x") }

// Pattern returns a pattern for [filepath.Glob] that finds all files of the path.
func (p *Path) Pattern() string {
	var b strings.Builder
	for i, part := range p.parts {
		b.WriteString(strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(part.text))
		if i < len(p.parts)-1 {
			b.WriteByte('*')
		}
	}
	return b.String()
}

// Matches tells whether the path can become that one.
func (p *Path) Matches(path string) bool {
	var b strings.Builder
	b.WriteByte('^')
	for i, part := range p.parts {
		b.WriteString(regexp.QuoteMeta(part.text))
		if i < len(p.parts)-1 {
			b.WriteString("[^/]+")
		}
	}
	b.WriteByte('$')
	return regexp.MustCompile(b.String()).MatchString(path)
}
