package plan

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const ground = `oakbarrel: 1
values: {folder: /var/log/lantern}
conditions: {urgent: severity at least error}
intakes:
  local: {own: {}}
rules:
  - {name: worst, when: condition urgent, send: [everything]}
outlets:
  everything:
    file: {path: '@{folder}/all.log', keep: {pieces: 3}}
otherwise: {send: [everything]}
`

const gate = `oakbarrel: 1
parts: [ground, web]
values: {folder: /srv/lantern}
`

const web = `intakes:
  wire:
    syslog: {udp: "127.0.0.1:@{port}"}
rules:
  - {name: chatter, when: 'app is "door-badge"', drop: true}
`

// assembled puts the parts of these tests together, and what a host adds.
func assembled(t *testing.T, plan, host string, parts map[string]string) (*Plan, Findings) {
	t.Helper()
	text, findings := Assemble("gate", "gate.yaml", []byte(plan), func(part string) ([]byte, error) {
		of, ok := parts[part]
		if !ok {
			return nil, errors.New("nobody has written it")
		}
		return []byte(of), nil
	})
	if findings.Refused() {
		return nil, findings
	}
	if host != "" {
		text = append(text, Join([]Part{{HostPart, []byte(host)}})...)
	}
	return Parse("gate.yaml", text)
}

func TestPartsMakeOnePlan(t *testing.T) {
	p, findings := assembled(t, gate, `values: {port: "0"}`, map[string]string{"ground": ground, "web": web})
	if p == nil {
		t.Fatal(findings)
	}
	if len(p.Intakes) != 2 || p.Intakes[1].Syslog.UDP != "127.0.0.1:0" {
		t.Errorf("the intakes are %+v", p.Intakes)
	}
	if got := p.Outlets[0].File.Path; got != "/srv/lantern/all.log" {
		t.Errorf("the plan's own value is not that of its part: %s", got)
	}
	if names := p.Table.Names(); !slices.Equal(names[:2], []string{"worst", "chatter"}) {
		t.Errorf("the rules are %v", names)
	}
}

func TestRulesFollowInTheOrderOfParts(t *testing.T) {
	for _, c := range []struct{ first, second, want string }{
		{"", "", "worst chatter"},
		{"after: web\n", "", "chatter worst"},
		{"", "before: [ground]\n", "chatter worst"},
		{"after: nobody\n", "", "worst chatter"},
	} {
		p, findings := assembled(t, gate, `values: {port: "0"}`, map[string]string{"ground": c.first + ground, "web": c.second + web})
		if p == nil {
			t.Fatal(findings)
		}
		if got := strings.Join(p.Table.Names()[:2], " "); got != c.want {
			t.Errorf("%q, %q: the rules are %s, want %s", c.first, c.second, got, c.want)
		}
	}
}

// A finding tells part and line.
func TestMistakesInParts(t *testing.T) {
	const host = `values: {port: "0"}`
	for _, c := range []struct{ plan, ground, web, host, want string }{
		{gate, ground, web, "", `web.yaml:3:19: there is no value for @{port}; give the host one, or the plan a default: values: {port: …}`},
		{gate, ground, web, "values: {prot: 1}", `web.yaml:3:19: there is no value for @{port}; did you mean @{prot}?`},
		{gate, ground, "intakes:\n  local: {own: {}}\n", host, `web.yaml:2:3: the name local stands here a second time; choose another name; the first is at line 5 of ground.yaml`},
		{gate, ground, web + "otherwise: {drop: true}\n", host, `web.yaml:6:1: the key otherwise stands here a second time; take one away; the first is at line 11 of ground.yaml`},
		{gate, ground, web + "nonsense: 1\n", host, `web.yaml:6:1: the plan has no key "nonsense"`},
		{gate, ground, "a: [1\n", host, `web.yaml:1:4: this is not YAML`},
		{gate, ground, web + "---\nb: 1\n", host, `web.yaml:7:1: a second document begins here; a plan is one document; take away the ---`},
		{gate, ground, web + "--- # part x\nb: 1\n", host, `web.yaml:1:1: this is assembled from parts already; give the parts themselves`},
		{gate, ground, "parts: [ground]\n", host, `web.yaml:1:1: a part has no parts of its own; name them in the plan`},
		{gate, "after: web\n" + ground, "after: ground\n" + web, host, `ground.yaml:1:1: before and after lead in a circle: ground, web; take one of them away`},
		{gate, ground, "oakbarrel: 2\n", host, `web.yaml:1:12: there is no version "2"`},
		{"parts: [ground, ground]\n", ground, web, host, `gate.yaml:1:17: the part ground stands here twice; take one away`},
		{"parts: [host]\n", ground, web, host, `gate.yaml:1:9: "host" cannot be the name of a part`},
		{"parts: [nobody]\n", ground, web, host, `gate.yaml:1:1: the part nobody cannot be read: nobody has written it; write it, or take it out of parts`},
		{gate, ground, web, "values: {port: 99999}", `web.yaml:3:19: `},
	} {
		_, findings := assembled(t, c.plan, c.host, map[string]string{"ground": c.ground, "web": c.web})
		var all []string
		for _, f := range findings {
			all = append(all, f.String())
		}
		if !strings.HasPrefix(strings.Join(all, "\n"), c.want) {
			t.Errorf("want %s\ngot  %s", c.want, strings.Join(all, "\n     "))
		}
	}
}

// A part in which nothing stands takes no other with it.
func TestAnEmptyPartIsNothing(t *testing.T) {
	for _, web := range []string{"", "# nothing yet\n", "---\n", "\n\n"} {
		served := Join([]Part{{"ground", []byte(ground)}, {"web", []byte(web)}, PartOfValues(nil)})
		p, findings := ParseServed("gate.yaml", served, StandIn(nil), nil)
		if p == nil || !p.Served || p.Service.URLs == "" {
			t.Errorf("%q: %v", web, findings)
		}
	}
	if p, findings := ParseServed("gate.yaml", Join([]Part{{"ground", []byte(strings.Replace(ground, "own: {}", "onw: {}", 1))}, {"web", nil}}), StandIn(nil), nil); p != nil || findings[0].String() != `ground.yaml:5:11: intake local has no key "onw"; did you mean own?` {
		t.Error(findings)
	}
}

// What a value says stays a value: it cannot add keys, or other places.
func TestAValueIsAText(t *testing.T) {
	const plan = `values: {a: "x, tcp: ':1'}\\n", b: '@{c}', c: no}
oakbarrel: 1
outlets: {all: {file: {path: '/srv/all.log', keep: forever}}}
intakes: {local: {own: {}}}
rules: [{name: 'r @{a} @{b} @@{c}', when: any, send: [all]}]
otherwise: {drop: true}
`
	p, findings := Parse("plan.yaml", []byte(plan))
	if p == nil {
		t.Fatal(findings)
	}
	if got := p.Table.Names()[0]; got != `r x, tcp: ':1'}\n @{c} @{c}` {
		t.Errorf("the name of the rule is %q", got)
	}
}

func TestPartsStandInFilesBesideThePlan(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"gate": gate + "labels: {role: gate}\n", "ground": ground, "web": strings.ReplaceAll(web, "@{port}", "0")} {
		if err := os.WriteFile(filepath.Join(dir, name+".yaml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(dir, "gate.yaml")
	p, findings, err := Load(file)
	if err != nil || p == nil || len(p.Intakes) != 2 || fmt.Sprint(p.Labels) != "[{role gate}]" {
		t.Fatal(p, findings, err)
	}
	again, findings := Parse(file, p.Source)
	if again == nil || again.Hash() != p.Hash() {
		t.Error("what was assembled is not read again as the same plan", findings)
	}
	os.Remove(filepath.Join(dir, "web.yaml"))
	if _, findings, _ = Load(file); len(findings) != 1 || !strings.Contains(findings[0].What, "there is no file web.yaml beside the plan") {
		t.Error(findings)
	}
}

func FuzzAssemble(f *testing.F) {
	f.Add(gate, ground, web)
	f.Add("parts: [a]\nrules: 1", "after: b\nrules: [1]", "values: {a: '@{b}'}\nintakes: 3")
	f.Fuzz(func(t *testing.T, plan, a, b string) {
		assembled(t, plan, "values: {port: x}", map[string]string{"ground": a, "web": b, "a": b})
	})
}
