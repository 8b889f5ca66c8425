package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"

	"oakbarrel/agent/state"
	"oakbarrel/core/disk"
)

// givePrivileges takes all privileges from the service but the one to pass through folders.
func givePrivileges(service windows.Handle) error {
	names, err := windows.UTF16FromString("SeChangeNotifyPrivilege")
	if err != nil {
		return err
	}
	names = append(names, 0) // the end of the list
	info := struct{ names *uint16 }{&names[0]}
	return windows.ChangeServiceConfig2(service, windows.SERVICE_CONFIG_REQUIRED_PRIVILEGES_INFO, (*byte)(unsafe.Pointer(&info)))
}

// giveRights lets the service read the folder of its plan, write into that of its state, and read the
// log of events. Others but administrators can do neither.
func giveRights(planFile, stateDir string) error {
	account, _, _, err := windows.LookupSID("", serviceAccount)
	if err != nil {
		return fmt.Errorf("the account %s is not known: %w", serviceAccount, err)
	}
	for _, of := range []struct{ dir, rights string }{{filepath.Dir(planFile), "0x1200a9"}, {stateDir, "FA"}} { // read and pass through; all
		if err := disk.OS.MakeFolder(of.dir); err != nil {
			return err
		}
		sd, err := windows.SecurityDescriptorFromString("D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;" + of.rights + ";;;" + account.String() + ")")
		if err != nil {
			return err
		}
		if err := disk.SetRights(of.dir, sd); err != nil {
			return fmt.Errorf("the rights of %s cannot be set: %w", of.dir, err)
		}
		// Only now: nobody else can put anything there any more.
		switch others, err := disk.OfOthers(of.dir, account); {
		case err != nil:
			return err
		case others != "":
			return fmt.Errorf("%s belongs to somebody who is no administrator and could change it again, or leads elsewhere; look at what it is, and move it away", others)
		}
	}
	return joinEventReaders(account)
}

// checkFolders tells that the folders of the plan and of the state are for nothing else, as nobody
// but the service and administrators can read them afterwards.
func checkFolders(planFile, stateDir string) error {
	planDir := filepath.Dir(planFile)
	err := checkFolder(planDir, "plan", func(name string, folder bool) bool {
		switch strings.ToLower(filepath.Ext(name)) {
		case ".yaml", ".yml":
			return !folder
		}
		return strings.EqualFold(name, "token") || strings.EqualFold(filepath.Join(planDir, name), stateDir)
	})
	if err != nil {
		return err
	}
	if _, err := os.Lstat(filepath.Join(stateDir, state.IDFile)); err == nil {
		return nil
	}
	return checkFolder(stateDir, "state", func(name string, _ bool) bool { return name == serviceLogFile })
}

func checkFolder(dir, what string, ours func(name string, folder bool) bool) error {
	if dir == filepath.Dir(dir) {
		return fmt.Errorf(`%s is a whole drive; the %s needs a folder of its own, as nobody else can read it afterwards`, dir, what)
	}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if !ours(e.Name(), e.IsDir()) {
			return fmt.Errorf("%s holds other things (%s); the %s needs a folder of its own, as nobody else can read it afterwards", dir, e.Name(), what)
		}
	}
	return nil
}

var addToGroup = windows.NewLazySystemDLL("netapi32.dll").NewProc("NetLocalGroupAddMembers")

// joinEventReaders makes an account a member of those who may read the log of events.
func joinEventReaders(account *windows.SID) error {
	readers, err := windows.CreateWellKnownSid(windows.WinBuiltinEventLogReadersGroup)
	if err != nil {
		return err
	}
	name, _, _, err := readers.LookupAccount("")
	if err != nil {
		return err
	}
	group, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return err
	}
	member := struct{ sid *windows.SID }{account}
	code, _, _ := addToGroup.Call(0, uintptr(unsafe.Pointer(group)), 0, uintptr(unsafe.Pointer(&member)), 1)
	if err := windows.Errno(code); code != 0 && !errors.Is(err, windows.ERROR_MEMBER_IN_ALIAS) {
		return fmt.Errorf("%s cannot join the group %s: %w", serviceAccount, name, err)
	}
	return nil
}
