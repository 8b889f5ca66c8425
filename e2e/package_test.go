package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// booted is a Debian with an init system of its own beside this one: its files are this
// machine's, and what it changes is gone with it.
type booted struct {
	t      *testing.T
	root   string
	leader string // the id of its first process, as this machine has it
	nspawn *exec.Cmd
}

// boot starts one in which the package that OAKBARREL_PACKAGE names can be installed.
func boot(t *testing.T) *booted {
	t.Helper()
	deb := os.Getenv("OAKBARREL_PACKAGE")
	if deb == "" {
		t.Skip("it takes a package: make package-test")
	}
	dir := t.TempDir()
	b := &booted{t: t, root: filepath.Join(dir, "root")}
	memory := filepath.Join(dir, "memory")
	for _, d := range []string{b.root, memory} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	mountSmall(t, memory, "4g")
	upper, work := filepath.Join(memory, "upper"), filepath.Join(memory, "work")
	os.Mkdir(upper, 0o755)
	os.Mkdir(work, 0o755)
	if err := syscall.Mount("overlay", b.root, "overlay", 0, "lowerdir=/,upperdir="+upper+",workdir="+work); err != nil {
		t.Skipf("a machine cannot be booted here: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(b.root, syscall.MNT_DETACH) })
	for _, file := range []string{"etc/machine-id", "usr/sbin/policy-rc.d"} {
		os.Remove(filepath.Join(b.root, file))
	}
	os.WriteFile(filepath.Join(b.root, "etc/machine-id"), nil, 0o444)
	b.copyIn(deb, "oakbarrel.deb")
	b.bootsAsAMachine()
	b.start()
	t.Cleanup(b.powerOff)
	return b
}

// bootsAsAMachine sets what a first process sets that is that of a whole machine: how many
// datagrams wait in a socket.
func (b *booted) bootsAsAMachine() {
	b.t.Helper()
	const file = "/proc/sys/net/unix/max_dgram_qlen"
	before, err := os.ReadFile(file)
	if err == nil {
		err = os.WriteFile(file, []byte("512"), 0o644)
	}
	if err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() { os.WriteFile(file, before, 0o644) })
}

func (b *booted) copyIn(from, name string) {
	b.t.Helper()
	content, err := os.ReadFile(from)
	if err == nil {
		os.MkdirAll(filepath.Join(b.root, "opt"), 0o755)
		err = os.WriteFile(filepath.Join(b.root, "opt", name), content, 0o755)
	}
	if err != nil {
		b.t.Fatal(err)
	}
}

// start boots it, also anew.
func (b *booted) start() {
	b.t.Helper()
	nspawn := exec.Command("systemd-nspawn", "-q", "-D", b.root, "--register=no", "--keep-unit", "--console=pipe", "-b")
	nspawn.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := nspawn.Start(); err != nil {
		b.t.Skipf("a machine cannot be booted here: %v", err)
	}
	b.nspawn = nspawn
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(200 * time.Millisecond) {
		if b.leader = childOf(nspawn.Process.Pid, "systemd"); b.leader == "" {
			continue
		}
		if out, _ := b.try("systemctl", "is-system-running"); strings.HasPrefix(out, "running") || strings.HasPrefix(out, "degraded") {
			return
		}
	}
	b.t.Fatal("it does not boot")
}

// reboot powers it off and starts it again, with what its disk has.
func (b *booted) reboot() {
	b.t.Helper()
	b.powerOff()
	b.start()
}

func (b *booted) powerOff() {
	nspawn := b.nspawn
	if b.leader != "" {
		b.try("systemctl", "poweroff")
		b.leader = ""
	}
	done := make(chan struct{})
	go func() { nspawn.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(15 * time.Second):
		nspawn.Process.Kill()
		<-done
	}
}

// childOf returns the id of the child of a process that has a name.
func childOf(pid int, name string) string {
	children, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	for _, child := range strings.Fields(string(children)) {
		if comm, _ := os.ReadFile("/proc/" + child + "/comm"); strings.TrimSpace(string(comm)) == name {
			return child
		}
	}
	return ""
}

func (b *booted) try(args ...string) (string, error) {
	c := exec.Command("nsenter", append([]string{"-t", b.leader, "-a", "--wdns=/"}, args...)...)
	out, err := c.CombinedOutput()
	return string(out), err
}

// run runs a script in it, which is to succeed.
func (b *booted) run(script string) string {
	b.t.Helper()
	out, err := b.try("sh", "-ec", script)
	if err != nil {
		log, _ := b.try("journalctl", "-u", "oakbarrel", "--no-pager", "-n", "30")
		b.t.Fatalf("%s: %v\n%s\n%s", script, err, out, log)
	}
	return out
}

// eventually waits until a script succeeds.
func (b *booted) eventually(what, script string) {
	b.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(200 * time.Millisecond) {
		if _, err := b.try("sh", "-ec", script); err == nil {
			return
		}
	}
	b.run("echo " + what + "; " + script)
}

const installPackage = "dpkg -i /opt/oakbarrel.deb"

// From the package alone a host keeps what its programs say, within a second, after a
// reboot as well; its units may do little, and a purge leaves the logs alone.
func TestPackage(t *testing.T) {
	b := boot(t)
	b.run(installPackage)
	b.eventually("it runs", "systemctl is-active oakbarrel")
	b.run("logger -t pumpd 'a first message'; sleep 1; grep -q 'a first message' /var/log/oakbarrel/all.log")
	b.run("systemctl status oakbarrel | grep -q 'records in'")
	for unit, most := range map[string]float64{"oakbarrel": 3.5, "oakbarrel-store": 2.0} {
		out := b.run("systemd-analyze security --no-pager " + unit + " | tail -1")
		if m := regexp.MustCompile(`: ([0-9.]+)`).FindStringSubmatch(out); m == nil {
			t.Error(out)
		} else if level, _ := strconv.ParseFloat(m[1], 64); level > most {
			t.Errorf("%s is exposed by %v, which is more than %v", unit, level, most)
		}
	}
	b.run("man -w oakbarrel-agent && test -s /usr/share/bash-completion/completions/oakbarrel && oakbarrel plan check /etc/oakbarrel/plan.yaml && oakbarrel doctor")

	// A plan that is wrong changes nothing, and says so.
	b.run("cp /etc/oakbarrel/plan.yaml /tmp/plan.yaml && echo 'nonsense: 1' >> /etc/oakbarrel/plan.yaml")
	if out, err := b.try("systemctl", "reload", "oakbarrel"); err == nil {
		t.Error("a wrong plan is taken: ", out)
	}
	b.run("journalctl -u oakbarrel | grep -q 'nonsense'; cp /tmp/plan.yaml /etc/oakbarrel/plan.yaml; systemctl reload oakbarrel; systemctl is-active oakbarrel")

	// What is changed stays through an upgrade.
	b.run("echo '# ours' >> /etc/oakbarrel/plan.yaml; " + installPackage + "; grep -q '# ours' /etc/oakbarrel/plan.yaml; systemctl is-active oakbarrel")

	b.run("dpkg -r oakbarrel; ! systemctl is-active oakbarrel; test -s /var/log/oakbarrel/all.log; test -e /etc/oakbarrel/plan.yaml")
	b.run("dpkg -P oakbarrel; test -s /var/log/oakbarrel/all.log; ! test -e /etc/oakbarrel; ! test -e /var/lib/oakbarrel; ! test -e /usr/bin/oakbarrel")
}

// What programs say while the agent is started again a hundred times, and upgraded ten
// times, is there, each once.
func TestPackageRestartsWithoutLoss(t *testing.T) {
	b := boot(t)
	b.run(installPackage)
	script := filepath.Join(t.TempDir(), "say")
	os.WriteFile(script, []byte(`
import socket, time, os
s = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
s.connect("/dev/log")
n = 0
while not os.path.exists("/tmp/end"):
    s.send(b"<13>counter: number %d." % n)
    n += 1
    time.sleep(0.005)  # slower than what the journal takes from one sender
print(n)
`), 0o644)
	b.copyIn(script, "say.py")
	said := make(chan string, 1)
	go func() {
		out, _ := b.try("python3", "/opt/say.py")
		said <- strings.TrimSpace(out)
	}()
	b.run("for i in $(seq 100); do systemctl restart oakbarrel; done")
	b.run("for i in $(seq 10); do " + installPackage + "; done")
	b.run("touch /tmp/end")
	n := <-said
	b.eventually("all "+n+" are there", "test $(cat /var/log/oakbarrel/all.log* | grep -c 'number [0-9]*\\.') -ge "+n)
	if twice := b.run("grep -ho 'number [0-9]*\\.' /var/log/oakbarrel/all.log* | sort | uniq -d | wc -l"); strings.TrimSpace(twice) != "0" {
		t.Errorf("%s are there twice", twice)
	}
	t.Logf("%s messages", n)
	b.run("for i in $(seq 7); do systemctl kill -s KILL oakbarrel; sleep 3; systemctl is-active oakbarrel; done") // it is begun again however often
}

// A unit that lacks a right for its plan says so, keeps the rest, and has it once it is
// given what doctor writes out.
func TestPackageGivesRights(t *testing.T) {
	b := boot(t)
	b.run(installPackage)
	b.run(`mkdir -p /srv/pumps && echo 'a pump' > /srv/pumps/a.log && chmod 700 /srv/pumps
cat > /etc/oakbarrel/plan.yaml <<EOF
oakbarrel: 1
intakes:
  local: {journal: {}}
  wire:  {syslog: {udp: ":999", tcp: ":999"}}
  pumps: {files: {paths: [/srv/pumps/*.log]}}
otherwise: {send: [all]}
outlets:
  all: {file: {path: /var/log/oakbarrel/all.log, keep: {pieces: 3}, roll: {size: 1MiB}}}
EOF
systemctl restart oakbarrel`)
	b.eventually("it tells that a port is missing", "systemctl show oakbarrel -p StatusText | grep -q 'may not be opened by this user'")
	b.run("logger still; sleep 1; grep -q still /var/log/oakbarrel/all.log; ! grep -q 'a pump' /var/log/oakbarrel/all.log")
	out, err := b.try("oakbarrel", "doctor")
	if err == nil || !strings.Contains(out, "CAP_NET_BIND_SERVICE (intake wire listens on port 999)") || !strings.Contains(out, "CAP_DAC_READ_SEARCH (intake pumps reads /srv/pumps/*.log, which its user may not)") {
		t.Fatal(out)
	}
	_, mend, _ := strings.Cut(out, "give it: ")
	mend, _, _ = strings.Cut(mend, "\n")
	b.run(mend)
	b.eventually("the port is open", "python3 -c 'import socket; s=socket.socket(socket.AF_INET,socket.SOCK_DGRAM); s.sendto(b\"<13>x: over the wire\", (\"127.0.0.1\", 999))'; grep -q 'over the wire' /var/log/oakbarrel/all.log")
	b.eventually("the file is read", "grep -q 'a pump' /var/log/oakbarrel/all.log")
	b.run("oakbarrel doctor | grep -q 'oakbarrel.service has what the plan needs'")
}

// An agent that does its work no more is started again.
func TestPackageWatchdog(t *testing.T) {
	b := boot(t)
	b.run(installPackage)
	b.run("mkdir -p /etc/systemd/system/oakbarrel.service.d && printf '[Service]\\nWatchdogSec=3s\\n' > /etc/systemd/system/oakbarrel.service.d/w.conf && systemctl daemon-reload && systemctl restart oakbarrel")
	b.run("sleep 6; test $(systemctl show oakbarrel -p NRestarts --value) = 0")
	b.run("kill -STOP $(systemctl show oakbarrel -p MainPID --value)")
	b.eventually("it was started again", "test $(systemctl show oakbarrel -p NRestarts --value) -ge 1 && systemctl is-active oakbarrel")
	b.run("logger 'after the watchdog'; sleep 1; grep -q 'after the watchdog' /var/log/oakbarrel/all.log")
}

// The package serves as well: a store beside a MariaDB, which the host joins by one line,
// and from which its plan comes then.
func TestPackageStore(t *testing.T) {
	b := boot(t)
	b.run(installPackage)
	b.run(`test ! -e /etc/oakbarrel/database && systemctl start oakbarrel-store; ! systemctl is-active oakbarrel-store
systemctl start mariadb
mariadb -e "CREATE DATABASE oak; CREATE USER oak@localhost IDENTIFIED BY 'lantern-light'; GRANT ALL ON oak.* TO oak@localhost"
echo 'oak:lantern-light@unix(/run/mysqld/mysqld.sock)/oak' > /etc/oakbarrel/database && chmod 600 /etc/oakbarrel/database
echo 'OPTIONS="--listen 127.0.0.1:8449"' > /etc/default/oakbarrel-store
systemctl enable --now oakbarrel-store
oakbarrel token new --cask '*' --may admin --database-file /etc/oakbarrel/database | grep -o 'ob_[^ ]*' > /tmp/token`)
	who := "export OAKBARREL_URL=http://127.0.0.1:8449 OAKBARREL_TOKEN=$(cat /tmp/token); "
	b.run(who + `cat > /tmp/host.yaml <<END
oakbarrel: 1
intakes: {local: {journal: {}}}
outlets: {centre: {store: {cask: hosts}, batch: {wait: 100ms}}}
otherwise: {send: [centre]}
END
oakbarrel plans put usual /tmp/host.yaml --why 'a first one'
oakbarrel assign all --plan usual --when 'role is host'
oakbarrel accept $(oakbarrel hosts invite --cask hosts --host-label role=host | grep -o 'barrel-[^ ]*') --served`)
	b.eventually("the host is heard", who+"oakbarrel hosts --output json | grep -q agent_id")
	b.run(who + "oakbarrel rollout start usual --wait 2s --why 'the first host' --watch")
	b.run("logger 'into the store'")
	b.eventually("it is in the store", who+"oakbarrel read --since 1h --where 'text contains \"into the store\"' | grep -q 'into the store'")
	b.run("for i in 1 2 3 4 5; do systemctl restart oakbarrel-store; logger \"restart $i\"; done")
	b.eventually("all is in the store", who+"test $(oakbarrel read --since 1h --where 'text contains \"restart\" and app is root' | grep -c 'restart [0-9]') -ge 5")
}

// Each entry of the journal is kept once, natively, through kills, rotation and a reboot;
// what was removed before it could be read is counted.
func TestPackageReadsTheJournal(t *testing.T) {
	b := boot(t)
	b.run("mkdir -p /etc/systemd/system/oakbarrel.service.d && printf '[Service]\\nRestartSec=100ms\\n' > /etc/systemd/system/oakbarrel.service.d/soon.conf")
	b.run("mkdir -p /etc/systemd/journald.conf.d && printf '[Journal]\nStorage=persistent\nRateLimitIntervalSec=0\nSystemMaxUse=1G\n' > /etc/systemd/journald.conf.d/all.conf && mkdir -p /var/log/journal && systemd-tmpfiles --create --prefix /var/log/journal && systemctl restart systemd-journald")
	b.run(installPackage)
	script := filepath.Join(t.TempDir(), "say")
	os.WriteFile(script, []byte(`
import socket, sys
s = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
s.connect("/run/systemd/journal/socket")
for n in range(int(sys.argv[1]), int(sys.argv[2])):
    s.send(b"MESSAGE=number %d.\nPRIORITY=6\nSYSLOG_IDENTIFIER=counter\nTANK=%d\n" % (n, n % 7))
`), 0o644)
	b.copyIn(script, "say.py")
	once := func(n int) {
		t.Helper()
		b.eventually(fmt.Sprintf("%d are there", n), fmt.Sprintf("test $(cat /var/log/oakbarrel/all.log* | grep -c 'number [0-9]*\\.') -ge %d", n))
		if got := strings.TrimSpace(b.run("cat /var/log/oakbarrel/all.log* | grep -o 'number [0-9]*\\.' | sort | uniq -c | awk '{print $1}' | sort | uniq -c")); got != fmt.Sprintf("%d 1", n) {
			t.Errorf("want %d, once each: %s", n, got)
		}
	}
	b.run("python3 /opt/say.py 0 20000 & for i in $(seq 30); do sleep 0.2; systemctl kill -s KILL oakbarrel || true; done; wait")
	once(20000)
	b.run("grep 'number 7\\.' /var/log/oakbarrel/all.log | grep -q '\"TANK\":\"0\"'")
	b.run("journalctl --rotate; python3 /opt/say.py 20000 21000; journalctl --rotate; python3 /opt/say.py 21000 22000")
	once(22000)
	b.run("systemctl stop oakbarrel; python3 /opt/say.py 90000 91000; journalctl --rotate; python3 /opt/say.py 22000 22010; journalctl --rotate; journalctl --vacuum-files=1; python3 /opt/say.py 22010 22020; systemctl start oakbarrel")
	b.eventually("the gap is told", "oakbarrel status | grep -q 'local .* 1,0[0-9][0-9] '")
	b.run("oakbarrel followed | grep -q journal:system; logger 'before the reboot'; sleep 1; systemctl stop oakbarrel; logger 'while it is away'")
	b.reboot()
	b.eventually("it goes on", "systemctl is-active oakbarrel && grep -q 'while it is away' /var/log/oakbarrel/all.log")
	b.run("test $(cat /var/log/oakbarrel/all.log* | grep -c 'before the reboot') = 1")
}

// What comes over the wire goes into the journal with its fields, long and in any number.
func TestPackageWritesTheJournal(t *testing.T) {
	b := boot(t)
	b.run(installPackage)
	plan := filepath.Join(t.TempDir(), "plan.yaml")
	os.WriteFile(plan, []byte(`oakbarrel: 1
intakes: {wire: {syslog: {tcp: "127.0.0.1:6514", largest: 1MiB}}}
outlets: {back: {journal: {}}}
otherwise: {send: [back]}
`), 0o644)
	b.copyIn(plan, "plan.yaml")
	b.run("cp /opt/plan.yaml /etc/oakbarrel/plan.yaml && systemctl reload oakbarrel && oakbarrel doctor | grep -q 'the journal listens'")
	script := filepath.Join(t.TempDir(), "say")
	os.WriteFile(script, []byte(`
import socket
s = socket.create_connection(("127.0.0.1", 6514))
s.sendall(b"<156>1 2026-11-29T10:00:00Z reef-02 pumpd 412 LOW [tank@32473 ph=\"8.1\"] pressure is low\n")
s.sendall(b"<14>long: " + b"long " * 80000 + b"end\n")
for n in range(30000):
    s.sendall(b"<14>counter: number %d.\n" % n)
`), 0o644)
	b.copyIn(script, "say.py")
	b.run("python3 /opt/say.py")
	b.eventually("all are in the journal", "test $(journalctl -t counter -o cat | sort -u | wc -l) = 30000")
	b.run("journalctl FIELD_TANK_32473_PH=8.1 RECORD_HOST=reef-02 PRIORITY=4 SYSLOG_PID=412 -o export | grep -q '^MESSAGE=pressure is low$'")
	b.run("test $(journalctl -t long -o json | wc -c) -gt 400000 || journalctl --all -t long -o cat | tail -c 20 | grep -q 'long end'")
	b.run("systemctl restart systemd-journald; logger again; python3 /opt/say.py")
	b.eventually("they come again", "test $(journalctl -t counter -o cat | wc -l) = 60000")
}
