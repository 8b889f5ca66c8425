// Package mariadb starts Debian's MariaDB on loopback in a folder of its own,
// for the demo and for tests. It imports nothing of the project.
package mariadb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Server is a running database.
type Server struct {
	DSN     string // for the project's driver, with a database of its own
	dir     string
	port    int
	user    string   // that it runs as where root starts it, "" for root itself
	options []string // beside the usual ones
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
	if entries, err := os.ReadDir(data); err == nil && len(entries) > 0 {
		return nil
	}
	begun := data + ".begun"
	if err := errors.Join(os.RemoveAll(begun), os.MkdirAll(begun, 0o700)); err != nil {
		return err
	}
	c := exec.CommandContext(ctx, "mariadb-install-db", "--no-defaults", "--datadir="+begun, "--auth-root-authentication-method=normal", "--skip-test-db")
	c.Args = append(c.Args, s.userFlag()...)
	c.Env = append(os.Environ(), "TMPDIR="+begun) // a server that starts removes what others have in a folder that they share
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("set up MariaDB: %w: %s", err, out)
	}
	os.Remove(data) // empty
	return os.Rename(begun, data)
}

// userFlag lets the server run as root where root starts it, unless another user is named:
// its folder may stand where no other user can enter.
func (s *Server) userFlag() []string {
	if os.Getuid() == 0 {
		return []string{"--user=" + cmp.Or(s.user, "root")}
	}
	return nil
}

// Restart starts the server again on the same port with the same data.
func (s *Server) Restart(ctx context.Context) error { return s.start(ctx) }

// start starts the server with options that hold this time, and waits until it answers.
func (s *Server) start(ctx context.Context, options ...string) error {
	s.process = exec.Command("mariadbd", "--no-defaults", "--datadir="+filepath.Join(s.dir, "data"), "--tmpdir="+s.dir, "--socket="+s.socket(), "--pid-file="+filepath.Join(s.dir, "m.pid"),
		fmt.Sprintf("--port=%d", s.port), "--bind-address=127.0.0.1", "--log-error="+filepath.Join(s.dir, "error.log"), "--skip-name-resolve", "--character-set-server=utf8mb4",
		"--innodb-buffer-pool-size=256M", "--max-allowed-packet=256M")
	s.process.Args = append(append(append(s.process.Args, s.userFlag()...), s.options...), options...)
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
	for deadline := time.Now().Add(startTime); ; {
		select {
		case <-s.ended:
			return fmt.Errorf("MariaDB has ended: %v; see %s", s.why, filepath.Join(s.dir, "error.log"))
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		if s.isReady() {
			s.DSN = fmt.Sprintf("oak:lantern@tcp(127.0.0.1:%d)/oakbarrel", s.port)
			return nil
		}
		if time.Now().After(deadline) {
			s.Stop()
			return errors.New("MariaDB does not answer")
		}
	}
}

// startTime is for how long a server may take to start.
const startTime = time.Minute

func (s *Server) socket() string { return filepath.Join(s.dir, "m.sock") }

// isReady tells whether the server answers, and makes the database and the account of the
// service where they are missing.
func (s *Server) isReady() bool {
	const setUp = "CREATE DATABASE IF NOT EXISTS oakbarrel; ALTER USER root@localhost IDENTIFIED BY 'lantern'; " +
		"CREATE USER IF NOT EXISTS oak@'127.0.0.1' IDENTIFIED BY 'lantern'; GRANT ALL ON oakbarrel.* TO oak@'127.0.0.1'"
	if len(s.options) > 0 && s.Ask("SHOW STATUS LIKE 'wsrep_ready'") == "wsrep_ready\tON" {
		return s.Ask("SHOW STATUS LIKE 'wsrep_local_state'") == "wsrep_local_state\t4" && s.Ask("SELECT COUNT(*) FROM mysql.user WHERE user = 'oak'") == "1"
	}
	// The first time root has no password yet.
	for _, password := range []string{"--password=lantern", "--skip-password"} {
		if s.client(password, setUp).Run() == nil {
			return len(s.options) == 0
		}
	}
	return false
}

func (s *Server) client(password, statement string) *exec.Cmd {
	return exec.Command("mariadb", "--no-defaults", "-uroot", password, "--connect-timeout=2", "--socket="+s.socket(), "-BNe", statement)
}

// Ask returns what root is answered, "" for nothing or an error.
func (s *Server) Ask(statement string) string {
	out, _ := s.client("--password=lantern", statement).Output()
	return strings.TrimSpace(string(out))
}

// PID returns the id of its process.
func (s *Server) PID() int { return s.process.Process.Pid }

// Ended returns what is closed once the process has ended.
func (s *Server) Ended() <-chan struct{} { return s.ended }

// Stop ends the server as an administrator would.
func (s *Server) Stop() { s.end(syscall.SIGTERM) }

// Freeze stops the server where it is, until Thaw.
func (s *Server) Freeze() { s.process.Process.Signal(syscall.SIGSTOP) }

// Thaw lets it go on.
func (s *Server) Thaw() { s.process.Process.Signal(syscall.SIGCONT) }

// Kill ends it at once.
func (s *Server) Kill() { s.end(syscall.SIGKILL) }

// stopTime is for how long a server may write down what it has.
const stopTime = 30 * time.Second

func (s *Server) end(signal syscall.Signal) {
	if s.ended == nil {
		return // it was never started
	}
	s.process.Process.Signal(signal)
	select {
	case <-s.ended:
	case <-time.After(stopTime):
		s.process.Process.Kill()
		<-s.ended
	}
}
