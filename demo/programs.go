package demo

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// A program speaks on a host: mostly routine, now and then a warning. How
// often it speaks is its weight among all.
type program struct {
	host, app string
	facility  string
	weight    int
	via       string // the agent that hears it
	way       string // "socket", "udp" or "tcp"
	old       bool   // it speaks RFC 3164
	pid       int
	routine   []string // "severity text", one is picked
	warnings  []string // one in 30
}

// In the texts {tank}, {n} and the like are filled in, see fill. What stands in
// [ ] at the end is structured data.
var programs = []*program{
	{host: "reef-02", app: "salinity-probe", facility: "local2", weight: 50, via: "reef-02", way: "udp", pid: 811,
		routine:  []string{"debug poll tank {tank} bus {n} ok", "info tank {tank} salinity 34.{n} ppt", "info tank {tank} temperature 25.{n} C", "error self-test passed, tank {tank}"}, // the last one shouts too loud
		warnings: []string{"warning tank {tank} answered late, {nn}0 ms", "notice tank {tank} probe needs cleaning in {nn} h"}},
	{host: "reef-02", app: "pumpd", facility: "local3", weight: 20, via: "reef-02", way: "socket", pid: 412,
		routine:  []string{`info pump {pump} at {rpm} rpm [pump@32473 id="{pump}" rpm="{rpm}" flow="21.{n}"]`, `debug pump {pump} winding {winding} C [pump@32473 id="{pump}" winding="{winding}"]`, "info loop kelp flow 21.{n} l/min"},
		warnings: []string{`warning pump {pump} vibration {vibration} mm [pump@32473 id="{pump}" vibration="{vibration}"]`, "notice pump {pump} runs since 9{nn} h, service is due"}},
	{host: "reef-02", app: "valve-ctl", facility: "local3", weight: 8, via: "reef-02", way: "socket", pid: 415, old: true,
		routine:  []string{"info valve V{nn} moved to {nn}%", "info valve V{nn} reached its end"},
		warnings: []string{"warning valve V{nn} took {nn} s to move"}},
	{host: "reef-02", app: "light-cycle", facility: "cron", weight: 2, via: "reef-02", way: "socket", pid: 90, old: true,
		routine: []string{"info dawn ramp step {n} of 12, tank {tank}", "info feeding pause ends in {nn} min"}, warnings: []string{"notice schedule for tank {tank} was changed by {staff}"}},
	{host: "kelp-01", app: "ticketd", facility: "local0", weight: 25, via: "tide-gw", way: "tcp", pid: 2201,
		routine:  []string{`info sold {items} tickets, slot 1{n}:15 [sale@32473 items="{items}" method="card"]`, "info receipt {nn}{nn} printed", `debug session {nn}{nn}{nn} opened [sale@32473 lang="en"]`},
		warnings: []string{"warning terminal {n} slow: {nn}00 ms", "notice printer {n} is low on paper"}},
	{host: "kelp-01", app: "visitor-count", facility: "local1", weight: 4, via: "tide-gw", way: "udp", pid: 2210, old: true,
		routine: []string{"info {nn}{n} visitors inside", "info gate {n} in={nn} out={nn}"}, warnings: []string{"warning gate {n} counter reset"}},
	{host: "tide-gw", app: "door-badge", facility: "authpriv", weight: 10, via: "tide-gw", way: "socket", pid: 77,
		routine:  []string{"info badge 7{nn}{n} accepted at door {door}, {staff}", "info door {door} closed"},
		warnings: []string{"warning badge 7{nn}{n} refused at door {door}: outside of shift hours"}},
	{host: "tide-gw", app: "tide-link", facility: "daemon", weight: 6, via: "tide-gw", way: "udp", pid: 130,
		routine:  []string{"info link to shore 9{n}.{n}% good, {nn} ms", "debug keepalive {nn}{nn}"},
		warnings: []string{"notice link switched to the second carrier", "warning {nn} packets lost within a minute"}},
}

// A fault is a story worth finding: what a program says, step by step, again and again.
type fault struct {
	program string
	first   time.Duration // after the start
	every   time.Duration
	steps   []step
}

type step struct {
	after time.Duration // since the step before
	says  string
}

var faults = []fault{
	{"pumpd", 8 * time.Second, 4 * time.Minute, []step{
		{0, `warning pump P07 bearing temperature 71.2 C, rising [pump@32473 id="P07" bearing="71.2"]`},
		{3 * time.Second, `warning pump P07 bearing temperature 84.9 C, rising [pump@32473 id="P07" bearing="84.9"]`},
		{2 * time.Second, `error pump P07 stalled at 212 rpm, fault code 0x41 [pump@32473 id="P07" rpm="212" code="0x41"]`},
		{time.Second, `critical loop reef has no flow, standby pump P08 does not start [pump@32473 id="P08" rpm="0"]`},
		{20 * time.Second, `notice pump P08 started by hand, loop reef flows again [pump@32473 id="P08" rpm="1450"]`},
	}},
	{"door-badge", 15 * time.Second, 3 * time.Minute, []step{
		{0, "warning badge 7714 refused at door D12: unknown"}, {time.Second, "warning badge 7714 refused at door D12: unknown"},
		{time.Second, "warning badge 7714 refused at door D12: unknown"}, {time.Second, "warning badge 7714 refused at door D12: unknown"},
		{time.Second, "alert door D12 forced open, badge 7714 was refused 4 times before"},
	}},
	{"ticketd", 12 * time.Second, 2 * time.Minute, []step{
		{0, "warning terminal 3 silent for 5 s"},
		{2 * time.Second, "error order 4471 failed: timeout\n  at pay.Terminal.authorize(terminal 3)\n  at basket.Basket.pay(order 4471)\n  at kiosk.Screen.onTap(confirm)"},
		{3 * time.Second, "notice terminal 3 answers again"},
	}},
}

// fill fills in what a text leaves open. A named value is the same in the
// text and in its structured data; {n} and {nn} are new each time.
func fill(text string, rnd *rand.Rand) string {
	number := func(from, below int) string { return strconv.Itoa(from + rnd.IntN(below-from)) }
	staff := []string{"amara", "bjorn", "chidi", "dalia", "noor", "otto"}
	text = strings.NewReplacer(
		"{pump}", fmt.Sprintf("P%02d", 1+rnd.IntN(12)), "{tank}", fmt.Sprintf("T%02d", 1+rnd.IntN(24)), "{door}", fmt.Sprintf("D%02d", 1+rnd.IntN(20)),
		"{staff}", staff[rnd.IntN(len(staff))], "{rpm}", number(1400, 1500), "{winding}", number(40, 50)+"."+number(0, 10),
		"{vibration}", "0."+number(10, 60), "{items}", number(2, 7),
	).Replace(text)
	for strings.Contains(text, "{nn}") {
		text = strings.Replace(text, "{nn}", number(10, 100), 1)
	}
	for strings.Contains(text, "{n}") {
		text = strings.Replace(text, "{n}", number(1, 10), 1)
	}
	return text
}

// message makes one syslog message of "severity text [data]".
func (p *program) message(says string, now time.Time) []byte {
	severity, text, _ := strings.Cut(says, " ")
	priority, _ := record.ParsePriority(p.facility + "." + severity)
	r := record.Record{Time: record.StampOf(now.Truncate(time.Microsecond)), Priority: priority, Host: []byte(p.host), App: []byte(p.app), ProcID: strconv.AppendInt(nil, int64(p.pid), 10)}
	if at := strings.LastIndex(text, " ["); at >= 0 && strings.HasSuffix(text, "]") {
		r.Data, text = []byte(text[at+1:]), text[:at]
	}
	r.Text = []byte(text)
	if p.old {
		return wire.AppendRFC3164Line(nil, &r)
	}
	return wire.AppendRFC5424(nil, &r)
}
