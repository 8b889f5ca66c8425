package demo

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"
)

// child is a process of the demo.
type child struct {
	what    string
	log     string
	process *exec.Cmd
	ended   chan error
	gone    chan struct{} // closed once it has ended
}

// startChild starts a process and waits until it says "ready" on stdout. What
// it says on stderr goes into the file log.
func startChild(what, log, binary string, args ...string) (*child, error) {
	stderr, err := os.OpenFile(log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	defer stderr.Close()
	c := &child{what: what, log: log, process: exec.Command(binary, args...), ended: make(chan error, 1), gone: make(chan struct{})}
	c.process.Stderr = stderr
	c.process.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true} // Ctrl-C is for us; we stop it
	stdout, err := c.process.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := c.process.Start(); err != nil {
		return nil, err
	}
	line, _ := bufio.NewReader(stdout).ReadString('\n')
	go func() {
		c.ended <- c.process.Wait()
		close(c.gone)
	}()
	if line != "ready\n" {
		c.stop()
		said, _ := os.ReadFile(log)
		lines := strings.Split(strings.TrimSpace(string(said)), "\n")
		return nil, fmt.Errorf("%s does not start; %s ends with: %s", what, log, lines[len(lines)-1])
	}
	return c, nil
}

func (c *child) failed(err error) error {
	return fmt.Errorf("%s has ended: %v; see %s", c.what, err, c.log)
}

// stop ends the process as an administrator would.
func (c *child) stop() {
	c.process.Process.Signal(syscall.SIGTERM)
	select {
	case <-c.gone:
	case <-time.After(12 * time.Second):
		c.process.Process.Kill()
	}
}
