package unit

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// manager is the other side: it hears what is told, and keeps what it is given.
type manager struct {
	*Manager
	t    *testing.T
	conn *net.UnixConn
}

func newManager(t *testing.T) *manager {
	t.Helper()
	path := filepath.Join(t.TempDir(), "notify")
	conn, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	return &manager{&Manager{address: path, watchdog: time.Minute}, t, conn}
}

// hear returns the next message, "" where there is none, and the file that came with it.
func (m *manager) hear() (string, *os.File) {
	m.t.Helper()
	buffer, rights := make([]byte, 4096), make([]byte, 4096)
	m.conn.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
	n, rn, _, _, err := m.conn.ReadMsgUnix(buffer, rights)
	if err != nil {
		return "", nil
	}
	messages, err := unix.ParseSocketControlMessage(rights[:rn])
	if err != nil || len(messages) == 0 {
		return string(buffer[:n]), nil
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil {
		m.t.Fatal(err)
	}
	name := ""
	for line := range strings.Lines(string(buffer[:n])) {
		if after, ok := strings.CutPrefix(line, "FDNAME="); ok {
			name = strings.TrimSpace(after)
		}
	}
	return string(buffer[:n]), os.NewFile(uintptr(fds[0]), name)
}

func (m *manager) expect(want string) {
	m.t.Helper()
	if got, _ := m.hear(); got != want {
		m.t.Errorf("told %q, want %q", got, want)
	}
}

func TestWhatIsTold(t *testing.T) {
	m := newManager(t)
	m.Ready()
	m.expect("READY=1")
	m.Status("all is well,\nand more")
	m.expect("STATUS=all is well, and more")
	m.Status("all is well,\nand more")
	m.expect("") // it was told before
	m.Alive()
	m.expect("WATCHDOG=1")
	m.Reloading()
	if got, _ := m.hear(); !strings.HasPrefix(got, "RELOADING=1\nMONOTONIC_USEC=") {
		t.Error(got)
	}
	m.Stopping()
	m.expect("STOPPING=1")
	if m.Watchdog() != time.Minute {
		t.Error(m.Watchdog())
	}
}

// Without a manager nothing is told, and sockets are opened and closed as ever.
func TestNobodyManages(t *testing.T) {
	var m *Manager
	m.Ready()
	m.Reloading()
	m.Status("x")
	m.Alive()
	m.CloseOthers()
	if m.Manages() || m.Watchdog() != 0 || m.Has(UDP, ":514") || !m.LetGo(UDP, ":514") {
		t.Error("nobody manages")
	}
	l, err := m.Listen(context.Background(), TCP, "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	m.Stopping()
}

// A socket that is handed over is the same one for the next run: what was sent in between
// has waited in it.
func TestASocketOutlivesARun(t *testing.T) {
	m := newManager(t)
	dir := t.TempDir()
	path := filepath.Join(dir, "log")
	first, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	m.Keep(Unixgram, path, first)
	message, kept := m.hear()
	if message != "FDSTORE=1\nFDNAME=unixgram "+path || kept == nil {
		t.Fatal(message, kept)
	}
	m.Stopping()
	m.hear()
	if m.LetGo(Unixgram, path) {
		t.Error("it is let go, and the next run is to have it")
	}
	first.Close()
	sender, err := net.Dial("unixgram", path)
	if err != nil {
		t.Fatal(err)
	}
	sender.Write([]byte("between"))

	next := newManager(t)
	next.sockets = append(next.sockets, socketOf(kept))
	if file, _ := next.Take(Unixgram, ""); file != nil {
		t.Error("one that was kept for an address is given for none")
	}
	file, at := next.Take(Unixgram, path)
	if file == nil || at != path {
		t.Fatal(file, at)
	}
	conn, err := net.FilePacketConn(file)
	if err != nil {
		t.Fatal(err)
	}
	buffer := make([]byte, 100)
	n, _, err := conn.ReadFrom(buffer)
	if string(buffer[:n]) != "between" {
		t.Error(string(buffer[:n]), err)
	}
	if !next.LetGo(Unixgram, path) {
		t.Error("the plan has it no more, and it stays")
	}
	next.expect("FDSTOREREMOVE=1\nFDNAME=unixgram " + path)
	os.Remove(path) // whoever sends finds another one there, or none
	if file, _ := next.Take(Unixgram, path); file != nil || next.Has(Unixgram, path) {
		t.Error("a socket that nobody reaches is given")
	}
}

// Sockets that the manager made are found by address, and one of any is given once.
func TestSocketsThatAreHandedOver(t *testing.T) {
	m := newManager(t)
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer tcp.Close()
	udp, err := net.ListenPacket("udp", ":0")
	if err != nil {
		t.Fatal(err)
	}
	defer udp.Close()
	for _, file := range []func() (*os.File, error){tcp.(*net.TCPListener).File, udp.(*net.UDPConn).File} {
		f, err := file()
		if err != nil {
			t.Fatal(err)
		}
		m.sockets = append(m.sockets, socketOf(f))
	}
	_, port, _ := net.SplitHostPort(udp.LocalAddr().String())
	if !m.Has(TCP, tcp.Addr().String()) || m.Has(UDP, tcp.Addr().String()) || !m.Has(UDP, "0.0.0.0:"+port) || !m.Has(UDP, ":"+port) || m.Has(UDP, "127.0.0.1:"+port) || m.Has(UDP, ":0") {
		t.Errorf("%+v %+v", m.sockets[0], m.sockets[1])
	}
	l, err := m.Listen(context.Background(), TCP, tcp.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if first, _ := m.Take(UDP, ""); first == nil {
		t.Error("there is one")
	}
	if again, _ := m.Take(UDP, ""); again != nil {
		t.Error("it is taken already")
	}
	m.LetGo(UDP, ":"+port)
	if again, _ := m.Take(UDP, ""); again == nil {
		t.Error("it was let go")
	}
	regular, err := os.Create(filepath.Join(t.TempDir(), "x"))
	if err != nil || socketOf(regular) != nil {
		t.Error("a file is no socket", err)
	}
	if name := nameOf(Unix, strings.Repeat("x:", 200)); len(name) != 255 || strings.Contains(name, ":") {
		t.Error(name)
	}
}

// A process that could not begin five times waits for a minute before the next, and says
// why; one that could begins at once again.
func TestAProcessThatCannotBeginRests(t *testing.T) {
	m := newManager(t)
	m.failures = filepath.Join(t.TempDir(), "failures")
	rests := func() bool {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		defer cancel()
		m.Rest(ctx, errors.New("the plan is wrong"))
		return ctx.Err() != nil
	}
	for n := range 5 {
		if rests() {
			t.Errorf("it rests after %d", n)
		}
	}
	if !rests() {
		t.Error("it does not rest")
	}
	m.expect("STATUS=could not be started 6 times, and is tried again each minute: the plan is wrong")
	m.Ready()
	if rests() {
		t.Error("it has begun in between")
	}
}
