package spool

import (
	"fmt"
	"path/filepath"
	"slices"

	"oakbarrel/core/disk"
	"oakbarrel/core/record"
)

// laneID says which records a lane holds: those of a severity, of intakes that
// can wait or of those that cannot. Only the latter may be shed.
type laneID uint8

const lanes = 16

func laneOf(s record.Severity, canWait bool) laneID {
	id := laneID(s) << 1
	if canWait {
		id |= 1
	}
	return id
}

func (id laneID) severity() record.Severity { return record.Severity(id >> 1) }
func (id laneID) canShed() bool             { return id&1 == 0 }

// chunkSize is when a chunk is closed and another begun, in bytes.
const chunkSize = 4 << 20

// chunk is a file of frames.
type chunk struct {
	path        string
	first, last uint64 // numbers
	records     int64
	size        int64
}

// chunkName has the lane and the first number, so that names sort in the order of numbers.
func chunkName(dir string, id laneID, first uint64) string {
	return filepath.Join(dir, fmt.Sprintf("lane-%02d-%020d.chunk", id, first))
}

func parseChunkName(path string) (id laneID, first uint64, ok bool) {
	n, err := fmt.Sscanf(filepath.Base(path), "lane-%02d-%020d.chunk", &id, &first)
	return id, first, n == 2 && err == nil && id < lanes && chunkName(filepath.Dir(path), id, first) == path
}

// lane is the chunks of a lane, the oldest first. The last may be open for appending.
type lane struct {
	chunks []chunk
	file   disk.File // the last chunk, nil where it is closed
	cut    int64     // what a failed write left must be cut away to this size first; -1 for nothing
}

// write appends a frame, which has to be whole afterwards, or gone.
func (l *lane) write(d disk.Disk, dir string, id laneID, f *frame, buffer []byte) ([]byte, error) {
	if err := l.repair(); err != nil {
		return buffer, err
	}
	if l.file == nil || l.chunks[len(l.chunks)-1].size >= chunkSize {
		if err := l.beginChunk(d, chunkName(dir, id, f.first)); err != nil {
			return buffer, err
		}
		l.chunks[len(l.chunks)-1].first = f.first
	}
	c := &l.chunks[len(l.chunks)-1]
	buffer = f.append(buffer[:0])
	if _, err := l.file.Write(buffer); err != nil {
		l.cut = c.size
		l.repair() // or before the next write
		return buffer, err
	}
	c.size += int64(len(buffer))
	c.records += int64(f.records)
	c.last = f.last
	return buffer, nil
}

func (l *lane) repair() error {
	if l.cut < 0 {
		return nil
	}
	if err := l.file.Truncate(l.cut); err != nil {
		return err
	}
	l.cut = -1
	return nil
}

// beginChunk closes the open chunk and begins another.
func (l *lane) beginChunk(d disk.Disk, path string) error {
	f, err := d.OpenAppend(path, 0o640)
	if err != nil {
		return err
	}
	if err := f.Truncate(0); err != nil { // one of this name held a group that was taken back
		f.Close()
		return err
	}
	l.close()
	l.file = f
	l.chunks = append(l.chunks, chunk{path: path})
	return nil
}

// takeBack undoes the last write: the chunk is what it was before.
func (l *lane) takeBack(before chunk, chunks int) {
	for len(l.chunks) > chunks { // the chunk was begun for the write
		l.cut = -1
		l.close()
		l.chunks = l.chunks[:len(l.chunks)-1]
	}
	if chunks > 0 && l.file != nil {
		l.chunks[chunks-1] = before
		l.cut = before.size
		l.repair()
	}
}

func (l *lane) close() {
	if l.file != nil {
		l.file.Close()
	}
	l.file = nil
}

// listChunks reads the folder. Sizes and numbers are those of whole frames.
func listChunks(dir string) (found [lanes][]string, err error) {
	entries, err := disk.ReadDir(dir)
	if err != nil {
		return found, err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		if id, _, ok := parseChunkName(path); ok {
			found[id] = append(found[id], path)
		}
	}
	for id := range found {
		slices.Sort(found[id])
	}
	return found, nil
}
