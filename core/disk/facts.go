package disk

import (
	"io/fs"
	"time"
)

// Facts is what is known of a file without reading it. They can be compared.
type Facts struct {
	Regular bool
	Size    int64
	Written time.Time // when its content was changed last
	Changed int64     // when it or its name was changed last, in nanoseconds since 1970
	Device  uint64    // holds within one start of the machine
	Inode   uint64
	Birth   int64 // when the inode was given to it, likewise; 0 where nothing tells
	Links   uint64
	Owner   uint32
}

// Made returns when a file was made, or where the file system does not tell, when
// it was last written.
func Made(path string, st fs.FileInfo) time.Time {
	if facts, err := FactsAt(path); err == nil && facts.Birth > 0 {
		return time.Unix(0, facts.Birth)
	}
	return st.ModTime()
}
