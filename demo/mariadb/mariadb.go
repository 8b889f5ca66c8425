// Package mariadb starts Debian's MariaDB on loopback in a folder of its own,
// for the demo and for tests. It imports nothing of the project.
package mariadb

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"
)

// Server is a running database.
type Server struct {
	DSN     string // for the project's driver, with a database of its own
	dir     string
	port    int
	process *exec.Cmd
	ended   chan struct{} // closed once the process has ended
	why     error         // it did
}

// Start starts a server whose data are in dir, which is made and set up where it is missing.
func Start(ctx context.Context, dir string) (*Server, error) {
	if _, err := exec.LookPath("mariadbd"); err != nil {
		return nil, errors.New("MariaDB is not installed; on Debian: apt-get install mariadb-server")
	}
	s := &Server{dir: dir}
	if err := s.setUp(ctx); err != nil {
		return nil, err
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s.port = port
	return s, s.Restart(ctx)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// setUp makes the data folder, whole or not at all.
func (s *Server) setUp(ctx context.Context) error {
	data := filepath.Join(s.dir, "data")
	if _, err := os.Stat(data); err == nil {
		return nil
	}
	begun := data + ".begun"
	if err := errors.Join(os.RemoveAll(begun), os.MkdirAll(begun, 0o700)); err != nil {
		return err
	}
	c := exec.CommandContext(ctx, "mariadb-install-db", "--no-defaults", "--datadir="+begun, "--auth-root-authentication-method=normal", "--skip-test-db")
	c.Args = append(c.Args, userFlag()...)
	c.Env = append(os.Environ(), "TMPDIR="+begun) // a server that starts removes what others have in a folder that they share
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("set up MariaDB: %w: %s", err, out)
	}
	return os.Rename(begun, data)
}

// userFlag lets the server run as root where root starts it: its folder may
// stand where no other user can enter.
func userFlag() []string {
	if os.Getuid() == 0 {
		return []string{"--user=root"}
	}
	return nil
}

// Restart starts the server again on the same port with the same data.
func (s *Server) Restart(ctx context.Context) error {
	socket := filepath.Join(s.dir, "m.sock")
	s.process = exec.Command("mariadbd", "--no-defaults", "--datadir="+filepath.Join(s.dir, "data"), "--tmpdir="+s.dir, "--socket="+socket, "--pid-file="+filepath.Join(s.dir, "m.pid"),
		fmt.Sprintf("--port=%d", s.port), "--bind-address=127.0.0.1", "--log-error="+filepath.Join(s.dir, "error.log"), "--skip-name-resolve", "--character-set-server=utf8mb4",
		"--innodb-buffer-pool-size=256M", "--max-allowed-packet=256M")
	s.process.Args = append(s.process.Args, userFlag()...)
	s.process.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
	if err := s.process.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	s.ended = ended
	go func(p *exec.Cmd) {
		s.why = p.Wait()
		close(ended)
	}(s.process)
	const setUp = "CREATE DATABASE IF NOT EXISTS oakbarrel; ALTER USER root@localhost IDENTIFIED BY 'lantern'; " +
		"CREATE USER IF NOT EXISTS oak@'127.0.0.1' IDENTIFIED BY 'lantern'; GRANT ALL ON oakbarrel.* TO oak@'127.0.0.1'"
	for deadline := time.Now().Add(30 * time.Second); ; {
		select {
		case <-s.ended:
			return fmt.Errorf("MariaDB has ended: %v; see %s", s.why, filepath.Join(s.dir, "error.log"))
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		// The first time root has no password yet.
		for _, password := range []string{"--password=lantern", "--skip-password"} {
			if exec.Command("mariadb", "--no-defaults", "-uroot", password, "--socket="+socket, "-e", setUp).Run() == nil {
				s.DSN = fmt.Sprintf("oak:lantern@tcp(127.0.0.1:%d)/oakbarrel", s.port)
				return nil
			}
		}
		if time.Now().After(deadline) {
			s.Stop()
			return errors.New("MariaDB does not answer")
		}
	}
}

// Stop ends the server as an administrator would.
func (s *Server) Stop() { s.end(syscall.SIGTERM) }

// Kill ends it at once.
func (s *Server) Kill() { s.end(syscall.SIGKILL) }

// stopTime is for how long a server may write down what it has.
const stopTime = 30 * time.Second

func (s *Server) end(signal syscall.Signal) {
	s.process.Process.Signal(signal)
	select {
	case <-s.ended:
	case <-time.After(stopTime):
		s.process.Process.Kill()
		<-s.ended
	}
}
