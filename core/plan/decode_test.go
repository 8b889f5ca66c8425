package plan

import (
	"strings"
	"testing"

	"oakbarrel/core/record"
	"oakbarrel/core/route"
)

func TestMistakesInWhatIsDecoded(t *testing.T) {
	for _, c := range []struct{ intake, finding string }{
		{"{syslog: {udp: ':0', decode: ‸jsn}}", `decode cannot be "jsn"; did you mean json?`},
		{"{syslog: {udp: ':0', decode: [json, ‸acces]}}", `decode cannot be "acces"; did you mean access?`},
		{"{syslog: {udp: ':0', decode: ‸[]}}", `decode names no form`},
		{"{syslog: {udp: ':0', decode: [json, ‸csv]}}", `csv needs the names of its columns`},
		{"{syslog: {udp: ':0', decode: {json: {}, from: ‸request}}}", `from cannot be "request"; write from: text, or from: field request`},
		{"{syslog: {udp: ':0', decode: {json: {from: ‸'field a..b'}}}}", `the field cannot be read`},
		{"{syslog: {udp: ':0', ‸decode: {from: text}}}", `decode names no form`},
		{"{syslog: {udp: ':0', decode: {csv: {columns: [time, ‸time]}}}}", `the column "time" stands there twice`},
		{"{syslog: {udp: ':0', decode: {csv: {columns: [a], separator: ‸'ab'}}}}", `the separator cannot be "ab"`},
		{"{syslog: {udp: ':0', decode: {‸csv: {}}}}", `csv has no columns`},
		{"{syslog: {udp: ':0', levels: {CHATTY: ‸loud}}}", `CHATTY cannot be "loud"; known are`},
		{"{syslog: {udp: ':0', times: [‸'DD.MM.YYYY']}}", `the time "DD.MM.YYYY" cannot be read: it has no hh and mm`},
		{"{files: {paths: [/srv/*.log]}, label: {app: '{‸field }'}}", `the value cannot be read`},
		{"{files: {paths: [/srv/*.log]}, label: {app: '{‸servic}'}}", `the value cannot be read: a record has no property "servic"`},
	} {
		mistake(t, c.intake, intakesWith(c.intake), c.finding)
	}
}

const decoding = `oakbarrel: 1
host: quay-3
levels: {CHATTY: debug}
intakes:
  wire: {syslog: {udp: ":0", decode: [json, {access: {}}]}}
  shop: {files: {paths: [/srv/shop/*.log], decode: {csv: {columns: [time, severity, service, text], separator: ';'}}, times: ['DD.MM.YYYY hh:mm:ss'], levels: {laut: error}}, label: {app: '{field service}', zone: '{field area}', team: shop}}
rules:
  - {when: 'app is gate', decode: [{json: {from: field payload}}, keyvalue], label: {app: 'gate-{field door}', who: '{field user}'}, send: [all]}
  - {when: 'field door is north and severity is debug', label: {seen: "yes"}}
otherwise: {send: [all]}
outlets: {all: {file: {path: /var/log/all.log, keep: forever}}}
`

// sample routes a message of an intake, and returns the record as JSON from its severity on.
func sample(t *testing.T, p *Plan, intake, message string) string {
	t.Helper()
	at := record.Stamp{Sec: 1_795_601_700, Form: record.Zulu}
	r, _ := p.Sample(intake, []byte(message), at)
	b := record.Batch{Records: []record.Record{*r}}
	var m route.Routing
	p.Table.Route(&b, &m)
	routed := string(b.Records[0].AppendJSON(nil))
	p.Explain(r)
	if explained := string(r.AppendJSON(nil)); explained != routed {
		t.Errorf("%s is explained as\n%s", routed, explained)
	}
	_, rest, _ := strings.Cut(routed, `"severity":`)
	return rest
}

func TestWhatTextsHoldIsTakenApart(t *testing.T) {
	p, findings := Parse("plan.yaml", []byte(decoding))
	if p == nil || len(findings) > 0 {
		t.Fatal(findings)
	}
	for _, c := range []struct{ name, intake, message, want string }{
		{"json in a syslog message", "wire", `<14>1 - kelp-01 cart - - [a b="c"] {"level":"CHATTY","msg":"saved","id":7}`, `"debug","host":"kelp-01","app":"cart","text":"saved","fields":{"level":"CHATTY","id":7,"a":{"b":"c"}},"intake":"wire"}`},
		{"an access line in a syslog message", "wire", `<190>Nov 25 10:15:00 kelp-01 nginx: ::1 - - [25/Nov/2026:10:15:00 +0000] "GET / HTTP/1.1" 200 5 "-" "curl"`, `"info","host":"kelp-01","app":"nginx","text":"::1 - - [25/Nov/2026:10:15:00 +0000] \"GET / HTTP/1.1\" 200 5 \"-\" \"curl\"","fields":{"client":"::1","method":"GET","path":"/","protocol":"HTTP/1.1","status":200,"bytes":5,"agent":"curl"},"intake":"wire"}`},
		{"neither", "wire", `<14>1 - kelp-01 cart - - - just text`, `"info","host":"kelp-01","app":"cart","text":"just text","intake":"wire"}`},
		{"columns, and labels of fields", "shop", `25.11.2026 09:15:00;laut;till;closed`, `"error","app":"till","text":"closed","fields":{"level":"laut","service":"till","label@32473":{"team":"shop"}},"intake":"shop"}`},
		{"a rule decodes", "wire", `<14>1 - h gate 7 - - door=north user=noor level=chatty msg="badge read"`, `"debug","host":"h","app":"gate-north","procid":"7","text":"badge read","fields":{"level":"chatty","door":"north","user":"noor","label@32473":{"who":"noor","seen":"yes"}},"intake":"wire"}`},
		{"a rule decodes a field", "wire", `<14>1 - h gate 7 - - {"msg":"x","payload":"{\"door\":\"south\"}"}`, `"info","host":"h","app":"gate-south","procid":"7","text":"x","fields":{"door":"south","payload":"{\"door\":\"south\"}"},"intake":"wire"}`},
		{"a rule that finds nothing to decode", "wire", `<14>1 - h gate - - - text`, `"info","host":"h","app":"gate","text":"text","intake":"wire"}`},
	} {
		if got := sample(t, p, c.intake, c.message); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
	_, tried := p.Sample("wire", []byte(`<14>1 - h a - - - x`), record.Stamp{})
	if len(tried) != 2 || tried[0] != (Tried{"json", false}) || tried[1] != (Tried{"access", false}) {
		t.Errorf("%+v were tried", tried)
	}
}
