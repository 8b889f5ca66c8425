//go:build linux || windows

package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

// The log of a service takes a bounded part of the disk, and begins where the service made its folder.
func TestTheLogOfAService(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	l := newServiceLog(dir)
	line := append(bytes.Repeat([]byte("x"), 99_999), '\n')
	if n, err := l.Write(line); n != len(line) || err != nil {
		t.Errorf("without a folder: %d, %v", n, err)
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for range 250 {
		l.Write(line)
	}
	l = newServiceLog(dir) // started again
	l.Write([]byte("the last\n"))
	var total int64
	for _, name := range []string{serviceLogFile, serviceLogFile + ".1"} {
		st, err := os.Stat(filepath.Join(dir, name))
		if err != nil || st.Size() > mostServiceLog {
			t.Fatalf("%v: %+v", err, st)
		}
		total += st.Size()
	}
	if total < mostServiceLog {
		t.Errorf("only %d bytes are kept", total)
	}
	if b, _ := os.ReadFile(filepath.Join(dir, serviceLogFile)); !bytes.HasSuffix(b, []byte("the last\n")) {
		t.Error("the last line is not there")
	}
}
