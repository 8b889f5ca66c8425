package disk

import (
	"os"
	"os/user"
	"runtime"
	"strings"
)

// UserID returns the id of a user of this machine.
func UserID(name string) (string, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return "", err
	}
	return u.Uid, nil
}

// GroupID returns the id of a group of this machine.
func GroupID(name string) (string, error) {
	g, err := user.LookupGroup(name)
	if err != nil {
		return "", err
	}
	return g.Gid, nil
}

// BootID tells one start of the machine from another, "" where nothing does.
func BootID() string {
	b, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(b))
}

// InBackground does what takes long at the lowest priority, in a thread of its
// own that ends with it.
func InBackground(do func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread()
		lowerPriority()
		done <- do()
	}()
	return <-done
}
