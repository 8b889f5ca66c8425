package figures

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/balance"
	"oakbarrel/core/container"
	"oakbarrel/core/delay"
	"oakbarrel/core/forecast"
	"oakbarrel/core/route"
	"oakbarrel/core/tail"
	"oakbarrel/metrics"
)

// whole is a status with something of everything.
func whole() client.Status {
	at := time.Date(2026, 11, 29, 10, 0, 0, 0, time.UTC)
	h := new(delay.Histogram)
	h.Observe(20 * time.Millisecond)
	return client.Status{
		Host: "reef-02", Version: client.Version{Version: "9.1"}, Since: at, Plan: client.PlanStatus{ReadAt: at, Refused: &client.Refusal{}, Served: &client.ServedPlan{State: client.TakenBack}},
		Intakes: []client.IntakeStatus{
			{Name: "wire", Kind: "syslog", Intake: balance.Intake{Read: 10, Passed: 7, Unreadable: 1, Limited: 2, Missed: 3}, Connections: 2, LastRecord: &at},
			{Name: "wire", Kind: "syslog", Intake: balance.Intake{Read: 5, Passed: 5}, Leaving: true, Trouble: "no room"},
		},
		Rules:   balance.Rules{In: 12, Routed: 8, Dropped: 4, Limited: 1, Folded: 2},
		Matched: []route.Matched{{Rule: "otherwise", Records: 3}, {Rule: "bad\xff", Records: 5}, {Rule: "", Records: 2}},
		Outlets: []client.OutletStatus{{Name: "all", Kind: "store", Outlet: balance.Outlet{In: 8, Out: 4, Shed: 1, Refused: 1, Held: 2}, HeldSince: &at, Rolls: 4, Delay: h.Seen(), Trouble: "away"}},
		Pauses:  []client.Pause{{Outlet: "all"}}, Details: []client.Detail{{Rule: "x"}}, Damaged: []client.Damage{{}}, Forks: []client.ForkStatus{{}},
		Tended:     []client.TendedFile{{Tend: "kiosk", LiveBytes: 10, PieceBytes: 5, Trouble: "no"}, {Tend: "kiosk", LiveBytes: 1}},
		Containers: []client.ContainerStatus{{Intake: "boxes", Read: true, Advice: []container.Advice{{}, {}}}, {Intake: "boxes"}},
		Forecast:   forecast.Report{Disks: []forecast.Disk{{Folder: "/var/log", Size: 100, Free: 40, Floor: 5, BytesPerDay: 86400, Full: &at}}},
		Faults:     []client.Fault{{Part: "outlet all", Count: 2, Lost: 9}}, Memory: client.MemoryStatus{Limit: 7, Used: 3, TurnedAway: 1},
	}
}

func served(t *testing.T, status client.Status, followed []client.FollowedFile) string {
	t.Helper()
	s, err := metrics.Listen("127.0.0.1:0", slog.New(slog.DiscardHandler), Of(func() client.Status { return status }, func() []client.FollowedFile { return followed }))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	answer, err := http.Get("http://" + s.Address() + metrics.Path)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(body)
}

func TestAStatusAsFigures(t *testing.T) {
	body := served(t, whole(), []client.FollowedFile{{Intake: "logs", File: tail.File{Behind: 5, State: tail.Reading}, BehindSeconds: 2}, {Intake: "logs", File: tail.File{Behind: 7, State: tail.Reading}, BehindSeconds: 1}})
	for _, want := range []string{
		`oakbarrel_agent_info{host="reef-02",version="9.1"} 1`,
		`oakbarrel_intake_records_total{fate="passed",intake="wire",kind="syslog"} 12`,
		`oakbarrel_intake_records_total{fate="limited",intake="wire",kind="syslog"} 2`,
		`oakbarrel_intake_trouble{intake="wire",kind="syslog"} 1`,
		`oakbarrel_rules_records_total{fate="dropped"} 1`,
		`oakbarrel_rule_records_total{rule="otherwise"} 3`,
		"oakbarrel_rule_records_total{rule=\"bad\uFFFD\"} 5",
		`oakbarrel_otherwise_records_total 2`,
		`oakbarrel_outlet_records_total{fate="shed",kind="store",outlet="all"} 1`,
		`oakbarrel_outlet_delay_seconds_bucket{kind="store",outlet="all",le="0.025"} 1`,
		`oakbarrel_outlet_paused{kind="store",outlet="all"} 1`,
		`oakbarrel_followed_behind_bytes{intake="logs"} 12`,
		`oakbarrel_followed_behind_seconds{intake="logs"} 2`,
		`oakbarrel_container_advice{intake="boxes"} 1`,
		`oakbarrel_tended_bytes{tend="kiosk"} 16`,
		`oakbarrel_disk_growth_bytes_per_second{folder="/var/log"} 1`,
		`oakbarrel_disk_full_time_seconds{folder="/var/log"} 1.7959464e+09`,
		`oakbarrel_fault_lost_records_total{part="outlet all"} 9`,
	} {
		if !strings.Contains(body, "\n"+want) {
			t.Errorf("there is no %s", want)
		}
	}
	for _, f := range Families { // none is listed that is never told
		if !strings.Contains(body, "# TYPE "+f.Name+" ") {
			t.Errorf("%s is listed and not told", f.Name)
		}
	}
}

// What is hostile in a status makes no more figures than its bounds.
func TestTheFiguresAreBounded(t *testing.T) {
	s := whole()
	for i := range 500 {
		s.Matched = append(s.Matched[:max(0, min(i, 499))], route.Matched{Rule: fmt.Sprint("rule ", i), Records: 1})
	}
	var followed []client.FollowedFile
	for i := range 10_000 {
		followed = append(followed, client.FollowedFile{Intake: "logs", File: tail.File{Path: fmt.Sprint("/var/log/", i), State: tail.AtEnd}})
	}
	if lines := strings.Count(served(t, s, followed), "\noakbarrel_"); lines > 700 {
		t.Errorf("%d figures", lines)
	}
}
