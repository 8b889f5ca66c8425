package plan

import (
	"reflect"
	"strings"
	"testing"
)

// outletsWith is the plan with another outlet in the place of signins.
func outletsWith(settings string) string {
	at := strings.Index(lantern, "  signins: ")
	return lantern[:at] + "  signins: " + settings + "\n"
}

func TestOutletsOfOtherProtocols(t *testing.T) {
	for settings, want := range map[string]Remote{
		`{syslog: {udp: "relay.example:514"}}`: {Network: "udp", Address: "relay.example:514", Format: "rfc5424"},
		`{syslog: {tls: "[::1]:6514", format: RFC3164, ca_file: /ca.pem, certificate: /c.pem, key_file: /k.pem}, spool: {disk: 2MiB}}`: {
			Network: "tls", Address: "[::1]:6514", Format: "rfc3164", TLS: TLS{CAFile: "/ca.pem", Certificate: "/c.pem", KeyFile: "/k.pem"}},
		`{otlp: {url: "http://127.0.0.1:4318/v1/logs", compress: none}}`: {Address: "http://127.0.0.1:4318/v1/logs", Compress: "none"},
		`{http: {url: "https://receiver.example/in", token_file: /t, compress: zstd, headers: {X-Host: "{host}", X-Batch: "{outlet}/{first}-{last}"}}, batch: {wait: 100ms}}`: {
			Address: "https://receiver.example/in", Compress: "zstd", Auth: WebAuth{TokenFile: "/t", Headers: []Header{{Name: "X-Host", Value: "{host}"}, {Name: "X-Batch", Value: "{outlet}/{first}-{last}"}}}},
		`{http: {url: "https://receiver.example/in", basic: {user: oak, password_file: /p}, headers: {X-Key: {file: /k}}}}`: {
			Address: "https://receiver.example/in", Compress: "gzip", Auth: WebAuth{User: "oak", PasswordFile: "/p", Headers: []Header{{Name: "X-Key", File: "/k"}}}},
	} {
		p, findings := Parse("plan.yaml", []byte(outletsWith(settings)))
		if len(findings) > 0 {
			t.Errorf("%s: %v", settings, findings)
			continue
		}
		if got := p.Outlets[1].Remote; !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, want %+v", settings, got, want)
		}
		if p.Outlets[1].Spool.Disk == 0 || p.Outlets[1].Spool.Records != 20_000 {
			t.Errorf("%s: the spool is %+v", settings, p.Outlets[1].Spool)
		}
	}
}

func TestMistakesInOutletsOfOtherProtocols(t *testing.T) {
	for _, c := range []struct{ outlet, finding string }{
		{`{‸syslog: {}}`, `syslog does not say where it goes; write tls: "HOST:6514"`},
		{`{syslog: {udp: ‸"relay"}}`, `"relay" is not the address of a receiver; write "HOST:PORT"`},
		{`{syslog: {tcp: ‸":514"}}`, `":514" is not the address of a receiver`},
		{`{syslog: {udp: "a:1", ‸tcp: "a:1"}}`, `the outlet goes over udp and tcp`},
		{`{syslog: {udp: "a:1", ‸ca_file: /ca.pem}}`, `ca_file belongs to TLS, with which this is not reached`},
		{`{syslog: {tls: "a:1", ‸certificate: /c.pem}}`, `certificate and key_file belong together; write key_file`},
		{`{syslog: {tls: "a:1", format: ‸json}}`, `format cannot be "json"; write one of rfc5424, rfc3164`},
		{`{syslog: {‸utp: "a:1"}}`, `syslog has no key "utp"; did you mean udp?`},
		{`{‸otlp: {}}`, `otlp has no url`},
		{`{otlp: {url: ‸"receiver:4318"}}`, `"receiver:4318" is not the address of a receiver`},
		{`{otlp: {url: "http://a", compress: ‸zstd}}`, `compress cannot be "zstd"; write one of gzip, none`},
		{`{http: {url: "http://a", headers: {‸"X Host": y}}}`, `"X Host" cannot be a name`},
		{`{http: {url: "http://a", headers: {‸Content-Type: y}}}`, `Content-Type is set by the agent itself`},
		{`{http: {url: "http://a", headers: {X-Host: ‸"{hots}"}}}`, `a header has no place {hots}; known are {host}`},
		{`{http: {url: "http://a", headers: {X-Host: ‸"a\nb"}}}`, `the value of a header has a sign`},
		{`{http: {url: "https://a", token_file: /t, ‸basic: {user: a, password_file: /p}}}`, `there are both token_file and basic`},
		{`{http: {url: "https://a", basic: {user: ‸"a:b", password_file: /p}}}`, `the user cannot be "a:b"`},
		{`{http: {url: "https://a", headers: {X-Key: {‸fil: /k}}}}`, `X-Key has no key "fil"; did you mean file?`},
		{`{http: {url: "https://a", body: '{"text": "‸{txt}"}'}}`, `a body has no place {txt}; did you mean {text}?`},
		{`{otlp: {url: "https://a", ‸body: 'x'}}`, `the protocol says what the body of otlp is`},
		{`{notify: {webhook_file: /w, body: '‸{"text": "{title}"'}}`, `the body is no JSON once its places are filled in`},
		{`{notify: {‸mail: {server: "a:25", from: a@b.example, to: [a@b.example]}, body: 'x'}}`, `body, headers, token_file and basic belong to a webhook`},
		{`{stdout: {‸fromat: json}}`, `stdout has no key "fromat"; did you mean format?`},
		{`{file: {path: /a, keep: forever}, ‸http: {url: "http://a"}}`, `outlet signins is both file and http; write two outlets`},
		{`{file: {path: /a, keep: forever}, ‸batch: {records: 1}}`, `a file has no batch`},
		{`{‸fil: {path: /a}}`, `outlet signins has no key "fil"; did you mean file?`},
	} {
		mistake(t, c.outlet, outletsWith(c.outlet), c.finding)
	}
}
