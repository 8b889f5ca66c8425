package intake

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"oakbarrel/core/plan"
	"oakbarrel/unit"
)

// makeRoomAt makes the folder of a unix socket, and removes a socket that nobody
// listens on any more, such as a kill leaves. One of another program stays.
func makeRoomAt(path, network string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	st, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if st.Mode().Type() != fs.ModeSocket {
		return fmt.Errorf("%s is there already and is not a socket; move it away", path)
	}
	conn, err := net.DialUnix(network, nil, &net.UnixAddr{Name: path, Net: network})
	if err == nil {
		conn.Close()
	}
	if !errors.Is(err, unix.ECONNREFUSED) {
		return fmt.Errorf("another program listens on %s; stop it, or choose another path: %w", path, unix.EADDRINUSE)
	}
	return os.Remove(path)
}

// removeOwn removes the socket of an endpoint if it still is the one that was made.
func removeOwn(address string, socket fs.FileInfo) {
	path := strings.TrimPrefix(address, "unix:")
	if st, err := os.Lstat(path); socket != nil && err == nil && os.SameFile(st, socket) {
		os.Remove(path)
	}
}

// forwardSocket is where an init system that owns /dev/log passes messages on.
const forwardSocket = "/run/systemd/journal/syslog"

// openAutoSocket takes the datagram socket that the init system hands over; else
// opens the one that it forwards to, or /dev/log where nobody has it.
func (a *Agent) openAutoSocket() (Endpoint, error) {
	if conn, path := a.keptDatagrams(unit.Unixgram, ""); conn != nil {
		return a.unixgramEndpoint(conn.(*net.UnixConn), path)
	}
	if _, err := os.Stat(filepath.Dir(forwardSocket)); err == nil {
		return a.openUnixgram(forwardSocket)
	}
	e, err := a.openUnixgram("/dev/log")
	if err != nil {
		err = fmt.Errorf("%w (socket: %s found none that the init system hands over or forwards to)", err, plan.AutoSocket)
	}
	return e, err
}
