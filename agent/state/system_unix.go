//go:build unix

package state

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

const noFollow = unix.O_NOFOLLOW

// makeFolder makes a folder that the agent's group may read.
func makeFolder(dir string) error { return os.MkdirAll(dir, 0o750) }

// aliveDir is where each agent of this machine shows that it lives. Only root can
// write there: nobody else can pretend to be one.
func aliveDir() string {
	if os.Geteuid() == 0 {
		return "/run/oakbarrel/alive"
	}
	if dir := os.Getenv("XDG_RUNTIME_DIR"); dir != "" {
		return filepath.Join(dir, "oakbarrel", "alive")
	}
	return ""
}

// removeOpen removes a file that is open, and closes it, in an order in which nobody finds it unlocked.
func removeOpen(f *os.File) {
	os.Remove(f.Name())
	f.Close()
}
