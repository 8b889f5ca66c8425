package tend

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakbarrel/core/plan"
)

// tends returns a plan that tends files in a folder, which DIR stands for.
func tends(t *testing.T, dir, settings string) *plan.Plan {
	t.Helper()
	text := "oakbarrel: 1\nintakes: {own: {own: {}}}\nrules: []\notherwise: {drop: true}\noutlets: {}\ntend: {kiosk: {" + strings.ReplaceAll(settings, "DIR", dir) + "}}\n"
	p, findings := plan.Parse("plan.yaml", []byte(text))
	if p == nil {
		t.Fatalf("%s: %v", text, findings)
	}
	return p
}

func once(p *plan.Plan, dry bool) (did []string) {
	Once(context.Background(), p, dry, func(a Action) {
		did = append(did, strings.TrimSpace(a.Action+" "+filepath.Base(a.Path)+" "+a.Why))
	})
	return did
}

func has(did []string, want string) bool { return strings.Contains(strings.Join(did, "\n"), want) }

// A pass rolls what is due, tells the program, and removes what keep says; a dry
// one only tells what it would do.
func TestAPassDoesWhatThePlanSays(t *testing.T) {
	dir := t.TempDir()
	live := filepath.Join(dir, "kiosk.log")
	fill := func() {
		t.Helper()
		if err := os.WriteFile(live, []byte(strings.Repeat("a line of the kiosk\n", 200)), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	fill()
	p := tends(t, dir, `paths: ["DIR/*.log"], roll: {size: 1KiB}, keep: {pieces: 2}, how: rename, settle: 100ms, after: {command: [touch, DIR/told]}`)
	if did := once(p, true); !has(did, "rolled kiosk.log") {
		t.Errorf("dry: %q", did)
	}
	if _, err := os.Stat(filepath.Join(dir, "told")); err == nil {
		t.Error("a dry pass has told the program")
	}
	for range 4 {
		fill()
		if did := once(p, false); !has(did, "rolled kiosk.log") || !has(did, "told ") || has(did, "failed") {
			t.Errorf("%q", did)
		}
	}
	pieces, _ := filepath.Glob(filepath.Join(dir, "kiosk-*"))
	if len(pieces) != 2 {
		t.Errorf("%q are kept", pieces)
	}
	if err := os.WriteFile(live, []byte("little\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if did := once(p, false); !has(did, "left kiosk.log") {
		t.Errorf("what is not due: %q", did)
	}
}

// What a program cannot be told is told as failed, and whom a pid file names that
// is not its owner's is not signalled.
func TestWhatCannotBeDoneIsTold(t *testing.T) {
	sleeper := exec.Command("sleep", "60")
	if err := sleeper.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- sleeper.Wait() }()
	for _, c := range []struct{ after, pid, want string }{
		{`command: [sh, -c, "echo it is broken; exit 3"]`, "", "it is broken"},
		{`command: [sleep, "30"], within: 1s`, "", "did not end within 1s"},
		{`signal: USR1, pid_file: DIR/pid`, "no number", "does not hold the id of a process"},
		{`signal: USR1, pid_file: DIR/pid`, "999999999", "which does not run"},
		{`signal: USR1, pid_file: DIR/none`, "", "no such file"},
		{`signal: TERM, pid_file: DIR/pid`, fmt.Sprint(sleeper.Process.Pid), "told"},
	} {
		dir := t.TempDir()
		if c.pid != "" {
			os.WriteFile(filepath.Join(dir, "pid"), []byte(c.pid+"\n"), 0o644)
		}
		os.WriteFile(filepath.Join(dir, "a.log"), []byte(strings.Repeat("x\n", 1000)), 0o600)
		p := tends(t, dir, `paths: [DIR/a.log], roll: {size: 1KiB}, keep: {pieces: 2}, how: rename, settle: 50ms, after: {`+c.after+`}`)
		if did := once(p, false); !has(did, c.want) {
			t.Errorf("%s: %q, want %s", c.after, did, c.want)
		}
	}
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		t.Error("the process was not signalled")
		sleeper.Process.Kill()
	}
}

// A keeper follows the plan that is in force, tells how the files are, and rolls
// them when somebody asks.
func TestAKeeperFollowsThePlan(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a.log", "b.log"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("little\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	plans := make(chan []plan.Tend, 1)
	inForce := tends(t, dir, `paths: [DIR/a.log], roll: {size: 1MiB}, keep: {pieces: 2}, how: copy`).Tends
	k := NewKeeper(slog.New(slog.NewTextHandler(io.Discard, nil)), func() []plan.Tend {
		select {
		case inForce = <-plans:
		default:
		}
		return inForce
	}, func(string) bool { return false })
	ctx, end := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { k.Run(ctx); close(done) }()
	rolled, err := k.Roll(ctx, "kiosk")
	if err != nil || len(rolled) != 1 || !rolled[0].Rolled {
		t.Errorf("%+v %v", rolled, err)
	}
	plans <- tends(t, dir, `paths: [DIR/b.log], roll: {size: 1MiB}, keep: {pieces: 2}, how: copy`).Tends
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if files := k.Files(); len(files) == 1 && files[0].Path == filepath.Join(dir, "b.log") && files[0].LiveBytes == 7 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%+v", k.Files())
		}
	}
	if _, known := k.Tally(filepath.Join(dir, "b.log")); !known {
		t.Error("the file is not known")
	}
	if _, known := k.Tally(filepath.Join(dir, "a.log")); known {
		t.Error("a file that is tended no more is known")
	}
	end()
	<-done
	if _, err := k.Roll(ctx, "kiosk"); err == nil {
		t.Error("it rolls after its end")
	}
}
