package state

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/windows"

	"oakbarrel/core/disk"
)

const noFollow = 0 // only who may write in the folder could make a link there

// makeFolder makes a folder for who runs the agent, and administrators.
func makeFolder(dir string) error { return disk.MakePrivateFolder(dir) }

// aliveDir is where each agent of this machine shows that it lives. Only administrators can
// write there: nobody else can pretend to be one.
func aliveDir() string {
	data, err := windows.KnownFolderPath(windows.FOLDERID_ProgramData, 0)
	if err != nil || !windows.GetCurrentProcessToken().IsElevated() {
		return ""
	}
	return filepath.Join(data, "OakBarrel", "alive")
}

// removeOpen closes a file and removes it: what is open cannot be removed.
func removeOpen(f *os.File) {
	f.Close()
	os.Remove(f.Name())
}
