//go:build unix

package wrap

import (
	"errors"
	"os"
	"os/exec"
	"syscall"
)

// signals are passed on to the program.
var signals = []os.Signal{syscall.SIGHUP, syscall.SIGINT, syscall.SIGQUIT, syscall.SIGTERM, syscall.SIGUSR1, syscall.SIGUSR2, syscall.SIGWINCH, syscall.SIGCONT, syscall.SIGALRM}

func codeOf(err error) int {
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return 0
	}
	if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return 128 + int(status.Signal())
	}
	return exit.ExitCode()
}
