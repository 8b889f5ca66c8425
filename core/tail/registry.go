package tail

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"oakbarrel/core/disk"
)

// registry is what a follower writes down.
type registry struct {
	Boot    string    `json:"boot"` // of the machine's start in which it was written: a device's number holds within one
	Sources []*source `json:"sources"`
}

// mostSources is how many sources are remembered at most, with those that no file has.
const mostSources = 50_000

func readRegistry(path string) (r registry, err error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return r, err
	}
	if err := json.Unmarshal(b, &r); err != nil {
		return r, fmt.Errorf("%s is damaged, and with it what is known of the files that are followed: %w; move it away to begin anew", path, err)
	}
	return r, nil
}

func (f *Follower) load() error {
	r, err := readRegistry(f.file)
	if errors.Is(err, fs.ErrNotExist) {
		f.first = true
		return nil
	}
	if err != nil {
		return err
	}
	for _, s := range r.Sources {
		if r.Boot != f.boot {
			s.Device = 0
		}
		s.number = f.number
		f.number++
		f.sources = append(f.sources, s)
		if key := (inode{s.Device, s.Inode}); s.Gone == nil || f.byInode[key] == nil { // inodes are given anew
			f.byInode[key] = s
		}
		for _, name := range f.streamNames(s) {
			f.positions[name] = max(s.Begin, s.Position)
		}
	}
	return nil
}

// save writes the sources down, so that they are known again.
func (f *Follower) save() error {
	f.forgetGone()
	r := registry{Boot: f.boot, Sources: f.sources}
	for _, s := range f.sources {
		s.Position, s.Tail = s.passed(), s.tailPrint()
	}
	b, err := json.Marshal(r)
	if err == nil {
		err = disk.WriteFile(f.disk, f.file, append(b, '\n'), 0o640)
	}
	if err == nil {
		f.saved, f.altered, f.urgent = f.now(), false, false
	}
	return err
}

func (f *Follower) saveAtTimes() error {
	if !f.urgent && (!f.altered || f.now().Before(f.saved.Add(saveTime))) {
		return nil
	}
	return f.save()
}

// passed returns the least offset to which a source was passed on.
func (s *source) passed() int64 {
	if len(s.streams) == 0 {
		return s.Position
	}
	least := s.streams[0].mark.Offset
	for i := range s.streams {
		least = min(least, s.streams[i].mark.Offset)
	}
	return least
}

// forgetGone forgets the sources that no file has had for long.
func (f *Follower) forgetGone() {
	var kept []*source
	var gone []string
	for i, s := range f.sources {
		over := s.Gone != nil && (s.Head.Length == 0 || f.now().Sub(*s.Gone) > forgetTime || len(f.sources)-i > mostSources)
		if !over || s.file != nil {
			kept = append(kept, s)
			continue
		}
		f.drop(s)
		gone = append(gone, f.streamNames(s)...)
	}
	if len(gone) > 0 {
		f.sources = kept
		f.sink.Forget(gone)
		f.mu.Lock()
		for _, name := range gone {
			delete(f.positions, name)
		}
		f.mu.Unlock()
	}
}

// drop takes a source out of what is looked up.
func (f *Follower) drop(s *source) {
	if key := (inode{s.Device, s.Inode}); f.byInode[key] == s {
		delete(f.byInode, key)
	}
	if f.byPath[s.real] == s {
		delete(f.byPath, s.real)
	}
}

// bootID tells one start of the machine from another.
func bootID() string {
	b, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(b))
}
