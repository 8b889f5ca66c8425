package disk

import (
	"io/fs"
	"os"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// basicInfo is FILE_BASIC_INFO: times in units of 100 ns since 1601.
type basicInfo struct {
	Created, Read, Written, Changed int64
	Attributes                      uint32
	_                               uint32
}

func nanos(t int64) int64 {
	return (&windows.Filetime{LowDateTime: uint32(t), HighDateTime: uint32(t >> 32)}).Nanoseconds()
}

// factsOf looks at an open file. Device and inode are the volume's serial number and the file's
// id on it, which holds through renames. The birth is left out: a file that is made in the place
// of another one is given that one's by the system, and ids are not given twice.
func factsOf(h windows.Handle) (f Facts, attributes uint32, err error) {
	var by windows.ByHandleFileInformation
	if err = windows.GetFileInformationByHandle(h, &by); err != nil {
		return f, 0, err
	}
	f = Facts{
		Regular: by.FileAttributes&(windows.FILE_ATTRIBUTE_DIRECTORY|windows.FILE_ATTRIBUTE_REPARSE_POINT|windows.FILE_ATTRIBUTE_DEVICE) == 0,
		Size:    int64(by.FileSizeHigh)<<32 | int64(by.FileSizeLow), Written: time.Unix(0, by.LastWriteTime.Nanoseconds()), Changed: by.LastWriteTime.Nanoseconds(),
		Device: uint64(by.VolumeSerialNumber), Inode: uint64(by.FileIndexHigh)<<32 | uint64(by.FileIndexLow), Links: uint64(by.NumberOfLinks),
	}
	var basic basicInfo
	if windows.GetFileInformationByHandleEx(h, windows.FileBasicInfo, (*byte)(unsafe.Pointer(&basic)), uint32(unsafe.Sizeof(basic))) == nil && basic.Changed != 0 {
		f.Changed = nanos(basic.Changed)
	}
	var standard struct {
		Allocated, Size int64
		Links           uint32
		Removed, Folder bool
	}
	if windows.GetFileInformationByHandleEx(h, windows.FileStandardInfo, (*byte)(unsafe.Pointer(&standard)), uint32(unsafe.Sizeof(standard))) == nil && standard.Removed {
		f.Links = 0 // its name goes with the last who has it open
	}
	return f, by.FileAttributes, nil
}

// info is what a look at a file tells.
type info struct {
	fs.FileInfo
	facts Facts
}

// FactsOf returns what a look at a file has told.
func FactsOf(st fs.FileInfo) Facts {
	if i, ok := st.(info); ok {
		return i.facts
	}
	return Facts{Regular: st.Mode().IsRegular(), Size: st.Size(), Written: st.ModTime(), Changed: st.ModTime().UnixNano(), Links: 1}
}

// FactsAt looks at what stands at a path; a link is not followed.
func FactsAt(path string) (Facts, error) {
	h, err := openHandle(path, windows.FILE_READ_ATTRIBUTES, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS, nil)
	if err != nil {
		return Facts{}, err
	}
	defer windows.CloseHandle(h)
	f, _, err := factsOf(h)
	return f, err
}

// BirthOf tells nothing, see factsOf.
func BirthOf(*Handle) int64 { return 0 }

// Stat looks at a file; links are followed.
func Stat(path string) (fs.FileInfo, error) { return look(path, os.Stat, 0) }

// Lstat looks at what stands at a path; a link is not followed.
func Lstat(path string) (fs.FileInfo, error) {
	return look(path, os.Lstat, windows.FILE_FLAG_OPEN_REPARSE_POINT)
}

func look(path string, stat func(string) (fs.FileInfo, error), flags uint32) (fs.FileInfo, error) {
	st, err := stat(path)
	if err != nil {
		return nil, err
	}
	name, err := native(path)
	if err != nil {
		return nil, err
	}
	h, err := windows.CreateFile(name, windows.FILE_READ_ATTRIBUTES, shared, nil, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS|flags, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "look at", Path: path, Err: err}
	}
	defer windows.CloseHandle(h)
	facts, _, err := factsOf(h)
	return info{st, facts}, err
}

// IsSame tells whether two looks were at one file.
func IsSame(a, b fs.FileInfo) bool {
	x, y := FactsOf(a), FactsOf(b)
	return x.Inode != 0 && x.Device == y.Device && x.Inode == y.Inode
}
