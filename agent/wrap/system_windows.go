package wrap

import (
	"errors"
	"os"
	"os/exec"
)

// signals are kept from ending this program: the system sends them to all of a console.
var signals = []os.Signal{os.Interrupt}

func codeOf(err error) int {
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return 0
	}
	return exit.ExitCode()
}
