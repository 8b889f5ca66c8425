package tend

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"oakbarrel/core/disk"
	"oakbarrel/core/plan"
)

// signalTo sends the signal to the process of the pid file. The file must be of
// root or of whom the process is of: else whoever may write it could have any
// process signalled.
func signalTo(a plan.After) (what string, err error) {
	f, err := disk.OpenRead(a.PIDFile)
	if err != nil {
		return "", err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return "", err
	}
	b := make([]byte, 32)
	n, _ := f.Read(b)
	pid, err := strconv.Atoi(strings.TrimSpace(string(b[:n])))
	if err != nil || pid < 2 {
		return "", fmt.Errorf("%s does not hold the id of a process", a.PIDFile)
	}
	process, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	if err != nil {
		return "", fmt.Errorf("%s names process %d, which does not run", a.PIDFile, pid)
	}
	owner, of := st.Sys().(*syscall.Stat_t).Uid, process.Sys().(*syscall.Stat_t).Uid
	if owner != 0 && owner != of {
		return "", fmt.Errorf("%s is of user %d and names process %d of user %d; it is not signalled", a.PIDFile, owner, pid, of)
	}
	if err := unix.Kill(pid, unix.SignalNum("SIG"+a.Signal)); err != nil {
		return "", fmt.Errorf("process %d of %s: %w", pid, a.PIDFile, err)
	}
	return fmt.Sprintf("SIG%s to process %d", a.Signal, pid), nil
}
