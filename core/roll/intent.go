package roll

import (
	"encoding/binary"
	"hash/crc32"
	"io/fs"
	"os"
	"syscall"

	"oakbarrel/core/disk"
)

// intent is what the writer notes before each write: how long the file is and
// how much is about to be added. After a kill it tells whether the write was
// whole, so that a torn one can be cut away and a file only ever holds whole
// lines. It knows the file by its inode, so it says nothing about another one
// under the same name.
type intent struct {
	inode        uint64
	size, length int64
}

const intentSize = 32

func (i intent) encode() (b [intentSize]byte) {
	copy(b[:], "OBI1")
	binary.LittleEndian.PutUint64(b[8:], i.inode)
	binary.LittleEndian.PutUint64(b[16:], uint64(i.size))
	binary.LittleEndian.PutUint32(b[24:], uint32(i.length))
	binary.LittleEndian.PutUint32(b[28:], crc32.ChecksumIEEE(b[:28]))
	return b
}

func decodeIntent(b []byte) (i intent, ok bool) {
	if len(b) < intentSize || string(b[:4]) != "OBI1" || crc32.ChecksumIEEE(b[:28]) != binary.LittleEndian.Uint32(b[28:]) {
		return i, false
	}
	i.inode = binary.LittleEndian.Uint64(b[8:])
	i.size = int64(binary.LittleEndian.Uint64(b[16:]))
	i.length = int64(binary.LittleEndian.Uint32(b[24:]))
	return i, true
}

// repair cuts a torn write from a live file, as the intent at path tells.
func repair(live disk.File, path string) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil // nothing was written yet
	}
	i, ok := decodeIntent(b)
	st, err := live.Stat()
	if err != nil || !ok {
		return err
	}
	if i.inode == inodeOf(st) && st.Size() > i.size && st.Size() < i.size+i.length {
		return live.Truncate(i.size)
	}
	return nil
}

func inodeOf(st fs.FileInfo) uint64 { return st.Sys().(*syscall.Stat_t).Ino }
