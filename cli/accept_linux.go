package cli

import (
	"os"
	"path/filepath"

	"oakbarrel/core/disk"
)

// giveToAgent gives what was written for an agent, also its identity, to the user that has
// its state folder: root may have run this for it.
func giveToAgent(stateDir, tokenFile string) error {
	st, err := disk.Lstat(stateDir)
	if err != nil || os.Geteuid() != 0 {
		return err
	}
	of := disk.OwnerOf(st)
	files, err := filepath.Glob(filepath.Join(stateDir, "agent-id*"))
	if err != nil {
		return err
	}
	for _, file := range append(files, tokenFile) {
		if err := os.Lchown(file, of.User, of.Group); err != nil {
			return err
		}
	}
	return nil
}
