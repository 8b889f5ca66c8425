// Package memo keeps small facts by key, such as how far a file was read. They
// are appended as they change, each line with its checksum, to two files that
// say the same: what is damaged in one is known from the other, and what is
// damaged in both is told.
//
// It knows package disk and nothing else of the project. Its central type is
// [File].
package memo

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"

	"oakbarrel/core/disk"
)

// A line is the checksum of what follows it, a number that grows, and a key
// with its value, or with nothing where it is forgotten:
//
//	5f3a09c1 17 3fb2c11a90d2e8f4={"path":"/srv/pumps/p7.log"}
//	90be1c44 18 3fb2c11a90d2e8f4
//
// The first line of a file has the key format.

const (
	format     = "oakbarrel"
	version    = "1"
	twinSuffix = ".twin"
	spare      = 64 << 10 // bytes by which a file may outgrow four times what it had when it was written anew
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// File is the two files of one owner, who alone knows all facts. It is for one
// goroutine at a time.
type File struct {
	disk  disk.Disk
	path  string
	files [2]disk.File // nil until the first Save
	last  uint64       // the number of the last line
	size  int64        // bytes of each file
	whole int64        // bytes of each when they were written anew
	added []byte       // not written yet
	anew  bool         // the files cannot be appended to
}

// Paths returns the paths of the two files.
func Paths(path string) [2]string { return [2]string{path, path + twinSuffix} }

// New returns a file of facts that writes to path and its twin, at the first
// Save anew.
func New(d disk.Disk, path string) *File { return &File{disk: d, path: path, anew: true} }

// Found is what was read from the two files of a memo.
type Found struct {
	Facts map[string]string
	// Damaged are the paths of files in which something was damaged.
	Damaged []string
	// Lost tells that something was damaged in both, so that facts may be missing or old.
	Lost bool
	last uint64
}

// Read reads the facts of a file. Where it and its twin are missing, the error is
// [fs.ErrNotExist]; damage is no error. It changes nothing.
func Read(path string) (Found, error) {
	found := Found{Facts: map[string]string{}}
	numbers := map[string]uint64{} // of the lines that Facts are from, and of those that forget
	missing, anew := 0, uint64(0)
	var first error
	for _, p := range Paths(path) {
		b, err := disk.ReadFile(p)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			missing, first = missing+1, err
			continue
		case err != nil:
			return found, err
		}
		number, sound := found.merge(b, numbers)
		if !sound {
			found.Damaged = append(found.Damaged, p)
			continue
		}
		anew = max(anew, number)
	}
	for key := range found.Facts {
		if numbers[key] < anew { // what was forgotten before one was written anew stands in the other still
			delete(found.Facts, key)
		}
	}
	if missing == 2 {
		return found, first
	}
	found.Lost = len(found.Damaged)+missing == 2
	maps.DeleteFunc(found.Facts, func(key, _ string) bool { return key == format })
	return found, nil
}

// merge takes the facts of a file over those that are older, and tells the number
// with which the file was written anew, and whether it is sound. A last line that
// has no end was torn by a kill.
func (f *Found) merge(b []byte, numbers map[string]uint64) (anew uint64, sound bool) {
	sound = bytes.IndexByte(b, '\n') >= 0 // its first line was written in one step
	for first := true; len(b) > 0; first = false {
		end := bytes.IndexByte(b, '\n')
		if end < 0 {
			break
		}
		number, key, value, kept, ok := parse(b[:end])
		b = b[end+1:]
		if !ok || first && (key != format || value != version) {
			sound = false
			continue
		}
		if first {
			anew = number
		}
		f.last = max(f.last, number)
		if number < numbers[key] {
			continue
		}
		numbers[key] = number
		if delete(f.Facts, key); kept {
			f.Facts[key] = value
		}
	}
	return anew, sound
}

func parse(line []byte) (number uint64, key, value string, kept, ok bool) {
	sum, rest, found := strings.Cut(string(line), " ")
	if want, err := strconv.ParseUint(sum, 16, 32); !found || len(sum) != 8 || err != nil || uint32(want) != crc32.Checksum([]byte(rest), castagnoli) {
		return 0, "", "", false, false
	}
	text, rest, found := strings.Cut(rest, " ")
	number, err := strconv.ParseUint(text, 10, 64)
	if !found || err != nil {
		return 0, "", "", false, false
	}
	key, value, kept = strings.Cut(rest, "=")
	return number, key, value, kept, true
}

// Set adds a fact that the next Save writes. Neither key nor value may hold a
// line feed, and the key no "=".
func (f *File) Set(key, value string) { f.add(key + "=" + value) }

// Forget has the next Save write that a key is known no more.
func (f *File) Forget(key string) { f.add(key) }

func (f *File) add(what string) {
	f.last++
	f.added = appendLine(f.added, f.last, what)
}

func appendLine(dst []byte, number uint64, what string) []byte {
	start := len(dst)
	dst = append(dst, "00000000 "...)
	dst = strconv.AppendUint(dst, number, 10)
	dst = append(append(dst, ' '), what...)
	copy(dst[start:], fmt.Sprintf("%08x", crc32.Checksum(dst[start+9:], castagnoli)))
	return append(dst, '\n')
}

// Save writes what was noted since the last Save. Where the files have outgrown
// what they hold, or cannot be gone on with, all facts are written anew, which
// all calls note with. Durable has them survive a power cut. After an error the
// next Save writes all anew.
func (f *File) Save(durable bool, all func(note func(key, value string))) error {
	if f.anew || f.size+int64(len(f.added)) > 4*f.whole+spare {
		return f.writeAll(all)
	}
	added := f.added
	f.added = f.added[:0]
	if len(added) == 0 {
		return nil
	}
	for _, to := range f.files {
		_, err := to.Write(added)
		if err == nil && durable {
			err = to.Sync()
		}
		if err != nil {
			f.close()
			return err
		}
	}
	f.size += int64(len(added))
	return nil
}

// writeAll writes all facts, one file after the other, so that one of them is
// whole at any time.
func (f *File) writeAll(all func(note func(key, value string))) error {
	f.close()
	f.last++
	b := appendLine(nil, f.last, format+"="+version)
	all(func(key, value string) {
		f.last++
		b = appendLine(b, f.last, key+"="+value)
	})
	for i, path := range Paths(f.path) {
		if err := disk.WriteFile(f.disk, path, b, 0o640); err != nil {
			return err
		}
		file, err := f.disk.OpenAppend(path, 0o640)
		if err != nil {
			return err
		}
		f.files[i] = file
	}
	f.added, f.size, f.whole, f.anew = f.added[:0], int64(len(b)), int64(len(b)), false
	return nil
}

func (f *File) close() {
	for i := range f.files {
		if f.files[i] != nil {
			f.files[i].Close()
			f.files[i] = nil
		}
	}
	f.anew = true
}

// Close closes the files. What was not saved is lost.
func (f *File) Close() { f.close() }

// Continue has the numbers of a file go on behind those that were read, so that
// what it notes is the newer.
func (f *File) Continue(found Found) { f.last = max(f.last, found.last) }

// Keys returns the keys of the facts in order.
func (f *Found) Keys() []string { return slices.Sorted(maps.Keys(f.Facts)) }
