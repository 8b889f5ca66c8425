package plan

import (
	"strings"
	"testing"
	"time"

	"oakbarrel/core/alert"
)

func TestAlertsAreRead(t *testing.T) {
	a, findings := ParseAlert("pumps", "pumps.yaml", []byte(`alert: 1
cask: bay
when: app is "pumpd" and severity at least error   # the pumps alone
by: Host
More: {than: 5, in: 10m}
tell: [duty, noor]
quiet: [{from: "22:00", to: "06:00"}, {days: [sat, Sunday]}]
zone: Europe/Stockholm
note: Look at the fuse first.
`))
	if len(findings) > 0 || a == nil {
		t.Fatal(findings)
	}
	if a.Cask != "bay" || a.By != "host" || a.Kind != alert.More || a.Than != 5 || a.Span != 10*time.Minute || len(a.Tell) != 2 || len(a.Quiet) != 2 || a.Quiet[1].Days[1] != time.Sunday || a.Zone.String() != "Europe/Stockholm" || a.Note != "Look at the fuse first." {
		t.Errorf("%+v", a)
	}
	for text, want := range map[string]string{
		"more: {than: 0, in: 1h}":  "more than 0 records within 1h",
		"fewer: {than: 1, in: 1d}": "fewer than 1 records within 1d",
		"by: field tank.id\nvalue: {field: tank.temperature, under: -1.5}":     "tank.temperature under -1.5, by field tank.id",
		"silent: {for: 30m}\nby: app":                                          "silent for 30m, and never so long before, by app",
		"new_shape: {}\nwhen: severity at least error":                         "a shape that was never there before, where severity at least error",
		"share: {of: severity at least error, over: 2.5%, in: 5m, least: 100}": "more than 2.5 % of 100 records or more within 5m are severity at least error",
		"when: any\nintake: x\nmore: {than: 1, in: 1m}":                        "",
		"when: intake is local\nmore: {than: 1, in: 90s}":                      "more than 1 records within 1m30s, where intake is local",
	} {
		a, findings := ParseAlert("x", "x.yaml", []byte("alert: 1\n"+text+"\n"))
		if want == "" {
			if a != nil {
				t.Errorf("%s is read", text)
			}
			continue
		}
		if a == nil || a.String() != want {
			t.Errorf("%s: %v, %v", text, a, findings)
		}
	}
}

func TestWhatIsWrongInAlertsIsTold(t *testing.T) {
	for text, want := range map[string]string{
		"":                                   "x.yaml:1:1: the alert",
		"more: {than: 1, in: 1m}":            "x.yaml:1:1: the alert has no alert; write alert: 1 first",
		"alert: 2\nmore: {than: 1, in: 1m}":  `x.yaml:1:8: alerts of version "2" cannot be read`,
		"alert: 1":                           "x.yaml:1:1: the alert does not say what it asks for",
		"alert: 1\nmoer: {than: 1, in: 1m}":  "x.yaml:2:1: the alert has no key \"moer\"; did you mean more?",
		"alert: 1\nmore: {than: -1, in: 1m}": `x.yaml:2:14: than cannot be "-1"; write a whole number of records, from 0`,
		"alert: 1\nfewer: {than: 0, in: 1m}": "than cannot be",
		"alert: 1\nmore: {than: 1}":          "more has no in",
		"alert: 1\nmore: {than: 1, in: 5s}":  `in cannot be "5s"; write a time from 1m to 7d`,
		"alert: 1\nmore: {than: 1, in: 1m}\nsilent: {for: 1h}":                         "x.yaml:3:1: the alert asks for both more and silent; write two alerts",
		"alert: 1\nwhen: severity at leest error\nmore: {than: 1, in: 1m}":             "x.yaml:2:",
		"alert: 1\nwhen: condition urgent\nmore: {than: 1, in: 1m}":                    "x.yaml:2:",
		"alert: 1\nby: hots\nmore: {than: 1, in: 1m}":                                  "did you mean host?",
		"alert: 1\nby: host\nnew_shape: {}":                                            "take by away",
		"alert: 1\nvalue: {field: ph}":                                                 "value has no bound",
		"alert: 1\nvalue: {field: ph, over: 8, under: 6}":                              "both over and under",
		"alert: 1\nvalue: {field: ph, over: NaN}":                                      `over cannot be "NaN"`,
		"alert: 1\nvalue: {field: '\"ph', over: 7}":                                    "is not the path of a field",
		"alert: 1\nshare: {of: severity is error, over: 5, in: 5m}":                    `over cannot be "5"; write a share`,
		"alert: 1\nshare: {of: severity is error, over: 100%, in: 5m}":                 "over cannot be",
		"alert: 1\nshare: {over: 5%, in: 5m}":                                          "share has no of",
		"alert: 1\nmore: {than: 1, in: 1m}\ntell: [a b]":                               "cannot be the name of a receiver",
		"alert: 1\nmore: {than: 1, in: 1m}\nzone: Lantern/Bay":                         `there is no zone "Lantern/Bay"`,
		"alert: 1\nmore: {than: 1, in: 1m}\nquiet: [{from: \"22:00\"}]":                "from and to belong together",
		"alert: 1\nmore: {than: 1, in: 1m}\nquiet: [{from: \"22:00\", to: \"22:00\"}]": "ends when it begins",
		"alert: 1\nmore: {than: 1, in: 1m}\nquiet: [{from: \"25:00\", to: \"06:00\"}]": `from cannot be "25:00"`,
		"alert: 1\nmore: {than: 1, in: 1m}\nquiet: [{days: [s]}]":                      `"s" is not a day`,
		"alert: 1\nmore: {than: 1, in: 1m}\nquiet: [{}]":                               "quiet does not say when",
		"alert: 1\nmore: {than: 1, in: 1m}\nnote: [x]":                                 "note is one value",
		"alert: 1\nmore: {than: 1, in: 1m":                                             "x.yaml:2:",
	} {
		a, findings := ParseAlert("x", "x.yaml", []byte(text+"\n"))
		var all []string
		for _, f := range findings {
			all = append(all, f.String())
		}
		if a != nil || !strings.Contains(strings.Join(all, "\n"), want) {
			t.Errorf("%q: want %q in\n%s", text, want, strings.Join(all, "\n"))
		}
	}
	if a, _ := ParseAlert("x", "x.yaml", []byte("alert: 1\nmore: {than: 1, in: 1m}\nnote: "+strings.Repeat("x", 1<<17))); a != nil {
		t.Error("an alert of 128 KiB is read")
	}
}

func FuzzAlert(f *testing.F) {
	f.Add("alert: 1\nwhen: any\nby: field a.\"b c\"\nvalue: {field: x, over: 1e3}\nquiet: [{days: [mon]}]")
	f.Add("alert: 1\nshare: {of: severity at least error, over: 5%, in: 5m, least: 2}\ntell: [duty]")
	f.Fuzz(func(t *testing.T, text string) {
		a, findings := ParseAlert("x", "x.yaml", []byte(text))
		if (a == nil) != findings.Refused() {
			t.Fatalf("%v and %v", a, findings)
		}
		if a != nil && (a.Span < leastSpan || a.Kind == "" || a.String() == "") {
			t.Errorf("%+v", a)
		}
	})
}
