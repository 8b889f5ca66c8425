package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/roll"
)

const filesPlan = `oakbarrel: 1
zone: Europe/Lisbon
intakes: {wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0"}}}
rules: [{when: severity at least error, send: [errors]}]
otherwise: {send: [apps]}
outlets:
  errors: {file: {path: DIR/errors.log, format: '{time} {severity upper width 9} {text}', roll: {size: 200B}, keep: {pieces: 50}, compress: {zstd: 9}}}
  apps: {file: {path: 'DIR/apps/{app}.log', files: 3, format: '{severity}: {text}', roll: {size: 1MiB}, keep: {pieces: 5}, compress: gzip}}
`

func TestRollVerifyAndShow(t *testing.T) {
	h := newHost(t, filesPlan)
	h.start()
	for i := range 20 {
		h.send("tcp", fmt.Sprintf("<11>1 2026-11-25T10:%02d:00Z - pumpd - - - error %d", i, i)+"\n")
	}
	h.eventually("all are written", func() bool { return h.status().Outlets[0].Out == 20 })
	out := expect(t, 0, "", "", "roll", "--state", h.state, "errors")
	if !strings.HasPrefix(out, "errors: "+h.dir+"/errors-") {
		t.Errorf("roll says %s", out)
	}
	if out := expect(t, 1, "", "", "roll", "--state", h.state, "errors"); !strings.Contains(out, "the live file is empty") {
		t.Errorf("roll again says %s", out)
	}
	expect(t, 1, "", "the plan has no outlet", "roll", "--state", h.state, "error")
	var v roll.Verdict
	h.eventually("the last piece is compressed and in the tally", func() bool {
		out, _, _ := run(t, "verify", "errors", "--state", h.state, "--output", "json")
		plain, _ := filepath.Glob(h.dir + "/errors-*.log")
		return json.Unmarshal([]byte(out), &v) == nil && v.OK && v.Records == 20 && len(plain) == 0
	})
	if s := h.status().Outlets[0]; s.TallyHash != v.Hash || s.TallyLines != v.Lines || v.Lines != s.Pieces {
		t.Errorf("the status has %d lines, %s, verify %d, %s", s.TallyLines, s.TallyHash, v.Lines, v.Hash)
	}
	out = expect(t, 0, "", "", "show", "errors", "--state", h.state, "--since", "2026-11-25T10:05:00Z", "--until", "2026-11-25T10:07:00Z", "--output", "json")
	if strings.Count(out, "\n") != 2 || !strings.Contains(out, `"severity":"error","text":"error 5"`) || !strings.Contains(out, `"error 6"`) {
		t.Errorf("show says %s", out)
	}
	out = expect(t, 0, "", "", "forecast", "--state", h.state)
	if !strings.Contains(out, "AT MOST") || !strings.Contains(out, "keep allows") || !regexp.MustCompile(`errors +[0-9.]+ ([KM]i)?B`).MatchString(out) {
		t.Errorf("forecast says %s", out)
	}
	h.stop()
	h.setPlan(strings.Replace(filesPlan, "{time} {severity upper width 9} {text}", "json", 1)) // the pieces are of the format before
	h.start()
	h.send("tcp", "<11>1 2026-11-25T11:00:00Z - pumpd - - - in JSON\n")
	h.eventually("it is written", func() bool { return h.status().Outlets[0].Out == 1 })
	if out := expect(t, 0, "", "", "show", "errors", "--state", h.state, "--where", `severity is error and text contains "in" or text is "error 3"`, "--output", "json"); strings.Count(out, "\n") != 2 {
		t.Errorf("show says %s", out)
	}
	expect(t, 0, "", "", "verify", h.dir+"/errors.log", "--expect", v.Hash)
	pieces, _ := roll.Pieces(h.dir + "/errors.log")
	expect(t, 0, "", "", "verify", pieces[2].Path)
	if out := expect(t, 0, "", "", "show", pieces[2].Path, "--state", h.state, "--output", "json"); !strings.Contains(out, `"severity":"error"`) || strings.Count(out, "\n") > 5 {
		t.Errorf("show of one piece says %s", out)
	}
	os.Remove(pieces[3].Path)
	if out := expect(t, 1, "", "", "verify", h.dir+"/errors.log"); !strings.Contains(out, strings.TrimSuffix(pieces[3].Path, ".zst")+": it was removed, and not by keep") {
		t.Errorf("verify says %s", out)
	}
	expect(t, 3, "", "does not exist", "verify", h.dir+"/none.log")
	expect(t, 2, "", "64 hexadecimal digits", "verify", h.dir+"/errors.log", "--expect", "x")
}

func TestOneOutletWritesManyFilesAndNoneOutsideOfItsFolder(t *testing.T) {
	h := newHost(t, filesPlan)
	h.start()
	for _, app := range []string{"pumpd", "../../../tmp/evil", "..", "ticketd", "valve-ctl", "pumpd"} {
		h.send("tcp", fmt.Sprintf("<14>1 - - %s - - - of %s\n", app, app))
	}
	h.eventually("all are written", func() bool { return h.status().Outlets[1].Out == 6 })
	files := func() (names []string) {
		entries, _ := os.ReadDir(h.dir + "/apps")
		for _, e := range entries {
			names = append(names, e.Name())
		}
		return names
	}
	if got := fmt.Sprint(files()); got != "[_..__.._tmp_evil.log _..log pumpd.log other.log]" && got != "[_.log _._.._.._tmp_evil.log other.log pumpd.log]" && !strings.Contains(got, "other.log pumpd.log]") {
		t.Errorf("the files are %s", got)
	}
	if text, _ := os.ReadFile(h.dir + "/apps/other.log"); string(text) != "info: of ticketd\ninfo: of valve-ctl\n" {
		t.Errorf("the rest is %q", text)
	}
	if s := h.status().Outlets[1]; s.Files != 4 || s.Path != h.dir+"/apps/{app}.log" {
		t.Errorf("%+v", s)
	}
	expect(t, 0, "", "", "roll", "--state", h.state, "apps")
	h.stop()
	if pieces, _ := filepath.Glob(h.dir + "/apps/*Z.log*"); len(pieces) != 4 {
		t.Errorf("the pieces are %s", pieces)
	}
	h.start() // and keeps what an earlier run has left
	if s := h.status().Outlets[1]; s.Files != 4 || s.Pieces != 4 {
		t.Errorf("%+v", s)
	}
	all := expect(t, 0, "", "", "show", "apps", "--state", h.state)
	if lines := strings.Split(strings.TrimSpace(all), "\n"); len(lines) != 6 || !strings.Contains(all, "info: of ticketd\n") {
		t.Errorf("the files of the outlet together are %q", all)
	}
	expect(t, 3, "", "which does not hold app: it holds severity, text", "show", "apps", "--state", h.state, "--where", "app is pumpd")
	expect(t, 3, "", "which does not hold time", "show", "apps", "--state", h.state, "--since", "1h")
	if out := expect(t, 0, "", "", "show", "apps", "--state", h.state, "--where", `"of pumpd"`, "--last", "1", "--output", "json"); out != `{"severity":"info","text":"of pumpd"}`+"\n" {
		t.Errorf("as JSON: %s", out)
	}
	if out := expect(t, 0, "", "", "show", h.dir+"/apps/pumpd.log", "--state", h.state); out != "info: of pumpd\ninfo: of pumpd\n" {
		t.Errorf("show says %q", out)
	}
}

func TestTheFilesOfDaysThatAreOverArePiecesAndGo(t *testing.T) {
	h := newHost(t, strings.NewReplacer("DIR/apps/{app}.log", "DIR/apps/{date}/{app}.log", "keep: {pieces: 5}", "keep: {days: 7}").Replace(filesPlan))
	for day, age := range map[string]int{"2026-01-01": 30, time.Now().AddDate(0, 0, -2).Format(time.DateOnly): 2} {
		os.MkdirAll(h.dir+"/apps/"+day, 0o755)
		os.WriteFile(h.dir+"/apps/"+day+"/pumpd.log", []byte("info: of "+day+"\n"), 0o600)
		stamp := time.Now().AddDate(0, 0, -age).UTC().Format("20060102T150405Z")
		os.WriteFile(h.dir+"/apps/"+day+"/pumpd-"+stamp+".log", []byte("info: a piece\n"), 0o600)
	}
	h.start()
	h.eventually("the old live files are pieces, and what is too old is gone", func() bool {
		live, _ := filepath.Glob(h.dir + "/apps/*/pumpd.log")
		pieces, _ := filepath.Glob(h.dir + "/apps/*/pumpd-*.log.gz")
		return len(live) == 0 && len(pieces) == 3
	})
	out := expect(t, 0, "", "", "verify", h.dir+"/apps/2026-01-01/pumpd.log")
	if !strings.Contains(out, "1 piece removed, as keep says") {
		t.Errorf("verify says %s", out)
	}
}

func TestPreview(t *testing.T) {
	h := newHost(t, filesPlan)
	var v struct {
		Outlet, Line, Live string
		Next               []struct{ At, Path string }
		Ceiling            *int64
	}
	out := expect(t, 0, "", "", "plan", "preview", h.plan, "errors", "--line", "<11>1 2026-11-25T10:00:00Z - - - - - it fails", "--output", "json")
	if err := json.Unmarshal([]byte(out), &v); err != nil {
		t.Fatal(err)
	}
	if v.Line != "2026-11-25T10:00:00Z ERROR     it fails" || v.Live != h.dir+"/errors.log" || len(v.Next) != 1 || !regexp.MustCompile(`/errors-\d{8}T\d{6}Z\.log\.zst$`).MatchString(v.Next[0].Path) || *v.Ceiling != 51*200 {
		t.Errorf("%+v", v)
	}
	if out := expect(t, 0, "", "", "plan", "preview", h.plan, "apps"); !strings.Contains(out, "into "+h.dir+"/apps/pumpd.log\n") {
		t.Errorf("%s", out)
	}
	expect(t, 3, "", "has no file outlet", "plan", "preview", h.plan, "none")
}

// A piece waits until the store has what it holds, and goes then.
func TestPiecesWaitForTheStore(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
service: {url: "http://127.0.0.1:1", token_file: DIR/token}
intakes: {wire: {syslog: {tcp: "127.0.0.1:0"}}}
otherwise: {send: [all, centre]}
outlets:
  all: {file: {path: DIR/all.log, roll: {size: 300B}, keep: {pieces: 1, until: [centre]}}}
  centre: {store: {cask: gateway}}
`)
	os.WriteFile(h.dir+"/token", []byte("x"), 0o600)
	h.start()
	for i := range 10 {
		h.send("tcp", fmt.Sprintf("<14>pumpd: %d%s\n", i, strings.Repeat(".", 150)))
		time.Sleep(20 * time.Millisecond)
	}
	h.eventually("the files are rolled", func() bool { return h.status().Outlets[0].Pieces >= 5 })
	time.Sleep(300 * time.Millisecond)
	if n := h.status().Outlets[0].Pieces; n < 5 {
		t.Fatalf("%d pieces are left that the store does not have", n)
	}
	h.setPlan(`oakbarrel: 1
intakes: {wire: {syslog: {tcp: "127.0.0.1:0"}}}
otherwise: {send: [all]}
outlets: {all: {file: {path: DIR/all.log, roll: {size: 300B}, keep: {pieces: 1}}}}
`)
	h.reload()
	h.eventually("they are removed when nobody is owed", func() bool { return h.status().Outlets[0].Pieces == 1 })
}

func TestTheFilesOfAHostInTheConsole(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	s.account("noor", "operator")
	h := s.host("gateway", s.token("gateway", "write"))
	plan, _ := os.ReadFile(h.plan)
	h.setPlan(strings.Replace(string(plan), "send: [centre]}\noutlets:", "send: [centre, all]}\noutlets:\n  all: {file: {path: DIR/all.log, format: '{time} {text}', roll: {size: 1KiB}, keep: {pieces: 10}, compress: zstd}}", 1))
	h.start()
	for i := range 40 {
		h.send("tcp", fmt.Sprintf("<14>1 2026-11-25T10:00:%02dZ - ticketd - - - sale %d of the day%s\n", i, i, strings.Repeat(".", 40)))
	}
	h.eventually("all are written, and the pieces are in the tally", func() bool {
		all := h.status().Outlets[0]
		return all.Out == 40 && all.Pieces > 1 && all.TallyLines == all.Pieces
	})
	b := newBrowser(t, "http://"+s.address)
	b.signIn("noor", "lantern-light")
	b.waitForText("Records in the store")
	b.click("a[href^='/hosts/']")
	b.waitForText("keep allows 11.0 KiB")
	b.click("li > button[aria-expanded]")
	press := func(name string) {
		b.waitFor(fmt.Sprintf(`([...document.querySelectorAll("li button")].find((x) => x.innerText === %q && !x.disabled)?.click(), true)`, name))
	}
	b.waitForText("Last lines")
	press("Last lines")
	b.waitForText("sale 39 of the day")
	press("Pieces")
	b.waitForText("in it")
	press("Roll now")
	b.waitForText("rolled into")
	h.eventually("the new piece is in the tally", func() bool { all := h.status().Outlets[0]; return all.TallyLines == all.Pieces })
	press("Verify")
	b.waitForText("are as the tally has them")
	b.fits("a host's files")
	pieces, _ := roll.Pieces(h.dir + "/all.log")
	os.WriteFile(pieces[0].Path, []byte("something else\n"), 0o600)
	press("Verify")
	b.waitForText("▲ " + pieces[0].FileName())
	b.size(390, 800)
	b.fits("a host's files, 390 wide")

	admin := s.token("*", "admin")
	operator, err := client.New(client.Options{URLs: []string{s.url()}, Token: func() (string, error) { return admin, nil }})
	if err != nil {
		t.Fatal(err)
	}
	id := h.status().AgentID
	order := func(what client.NewOrder) client.Outcome {
		given, err := operator.GiveOrder(t.Context(), id, what)
		if err != nil {
			t.Fatal(err)
		}
		var o client.Order
		h.eventually("the order is done", func() bool { o, err = operator.Order(t.Context(), id, given.ID); return err == nil && o.Done != nil })
		return o.Outcome
	}
	for _, kind := range []client.OrderKind{client.TellPieces, client.LastLines, client.VerifySet} {
		if o := order(client.NewOrder{Kind: kind, Path: "/etc/passwd"}); o.Why != "the agent has no rolled set of that path" || o.Lines != nil {
			t.Errorf("%s of a file that is none of the agent's: %+v", kind, o)
		}
	}
	if o := order(client.NewOrder{Kind: "roll", Outlet: "none"}); o.Why == "" {
		t.Errorf("%+v", o)
	}

	told := fmt.Sprintf(`"tally_lines":%d`, h.status().Outlets[0].TallyLines)
	h.eventually("the service knows the tally", func() bool {
		h.send("tcp", "<14>x: a batch brings the status along\n")
		b.open("/api/v1/status")
		return strings.Contains(b.text(), told)
	})
	h.stop() // whoever rewrites the tally meanwhile has not rewritten what the service knows
	tally, _ := os.ReadFile(h.dir + "/all.log.tally")
	end := bytes.LastIndexByte(tally[:len(tally)-1], '\n') + 1
	os.WriteFile(h.dir+"/all.log.tally", tally[:end], 0o640)
	h.start()
	b.size(1280, 800)
	b.open("/hosts/" + id)
	b.waitForText("the tally of " + h.dir + "/all.log: ") // cut short, or written anew, as the agent comes to report
}

const nginxConfig = `worker_processes 2;
pid DIR/nginx.pid;
error_log DIR/error.log;
events { worker_connections 256; }
http {
  access_log DIR/access.log;
  client_body_temp_path DIR/t1; proxy_temp_path DIR/t2; fastcgi_temp_path DIR/t3; uwsgi_temp_path DIR/t4; scgi_temp_path DIR/t5;
  server { listen 127.0.0.1:PORT; location / { return 204; } }
}
`

// OAKBARREL_ROLLS makes it more than twenty rolls.
func TestTheAccessLogOfAWebServerIsTendedWithoutLoss(t *testing.T) {
	rolls := 20
	if n, err := strconv.Atoi(os.Getenv("OAKBARREL_ROLLS")); err == nil {
		rolls = n
	}
	h := newHost(t, `oakbarrel: 1
otherwise: {drop: true}
tend:
  web:
    paths: [DIR/access.log]
    roll: {size: 1B}
    keep: forever
    compress: zstd
    how: rename
    after: {signal: USR1, pid_file: DIR/nginx.pid}
    settle: 50ms
`)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	_, port, _ := net.SplitHostPort(address)
	l.Close()
	config := strings.NewReplacer("DIR", h.dir, "PORT", port).Replace(nginxConfig)
	if os.Getuid() == 0 {
		config = "user root;\n" + config
	}
	os.WriteFile(h.dir+"/nginx.conf", []byte(config), 0o644)
	server := exec.Command("nginx", "-p", h.dir, "-c", h.dir+"/nginx.conf", "-g", "daemon off;")
	server.Stderr = h.log
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		server.Process.Signal(syscall.SIGTERM)
		server.Wait()
	}()
	h.eventually("the server answers", func() bool {
		r, err := http.Get("http://" + address + "/ready")
		if err == nil {
			r.Body.Close()
		}
		return err == nil
	})
	stop := make(chan struct{})
	var asking sync.WaitGroup
	sent := make([]int, 2)
	for i := range sent {
		asking.Go(func() {
			for {
				select {
				case <-stop:
					return
				case <-time.After(time.Millisecond):
				}
				r, err := http.Get(fmt.Sprintf("http://%s/%d/%d", address, i, sent[i]))
				if err != nil {
					t.Error(err)
					return
				}
				io.Copy(io.Discard, r.Body)
				r.Body.Close()
				sent[i]++
			}
		})
	}
	for range rolls {
		expect(t, 0, "", "", "tend", "run", "--plan", h.plan)
	}
	close(stop)
	asking.Wait()
	server.Process.Signal(syscall.SIGTERM)
	server.Wait()
	var got [2][]int
	line := regexp.MustCompile(`"GET /(\d)/(\d+) HTTP`)
	set, err := roll.NewReader(h.dir+"/access.log", false)
	if err != nil {
		t.Fatal(err)
	}
	defer set.Close()
	for i := range set.Files() {
		set.Lines(i, func(text []byte) error {
			if m := line.FindSubmatch(text); m != nil {
				who, _ := strconv.Atoi(string(m[1]))
				n, _ := strconv.Atoi(string(m[2]))
				got[who] = append(got[who], n)
			}
			return nil
		})
	}
	for i := range sent {
		want := make([]int, sent[i])
		for n := range want {
			want[n] = n
		}
		slices.Sort(got[i]) // two workers of the server log what one client asks
		if !slices.Equal(got[i], want) {
			t.Errorf("of client %d there are %d requests, not each of %d once", i, len(got[i]), len(want))
		}
	}
	out := expect(t, 0, "", "", "verify", h.dir+"/access.log")
	if set.Files() < rolls {
		t.Errorf("%d files in %d rolls:\n%s", set.Files(), rolls, out)
	}
	t.Logf("%d requests in %d files; %s", sent[0]+sent[1], set.Files(), out)
}

func TestTendRunSaysWhatItWouldDo(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
otherwise: {drop: true}
tend: {kiosk: {paths: [DIR/*.txt], roll: {size: 10B}, keep: {pieces: 1}, how: copy}}
`)
	os.WriteFile(h.dir+"/a.txt", []byte("one line of text\n"), 0o600)
	os.WriteFile(h.dir+"/b.txt", nil, 0o600)
	os.Symlink("/etc/passwd", h.dir+"/c.txt")
	out := expect(t, 1, "", "", "tend", "run", "--plan", h.plan, "--dry-run")
	for _, want := range []string{"kiosk: would roll " + h.dir + "/a.txt: it has 17 bytes", "kiosk: left " + h.dir + "/b.txt: it is empty", "kiosk: cannot tend " + h.dir + "/c.txt: tend " + h.dir + "/c.txt: it is a link or no file at all"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing:\n%s", want, out)
		}
	}
	if found, _ := filepath.Glob(h.dir + "/a*"); len(found) != 1 {
		t.Errorf("a dry run leaves %s", found)
	}
	os.Remove(h.dir + "/c.txt")
	for range 3 {
		expect(t, 0, "", "", "tend", "run", "--plan", h.plan)
		os.WriteFile(h.dir+"/a.txt", []byte("one line of text\n"), 0o600)
	}
	if found, _ := filepath.Glob(h.dir + "/a-*"); len(found) != 1 {
		t.Errorf("keep leaves %s", found)
	}
	h.start() // an agent does it by itself, and tells
	h.eventually("the agent rolls it", func() bool {
		s := h.status()
		out, _, _ := run(t, "status", "--state", h.state)
		return strings.Contains(out, "tended files") && len(s.Tended) == 2 && s.Tended[0].Path == h.dir+"/a.txt" && s.Tended[0].LiveBytes == 0 && s.Tended[0].TallyLines == 7
	})
	os.WriteFile(h.dir+"/a.txt", []byte("short\n"), 0o600)
	if out := expect(t, 0, "", "", "roll", "kiosk", "--state", h.state); !strings.Contains(out, "kiosk: "+h.dir+"/a-") || !strings.Contains(out, "b.txt is not rolled: it is empty") {
		t.Errorf("roll says %s", out)
	}
}

// Where a disk has no more space than is to stay free, the oldest pieces of the
// agent on it go, whichever outlet they are of, and the tally tells.
func TestTheFloorOfADiskIsKeptFree(t *testing.T) {
	h := newHost(t, `oakbarrel: 1
disk: {floor: 50%}
intakes: {wire: {syslog: {tcp: "127.0.0.1:0"}}}
rules: [{when: severity is error, send: [first], then: done}]
otherwise: {send: [second]}
outlets:
  first: {file: {path: DIR/small/first.log, format: '{text}', roll: {size: 200KiB}, keep: forever}}
  second: {file: {path: DIR/small/second.log, format: '{text}', roll: {size: 200KiB}, keep: {pieces: 1000}}}
`)
	small := h.mountSmall("4m")
	h.start()
	conn := h.dial("tcp")
	say := func(priority, lines int) {
		for i := range lines {
			fmt.Fprintf(conn, "<%d>x: %04d%s\n", priority, i, strings.Repeat("y", 1000))
		}
	}
	say(11, 800) // the first outlet has the oldest pieces
	h.eventually("they are written", func() bool { return h.status().Outlets[0].Out == 800 })
	before := h.status().Outlets[0].Pieces
	time.Sleep(1100 * time.Millisecond)
	say(14, 1800)
	h.eventually("all is written, though the disk would not have held it", func() bool { return h.status().Outlets[1].Out == 1800 })
	s := h.status()
	if s.Outlets[0].Pieces >= before || s.Outlets[0].Shed+s.Outlets[1].Shed > 0 {
		t.Errorf("of %d pieces %d are left: %+v", before, s.Outlets[0].Pieces, s.Outlets)
	}
	var free syscall.Statfs_t
	syscall.Statfs(small, &free)
	if share := float64(free.Bavail) / float64(free.Blocks); share < 0.4 {
		t.Errorf("%.2f of the disk is free", share)
	}
	tally, err := roll.ReadTally(small + "/first.log")
	if err != nil || tally.Lines[len(tally.Lines)-1].Why != "floor" || tally.Lines[len(tally.Lines)-1].Records == 0 {
		t.Errorf("%+v, %v", tally, err)
	}
	expect(t, 0, "", "", "verify", "first", "--state", h.state)
	expect(t, 0, "", "", "verify", "second", "--state", h.state)
}
