package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"unsafe"

	"golang.org/x/sys/windows"

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
func giveRights(plan, state string) error {
	account, _, _, err := windows.LookupSID("", serviceAccount)
	if err != nil {
		return fmt.Errorf("the account %s is not known: %w", serviceAccount, err)
	}
	for dir, rights := range map[string]string{filepath.Dir(plan): "0x1200a9", state: "FA"} { // read and pass through; all
		if err := disk.OS.MakeFolder(dir); err != nil {
			return err
		}
		sd, err := windows.SecurityDescriptorFromString("D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;" + rights + ";;;" + account.String() + ")")
		if err != nil {
			return err
		}
		if err := disk.SetRights(dir, sd); err != nil {
			return fmt.Errorf("the rights of %s cannot be set: %w", dir, err)
		}
	}
	return joinEventReaders(account)
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
