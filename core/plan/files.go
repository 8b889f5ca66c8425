package plan

import (
	"fmt"
	"path/filepath"
	"regexp"
	"time"

	"oakbarrel/core/condition"
	"oakbarrel/core/container"
	"oakbarrel/core/decode"
	"oakbarrel/core/format"
	"oakbarrel/core/lines"
	"oakbarrel/core/paths"
	"oakbarrel/core/record"
	"oakbarrel/core/tail"
)

// Files says which files an intake follows: those of programs, or of containers.
type Files struct {
	Follow tail.Settings
	Engine string // "docker", "podman" or "cri" of containers, else ""
	Socket string // of the engine, "" for where it usually is
	Root   string // the folder of the containers' logs
	When   *condition.Condition
	// Text is the settings as the plan has them: intakes that have it alike are alike.
	Text string
}

// The limits of followed files, where the plan does not say other ones.
const (
	defaultOpen = 1000
	defaultWait = 5 * time.Second
	mostRegexp  = 2000 // bytes
)

// lineKeys are the keys that say how lines become records.
var lineKeys = []string{"join", "decode", "levels", "times", "charset", "largest", "default", "zone", "wait"}

func (r *planReader) readFiles(e entry, in *Intake) {
	f := &Files{Text: e.value.String()}
	in.Files = f
	f.Text += r.readingText
	m, ok := r.mapping(e.value, e.at, "files", `{paths: ["/srv/pumps/*.log"]}`, append([]string{"paths", "exclude", "from", "age", "poll", "open"}, lineKeys...)...)
	if !ok {
		return
	}
	s := &f.Follow
	s.Open, s.LastWait = defaultOpen, defaultWait
	if e, ok := m.require("paths", `write paths: ["/srv/pumps/*.log"]`); ok {
		for _, p := range r.texts(e, "a path", `paths: ["/srv/pumps/*.log"]`) {
			s.Paths = append(s.Paths, r.followed(p)...)
		}
	}
	if e, ok := m.get("exclude"); ok {
		for _, p := range r.texts(e, "a path", `exclude: ["*.debug.log"]`) {
			r.checkPattern(p)
			s.Exclude = append(s.Exclude, p.text)
		}
	}
	if e, ok := m.get("from"); ok {
		s.FromEnd = r.word(e, []string{"beginning", "end"}) == "end"
	}
	if e, ok := m.get("age"); ok {
		s.Age = r.duration(e, time.Minute, 10*365*24*time.Hour, "7d")
	}
	if e, ok := m.get("poll"); ok {
		s.Poll = r.bool(e)
	}
	if e, ok := m.get("open"); ok {
		s.Open = r.count(e, "open")
	}
	r.readLines(m, &s.Lines)
	s.LastWait = r.waitOf(m)
}

func (r *planReader) readContainers(e entry, in *Intake, opened map[string]Position) {
	f := &Files{Text: e.value.String() + r.readingText}
	in.Files = f
	m, ok := r.mapping(e.value, e.at, "containers", "{engine: docker}", append([]string{"engine", "root", "socket", "when"}, lineKeys...)...)
	if !ok {
		return
	}
	if e, ok := m.require("engine", "write engine: docker, podman, or cri for the runtime of a cluster"); ok {
		f.Engine = r.word(e, []string{container.Docker, container.Podman, container.CRI})
	}
	f.Root = container.Root(f.Engine)
	if e, ok := m.get("root"); ok {
		f.Root = r.path(e, f.Root)
	}
	if f.Engine != "" {
		r.openOnce(entry{"containers", e.at, e.value}, f.Root, opened)
	}
	if e, ok := m.get("socket"); ok {
		if f.Socket = r.path(e, "/run/containerd/containerd.sock"); f.Engine == container.Docker {
			r.fail(e.at, "the files of docker tell all that there is to know", "take socket away")
		}
	}
	if e, ok := m.get("when"); ok {
		r.whens = append(r.whens, whenSource{e, f})
	}
	s := &f.Follow
	s.Paths, s.Open, s.Wrapping = container.Patterns(f.Engine, f.Root), defaultOpen, tail.Docker
	if f.Engine != container.Docker {
		s.Wrapping = tail.CRI
	}
	r.readLines(m, &s.Lines)
	if _, ok := m.get("join"); !ok {
		s.Lines.Join = lines.Join{Indented: true, Wait: time.Second}
	}
	s.Lines.Streams, s.Lines.Stdout, s.Lines.Stderr = true, record.Info, record.Error
	if _, ok := m.get("default"); ok {
		s.Lines.Stdout = s.Lines.Default.Severity()
	}
	s.LastWait = r.waitOf(m)
}

// whenSource is the condition that chooses containers, which is read when the
// named conditions are known.
type whenSource struct {
	entry
	files *Files
}

func (r *planReader) readWhens() {
	for _, w := range r.whens {
		w.files.When, _ = r.condition(w.entry)
	}
}

func (r *planReader) waitOf(m mapping) time.Duration {
	if e, ok := m.get("wait"); ok {
		return r.duration(e, 100*time.Millisecond, 24*time.Hour, "5s")
	}
	return defaultWait
}

// followed reads one pattern of files that are followed.
func (r *planReader) followed(s scalar) []string {
	at := positionOf(s.node)
	if !r.isAbs(s.text) {
		r.fail(at, fmt.Sprintf("the path %q is not absolute", shorten(s.text)), paths.HowAbsolute)
		return nil
	}
	if r.wrongPath(at, s.text) || !r.checkPattern(s) {
		return nil
	}
	pattern := filepath.Clean(s.text)
	r.followedAt = append(r.followedAt, followedSource{pattern, at})
	return []string{pattern}
}

func (r *planReader) checkPattern(s scalar) bool {
	switch paths.Check(s.text) {
	case paths.ErrBracket:
		r.fail(positionOf(s.node), fmt.Sprintf("the pattern %q cannot be read", shorten(s.text)), "close its [ with ], or write \\[ for the sign itself")
	case paths.ErrDeep:
		r.fail(positionOf(s.node), fmt.Sprintf("in %q, ** does not stand alone between slashes", shorten(s.text)), "write /**/ for any number of folders, and * within a name")
	default:
		return true
	}
	return false
}

// followedSource is a pattern of files that are followed, and where it stands.
type followedSource struct {
	pattern string
	at      Position
}

// checkFollowed reports patterns that find what an outlet writes: it would feed on itself.
func (r *planReader) checkFollowed() {
	for _, f := range r.followedAt {
		for _, o := range r.outlets {
			if o.Kind != FileOutlet || o.File.Path == "" {
				continue
			}
			example := o.File.Path
			if o.Path != nil {
				some := record.Record{Host: []byte("host"), App: []byte("app"), Received: record.StampOf(time.Now())}
				example = string(o.Path.Append(nil, &some, time.UTC))
			}
			if paths.Match(f.pattern, example) {
				r.fail(f.at, fmt.Sprintf("the pattern finds the file of outlet %s, so that the agent would read what it writes", o.Name), "write a pattern that does not, or have the outlet write into another folder")
				break
			}
		}
	}
}

// readLines reads how lines become records.
func (r *planReader) readLines(m mapping, s *lines.Settings) {
	s.Largest, s.Default, s.Reading = defaultLargest, record.DefaultPriority, r.reading
	r.readTables(m, &s.Reading)
	if e, ok := m.get("join"); ok {
		s.Join = r.readJoin(e)
	}
	if e, ok := m.get("decode"); ok {
		s.Decode = r.readDecode(e)
	}
	if decode.OfEvents(s.Decode) {
		s.ForEvents()
	}
	if e, ok := m.get("charset"); ok {
		s.Latin1 = r.word(e, []string{"utf-8", "latin-1"}) == "latin-1"
	}
	if e, ok := m.get("largest"); ok {
		s.Largest = r.largest(e)
	}
	reading := Syslog{Default: s.Default, Reading: s.Reading}
	r.readReading(m, &reading)
	s.Default, s.Reading = reading.Default, reading.Reading
}

func (r *planReader) readJoin(e entry) (j lines.Join) {
	j.Wait = time.Second
	if _, ok := r.scalarOf(e.value); ok {
		j.Indented = r.word(e, []string{"indented", "none"}) == "indented"
		return j
	}
	m, ok := r.mapping(e.value, e.at, "join", `{starts: '^\d{4}-'}, or join: indented`, "starts", "indented", "wait")
	if !ok {
		return j
	}
	starts, hasStarts := m.get("starts")
	indented, hasIndented := m.get("indented")
	switch {
	case hasStarts && hasIndented:
		r.fail(indented.at, "join has both starts and indented", "take one away")
	case hasStarts:
		j.Starts = r.regexp(starts, `starts: '^\d{4}-'`)
	case hasIndented:
		j.Indented = r.yes(indented)
	case !m.faulty:
		r.fail(e.at, "join says nothing", `write join: {starts: '^\d{4}-'}, or join: indented`)
	}
	if e, ok := m.get("wait"); ok {
		j.Wait = r.duration(e, 10*time.Millisecond, time.Hour, "1s")
	}
	return j
}

func (r *planReader) regexp(e entry, example string) *regexp.Regexp {
	s, ok := r.text(e, example)
	if !ok {
		return nil
	}
	re, err := regexp.Compile(s.text)
	switch {
	case err != nil:
		r.fail(e.valueAt(), fmt.Sprintf("the regular expression cannot be read: %v", err), "the syntax is RE2; put it between single quotes, so that YAML leaves backslashes alone")
	case len(s.text) > mostRegexp:
		r.fail(e.valueAt(), "the regular expression is too long", fmt.Sprintf("at most %d bytes are allowed", mostRegexp))
	}
	return re
}

// readLabel reads what the source of an intake cannot say of itself.
func (r *planReader) readLabel(e entry, in *Intake) {
	var s *lines.Settings
	switch {
	case in.Files != nil:
		in.Files.Text += e.value.String()
		s = &in.Files.Follow.Lines
	case in.Pipes != nil:
		in.Pipes.Text += e.value.String()
		s = &in.Pipes.Lines
	default:
		r.fail(e.at, fmt.Sprintf("label belongs to intakes of files, containers and pipes, and this is %s", in.Kind), "a rule can label its records: {when: intake is NAME, label: {…}}")
		return
	}
	var labels []record.Label
	for _, l := range r.names(e.value, e.at, "label", "label: {facility: local3, app: pumpd}") {
		v, ok := r.text(l, "a value, such as pumps")
		if !ok {
			continue
		}
		if value := r.labelValue(l, v, "severity", "procid", "msgid", "text", "facility"); value != nil {
			s.Values = append(s.Values, format.Named{Name: l.key, Value: value})
			continue
		}
		switch l.key {
		case "facility":
			s.Default = record.MakePriority(r.facility(l, v), s.Default.Severity())
		case "severity":
			if severity := r.severity(l); severity != nil {
				s.Default = record.MakePriority(s.Default.Facility(), *severity)
				s.Stdout, s.Stderr = *severity, *severity
			}
		case "app":
			s.App = []byte(v.text)
		case "host":
			s.Host = []byte(v.text)
		case "procid", "msgid", "text":
			r.fail(l.at, fmt.Sprintf("a label cannot be %s", l.key), "facility, severity, host and app are known, other names become fields")
		default:
			labels = append(labels, r.fieldLabel(l, v))
		}
	}
	s.Fields, s.Labelled = lines.NewFields("label@32473", labels...), len(labels) > 0
}
