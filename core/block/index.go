package block

import (
	"fmt"
	"math"
	"net/netip"

	"oakbarrel/core/record"
)

// cursor is a place between two records.
type cursor struct {
	next   int    // how many records are before it
	number uint64 // of the one before it
	left   [columns][]byte
}

// run is a part of a block: records that follow each other.
type run struct {
	Run
	cursor // where it begins
}

const runLength = 1024 // records; the last run may have fewer

// readTimes reads the times and the priorities, and finds out what runs there are.
func (b *Block) readTimes() (err error) {
	if b.runs != nil {
		return nil
	}
	if b.times, err = b.stamps(times, zones); err != nil {
		return err
	}
	if !b.checkFlags() {
		return damaged("a priority or a flag")
	}
	b.runs = make([]run, (b.header.Records+runLength-1)/runLength)
	for i := range b.runs {
		some := b.times[i*runLength : min((i+1)*runLength, len(b.times))]
		r := Run{len(some), some[0], some[0]}
		for _, t := range some[1:] {
			r.First, r.Last = earlier(r.First, t), later(r.Last, t)
		}
		b.runs[i].Run = r
	}
	return nil
}

// index checks all columns and finds out where the runs begin.
func (b *Block) index() (err error) {
	if b.indexed {
		return nil
	}
	if err := b.readTimes(); err != nil {
		return err
	}
	if b.receipts, err = b.stamps(receipts, receiptZones); err != nil {
		return err
	}
	if !b.indexNumbers() {
		return damaged("a number")
	}
	for column := hosts; column <= peers; column++ {
		if !b.indexWords(column) {
			return damaged("a word")
		}
	}
	if !b.parsePeers() {
		return damaged("a peer")
	}
	for _, column := range []int{texts, data, raws} {
		if !b.indexTexts(column) {
			return damaged("a text")
		}
	}
	b.indexed = true
	return nil
}

func (b *Block) indexNumbers() bool {
	number, left := b.header.FirstNumber-1, b.columns[numbers]
	for i := range b.header.Records {
		if i%runLength == 0 {
			r := &b.runs[i/runLength]
			r.next, r.number, r.left[numbers] = i, number, left
		}
		step, n := uvarint(left)
		if n <= 0 || step > math.MaxUint64-number-1 || i == 0 && step != 0 {
			return false
		}
		number += step + 1
		left = left[n:]
	}
	b.header.LastNumber = number
	return len(left) == 0
}

func (b *Block) checkFlags() bool {
	if len(b.columns[priorities]) != b.header.Records || len(b.columns[flags]) != b.header.Records {
		return false
	}
	for i, m := range b.columns[flags] {
		if b.columns[priorities][i] >= record.Priorities || m&3 == 3 || m>>4 != 0 {
			return false
		}
	}
	return true
}

// indexWords walks a column of places in the list.
func (b *Block) indexWords(column int) bool {
	left := b.columns[column]
	for i := range b.header.Records {
		if i%runLength == 0 {
			b.runs[i/runLength].left[column] = left
		}
		at, n := uvarint(left)
		if n <= 0 || at > uint64(len(b.list)) {
			return false
		}
		left = left[n:]
	}
	return len(left) == 0
}

// parsePeers reads each peer that a record has.
func (b *Block) parsePeers() bool {
	b.peer = map[uint64]*record.Peer{0: nil}
	last := uint64(0)
	for left := b.columns[peers]; len(left) > 0; {
		at, n := uvarint(left)
		left = left[n:]
		if at == last {
			continue
		}
		last = at
		if _, known := b.peer[at]; known {
			continue
		}
		p, err := parsePeer(string(b.word(at)))
		if err != nil {
			return false
		}
		b.peer[at] = p
	}
	return true
}

func parsePeer(s string) (*record.Peer, error) {
	p := new(record.Peer)
	if _, err := fmt.Sscanf(s, "pid %d %d %d", &p.PID, &p.UID, &p.GID); err == nil {
		return p, nil
	}
	addr, err := netip.ParseAddrPort(s)
	p.Addr = addr
	return p, err
}

// indexTexts walks a column of lengths, and the bytes behind it.
func (b *Block) indexTexts(column int) bool {
	var checker record.DataChecker
	left, bytes := b.columns[column], b.columns[column+1]
	for i := range b.header.Records {
		if i%runLength == 0 {
			r := &b.runs[i/runLength]
			r.left[column], r.left[column+1] = left, bytes
		}
		size, n := uvarint(left)
		if n <= 0 || size > uint64(len(bytes))+1 {
			return false
		}
		left = left[n:]
		if size == 0 {
			continue
		}
		if column == data && !checker.Valid(bytes[:size-1]) {
			return false
		}
		bytes = bytes[size-1:]
	}
	return len(left)+len(bytes) == 0
}

// readHeader fills the header from the columns.
func (b *Block) readHeader() {
	h := &b.header
	plain, shaped := b.written()
	h.BodySize = b.body + plain - shaped
	h.FirstReceived, h.LastReceived = b.receipts[0], b.receipts[0]
	for _, t := range b.receipts {
		h.FirstReceived, h.LastReceived = earlier(h.FirstReceived, t), later(h.LastReceived, t)
	}
	h.FirstTime, h.LastTime = b.runs[0].First, b.runs[0].Last
	for i := range b.runs {
		h.FirstTime, h.LastTime = earlier(h.FirstTime, b.runs[i].First), later(h.LastTime, b.runs[i].Last)
	}
	for _, p := range b.columns[priorities] {
		p := record.Priority(p)
		h.Severities |= 1 << p.Severity()
		h.Facilities |= 1 << p.Facility()
		h.BySeverity[p.Severity()]++
	}
}
