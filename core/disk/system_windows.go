package disk

import (
	"io/fs"
	"strings"

	"golang.org/x/sys/windows"
)

// PathOf returns where an open file stands now.
func PathOf(f *Handle) (string, error) {
	room := make([]uint16, 1<<15)
	n, err := windows.GetFinalPathNameByHandle(windows.Handle(f.Fd()), &room[0], uint32(len(room)), 0)
	if err != nil {
		return "", &fs.PathError{Op: "find", Path: f.Name(), Err: err}
	}
	path := windows.UTF16ToString(room[:n])
	if rest, isShare := strings.CutPrefix(path, `\\?\UNC\`); isShare {
		return `\\` + rest, nil
	}
	return strings.TrimPrefix(path, `\\?\`), nil
}

// IsOpenElsewhere tells whether somebody has a file open for writing: who opens it without
// letting others write is refused then.
func IsOpenElsewhere(f *Handle) bool {
	name, err := native(f.Name())
	if err != nil {
		return false
	}
	h, err := windows.CreateFile(name, windows.GENERIC_READ, windows.FILE_SHARE_READ|windows.FILE_SHARE_DELETE, nil, windows.OPEN_EXISTING, windows.FILE_ATTRIBUTE_NORMAL, 0)
	if err != nil {
		return err == windows.ERROR_SHARING_VIOLATION
	}
	windows.CloseHandle(h)
	return false
}

// threadModeBackground lowers what a thread has of processor, disk and memory.
const threadModeBackground = 0x00010000

var setThreadPriority = windows.NewLazySystemDLL("kernel32.dll").NewProc("SetThreadPriority")

func lowerPriority() { setThreadPriority.Call(uintptr(windows.CurrentThread()), threadModeBackground) }

// IsBlind tells whether the system does not tell what others change in a folder: on a share.
func IsBlind(folder string) bool {
	return strings.HasPrefix(folder, `\\`) && !strings.HasPrefix(folder, `\\?\`)
}

// Space returns the size of the disk of a folder, and what of it is free, in bytes.
func Space(folder string) (size, free int64, err error) {
	name, err := native(folder)
	var mine, all, left uint64
	if err == nil {
		err = windows.GetDiskFreeSpaceEx(name, &mine, &all, &left)
	}
	if err != nil {
		return 0, 0, &fs.PathError{Op: "look at the disk of", Path: folder, Err: err}
	}
	return int64(all), int64(mine), nil
}
