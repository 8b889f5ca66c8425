package tail

import (
	"crypto/rand"
	"encoding/hex"
	"os"
	"syscall"
	"time"

	"oakbarrel/core/lines"
	"oakbarrel/core/record"
)

// source is a run of bytes that is followed: what one file holds, wherever it
// is renamed, copied or compressed to. A file that is cut begins another one.
type source struct {
	// What is written down.
	ID       string      `json:"id"`
	Path     string      `json:"path"`   // where it stands, or stood last
	Device   uint64      `json:"device"` // holds within one start of the machine
	Inode    uint64      `json:"inode"`
	Head     fingerprint `json:"head"`     // of its beginning
	Begin    int64       `json:"begin"`    // where it is followed from
	Position int64       `json:"position"` // how far it was read when this was written down
	Tail     fingerprint `json:"tail"`     // of what stands before some place that was read
	Size     int64       `json:"size"`     // of a file that is no longer read: when it was finished
	Short    bool        `json:"short"`    // the file is a copy that has less than was read
	Done     bool        `json:"done"`     // read to its end, and the file is not written to any more
	Gone     *time.Time  `json:"gone"`     // since when there is no file with it

	known    bool // the file was found to be this source in this run
	file     *os.File
	head     []byte    // of Head
	tail     []byte    // what was read last
	former   string    // where it stood before it was renamed
	real     string    // Path without links
	changed  int64     // when the file or its name was changed last, as the system tells, in nanoseconds
	lastSize int64     // when it was last looked at
	written  time.Time // when the file was last written to, when it was last looked at
	age      int64     // see rolledAge, of Path
	number   int       // in the order in which sources became known
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

	long     []byte // the beginning of a line that is too long, nil for none
	longEnd  int64  // how far it was looked through
	streams  []stream
	settings *lines.Settings
	reason   string // why it is not read, "" where it is
}

// stream is one stream of a source: a plain file has one, a container's log two.
type stream struct {
	mark   record.Mark // how far it was passed on
	from   int64       // what ends here or before is not taken
	bounds []int64     // where records end that some outlet has; in order
	maker  *lines.Maker
	part   []byte // of a message that comes in parts
	begun  int64  // where it begins
	first  lines.Line
	parts  bool
	last   time.Time // when a line came last
	// What waits ends at a bound, if more comes.
	bounded bool

	// What has begun at the end of a log that was rolled goes on in the next. Until
	// it is passed on there, its mark stays where it begins.
	handed bool
	kept   int64
	owes   []debt
}

// debt is the mark of a rolled log that is due once what it has begun is passed on.
type debt struct {
	source *source
	stream int
}

func newID() string {
	random := make([]byte, 8)
	rand.Read(random)
	return hex.EncodeToString(random)
}

// stat is what is known of a file without reading it.
type stat struct {
	device, number uint64 // number is that of the inode
	size           int64
	changed        int64 // nanoseconds
	written        time.Time
	links          uint64
	owner          uint32
}

func statOf(st os.FileInfo) stat {
	s := st.Sys().(*syscall.Stat_t)
	return stat{uint64(s.Dev), s.Ino, st.Size(), s.Ctim.Nano(), st.ModTime(), uint64(s.Nlink), s.Uid}
}

func (s stat) inode() inode { return inode{s.device, s.number} }

func (s *source) is(st stat) bool { return s.Device == st.device && s.Inode == st.number }

func (s *source) close() {
	if s.file != nil {
		s.file.Close()
		s.file = nil
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

// tailPrint returns the fingerprint of what stands before a place that was read.
func (s *source) tailPrint() fingerprint {
	if len(s.tail) == 0 {
		return s.Tail
	}
	return printOf(s.read-int64(len(s.tail)), s.tail)
}

// waiting returns the least offset at which something begins that is not passed on yet.
func (st *stream) waiting(read int64) int64 {
	if st.handed {
		return st.kept
	}
	if st.parts {
		read = st.begun
	}
	if start, waits := st.maker.Waiting(); waits {
		read = min(read, start)
	}
	return read
}
