package state

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/disk"
)

const (
	damagedDir    = "damaged" // of a state folder: files that were found damaged, each with the reason beside it
	ReasonSuffix  = ".why"
	mostDamaged   = 100      // files that are kept there; the oldest go first
	mostPutAside  = 32 << 20 // bytes of a file that is put aside
	damagedStamps = "20060102T150405.000000Z"
)

// PutAside keeps a copy of a damaged file, and tells of it.
func (s *Folder) PutAside(d client.Damage) {
	s.KeepDamaged(d, nil)
}

// KeepDamaged is PutAside with what is to be kept, nil for the file itself.
func (s *Folder) KeepDamaged(d client.Damage, content []byte) {
	d.At = time.Now()
	if err := s.copyAside(&d, content); err != nil {
		s.log.Warn("a damaged file cannot be put aside", "path", d.File, "why", err)
	}
	s.log.Error("a file of the state folder is damaged", "part", d.Part, "path", d.File, "cost", d.Cost, "put_aside", d.Aside)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.damages = append(s.damages, d)
	if over := len(s.damages) - mostDamaged; over > 0 {
		s.damages = slices.Delete(s.damages, 0, over)
	}
}

func (s *Folder) copyAside(d *client.Damage, content []byte) error {
	dir := filepath.Join(s.dir, damagedDir)
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	if content == nil {
		f, err := os.Open(d.File)
		if err != nil {
			return err
		}
		defer f.Close()
		if content, err = io.ReadAll(io.LimitReader(f, mostPutAside)); err != nil {
			return err
		}
	}
	name := filepath.Base(d.File)
	if parent := filepath.Base(filepath.Dir(d.File)); parent != filepath.Base(s.dir) {
		name = parent + "-" + name
	}
	aside := filepath.Join(dir, d.At.UTC().Format(damagedStamps)+"-"+name)
	if err := disk.WriteFile(disk.OS, aside, content, 0o640); err != nil {
		return err
	}
	d.Aside = aside
	reason := fmt.Sprintf("%s was found damaged at %s.\nIt was of: %s\nIt cost: %s\n", d.File, d.At.Format(time.RFC3339), d.Part, d.Cost)
	err := disk.WriteFile(disk.OS, aside+ReasonSuffix, []byte(reason), 0o640)
	for _, old := range over(dir) {
		os.Remove(old)
		os.Remove(old + ReasonSuffix)
	}
	return err
}

// over returns the files put aside that are more than are kept.
func over(dir string) []string {
	files := asideFiles(dir)
	return files[:max(0, len(files)-mostDamaged)]
}

// Aside returns the files of a state folder that were found damaged and put
// aside, the oldest first. Beside each stands a file with [ReasonSuffix] that
// tells what it cost.
func Aside(stateDir string) (files []string) { return asideFiles(filepath.Join(stateDir, damagedDir)) }

func asideFiles(dir string) (files []string) {
	filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() && !strings.HasSuffix(path, ReasonSuffix) && !strings.HasSuffix(path, ".part") {
			files = append(files, path)
		}
		return nil
	})
	return files // their names begin with the time
}

// Damages returns the damages of this run.
func (s *Folder) Damages() []client.Damage {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]client.Damage{}, s.damages...)
}
