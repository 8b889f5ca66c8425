package cli

import (
	"fmt"
	"os"
	"os/user"
	"strconv"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"oakbarrel/agent/doctor"
	"oakbarrel/core/disk"
)

// capabilityNumbers are those that a plan may need (capabilities(7)).
var capabilityNumbers = map[string]uint{
	"CAP_CHOWN": unix.CAP_CHOWN, "CAP_DAC_OVERRIDE": unix.CAP_DAC_OVERRIDE, "CAP_DAC_READ_SEARCH": unix.CAP_DAC_READ_SEARCH, "CAP_FOWNER": unix.CAP_FOWNER,
	"CAP_KILL": unix.CAP_KILL, "CAP_NET_BIND_SERVICE": unix.CAP_NET_BIND_SERVICE, "CAP_SYSLOG": unix.CAP_SYSLOG,
}

// becomeUser has the process, which root has started, go on as a user, with no more than
// the capabilities that the plan needs.
func becomeUser(name, planFile, stateDir string) error {
	if os.Geteuid() != 0 {
		return fmt.Errorf("only root can become another user; start it as %s, or as root", name)
	}
	u, err := user.Lookup(name)
	if err != nil {
		return err
	}
	uid, _ := strconv.Atoi(u.Uid) // on this system they are numbers
	gid, _ := strconv.Atoi(u.Gid)
	var groups []int
	ids, err := u.GroupIds()
	if err != nil {
		return err
	}
	for _, id := range ids {
		n, _ := strconv.Atoi(id)
		groups = append(groups, n)
	}
	needed, err := doctor.Capabilities(planFile, name)
	if err != nil {
		return err
	}
	if err := ownState(stateDir, uid, gid); err != nil {
		return err
	}
	return setUser(uid, gid, groups, needed)
}

// ownState gives a state folder that is not there yet to a user; of another one that
// could not write there it is an error.
func ownState(dir string, uid, gid int) error {
	st, err := disk.Lstat(dir)
	if os.IsNotExist(err) {
		if err := os.MkdirAll(dir, 0o750); err != nil {
			return err
		}
		return os.Chown(dir, uid, gid)
	}
	if err != nil {
		return err
	}
	if owner := disk.OwnerOf(st).User; owner != uid {
		return fmt.Errorf("the state folder %s is that of user %d; give it to this one: chown -R %d:%d %s", dir, owner, uid, gid, dir)
	}
	return nil
}

// setUser changes who the process is, in all of its threads.
func setUser(uid, gid int, groups []int, needed []string) error {
	if _, _, errno := syscall.AllThreadsSyscall(unix.SYS_PRCTL, unix.PR_SET_KEEPCAPS, 1, 0); errno != 0 {
		return fmt.Errorf("capabilities cannot be kept: %w", errno)
	}
	if err := syscall.Setgroups(groups); err != nil {
		return err
	}
	if err := syscall.Setgid(gid); err != nil {
		return err
	}
	if err := syscall.Setuid(uid); err != nil {
		return err
	}
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	for _, name := range needed {
		n := capabilityNumbers[name]
		data[n/32].Effective |= 1 << (n % 32)
		data[n/32].Permitted |= 1 << (n % 32)
	}
	if _, _, errno := syscall.AllThreadsSyscall(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&head)), uintptr(unsafe.Pointer(&data[0])), 0); errno != 0 {
		return fmt.Errorf("capabilities cannot be set: %w", errno)
	}
	return nil
}
