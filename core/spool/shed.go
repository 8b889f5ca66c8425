package spool

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"path/filepath"
	"slices"

	"oakbarrel/core/disk"
	"oakbarrel/core/record"
)

// Range is a run of numbers whose records were shed.
type Range struct {
	First, Last uint64
	Severity    record.Severity
}

const shedFile = "shed"

// makeRoom sheds until the pending group fits: the oldest chunk of the least
// serious lane, or of the group itself the least serious. Records of intakes
// that can wait are not shed.
func (s *Spool) makeRoom() error {
	if now := s.State(); now.Size+int64(s.pendingSize) <= now.Limit {
		return nil
	}
	if err := s.Forget(); err != nil { // what was delivered goes first
		return err
	}
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.size+int64(s.pendingSize) > s.limit {
		id, ok := s.leastSerious()
		if !ok {
			return ErrFull
		}
		if err := s.shedFrom(id); err != nil {
			return err
		}
	}
	return nil
}

// leastSerious returns the least serious lane that has something to shed.
func (s *Spool) leastSerious() (laneID, bool) {
	for id := lanes - 1; id >= 0; id-- {
		lane := laneID(id)
		if lane.canShed() && (s.pending[lane].records > 0 || s.oldestUnread(lane) >= 0) {
			return lane, true
		}
	}
	return 0, false
}

// oldestUnread returns the oldest chunk of a lane from which nothing has been
// read, -1 for none. What was read may be on its way.
func (s *Spool) oldestUnread(id laneID) int {
	return slices.IndexFunc(s.lanes[id].chunks, func(c chunk) bool { return c.first >= s.reading && c.records > 0 })
}

// shedFrom gives up the oldest chunk of a lane, or what is pending for it.
func (s *Spool) shedFrom(id laneID) error {
	l := &s.lanes[id]
	at := s.oldestUnread(id)
	if at < 0 {
		p := &s.pending[id]
		ranges, err := rangesOf(p.body, p.first, p.records, id.severity())
		if err != nil {
			return err
		}
		if err := s.rememberShed(ranges); err != nil {
			return err
		}
		s.shedCount += int64(p.records)
		s.pendingSize -= len(p.body)
		p.body, p.records = p.body[:0], 0
		return nil
	}
	if at == len(l.chunks)-1 {
		l.close()
	}
	c := l.chunks[at]
	ranges, err := chunkRanges(c, id.severity())
	if err != nil {
		return err
	}
	// First the note, then the removal: after a kill between the two the chunk goes at the next start.
	if err := s.rememberShed(ranges); err != nil {
		return err
	}
	if err := s.saveState(); err != nil { // the marks of the frames go with them
		return err
	}
	if err := s.disk.Remove(c.path); err != nil {
		return err
	}
	l.chunks = slices.Delete(l.chunks, at, at+1)
	s.held -= c.records
	s.shedCount += c.records
	s.size -= c.size
	return nil
}

// chunkRanges reads the numbers of a chunk.
func chunkRanges(c chunk, severity record.Severity) (all []Range, err error) {
	f, err := disk.Open(c.path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	w := window{file: f}
	for at := int64(0); at < c.size; {
		fr, size, err := w.readFrame(at, c.size)
		if err == errDamaged {
			at += size
			continue
		}
		if err != nil {
			at = w.nextFrame(at, c.size)
			continue
		}
		at += size
		ranges, err := rangesOf(fr.body, fr.first, fr.records, severity)
		if err != nil {
			return nil, err
		}
		all = append(all, ranges...)
	}
	return all, nil
}

// rangesOf returns the numbers of the records of a frame.
func rangesOf(body []byte, number uint64, records uint32, severity record.Severity) (all []Range, err error) {
	d := reader{b: body}
	var r record.Record
	for range records {
		step, err := d.record(&r)
		if err != nil {
			return nil, err
		}
		number += step
		if n := len(all); n > 0 && all[n-1].Last+1 == number {
			all[n-1].Last = number
		} else {
			all = append(all, Range{number, number, severity})
		}
	}
	return all, nil
}

// rememberShed adds ranges to those that are known, and to the file of them.
func (s *Spool) rememberShed(ranges []Range) error {
	f, err := s.disk.OpenAppend(filepath.Join(s.dir, shedFile), 0o640)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.Write(appendNote(nil, s.written, ranges)); err != nil {
		return fmt.Errorf("note what is shed: %w", err)
	}
	s.addShed(ranges)
	s.sheddings++
	return nil
}

func (s *Spool) addShed(ranges []Range) {
	s.shed = append(s.shed, ranges...)
	slices.SortFunc(s.shed, func(a, b Range) int {
		if a.First < b.First {
			return -1
		}
		return 1
	})
	merged := s.shed[:0]
	for _, r := range s.shed {
		if n := len(merged); n > 0 && merged[n-1].Severity == r.Severity && merged[n-1].Last+1 >= r.First {
			merged[n-1].Last = max(merged[n-1].Last, r.Last)
		} else {
			merged = append(merged, r)
		}
	}
	s.shed = merged
}

// appendNote writes ranges, with their length and checksum before them and how
// far the spool was written at the time.
func appendNote(dst []byte, written uint64, ranges []Range) []byte {
	start := len(dst)
	dst = append(dst, make([]byte, 8)...)
	dst = binary.AppendUvarint(dst, written)
	last := uint64(0)
	for _, r := range ranges {
		dst = binary.AppendUvarint(dst, r.First-last)
		dst = binary.AppendUvarint(dst, r.Last-r.First)
		dst = append(dst, byte(r.Severity))
		last = r.Last
	}
	binary.LittleEndian.PutUint32(dst[start:], uint32(len(dst)-start-8))
	binary.LittleEndian.PutUint32(dst[start+4:], crc32.Checksum(dst[start+8:], castagnoli))
	return dst
}

func parseNote(b []byte) (written uint64, ranges []Range) {
	d := reader{b: b}
	written = d.uvarint()
	last := uint64(0)
	for len(d.b) > 0 && !d.bad {
		first := last + d.uvarint()
		last = first + d.uvarint()
		ranges = append(ranges, Range{first, last, record.Severity(d.byte() & 7)})
	}
	return written, ranges
}

// loadShed reads what was shed, up to a note that a kill has torn.
func (s *Spool) loadShed() error {
	b, err := disk.ReadFile(filepath.Join(s.dir, shedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for len(b) >= 8 {
		size := int(binary.LittleEndian.Uint32(b))
		if size > len(b)-8 {
			break // a kill has torn it
		}
		if crc32.Checksum(b[8:8+size], castagnoli) != binary.LittleEndian.Uint32(b[4:]) {
			s.found(filepath.Join(s.dir, shedFile), Damage{Bytes: int64(size)}) // what it tells counts as lost instead
			b = b[8+size:]
			continue
		}
		written, ranges := parseNote(b[8 : 8+size])
		s.written = max(s.written, written)
		s.addShed(ranges)
		b = b[8+size:]
	}
	return err
}

// dropUnwritten takes back what was shed from a group that a kill kept from
// being written: its numbers will be given again.
func (s *Spool) dropUnwritten() error {
	s.shed = slices.DeleteFunc(s.shed, func(r Range) bool { return r.First > s.written })
	if n := len(s.shed); n > 0 {
		s.shed[n-1].Last = min(s.shed[n-1].Last, s.written)
	}
	return s.saveShed()
}

// saveShed writes the file of what was shed anew.
func (s *Spool) saveShed() error {
	path := filepath.Join(s.dir, shedFile)
	if len(s.shed) == 0 && s.written == s.confirmed {
		return s.disk.Remove(path)
	}
	return disk.WriteFile(s.disk, path, appendNote(nil, s.written, s.shed), 0o640)
}

// countShed counts the numbers of a run that were shed.
func (s *Spool) countShed(n numbers) (total uint64) {
	for _, r := range s.shed {
		if r.Last >= n.first && r.First <= n.last {
			total += min(r.Last, n.last) - max(r.First, n.first) + 1
		}
	}
	return total
}

func (s *Spool) isShed(number uint64) bool {
	return slices.ContainsFunc(s.shed, func(r Range) bool { return r.First <= number && number <= r.Last })
}

// forgetShed forgets what lies at or below a confirmed number.
func (s *Spool) forgetShed(number uint64) error {
	if len(s.shed) == 0 || s.shed[0].First > number {
		return nil
	}
	s.shed = slices.DeleteFunc(s.shed, func(r Range) bool { return r.Last <= number })
	return s.saveShed()
}
