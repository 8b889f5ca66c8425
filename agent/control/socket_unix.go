//go:build unix

package control

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// socket is the name of the socket, in a state folder.
const socket = "control.sock"

func listen(stateDir string) (listener net.Listener, err error) {
	if err := os.Remove(filepath.Join(stateDir, socket)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	err = inFolder(stateDir, func(dir string) (err error) {
		listener, err = net.Listen("unix", filepath.Join(dir, socket))
		return err
	})
	return listener, err
}

func dial(ctx context.Context, stateDir string) (conn net.Conn, err error) {
	err = inFolder(stateDir, func(dir string) (err error) {
		conn, err = new(net.Dialer).DialContext(ctx, "unix", filepath.Join(dir, socket))
		return err
	})
	return conn, err
}

// isNobody tells whether an error says that nobody listens.
func isNobody(err error) bool {
	return errors.Is(err, os.ErrNotExist) || errors.Is(err, unix.ECONNREFUSED)
}

// inFolder calls f with a short name for dir: the path of a socket may have
// 107 bytes only, and a folder may stand deeper.
func inFolder(dir string, f func(dir string) error) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return f(fmt.Sprintf("/proc/self/fd/%d", d.Fd()))
}
