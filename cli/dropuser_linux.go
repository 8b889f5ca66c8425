package cli

import (
	"fmt"
	"os"
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
	who, err := doctor.AccountOf(name, nil)
	if err != nil {
		return err
	}
	needed, err := doctor.Capabilities(planFile, who)
	if err != nil {
		return err
	}
	if err := ownState(stateDir, who); err != nil {
		return err
	}
	return setUser(who, needed)
}

// ownState gives a state folder that is not there yet to a user; of another one that
// could not write there it is an error.
func ownState(dir string, who doctor.Account) error {
	st, err := disk.Lstat(dir)
	if os.IsNotExist(err) {
		if err := os.MkdirAll(dir, 0o750); err != nil {
			return err
		}
		return os.Chown(dir, who.UID, who.GID)
	}
	if err != nil {
		return err
	}
	if owner := disk.OwnerOf(st).User; owner != who.UID {
		return fmt.Errorf("the state folder %s is that of user %d; give it to this one: chown -R %d:%d %s", dir, owner, who.UID, who.GID, dir)
	}
	return nil
}

// setUser changes who the process is, in all of its threads.
func setUser(who doctor.Account, needed []string) error {
	if _, _, errno := syscall.AllThreadsSyscall(unix.SYS_PRCTL, unix.PR_SET_KEEPCAPS, 1, 0); errno != 0 {
		return fmt.Errorf("capabilities cannot be kept: %w", errno)
	}
	if err := syscall.Setgroups(who.Groups); err != nil {
		return err
	}
	if err := syscall.Setgid(who.GID); err != nil {
		return err
	}
	if err := syscall.Setuid(who.UID); err != nil {
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
