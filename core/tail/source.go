package tail

import (
	"crypto/rand"
	"encoding/hex"
	"io/fs"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/lines"
)

// source is a run of bytes that is followed: what one file holds, wherever it
// is renamed, copied or compressed to. A file that is cut begins another one.
type source struct {
	// What is written down.
	ID      string      `json:"id"`
	Path    string      `json:"path"`   // where it stands, or stood last
	Born    string      `json:"born"`   // where it was when it was first seen
	Device  uint64      `json:"device"` // holds within one start of the machine
	Inode   uint64      `json:"inode"`
	Birth   int64       `json:"birth,omitzero"`  // when the inode was given to it, in nanoseconds
	Head    fingerprint `json:"head"`            // of its beginning
	Begin   int64       `json:"begin,omitzero"`  // where it is followed from
	Size    int64       `json:"size,omitzero"`   // of a file that is no longer read: when it was finished
	Written time.Time   `json:"written"`         // when the file was last written to, when it was last looked at
	Length  int64       `json:"length,omitzero"` // of what stood in it then, decompressed
	Packed  bool        `json:"packed,omitzero"` // the file is compressed
	Short   bool        `json:"short,omitzero"`  // the file is a copy that has less than was read
	Done    bool        `json:"done,omitzero"`   // read to its end, and the file is not written to any more
	Gone    *time.Time  `json:"gone,omitzero"`   // since when there is no file with it

	// Written down apart from the rest, as it changes more often.
	Position int64       `json:"-"` // how far it was passed on when that was written down
	Tail     fingerprint `json:"-"` // of what stands before some place that was read

	altered bool      // not written down as it is now
	renamed bool      // its path is not, which is in no hurry while its set is the same
	noted   int64     // the position that was written down last
	notedAt time.Time // when that was
	begun   time.Time // when it was first seen; zero for before this run

	missed   time.Time // since when no look has found it; zero for never
	known    bool      // the file was found to be this source in this run
	file     *disk.Handle
	head     []byte // of Head
	encoding encoding
	tail     []byte // what was read last
	former   string // where it stood before it was renamed
	enough   int64  // where a file ended when the plan did not want it any more, 0 where it does
	real     string // Path without links
	changed  int64  // when the file or its name was changed last, as the system tells, in nanoseconds
	lastSize int64  // when it was last looked at
	age      int64  // see rolledAge, of Path
	number   int    // in the order in which sources became known
	used     time.Time

	read    int64 // up to here lines were taken
	looked  time.Time
	partial int64     // how much stands behind the last line
	since   time.Time // when that came
	waits   *source   // what has to be read to its end before
	dirty   bool
	trouble string // why it cannot be read
	retry   time.Time
	cuts    int
	window  time.Duration // the longest time in which lines may be lost by a cut

	unpacking *unpacking // nil where it is not compressed, or not being read

	long     []byte // the beginning of a line that is too long, nil for none
	longEnd  int64  // how far it was looked through
	streams  []stream
	settings *lines.Settings
	reason   string // why it is not read, "" where it is
}

func newID() string {
	random := make([]byte, 8)
	rand.Read(random)
	return hex.EncodeToString(random)
}

// stat is what is known of a file without reading it.
type stat struct{ disk.Facts }

func statOf(st fs.FileInfo) stat { return stat{disk.FactsOf(st)} }

// identity tells one file from another. An inode is given anew once its file is gone.
type identity struct {
	inode
	birth int64 // 0 where nothing tells
}

func (i identity) is(other identity) bool { return i.inode == other.inode && i.mayBe(other) }

// mayBe tells whether two files were born at one time, as far as that is known.
func (i identity) mayBe(other identity) bool {
	return i.birth == other.birth || i.birth == 0 || other.birth == 0
}

func (s stat) inode() inode       { return inode{s.Device, s.Inode} }
func (s stat) identity() identity { return identity{s.inode(), s.Birth} }

func (s *source) inode() inode       { return inode{s.Device, s.Inode} }
func (s *source) identity() identity { return identity{s.inode(), s.Birth} }

// is tells whether a file is the one in which a source stands, or stood last.
func (s *source) is(st stat) bool { return s.identity().is(st.identity()) }

func (s *source) close() {
	if s.file != nil {
		s.file.Close()
		s.file = nil
	}
	if s.unpacking != nil {
		s.unpacking.content.close()
		s.unpacking = nil
	}
}

// remember keeps the end of what was read.
func (s *source) remember(b []byte) {
	if len(b) >= printSize {
		s.tail = append(s.tail[:0], b[len(b)-printSize:]...)
		return
	}
	if over := len(s.tail) + len(b) - printSize; over > 0 {
		s.tail = append(s.tail[:0], s.tail[over:]...)
	}
	s.tail = append(s.tail, b...)
}

// learnTail reads again what was read last, if that is not known any more, so
// that the source is known by it.
func (s *source) learnTail(content *content) {
	if len(s.tail) > 0 || s.read <= s.Head.end() || s.Tail.end() >= s.read {
		return
	}
	b := make([]byte, min(printSize, s.read))
	if n, _ := content.read(b, s.read-int64(len(b))); n == len(b) {
		s.tail = b
	}
}

// tailEnd returns up to where it is known what was read last, 0 for nowhere.
func (s *source) tailEnd() int64 {
	if len(s.tail) == 0 {
		return s.Tail.end()
	}
	return s.read
}

// tailPrint returns the fingerprint of what stands before a place that was read.
func (s *source) tailPrint() fingerprint {
	if len(s.tail) == 0 {
		return s.Tail
	}
	return printOf(s.read-int64(len(s.tail)), s.tail)
}
