package outlet

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"oakbarrel/core/disk"
	"oakbarrel/core/record"
)

const (
	refusedDir  = "refused" // of a state folder: the records that other sides refused, a file for each outlet
	mostRefused = 16 << 20  // bytes of such a file; then it is put aside, in the place of the one before
)

func refusedFile(stateDir, outlet string) string {
	return filepath.Join(stateDir, refusedDir, outlet+".jsonl")
}

// refusals is a file of the records that an other side does not take.
type refusals struct {
	disk disk.Disk
	path string
}

// add writes a record down with the reason, so that it survives a power cut.
func (f refusals) add(r *record.Record, why error) error {
	if err := f.disk.MakeFolder(filepath.Dir(f.path)); err != nil {
		return err
	}
	if st, err := os.Stat(f.path); err == nil && st.Size() > mostRefused {
		if err := f.disk.Rename(f.path, f.path+".1"); err != nil {
			return err
		}
	}
	file, err := f.disk.OpenAppend(f.path, 0o640)
	if err != nil {
		return err
	}
	defer file.Close()
	line := fmt.Appendf(nil, `{"refused":%q,"why":`, time.Now().UTC().Format(time.RFC3339Nano))
	line = append(record.AppendJSONString(line, []byte(why.Error())), `,"record":`...)
	if _, err := file.Write(append(r.AppendJSON(line), "}\n"...)); err != nil {
		return err
	}
	return file.Sync()
}
