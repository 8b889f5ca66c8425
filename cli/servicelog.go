//go:build linux || windows

package cli

import (
	"os"
	"path/filepath"
	"sync"
)

const (
	serviceLogFile = "agent.log"
	mostServiceLog = 10 << 20 // bytes; as many are kept of before
)

// serviceLog is the own log of an agent that runs as a service, and has nowhere to write to: a file, and
// the one before it. It is safe for concurrent use.
type serviceLog struct {
	mu   sync.Mutex
	path string
	file *os.File
	size int64
}

func newServiceLog(dir string) *serviceLog {
	return &serviceLog{path: filepath.Join(dir, serviceLogFile)}
}

// Write implements [io.Writer]. What cannot be written is given up: there is nobody to tell.
func (l *serviceLog) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file != nil && l.size+int64(len(b)) > mostServiceLog {
		l.file.Close()
		l.file = nil
		if os.Rename(l.path, l.path+".1") != nil {
			os.Truncate(l.path, 0) // whatever is in the way, the disk is not filled
		}
	}
	if l.file == nil && !l.open() {
		return len(b), nil
	}
	n, _ := l.file.Write(b)
	l.size += int64(n)
	return len(b), nil
}

func (l *serviceLog) open() bool {
	f, err := os.OpenFile(l.path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o640)
	if err != nil {
		return false
	}
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return false
	}
	l.file, l.size = f, st.Size()
	return true
}
