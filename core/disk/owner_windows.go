package disk

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/windows"
)

// OwnerOf returns nobody: whose files are is not a matter of numbers here.
func OwnerOf(fs.FileInfo) Owner { return Owner{} }

// ownerOnly are the rights of files that are for who runs the agent alone, the system and its
// administrators.
var ownerOnly = sync.OnceValue(func() *windows.SecurityAttributes {
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return nil
	}
	sd, err := windows.SecurityDescriptorFromString("D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;FA;;;" + user.User.Sid.String() + ")")
	if err != nil {
		return nil
	}
	return &windows.SecurityAttributes{Length: uint32(unsafe.Sizeof(windows.SecurityAttributes{})), SecurityDescriptor: sd}
})

// MakePrivateFolder makes a folder, and those above it, where they are missing; what is in it is
// for who runs the agent alone.
func MakePrivateFolder(path string) error {
	if err := OS.MakeFolder(path); err != nil {
		return err
	}
	security := ownerOnly()
	if security == nil {
		return nil
	}
	return SetRights(path, security.SecurityDescriptor)
}

// SetRights gives a file or a folder the rights of a descriptor, and no others.
func SetRights(path string, of *windows.SECURITY_DESCRIPTOR) error {
	rights, _, err := of.DACL()
	if err != nil {
		return err
	}
	return windows.SetNamedSecurityInfo(path, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION|windows.PROTECTED_DACL_SECURITY_INFORMATION, nil, nil, rights, nil)
}

// OfOthers returns the first of a folder, and of what is in it, that belongs neither to
// administrators nor to who runs this nor to the account, or that leads elsewhere; "" for nothing.
// Who owns something may give itself any right to it.
func OfOthers(dir string, account *windows.SID) (string, error) {
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return "", err
	}
	found := ""
	err = filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		of, err := ownerAt(path)
		if err != nil {
			return err
		}
		st, err := os.Lstat(path)
		if err != nil {
			return err
		}
		if isLink(st) || !isAdministrator(of) && !of.Equals(user.User.Sid) && !of.Equals(account) {
			found = path
			return fs.SkipAll
		}
		return nil
	})
	return found, err
}

func ownerAt(path string) (*windows.SID, error) {
	h, err := openHandle(path, windows.READ_CONTROL, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS, nil)
	if err != nil {
		return nil, err
	}
	defer windows.CloseHandle(h)
	sd, err := windows.GetSecurityInfo(h, windows.SE_FILE_OBJECT, windows.OWNER_SECURITY_INFORMATION)
	if err != nil {
		return nil, err
	}
	of, _, err := sd.Owner()
	return of, err
}

// installer is the account that the system's own files belong to.
const installer = "S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464"

func isAdministrator(of *windows.SID) bool {
	return of.IsWellKnown(windows.WinBuiltinAdministratorsSid) || of.IsWellKnown(windows.WinLocalSystemSid) || of.String() == installer
}

// mayOthers tells whether anybody but administrators, the system and the owner has one of the rights
// to a file.
func mayOthers(path string, rights windows.ACCESS_MASK) (bool, error) {
	sd, err := windows.GetNamedSecurityInfo(path, windows.SE_FILE_OBJECT, windows.OWNER_SECURITY_INFORMATION|windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return false, &fs.PathError{Op: "look at the rights of", Path: path, Err: err}
	}
	of, _, err := sd.Owner()
	if err != nil {
		return false, err
	}
	list, _, err := sd.DACL()
	if err != nil || list == nil {
		return true, err // everybody may do everything
	}
	for i := range uint32(list.AceCount) {
		var entry *windows.ACCESS_ALLOWED_ACE
		if err := windows.GetAce(list, i, &entry); err != nil {
			return false, err
		}
		who := (*windows.SID)(unsafe.Pointer(&entry.SidStart))
		if entry.Header.AceType == windows.ACCESS_ALLOWED_ACE_TYPE && entry.Header.AceFlags&windows.INHERIT_ONLY_ACE == 0 && entry.Mask&rights != 0 && !isAdministrator(who) && !who.Equals(of) {
			return true, nil
		}
	}
	return false, nil
}

const (
	toRead   = windows.FILE_READ_DATA | windows.GENERIC_READ | windows.GENERIC_ALL
	toChange = windows.FILE_WRITE_DATA | windows.FILE_APPEND_DATA | windows.DELETE | windows.WRITE_DAC | windows.WRITE_OWNER | windows.GENERIC_WRITE | windows.GENERIC_ALL
)

// IsOfRootAlone tells whether a regular file belongs to administrators, and nobody else may
// change it.
func IsOfRootAlone(path string) (bool, error) {
	facts, err := FactsAt(path)
	if err != nil || !facts.Regular {
		return false, err
	}
	of, err := ownerAt(path)
	if err != nil || !isAdministrator(of) {
		return false, err
	}
	others, err := mayOthers(path, toChange)
	return !others, err
}

// IsReadByAll tells whether others on this machine than who owns a file may read it.
func IsReadByAll(path string) bool {
	others, err := mayOthers(path, toRead)
	return err == nil && others
}

// Root is who may do everything.
const Root = "administrators"

// UsualLogs are the folders that programs write their logs into.
var UsualLogs = []string{os.ExpandEnv(`${SystemRoot}\System32\LogFiles`), eventLogs}

var eventLogs = os.ExpandEnv(`${SystemRoot}\System32\winevt\Logs`)

// EventLog returns the file in which the system keeps a channel's events.
func EventLog(channel string) string {
	return filepath.Join(eventLogs, strings.ReplaceAll(channel, "/", "%4")+".evtx")
}

// CommonData returns a path below the folder of what programs keep for all users.
func CommonData(below string) string {
	data, err := windows.KnownFolderPath(windows.FOLDERID_ProgramData, 0)
	if err != nil {
		data = `C:\ProgramData`
	}
	return filepath.Join(data, below)
}

// GiveToRoot returns the command that gives a file to administrators alone.
func GiveToRoot(path string) string {
	return fmt.Sprintf(`icacls "%s" /setowner Administrators && icacls "%s" /inheritance:r /grant Administrators:F SYSTEM:F Users:R`, path, path)
}

// KeepFromOthers returns the command that lets nobody but who owns a file read it.
func KeepFromOthers(path string) string {
	return fmt.Sprintf(`icacls "%s" /inheritance:r /grant:r "%%USERNAME%%:F" Administrators:F SYSTEM:F`, path)
}
