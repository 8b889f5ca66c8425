package unit

import (
	"context"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/coreos/go-systemd/v22/daemon"
	"golang.org/x/sys/unix"
)

// Manager is who started this process.
type Manager struct {
	address  string // where it wants to be told, "" for nowhere
	watchdog time.Duration
	failures string // a file, "" for none

	mu       sync.Mutex
	sockets  []*socket
	stopping bool
	status   string
}

// Open returns who started this process; nil where it neither wants to be told nor hands
// over sockets. What it says stands in the environment, and is taken out of it, as it is
// not meant for programs that this one starts.
var Open = sync.OnceValue(func() *Manager {
	m := &Manager{address: os.Getenv("NOTIFY_SOCKET"), failures: failuresFile()}
	m.watchdog, _ = daemon.SdWatchdogEnabled(true)
	os.Unsetenv("NOTIFY_SOCKET")
	for _, f := range activation.Files(true) {
		if s := socketOf(f); s != nil {
			m.sockets = append(m.sockets, s)
		}
	}
	if m.address == "" && len(m.sockets) == 0 {
		return nil
	}
	return m
})

// Manages tells whether a manager looks after this process: it is started again by it, and
// people see its status there.
func (m *Manager) Manages() bool { return m != nil && m.address != "" }

// tell sends a message, with files that are to be kept.
func (m *Manager) tell(message string, files ...int) {
	if !m.Manages() {
		return
	}
	fd, err := unix.Socket(unix.AF_UNIX, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	var rights []byte
	if len(files) > 0 {
		rights = unix.UnixRights(files...)
	}
	unix.Sendmsg(fd, []byte(message), rights, &unix.SockaddrUnix{Name: m.address}, unix.MSG_NOSIGNAL) // a manager that is about to start again hears nothing
}

// Ready tells that all is open.
func (m *Manager) Ready() {
	m.tell("READY=1")
	if m.Manages() && m.failures != "" {
		os.Remove(m.failures)
	}
}

// Reloading tells that the settings are read again; Ready ends it.
func (m *Manager) Reloading() {
	var now unix.Timespec
	unix.ClockGettime(unix.CLOCK_MONOTONIC, &now)
	m.tell(fmt.Sprintf("RELOADING=1\nMONOTONIC_USEC=%d", now.Nano()/1000))
}

// Stopping tells that the process ends. Sockets that are handed over stay where they are
// from then on.
func (m *Manager) Stopping() {
	if m == nil {
		return
	}
	m.mu.Lock()
	m.stopping = true
	m.mu.Unlock()
	m.tell("STOPPING=1")
}

// Status tells in one line how it is, where that is another line than before.
func (m *Manager) Status(line string) {
	if !m.Manages() {
		return
	}
	m.mu.Lock()
	same := m.status == line
	m.status = line
	m.mu.Unlock()
	if !same {
		m.tell("STATUS=" + strings.ReplaceAll(line, "\n", " "))
	}
}

// Watchdog returns within which time Alive is to be called again, 0 for never.
func (m *Manager) Watchdog() time.Duration {
	if m == nil {
		return 0
	}
	return m.watchdog
}

// Alive tells that the process does its work.
func (m *Manager) Alive() { m.tell("WATCHDOG=1") }

// socket is one that is handed over.
type socket struct {
	file    *os.File
	network Network
	address string // a path, or HOST:PORT
	taken   bool
}

// socketOf tells what kind of socket a file is, nil for none that is known here.
func socketOf(f *os.File) *socket {
	fd := int(f.Fd())
	kind, err := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TYPE)
	if err != nil {
		f.Close()
		return nil
	}
	listens, _ := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_ACCEPTCONN)
	at, err := unix.Getsockname(fd)
	if err != nil {
		return nil
	}
	s := &socket{file: f}
	isInternet := true
	switch a := at.(type) {
	case *unix.SockaddrInet4:
		s.address = net.JoinHostPort(net.IP(a.Addr[:]).String(), strconv.Itoa(a.Port))
	case *unix.SockaddrInet6:
		s.address = net.JoinHostPort(net.IP(a.Addr[:]).String(), strconv.Itoa(a.Port))
	case *unix.SockaddrUnix:
		s.address, isInternet = a.Name, false
	default:
		return nil
	}
	switch {
	case kind == unix.SOCK_DGRAM && isInternet:
		s.network = UDP
	case kind == unix.SOCK_DGRAM:
		s.network = Unixgram
	case kind == unix.SOCK_STREAM && listens == 1 && isInternet:
		s.network = TCP
	case kind == unix.SOCK_STREAM && listens == 1:
		s.network = Unix
	case kind == unix.SOCK_STREAM:
		s.network, s.address = Connection, strings.TrimPrefix(f.Name(), nameOf(Connection, ""))
	default:
		return nil
	}
	return s
}

// Take returns a copy of the socket of an address, nil where none was handed over. An
// empty address is any of the network that the manager has made and nobody has taken.
func (m *Manager) Take(network Network, address string) (copied *os.File, path string) {
	if m == nil {
		return nil, ""
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, s := range m.sockets {
		if !s.is(network, address) {
			continue
		}
		fd, err := unix.FcntlInt(s.file.Fd(), unix.F_DUPFD_CLOEXEC, 0)
		if err != nil {
			return nil, ""
		}
		s.taken = true
		return os.NewFile(uintptr(fd), s.address), s.address
	}
	return nil, ""
}

// Listen listens on an address, with the socket that was handed over for it, if there is
// one; else the manager is to keep the new one.
func (m *Manager) Listen(ctx context.Context, network Network, address string) (net.Listener, error) {
	if file, _ := m.Take(network, address); file != nil {
		defer file.Close()
		if l, err := net.FileListener(file); err == nil {
			return l, nil
		}
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, string(network), address)
	if err == nil {
		m.Keep(network, l.Addr().String(), l.(syscall.Conn))
	}
	return l, err
}

// Has tells whether a socket of an address was handed over.
func (m *Manager) Has(network Network, address string) bool {
	if m == nil {
		return false
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.ContainsFunc(m.sockets, func(s *socket) bool { return s.is(network, address) })
}

// is tells whether a socket has an address; with none, whether it is one that the manager
// has made itself, and nobody has taken.
func (s *socket) is(network Network, address string) bool {
	if s.network != network {
		return false
	}
	if address == "" {
		return !s.taken && s.file.Name() != nameOf(s.network, s.address)
	}
	return isSame(network, s.address, address) && s.isReached()
}

// isReached tells whether others still find the socket: the path of one can be removed.
func (s *socket) isReached() bool {
	if s.network != Unix && s.network != Unixgram {
		return true
	}
	st, err := os.Lstat(s.address)
	return err == nil && st.Mode().Type() == os.ModeSocket
}

// isSame tells whether two addresses are one.
func isSame(network Network, bound, wanted string) bool {
	if network != UDP && network != TCP {
		return bound == wanted
	}
	a, errA := net.ResolveTCPAddr("tcp", bound)
	b, errB := net.ResolveTCPAddr("tcp", wanted)
	if errA != nil || errB != nil || a.Port != b.Port || b.Port == 0 {
		return false
	}
	isAny := func(ip net.IP) bool { return len(ip) == 0 || ip.IsUnspecified() }
	return a.IP.Equal(b.IP) || isAny(a.IP) && isAny(b.IP)
}

// Keep has the manager keep a socket open while the process is started again. It
// outlives the process, and what is sent to it meanwhile waits.
func (m *Manager) Keep(network Network, address string, conn syscall.Conn) {
	if !m.Manages() {
		return
	}
	raw, err := conn.SyscallConn()
	if err != nil {
		return
	}
	raw.Control(func(fd uintptr) {
		m.tell("FDSTORE=1\nFDNAME="+nameOf(network, address), int(fd))
	})
}

// IsLeaving tells whether this process ends and the next one is to have its sockets.
func (m *Manager) IsLeaving() bool {
	if !m.Manages() {
		return false
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.stopping
}

// LetGo has the manager keep a socket no longer, and tells whether it is gone: where the
// process ends, it stays for the next one.
func (m *Manager) LetGo(network Network, address string) (gone bool) {
	if m == nil {
		return true
	}
	stays := m.IsLeaving()
	m.mu.Lock()
	for _, s := range m.sockets {
		if stays || !s.is(network, address) {
			continue
		}
		s.taken = false
		if network == Connection { // it is over once its copy is closed
			s.file.Close()
			s.network = ""
		}
	}
	m.mu.Unlock()
	if !stays {
		m.tell("FDSTOREREMOVE=1\nFDNAME=" + nameOf(network, address))
	}
	return !stays
}

// nameOf is the name under which a socket is kept: at most 255 characters, no colon.
func nameOf(network Network, address string) string {
	name := strings.ReplaceAll(string(network)+" "+address, ":", "=")
	return name[:min(len(name), 255)]
}

// CloseOthers closes the sockets that nobody has taken.
func (m *Manager) CloseOthers() {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, s := range m.sockets {
		if !s.taken && s.network != "" {
			s.file.Close()
			m.tell("FDSTOREREMOVE=1\nFDNAME=" + nameOf(s.network, s.address))
		}
	}
}
