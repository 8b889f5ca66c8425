//go:build unix

package disk

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// FactsOf returns what package os knows of a file, without its birth.
func FactsOf(st fs.FileInfo) Facts {
	s := st.Sys().(*syscall.Stat_t)
	return Facts{Regular: st.Mode().IsRegular(), Size: st.Size(), Written: st.ModTime(), Changed: changedOf(s), Device: uint64(s.Dev), Inode: s.Ino, Links: uint64(s.Nlink), Owner: s.Uid}
}

// OwnerOf returns whom a file belongs to.
func OwnerOf(st fs.FileInfo) Owner {
	s := st.Sys().(*syscall.Stat_t)
	return Owner{SetUser: true, SetGroup: true, User: int(s.Uid), Group: int(s.Gid)}
}

// IsOfRootAlone tells whether a regular file belongs to root, and nobody else may change it.
func IsOfRootAlone(path string) (bool, error) {
	st, err := os.Lstat(path)
	if err != nil {
		return false, err
	}
	of := FactsOf(st)
	return of.Regular && of.Owner == 0 && st.Mode().Perm()&0o022 == 0, nil
}

// IsReadByAll tells whether everybody on this machine may read a file.
func IsReadByAll(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.Mode().Perm()&0o004 != 0
}

// Root is who may do everything.
const Root = "root"

// UsualLogs are the folders that programs write their logs into.
var UsualLogs = []string{"/var/log"}

// EventLog returns "": this system keeps no events.
func EventLog(string) string { return "" }

// GiveToRoot returns the command that gives a file to root alone.
func GiveToRoot(path string) string {
	return fmt.Sprintf("chown root %s && chmod 644 %s", path, path)
}

// KeepFromOthers returns the command that lets nobody but who owns a file read it.
func KeepFromOthers(path string) string { return "chmod 600 " + path }

// MakePrivateFolder makes a folder, and those above it, where they are missing; what is in it is
// for its owner alone.
func MakePrivateFolder(path string) error { return os.MkdirAll(path, 0o700) }
