package plan

import (
	"reflect"
	"strings"
	"testing"
	"time"
)

func TestOutletsThatTellAPerson(t *testing.T) {
	for settings, want := range map[string]Notify{
		`{notify: {webhook_file: /etc/oakbarrel/duty.url}}`: {WebhookFile: "/etc/oakbarrel/duty.url", Every: 5 * time.Minute},
		`{notify: {mail: {server: "mail.example:25", from: oak@lantern.example, to: [duty@lantern.example, noor@lantern.example], user: oak, password_file: /p}, every: 1h}}`: {
			Mail: Mail{"mail.example:25", "oak@lantern.example", "duty@lantern.example noor@lantern.example", "oak", "/p"}, Every: time.Hour},
	} {
		p, findings := Parse("plan.yaml", []byte(outletsWith(settings)))
		if len(findings) > 0 || !reflect.DeepEqual(p.Outlets[1].Notify, want) || p.Outlets[1].Spool.Disk != 16<<20 || p.Outlets[1].Spool.Delay != 10*time.Second {
			t.Errorf("%s: %v", settings, findings)
		}
	}
}

func TestMistakesInNotices(t *testing.T) {
	for _, c := range []struct{ outlet, finding string }{
		{`{‸notify: {}}`, `notify does not say how; write webhook_file`},
		{`{notify: {‸webhook: x}}`, `notify has no key "webhook"; known here are webhook_file`},
		{`{notify: {webhook_file: ‸duty.url}}`, `the path "duty.url" is not absolute`},
		{`{notify: {webhook_file: /u, ‸mail: {}}}`, `notify has both webhook_file and mail`},
		{`{notify: {‸mail: {from: a@b.c, to: a@b.c}}}`, `mail has no server`},
		{`{notify: {mail: {server: ‸mail, from: a@b.c, to: a@b.c}}}`, `"mail" is not the address of a mail server`},
		{`{notify: {mail: {server: "m:25", from: ‸nobody, to: a@b.c}}}`, `"nobody" is not an address of mail`},
		{`{notify: {mail: {server: "m:25", from: a@b.c, to: [a@b.c, ‸"Noor <n@b.c>"]}}}`, `"Noor <n@b.c>" is not an address of mail`},
		{`{notify: {mail: {server: "m:25", from: a@b.c, to: a@b.c, ‸user: oak}}}`, `user and password_file belong together`},
		{`{notify: {webhook_file: /u, every: ‸2d}}`, `every cannot be "2d"`},
		{`{notify: {webhook_file: /u}, ‸batch: {wait: 1s}}`, `notices have no batch`},
	} {
		mistake(t, c.outlet, outletsWith(c.outlet), c.finding)
	}
	told := strings.Replace(outletsWith(`{notify: {webhook_file: /u}}`), "otherwise: {send: [everything]}", "otherwise: {send: [signins]}", 1)
	if p, findings := Parse("plan.yaml", []byte(told)); p == nil || len(findings) != 1 || findings[0].What != "what comes to otherwise is told to somebody, and kept nowhere" {
		t.Error(findings)
	}
}
