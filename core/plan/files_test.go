package plan

import (
	"strings"
	"testing"
)

// intakesWith is the plan with other intakes.
func intakesWith(settings string) string {
	start := strings.Index(lantern, "intakes:\n")
	end := strings.Index(lantern, "rules:\n")
	return lantern[:start] + "intakes:\n  pumps: " + settings + "\n" + lantern[end:]
}

func TestMistakesInWhatIsFollowed(t *testing.T) {
	for _, c := range []struct{ intake, finding string }{
		{"{files: {‸pathes: [/srv/*.log]}}", `files has no key "pathes"; did you mean paths?`},
		{"{‸files: {from: end}}", `files has no paths; write paths: ["/srv/pumps/*.log"]`},
		{"{files: {paths: [‸srv/a.log]}}", `the path "srv/a.log" is not absolute`},
		{"{files: {paths: [‸'/srv/[ab.log']}}", `the pattern "/srv/[ab.log" cannot be read; close its [`},
		{"{files: {paths: [‸'/srv/**.log']}}", `in "/srv/**.log", ** does not stand alone`},
		{"{files: {paths: [‸'/var/log/**/*.log']}}", `the pattern finds the file of outlet everything`},
		{"{files: {paths: [/srv/*.log], exclude: [‸'x**']}}", `in "x**", ** does not stand alone`},
		{"{files: {paths: [/srv/*.log], from: ‸start}}", `from cannot be "start"; write one of beginning, end`},
		{"{files: {paths: [/srv/*.log], age: ‸1s}}", `age cannot be "1s"`},
		{"{files: {paths: [/srv/*.log], age: ‸old}}", `age cannot be "old"`},
		{"{files: {paths: [/srv/*.log], poll: ‸often}}", `poll is true or false, not "often"`},
		{"{files: {paths: [/srv/*.log], open: ‸0}}", `open cannot be "0"`},
		{"{files: {paths: [/srv/*.log], wait: ‸2d}}", `wait cannot be "2d"`},
		{"{files: {paths: [/srv/*.log], charset: ‸latin-2}}", `charset cannot be "latin-2"; did you mean latin-1?`},
		{"{files: {paths: [/srv/*.log], join: ‸indent}}", `join cannot be "indent"; did you mean indented?`},
		{"{files: {paths: [/srv/*.log], join: {starts: 'x', ‸indented: true}}}", `join has both starts and indented`},
		{"{files: {paths: [/srv/*.log], join: {starts: ‸'('}}}", `the regular expression cannot be read: error parsing regexp: missing closing )`},
		{"{files: {paths: [/srv/*.log], ‸join: {}}}", `join says nothing`},
		{"{files: {paths: [/srv/*.log], join: {starts: x, wait: ‸2h}}}", `wait cannot be "2h"`},
		{"{files: {paths: [/srv/*.log], decode: ‸jsn}}", `decode cannot be "jsn"; did you mean json?`},
		{"{files: {paths: [/srv/*.log], decode: ‸pattern}}", `a pattern is needed`},
		{"{files: {paths: [/srv/*.log], decode: {pattern: ‸'^(.*)$'}}}", `the pattern names nothing; name its groups`},
		{"{files: {paths: [/srv/*.log], decode: {json: {}, ‸syslog: {}}}}", `decode names more than one form`},
		{"{files: {paths: [/srv/*.log], decode: {json: {‸tme: x}}}}", `json has no key "tme"; did you mean time?`},
		{"{files: {paths: [/srv/*.log]}, label: {facility: ‸local8}}", `facility cannot be "local8"; did you mean local0?`},
		{"{syslog: {udp: ':0'}, ‸label: {app: x}}", `label belongs to intakes of files, containers and pipes, and this is syslog`},
		{"{containers: {engine: ‸dockr}}", `engine cannot be "dockr"; did you mean docker?`},
		{"{‸containers: {}}", `containers has no engine`},
		{"{containers: {engine: docker, root: ‸lib/docker}}", `the path "lib/docker" is not absolute`},
		{"{containers: {engine: docker, when: '‸nme is x'}}", `'nme' is not a property of a record`},
		{"{‸pipes: {}}", `pipes has no paths`},
		{"{pipes: {paths: [‸run/app.log]}}", `the path "run/app.log" is not absolute`},
		{"{pipes: {paths: [/run/app.log], mode: ‸0999}}", `mode cannot be "0999"`},
	} {
		mistake(t, c.intake, intakesWith(c.intake), c.finding)
	}
}

// mistake looks whether a plan is refused with a finding, at the place that ‸ marks.
func mistake(t *testing.T, what, broken, finding string) {
	t.Helper()
	p, findings := Parse("plan.yaml", []byte(strings.Replace(broken, "‸", "", 1)))
	if p != nil || len(findings) == 0 {
		t.Errorf("%s: accepted", what)
		return
	}
	f := findings[0]
	if !strings.HasPrefix(f.What+"; "+f.Mend, finding) || f.Mend == "" {
		t.Errorf("%s:\n got %s; %s\nwant %s", what, f.What, f.Mend, finding)
	}
	if want := newSource(broken).position(strings.Index(broken, "‸")); f.Position != want {
		t.Errorf("%s: reported at %v, want %v: %s", what, f.Position, want, f.What)
	}
}
