package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

const webPlan = `oakbarrel: 1
host: kelp-01
intakes:
  wire: {syslog: {udp: "127.0.0.1:0", tcp: "127.0.0.1:0", decode: [access, json]}}
  web: {files: {paths: [DIR/access.log], decode: access}, label: {app: nginx}}
rules:
  - {when: 'field status >= 400', send: [faults]}
  - {when: 'app is cart', decode: keyvalue, label: {app: '{field service}'}, send: [all]}
otherwise: {send: [all]}
outlets:
  all: {file: {path: DIR/all.log, keep: forever}}
  faults: {file: {path: DIR/faults.log, format: '{host} {app} {field status} {field path} {intake}', keep: forever}}
`

const nginxLogs = `worker_processes 1;
pid DIR/nginx.pid;
error_log DIR/error.log;
events {}
http {
  access_log DIR/access.log combined;
  access_log syslog:server=127.0.0.1:UDP,nohostname,tag=nginx combined;
  server { listen 127.0.0.1:PORT; root DIR; }
}
`

// What a web server writes into its file, and sends by syslog, is the same record twice:
// with its fields, its time, and the host that it is of.
func TestAccessLinesOfAWebServer(t *testing.T) {
	need(t, "nginx")
	h := newHost(t, webPlan)
	h.start()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().String()[strings.LastIndex(l.Addr().String(), ":")+1:]
	l.Close()
	udp := h.address("udp")
	config := strings.NewReplacer("DIR", h.dir, "PORT", port, "UDP", udp[strings.LastIndex(udp, ":")+1:]).Replace(nginxLogs)
	os.WriteFile(h.dir+"/nginx.conf", []byte(config), 0o644)
	os.Chmod(h.dir, 0o755) // its workers are of another user
	server := exec.Command("nginx", "-p", h.dir, "-c", h.dir+"/nginx.conf", "-g", "daemon off;")
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { server.Process.Kill(); server.Wait() }()
	get := func(path string) {
		request, _ := http.NewRequest("GET", "http://127.0.0.1:"+port+path, nil)
		request.Header.Set("User-Agent", `probe "1"`)
		request.Header.Set("Referer", "https://bay.example/")
		h.eventually("the web server answers", func() bool {
			answer, err := http.DefaultClient.Do(request)
			if err == nil {
				answer.Body.Close()
			}
			return err == nil
		})
	}
	get("/plan.yaml?a=b%20c")
	for _, line := range h.waitForLines("all.log", 2)[:2] {
		var r struct {
			Host, App, Text string
			Time            time.Time
			Fields          map[string]any
		}
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			t.Fatal(err)
		}
		f := r.Fields
		if r.Host != map[bool]string{true: "kelp-01", false: "127.0.0.1"}[strings.Contains(line, `"intake":"web"`)] || r.App != "nginx" || time.Since(r.Time) > time.Minute || time.Since(r.Time) < -time.Second || !strings.Contains(r.Text, "GET /plan.yaml") {
			t.Errorf("%s", line)
		}
		if fmt.Sprintln(f["client"], f["method"], f["path"], f["status"], f["bytes"].(float64) > 100, f["referrer"], f["agent"]) != `127.0.0.1 GET /plan.yaml?a=b%20c 200 true https://bay.example/ probe \x221\x22`+"\n" {
			t.Errorf("its fields are %v", f)
		}
	}
	get("/nothing")
	if got := strings.Join(h.waitForLines("faults.log", 2), "\n"); !strings.Contains(got, "kelp-01 nginx 404 /nothing web") || !strings.Contains(got, "127.0.0.1 nginx 404 /nothing wire") {
		t.Errorf("%s", got)
	}
	out := expect(t, 0, "nginx", "", "plan", "try", h.plan, "--intake", "web", "--file", h.dir+"/access.log")
	if !strings.Contains(out, "client=") {
		t.Errorf("%s", out)
	}
}

// What programs say over the wire is taken apart by the intake, and by a rule; a trace of
// several lines is one record.
func TestTextsOverTheWireAreTakenApart(t *testing.T) {
	h := newHost(t, webPlan)
	h.start()
	h.send("udp", `<14>1 - kelp-01 till - - - {"level":"fatal","msg":"no paper","till":4}`)
	h.send("udp", `<14>1 - kelp-01 cart - - - service=checkout level=WRN msg="cart is full"`)
	h.send("tcp", "<11>1 - kelp-01 feed - - - java.lang.IllegalStateException: no krill\n\tat Feed.open(Feed.java:7)\nCaused by: java.io.IOException: x\n<14>1 - kelp-01 feed - - - next\n")
	got := strings.Join(h.waitForLines("all.log", 4), "\n")
	for _, want := range []string{`"severity":"critical","host":"kelp-01","agent":"kelp-01","app":"till","text":"no paper","fields":{"level":"fatal","till":4}`,
		`"severity":"warning","host":"kelp-01","agent":"kelp-01","app":"checkout","text":"cart is full","fields":{"level":"WRN","service":"checkout"}`,
		`"severity":"error","host":"kelp-01","agent":"kelp-01","app":"feed","text":"java.lang.IllegalStateException: no krill\n\tat Feed.open(Feed.java:7)\nCaused by: java.io.IOException: x"`, `"text":"next"`} {
		if !strings.Contains(got, want) {
			t.Errorf("%s is missing in\n%s", want, got)
		}
	}
	if s := h.status(); !s.Balance.Closes {
		t.Errorf("%+v", s.Balance)
	}
	out := expect(t, 0, "decode access: does not fit", "", "plan", "explain", h.plan, "--intake", "wire", "--line", `<14>1 - kelp-01 till - - - {"level":"fatal","msg":"no paper"}`)
	if !strings.Contains(out, "decode json: fits") || !strings.Contains(out, "no paper") {
		t.Errorf("%s", out)
	}
}
