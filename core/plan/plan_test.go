package plan

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

const lantern = `oakbarrel: 1
host: tide-gw
conditions:
  urgent: severity at least error
intakes:
  local: {syslog: {socket: /dev/log}}
  wire:
    syslog: {udp: ":514", tcp: "127.0.0.1:0"}
    keep_raw: true
rules:
  - name: probe chatter
    when: app is "salinity-probe" and severity at most info
    drop: true
  - when: facility in (auth, authpriv)
    send: [signins, everything]
    then: done
  - {name: worst, when: condition urgent, send: [everything]}
otherwise: {send: [everything]}
outlets:
  everything:
    file:
      path: /var/log/lantern/all.log
      format: '{time} {host} {app}[{procid}] {severity}: {text}'
      roll: {size: 10MiB, every: day}
      keep: {pieces: 20, days: 30, total: 1.5 GiB}
      compress: zstd
      mode: 0644
  signins: {file: {path: /var/log/lantern/signins.log, roll: {every: 5M}, keep: forever}}
`

func TestParse(t *testing.T) {
	p, findings := Parse("plan.yaml", []byte(lantern))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	day, _ := roll.ParseEvery("day")
	want := roll.Settings{Path: "/var/log/lantern/all.log", Mode: 0o644, Size: 10 << 20, Every: day, Keep: roll.Keep{Pieces: 20, Days: 30, Total: 3 << 29}, Compress: roll.Zstd,
		Format: p.Outlets[0].Format, Floor: disk.Floor{Percent: 5}}
	if got := p.Outlets[0].File; got != want {
		t.Errorf("file is %+v, want %+v", got, want)
	}
	if got := p.Outlets[1].File; got.Keep != (roll.Keep{}) || got.Mode != 0o640 || got.Every.String() != "5m" || p.Outlets[1].Format.String() != "json" {
		t.Errorf("signins is %+v", p.Outlets[1])
	}
	if p.Host != "tide-gw" || !reflect.DeepEqual(p.Intakes[1], Intake{Name: "wire", Kind: "syslog", KeepRaw: true, Syslog: Syslog{UDP: ":514", TCP: "127.0.0.1:0", Largest: 64 << 10, Connections: 10_000, Default: record.DefaultPriority}}) {
		t.Errorf("host %q, intakes %+v", p.Host, p.Intakes)
	}
	r := record.Record{Priority: record.MakePriority(4, record.Error)}
	way := p.Table.Explain(&r)
	if !reflect.DeepEqual(way.Outlets, []int{0, 1}) || way.Rules[1].Name != "rule 2" || way.Rules[2].Reached {
		t.Errorf("way %+v", way)
	}
}

func TestASyslogIntakeSaysHowItReads(t *testing.T) {
	p, findings := Parse("/etc/oakbarrel/plan.yaml", []byte(`oakbarrel: 1
intakes:
  secure:
    syslog:
      tls: ":6514"
      certificate: host.pem
      key_file: /keys/host.key
      clients: ["`+strings.Repeat("ab", 32)+`"]
      allow: [10.20.0.0/16, "fd00::1"]
      largest: 128KiB
      connections: 20
      idle: 10m
      default: local3.notice
      zone: Europe/Lisbon
      host: peer
  local: {syslog: {socket: auto, stream: /run/lines.sock}}
  open:  {syslog: {tls: "127.0.0.1:0", certificate: a, key_file: b, clients: Anyone}}
otherwise: {drop: true}
`))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	s := p.Intakes[0].Syslog
	if s.Certificate != "/etc/oakbarrel/host.pem" || s.KeyFile != "/keys/host.key" || len(s.Clients.Fingerprints) != 1 || fmt.Sprint(s.Allow) != "[10.20.0.0/16 fd00::1/128]" || s.Largest != 128<<10 ||
		s.Connections != 20 || s.Idle != 10*time.Minute || s.Default.String() != "local3.notice" || s.Reading.Zone.String() != "Europe/Lisbon" || !s.PeerHost {
		t.Errorf("%+v", s)
	}
	if l, o := p.Intakes[1].Syslog, p.Intakes[2].Syslog; l.Socket != AutoSocket || l.Stream != "/run/lines.sock" || !o.Clients.Anyone {
		t.Errorf("%+v, %+v", l, o)
	}
}

func TestKeysAndKeywordsInAnyLetterCase(t *testing.T) {
	upper := strings.NewReplacer("oakbarrel:", "OakBarrel:", "rules:", "RULES:", "when:", "When:", "send:", "SEND:", "drop:", "Drop:", "then: done", "THEN: Done", "syslog:", "Syslog:", "udp:", "UDP:",
		"file:", "File:", "keep:", "KEEP:", "days:", "Days:", "compress: zstd", "Compress: ZSTD", "every: day", "Every: Day", "forever", "Forever", "10MiB", "10mib", "severity at least", "SEVERITY At Least", "condition urgent", "CONDITION urgent").Replace(lantern)
	if _, findings := Parse("plan.yaml", []byte(upper)); len(findings) > 0 {
		t.Error(findings)
	}
}

// Each mistake is made in the plan above, by a replacement, and gives one
// finding and nothing else. The place is that of the mark ‸, which is taken away.
func TestMistakes(t *testing.T) {
	for _, c := range []struct{ old, new, finding string }{
		// keys
		{"host: tide-gw", "‸hots: tide-gw", `the plan has no key "hots"; did you mean host?`},
		{"host: tide-gw", "‸mend: {kiosk: x}", `the plan has no key "mend"; did you mean tend?`},
		{"host: tide-gw", "tend: {kiosk: ‸x}", `tend kiosk is keys with values, not "x"`},
		{"host: tide-gw", "tend: {kiosk: {paths: [‸kiosk.log], roll: {size: 1MiB}, keep: forever, how: copy}}", `the path "kiosk.log" is not absolute`},
		{"host: tide-gw", "tend: {kiosk: {paths: [‸'/var/log/lantern/*'], roll: {size: 1MiB}, keep: forever, how: copy}}", `the pattern finds the file of outlet everything`},
		{"host: tide-gw", "tend: {‸kiosk: {paths: [/srv/*.log], keep: forever, how: copy}}", `tend kiosk has no roll`},
		{"host: tide-gw", "tend: {‸kiosk: {paths: [/srv/*.log], roll: {every: day}, keep: forever}}", `tend kiosk has no how`},
		{"host: tide-gw", "tend: {kiosk: {paths: [/srv/*.log], roll: {every: day}, keep: forever, how: copy, ‸after: {signal: HUP}}}", `after a copy the program goes on as before`},
		{"host: tide-gw", "tend: {kiosk: {paths: [/srv/*.log], roll: {every: day}, keep: forever, how: rename, after: {signal: ‸USR3, pid_file: /run/x}}}", `signal cannot be "USR3"; did you mean USR1?`},
		{"host: tide-gw", "tend: {kiosk: {paths: [/srv/*.log], roll: {every: day}, keep: forever, how: rename, ‸after: {signal: USR1}}}", `signal and pid_file belong together`},
		{"host: tide-gw", "tend: {kiosk: {paths: [/srv/*.log], roll: {every: day}, keep: {days: 2, ‸until: [everything]}, how: copy}}", `what others write is in no outlet`},
		{"    drop: true", "    ‸dorp: true", `the rule has no key "dorp"; did you mean drop?`},
		{"keep: forever", "‸kep: forever", `file has no key "kep"; did you mean keep?`},
		{"otherwise: {send", "‸otherwize: {send", `the plan has no key "otherwize"; did you mean otherwise?`},
		{"host: tide-gw", "host: tide-gw\n‸Host: other", "the key host stands here a second time; take one away; the first is at line 2"},
		{"oakbarrel: 1\n", "", "the plan has no oakbarrel"},
		{"otherwise: {send: [everything]}\n", "", "the plan has no otherwise"},
		{"oakbarrel: 1", "oakbarrel: ‸2", `there is no version "2" of the plan's format; write oakbarrel: 1`},
		{"    when: app is \"salinity-probe\" and severity at most info\n", "", "the rule has no when"},
		{"    drop: true\n", "", "the rule has neither send nor drop"},
		{"    drop: true", "    drop: true\n    ‸send: [everything]", "the rule has both send and drop"},
		{"    drop: true", "    drop: ‸false", "drop: false says nothing"},
		{"    drop: true", "    drop: ‸maybe", `drop is true, not "maybe"`},
		{"then: done", "then: ‸stop", `then cannot be "stop"; write one of done`},
		{"    drop: true", "    drop: true\n    fold: ‸often", `fold cannot be "often"; write a time from 1s to 1h, such as 10s`},
		{"    drop: true", "    severity: ‸loud", `severity cannot be "loud"; known are`},
		{"    drop: true", "    severity: ‸warnin", `severity cannot be "warnin"; did you mean warning?`},
		{"    drop: true", "    label: {‸text: x}", "a label cannot be text"},
		{"    drop: true", "    label: {facility: ‸local9}", `facility cannot be "local9"; did you mean local0?`},
		{"    drop: true", "    mask: ['a', ‸'(']", "the mask cannot be read: error parsing regexp: missing closing )"},
		{"    drop: true", "    mask: ‸'x*'", "the mask finds the empty text, and with it everything"},
		// outlets and intakes
		{"send: [signins, everything]", "send: [signins, ‸everythin]", `there is no outlet "everythin"; did you mean everything?`},
		{"otherwise: {send: [everything]}", "otherwise: {send: [‸nowhere]}", `there is no outlet "nowhere"; the outlets are everything, signins`},
		{"send: [signins, everything]", "send: ‸signins", `send is a list, not "signins"; write a list of outlets`},
		{"send: [signins, everything]", "send: ‸[]", "send names no outlet"},
		{"path: /var/log/lantern/signins.log", "path: ‸/var/log/lantern/./all.log", "outlet everything writes to this path too"},
		{"path: /var/log/lantern/signins.log", "path: ‸signins.log", `the path "signins.log" is not absolute`},
		{"path: /var/log/lantern/signins.log", "path: ‸/var/log/lantern/", `the path "/var/log/lantern/" is a folder`},
		{"path: /var/log/lantern/signins.log", "path: '/var/log/{‸colour}.log'", `a path has no place "colour"; known are date, host, app, unit, facility, severity`},
		{"path: /var/log/lantern/signins.log", "path: '/var/log/‸{app.log'", `this { is not closed`},
		{"path: /var/log/lantern/signins.log", "path: ‸'/var/log/lantern/{app}.log'", `outlet everything may write to the same file`},
		{"path: /var/log/lantern/signins.log", "path: /var/log/lantern/signins.log, ‸files: 10", `files is for a path with places`},
		{"keep: forever", "keep: {days: 365, until: [‸everything]}", `outlet everything is a file, which owes nothing`},
		{"keep: forever", "keep: {days: 365, until: [‸signins]}", `an outlet cannot wait for itself`},
		{"keep: forever", "keep: {days: 365, until: [‸center]}", `there is no outlet "center"`},
		{"keep: forever", "keep: {days_at_most: 365, ‸hold: true}", `a set cannot be held and have pieces that may not stay`},
		{"keep: forever", "‸keep: {days: 365}, names: counted", `pieces with counted names are renamed at each roll, so there can be at most 100 of them`},
		{"compress: zstd", "compress: {zstd: ‸23}", `zstd has the levels 1 to 22`},
		{"outlets:", "disk: {floor: ‸95%}\noutlets:", `floor cannot be "95%"`},
		{"signins: {file: {", "signins: {‸fiel: {", `outlet signins has no key "fiel"; did you mean file?`},
		{"  signins: {file", "  ‸signins: {}\n  other: {file", "outlet signins does not say what it is"},
		{", keep: forever", "", "file has no keep"},
		{"path: /var/log/lantern/signins.log, ", "", "file has no path"},
		{"keep: forever", "‸keep: {}", "keep has no limit"},
		{"keep: forever", "keep: ‸always", `keep cannot be "always"`},
		{"keep: forever", "‸keep: ", "keep has no value"},
		{"pieces: 20", "pieces: ‸0", `pieces cannot be "0"; write a whole number of pieces, from 1`},
		{"days: 30", "days: ‸30d", `days cannot be "30d"; write a whole number of days`},
		{"size: 10MiB", "size: ‸midnight", `"midnight" is a time, not a size; write every: day`},
		{"size: 10MiB", "size: ‸10", `size cannot be "10"; a size has a unit: 10MiB, or 10B for bytes`},
		{"size: 10MiB", "size: ‸10M", `size cannot be "10M"; write 10MiB`},
		{"size: 10MiB", "size: ‸big", `size cannot be "big"; write a number and a unit`},
		{"every: day", "every: ‸midnight", `every cannot be "midnight"; write every: day`},
		{"every: day", "every: ‸10MiB", `"10MiB" is a size, not a time; write size: 10MiB`},
		{"every: day", "every: ‸fortnight", `every cannot be "fortnight"; write hour, day`},
		{"roll: {every: 5M}", "‸roll: {}", "roll says neither at which size nor how often"},
		{"compress: zstd", "compress: ‸zst", `compress cannot be "zst"; did you mean zstd?`},
		{"mode: 0644", "mode: ‸0888", `mode cannot be "0888"; write three octal digits`},
		{"mode: 0644", "mode: ‸0444", "with mode 0444 the agent could not write the file"},
		{"[{procid}]", "[{‸procd}]", `a record has no property "procd"; did you mean {procid}?`},
		{"format: '{time} {host}", "format: '‸} {time} {host}", "this } closes nothing"},
		{`udp: ":514"`, `udp: ‸514`, `"514" is not an address; write ":514" for all addresses`},
		{`udp: ":514"`, `udp: ‸":70000"`, `"70000" is not a port`},
		{`udp: ":514"`, `udp: ‸"reef-02:514"`, `"reef-02" is not an IP address`},
		{`{socket: /dev/log}`, `{udp: ":514"}, keep_raw: false}}` + "\n  more: {syslog: {socket: /dev/log}", ""},
		{`{syslog: {socket: /dev/log}}`, `{‸syslog: {}}`, "this intake opens nothing"},
		{`{syslog: {socket: /dev/log}}`, `{kernel: {}, ‸own: {}}`, "intake local is both kernel and own"},
		{`{syslog: {socket: /dev/log}}`, `{kernel: {‸device: /dev/kmsg}}`, `kernel has no key "device"`},
		{`{syslog: {socket: /dev/log}}`, "{kernel: {}}\n  again: {kernel: ‸{}}", "kernel is opened a second time"},
		{`{syslog: {socket: /dev/log}}`, "{own: {}}\n  nothing: ‸7", "intake nothing is keys with values"},
		{`{socket: /dev/log}`, `{socket: ‸/` + strings.Repeat("x", 107) + `}`, "the path of the socket is 108 bytes long; the system allows 107"},
		{"  local: {", "  ‸lo cal: {", `"lo cal" cannot be a name`},
		{"  signins: {file", "  ‸everything: {file: {path: /x, keep: forever}}\n  signins: {file", "the name everything stands here a second time"},
		{"intakes:\n", "intakes: ‸[]\nx:\n", ""},
		{"keep_raw: true", "keep_raw: ‸sometimes", `keep_raw is true or false, not "sometimes"`},
		{`tcp: "127.0.0.1:0"`, `‸clients: ca.pem`, "clients belongs to tls, which this intake does not open"},
		{`tcp: "127.0.0.1:0"`, `tls: ":6514", certificate: a, key_file: b, clients: [‸me]`, "a client is named by the SHA-256 of its certificate"},
		{`tcp: "127.0.0.1:0"`, `allow: [10.0.0.0/8, ‸10.0.0]`, `"10.0.0" is not a network`},
		{`tcp: "127.0.0.1:0"`, `allow: ‸[]`, "allow names no network, so that nothing could come in"},
		{`{socket: /dev/log}`, `{socket: /dev/log, ‸allow: [10.0.0.0/8]}`, "allow names networks, and this intake listens to none"},
		{`tcp: "127.0.0.1:0"`, `largest: ‸2MiB`, "the largest message has from 1KiB to 1MiB"},
		{`tcp: "127.0.0.1:0"`, `limit: {rate: ‸fast}`, `rate cannot be "fast"; write a number of records in a second, a minute or an hour`},
		{`tcp: "127.0.0.1:0"`, `‸limit: {burst: 5}`, "limit has no rate"},
		{"    drop: true", "    drop: true\n    limit: {rate: ‸10/w}", `rate cannot be "10/w"`},
		{`tcp: "127.0.0.1:0"`, `idle: ‸10`, `idle cannot be "10"; write a time from 1s to 24h, such as 10m`},
		{`tcp: "127.0.0.1:0"`, `default: ‸loud`, `default cannot be "loud"; write a facility and a severity`},
		{`tcp: "127.0.0.1:0"`, `zone: ‸Lantern/Bay`, `there is no time zone "Lantern/Bay"`},
		{`tcp: "127.0.0.1:0"`, `host: ‸sender`, `host cannot be "sender"; write one of claimed, peer`},
		{"host: tide-gw", "metrics: ‸9440", "metrics is keys with values, not \"9440\""},
		{"host: tide-gw", "metrics: {listen: ‸9440}", `"9440" is not an address; write ":9440" for all addresses of the machine`},
		{"host: tide-gw", "metrics: {listen: \"127.0.0.1:1\", ‸port: 9440}", `metrics has no key "port"`},
		// the store
		{"host: tide-gw", "‸service: {url: \"https://x\"}", "service has no token_file"},
		{"host: tide-gw", "service: {url: ‸logs.example, token_file: /t}", `"logs.example" is not the address of a service`},
		{"outlets:\n", "outlets:\n  centre: {‸store: {cask: gateway}}\n", "a store needs a service, and the plan names none"},
		{"  signins: {file: {", "  signins: {‸spool: {disk: 1GiB}, file: {", "a file has no spool"},
		// conditions
		{"severity at most info", "severity at most ‸inof", "'inof' is not a severity; did you mean info?"},
		{"severity at least error", "severity at ‸leats error", "after at, least or most is expected, not 'leats'"},
		{"when: condition urgent", "when: condition ‸urgnt", `there is no condition "urgnt"; did you mean urgent?`},
		{"urgent: severity at least error", "urgent: condition ‸urgent", "condition urgent refers to itself"},
		{`app is "salinity-probe" and`, `text contains ‸"tank #4" and`, "the string has no end; in YAML ' #' begins a comment, which cut the condition short: put the whole condition in quotes: 'text contains \"tank #4\" and severity at most info'"},
		{`app is "salinity-probe" and`, `text contains "tank‸: 4" and`, "': ' begins a value in YAML and breaks this one; put the whole value in quotes: 'text contains \"tank: 4\" and severity at most info'"},
		{`app is "salinity-probe" and`, `‸"tank 4" and`, "in YAML a value that begins with a quote ends with it, and here more follows; put the whole value in quotes: '\"tank 4\" and severity at most info'"},
		{"when: condition urgent", `when: text contains "a ‸#b"`, "' #' begins a comment in YAML and cuts this line short; put the whole condition in quotes"},
		{"when: condition urgent", "when: severity in (error, ‸alert)", "between { and } a comma ends a value in YAML"},
		{"when: condition urgent", `when: "‸out of memory"`, "'out' is not a property of a record; YAML takes one pair of quotes away: to look for this text write '\"out of memory\"'"},
		{"when: condition urgent", `when: "text contains \"größe\" and app ‸= x"`, "there is no =; write: is"},
		{"when: condition urgent", `when: 'text contains "it''s" and app ‸= x'`, "there is no =; write: is"},
		{"    when: app is \"salinity-probe\" and severity at most info", "    when: >-\n      app is pumpd\n      and severity is ‸loud", "'loud' is not a severity"},
		{"    when: app is \"salinity-probe\" and severity at most info", "    when: |\n      app is pumpd\n      and\n      severity is ‸loud", "'loud' is not a severity"},
		{"    when: app is \"salinity-probe\" and severity at most info", "    when: app is pumpd\n      and severity is ‸loud", "'loud' is not a severity"},
		{"    when: app is \"salinity-probe\" and severity at most info", "    when: ‸[any]", "when is one value, not a list"},
		// YAML
		{"host: tide-gw", "host: &a tide-gw", ""},
		{"rules:\n", "rules:\n‸\t- x\n", "a tab may not indent in YAML; indent with spaces"},
		{"otherwise: {send: [everything]}", "otherwise: {send: [everything}", ""},
	} {
		broken := strings.Replace(lantern, c.old, c.new, 1)
		if broken == lantern {
			t.Fatalf("%q is not in the plan", c.old)
		}
		clean := strings.Replace(broken, "‸", "", 1)
		p, findings := Parse("plan.yaml", []byte(clean))
		if c.finding == "" { // more than one, or a place of the YAML reader's choice
			if len(findings) == 0 {
				t.Errorf("%q: no finding", c.new)
			}
			continue
		}
		if len(findings) != 1 || p != nil {
			t.Errorf("%q: %d findings, want one: %v", c.new, len(findings), findings)
			continue
		}
		f := findings[0]
		if !strings.HasPrefix(f.What+"; "+f.Mend, c.finding) || f.Mend == "" {
			t.Errorf("%q:\n got %s; %s\nwant %s", c.new, f.What, f.Mend, c.finding)
		}
		if at := strings.Index(broken, "‸"); at >= 0 {
			want := newSource(broken).position(at)
			if f.Position != want {
				t.Errorf("%q: reported at %v, want %v", c.new, f.Position, want)
			}
		}
	}
}

// A key that is missing is reported where its parent stands.
func TestMissingKeysAreReportedAtTheParent(t *testing.T) {
	for removed, want := range map[string]Position{
		"oakbarrel: 1\n": {1, 1}, "otherwise: {send: [everything]}\n": {1, 1}, "    drop: true\n": {11, 5},
		"      keep: {pieces: 20, days: 30, total: 1.5 GiB}\n": {21, 5}, ", keep: forever": {28, 13},
	} {
		_, findings := Parse("plan.yaml", []byte(strings.Replace(lantern, removed, "", 1)))
		if len(findings) != 1 || findings[0].Position != want {
			t.Errorf("without %q: %v, want a finding at %v", removed, findings, want)
		}
	}
}

func TestClientsOfTLSMustBeSaid(t *testing.T) {
	_, findings := Parse("plan.yaml", []byte(strings.Replace(lantern, `tcp: "127.0.0.1:0"`, `tls: ":6514", certificate: a, key_file: b`, 1)))
	if len(findings) != 1 || findings[0].What != "syslog has no clients" || !strings.Contains(findings[0].Mend, "clients: anyone") {
		t.Error(findings)
	}
}

func TestWarnings(t *testing.T) {
	for _, c := range []struct{ old, new, finding string }{
		{`app is "salinity-probe" and severity at most info`, "‸app is a and app is b", "this condition can never hold"},
		{"rules:\n", "rules:\n  - {when: any, drop: true}\n", "nothing reaches this rule"},
		{"when: condition urgent", "when: intake is ‸wirre", `no intake is named "wirre", so this test never holds; did you mean wire?`},
		{"  - {name: worst", "  - {when: 'facility is auth and app is x', send: [signins]}\n  - {name: worst", "nothing reaches this rule"},
	} {
		broken := strings.Replace(lantern, c.old, c.new, 1)
		p, findings := Parse("plan.yaml", []byte(strings.Replace(broken, "‸", "", 1)))
		if p == nil || len(findings) == 0 || findings.Refused() || !strings.HasPrefix(findings[0].What+"; "+findings[0].Mend, c.finding) {
			t.Errorf("%q: plan %v, findings %v", c.new, p != nil, findings)
			continue
		}
		if at := strings.Index(broken, "‸"); at >= 0 && findings[0].Position != newSource(broken).position(at) {
			t.Errorf("%q: reported at %v", c.new, findings[0].Position)
		}
	}
}

func TestAllFindingsAtOnceInTheOrderOfLines(t *testing.T) {
	broken := strings.NewReplacer("host: tide-gw", "hots: tide-gw", "compress: zstd", "compress: zap", "then: done", "then: stop", "severity at least error", "severity at least eror").Replace(lantern)
	_, findings := Parse("plan.yaml", []byte(broken))
	var lines []int
	for _, f := range findings {
		lines = append(lines, f.Line)
	}
	if fmt.Sprint(lines) != "[2 4 16 26]" {
		t.Errorf("findings on lines %v: %v", lines, findings)
	}
	if got := findings[0].String(); got != `plan.yaml:2:1: the plan has no key "hots"; did you mean host?` {
		t.Error(got)
	}
}

func TestAStoreOutlet(t *testing.T) {
	p, findings := Parse("plan.yaml", []byte(`oakbarrel: 1
service: {url: "http://127.0.0.1:8440", token_file: /t}
otherwise: {send: [centre, least]}
outlets:
  centre:
    store: {cask: gateway}
    spool: {disk: 64MiB, overflow: Wait, sync: each}
    batch: {records: 10, bytes: 1KiB, wait: 200ms}
  least: {store: {cask: pumps}}
`))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	service := Service{URLs: "http://127.0.0.1:8440", TokenFile: "/t"}
	if got, want := p.Outlets[0].Spool, (Spool{64 << 20, disk.Floor{Percent: 5}, true, true, 10, 1024, 200 * time.Millisecond}); got != want || p.Outlets[0].Kind != "store" || p.Outlets[0].Store != (Store{service, "gateway"}) {
		t.Errorf("%+v, want %+v", p.Outlets[0], want)
	}
	if got, want := p.Outlets[1].Spool, (Spool{1 << 30, disk.Floor{Percent: 5}, false, false, 20_000, 4 << 20, time.Second}); got != want {
		t.Errorf("%+v, want %+v", got, want)
	}
	if p.Service != service {
		t.Errorf("%+v", p.Service)
	}
}

func TestTheLeastPlan(t *testing.T) {
	for _, s := range []string{"oakbarrel: 1\notherwise: {drop: true}\n", "{oakbarrel: 1, otherwise: {drop: true}, rules: [], intakes: {}}", "# a comment\n---\noakbarrel: 1\notherwise:\n  drop: true\n"} {
		if p, findings := Parse("plan.yaml", []byte(s)); p == nil || len(findings) > 0 {
			t.Errorf("%q: %v", s, findings)
		}
	}
	for _, s := range []string{"", "\n# nothing\n", "just text", "- a\n", "oakbarrel: 1\notherwise: {drop: true}\n---\noakbarrel: 1\n", "\xff"} {
		if p, findings := Parse("plan.yaml", []byte(s)); p != nil || len(findings) == 0 {
			t.Errorf("%q is taken", s)
		}
	}
}

func TestLoad(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "plan.yaml")
	os.WriteFile(file, []byte(lantern), 0o600)
	p, _, err := Load(file)
	if err != nil || p.File != file || len(p.Hash()) != 64 {
		t.Errorf("%v, %v", p, err)
	}
	if _, _, err := Load(dir); err == nil {
		t.Error("a folder is read")
	}
	if _, _, err := Load(file + "x"); err == nil {
		t.Error("a missing file is read")
	}
}

func FuzzParse(f *testing.F) {
	f.Add(lantern)
	f.Add("oakbarrel: 1\nrules: [{when: \"a\\\"b\\x41\\u00e9\", drop: true}]\notherwise: {drop: yes}\n")
	f.Fuzz(func(t *testing.T, s string) {
		p, findings := Parse("x", []byte(s))
		if (p == nil) != findings.Refused() {
			t.Errorf("%q: plan %v, findings %v", s, p != nil, findings)
		}
		for _, f := range findings {
			if f.Line < 1 || f.Column < 1 || f.Line > strings.Count(s, "\n")+2 || f.What == "" || f.Mend == "" {
				t.Errorf("%q: %+v", s, f)
			}
		}
	})
}

func TestWhatDependsOnTheMachineIsCheckedThere(t *testing.T) {
	text := strings.Replace(lantern, "mode: 0644", "mode: 0644\n      owner: nobody-here", 1)
	text = strings.Replace(text, "total: 1.5 GiB", "total: 900TiB", 1)
	text = strings.Replace(text, "size: 10MiB", "size: 90TiB", 1)
	text = strings.Replace(text, "keep: forever", "keep: {total: 1MiB}", 1)
	p, findings := Parse("plan.yaml", []byte(text))
	if p == nil || len(findings) > 0 {
		t.Errorf("of a plan for another machine it says %v", findings)
	}
	file := filepath.Join(t.TempDir(), "plan.yaml")
	os.WriteFile(file, []byte(text), 0o600)
	p, findings, err := Load(file)
	if err != nil || p == nil || len(findings) != 2 || !strings.Contains(findings[0].What, "keep allows") || !strings.Contains(findings[1].What, `no user "nobody-here"`) {
		t.Errorf("of a plan for this machine it says %v, %v", findings, err)
	}
	if p.Outlets[0].File.Owner.Missing != "user nobody-here" {
		t.Errorf("%+v", p.Outlets[0].File.Owner)
	}
}
