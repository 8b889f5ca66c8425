package e2e

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// journalSocket stands in for the journal of a namespace: it hears what is written into it.
type journalSocket struct {
	t         *testing.T
	namespace string
	conn      *net.UnixConn
}

func newJournalSocket(t *testing.T) *journalSocket {
	t.Helper()
	j := &journalSocket{t: t, namespace: fmt.Sprintf("oak%d-%d", os.Getpid(), time.Now().UnixNano()%1e9)}
	folder := "/run/systemd/journal." + j.namespace
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Skipf("no journal can stand here: %v", err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return j
}

func (j *journalSocket) listen() {
	j.t.Helper()
	path := filepath.Join("/run/systemd/journal."+j.namespace, "socket")
	os.Remove(path)
	conn, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		j.t.Fatal(err)
	}
	j.conn = conn
	j.t.Cleanup(func() { conn.Close() })
}

// entry returns the next entry, as it came or out of the file that came.
func (j *journalSocket) entry() string {
	j.t.Helper()
	buffer, rights := make([]byte, 1<<20), make([]byte, 256)
	j.conn.SetReadDeadline(time.Now().Add(20 * time.Second))
	n, rn, _, _, err := j.conn.ReadMsgUnix(buffer, rights)
	if err != nil {
		j.t.Fatal(err)
	}
	if rn == 0 {
		return string(buffer[:n])
	}
	messages, _ := unix.ParseSocketControlMessage(rights[:rn])
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil {
		j.t.Fatal(err)
	}
	file := os.NewFile(uintptr(fds[0]), "entry")
	defer file.Close()
	if seals, err := unix.FcntlInt(file.Fd(), unix.F_GET_SEALS, 0); err != nil || seals&unix.F_SEAL_WRITE == 0 {
		j.t.Errorf("the file of an entry can still be changed: %v", err)
	}
	n, err = file.ReadAt(buffer, 0)
	if n == 0 {
		j.t.Fatal(err)
	}
	return string(buffer[:n])
}

// What goes into the journal has all its fields, waits while the journal is away, and comes
// whole however long it is; a journal that does not read keeps nobody waiting.
func TestRecordsGoIntoTheJournal(t *testing.T) {
	t.Parallel()
	j := newJournalSocket(t)
	h := newHost(t, fmt.Sprintf(`oakbarrel: 1
host: tide-gw
intakes: {wire: {syslog: {tcp: "127.0.0.1:0", largest: 512KiB}}}
rules: [{name: kept, when: any, send: [all, journal]}]
outlets:
  journal: {journal: {namespace: %s}, batch: {wait: 20ms}}
  all: {file: {path: DIR/all.log, format: '{text}', keep: forever}}
otherwise: {send: [journal]}
`, j.namespace))
	h.start()
	h.send("tcp", "<156>1 2026-11-29T10:00:00Z reef-02 pumpd 412 LOW [tank@32473 ph=\"8.1\"] pressure is low\n")
	h.eventually("it waits", func() bool {
		o := h.status().Outlets[0]
		return o.Held == 1 && strings.Contains(o.Trouble, "the journal at /run/systemd/journal."+j.namespace+"/socket")
	})
	expect(t, 1, "does not listen at /run/systemd/journal."+j.namespace, "", "doctor", "--plan", h.plan, "--state", h.state)
	j.listen()
	got := j.entry()
	for _, want := range []string{"MESSAGE=pressure is low\n", "PRIORITY=4\n", "SYSLOG_FACILITY=19\n", "SYSLOG_IDENTIFIER=pumpd\n", "SYSLOG_PID=412\n", "RECORD_MSGID=LOW\n", "RECORD_HOST=reef-02\n", "RECORD_TIME=2026-11-29T10:00:00Z\n", "FIELD_TANK_32473_PH=8.1\n"} {
		if !strings.Contains("\n"+got, "\n"+want) {
			t.Errorf("%q lacks %q", got, want)
		}
	}
	long := strings.Repeat("long ", 80_000) + "end"
	h.send("tcp", "<14>pumpd: "+long+"\n")
	if got := j.entry(); !strings.Contains(got, "MESSAGE="+long+"\n") {
		t.Errorf("a message of %d bytes comes as an entry of %d", len(long), len(got))
	}
	// Nobody reads now: the files go on.
	var lines strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&lines, "<14>pumpd: number %d\n", i)
	}
	h.send("tcp", lines.String())
	h.waitForLines("all.log", 3002)
	for i := range 3000 {
		if got := j.entry(); !strings.Contains(got, fmt.Sprintf("MESSAGE=number %d\n", i)) {
			t.Fatalf("entry %d: %s", i, got)
		}
	}
	h.waitUntilDelivered(3002)
}

// A plan whose records would go round is refused, and none else.
func TestNoCircleThroughTheJournal(t *testing.T) {
	t.Parallel()
	for intake, circle := range map[string]bool{
		"{journal: {}}": true, "{journal: {units: [ssh.service]}}": true, "{syslog: {socket: auto}}": true, "{syslog: {socket: /run/systemd/journal/syslog}}": true,
		"{journal: {namespace: lantern}}": false, "{journal: {folder: /var/log/journal/remote}}": false, "{syslog: {tcp: ':6514'}}": false,
	} {
		h := newHost(t, "oakbarrel: 1\nintakes:\n  a: "+intake+"\noutlets:\n  back: {journal: {}}\notherwise: {send: [back]}\n")
		want, code := "", 0
		if circle {
			want, code = "plan.yaml:5:3: outlet back writes into the journal that intake a hears, so that its records would go round for ever", 1
		}
		expect(t, code, want, "", "plan", "check", h.plan)
	}
	h := newHost(t, "oakbarrel: 1\nintakes:\n  a: {journal: {namespace: lantern}}\noutlets:\n  back: {journal: {namespace: lantern}}\notherwise: {send: [back]}\n")
	expect(t, 1, "would go round for ever", "", "plan", "check", h.plan)
}
