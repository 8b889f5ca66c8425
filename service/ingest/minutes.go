package ingest

import (
	"bytes"
	"encoding/binary"
	"errors"
	"maps"
	"math/bits"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/service/model"
)

// Beside a block stands how many records it has of each minute and severity, so that nobody
// has to open it when it is removed: for each minute, in order, its distance to the one
// before, which severities there are, a bit for each, and how many of these.

// packMinutes writes counts by the minute since 1970.
func packMinutes(counts map[int64]*[8]int64) (packed []byte) {
	last := int64(0)
	for _, minute := range slices.Sorted(maps.Keys(counts)) {
		packed = binary.AppendVarint(packed, minute-last)
		last = minute
		at, which := len(packed), byte(0)
		packed = append(packed, 0)
		for severity, n := range counts[minute] {
			if n > 0 {
				which |= 1 << severity
				packed = binary.AppendUvarint(packed, uint64(n))
			}
		}
		packed[at] = which
	}
	return packed
}

var errMinutes = errors.New("the counts beside a block cannot be read")

// openMinutes reads what packMinutes wrote.
func openMinutes(packed []byte) (map[int64]*[8]int64, error) {
	counts, minute := map[int64]*[8]int64{}, int64(0)
	for len(packed) > 0 {
		distance, n := binary.Varint(packed)
		if n <= 0 || n == len(packed) {
			return nil, errMinutes
		}
		minute += distance
		which := packed[n]
		packed = packed[n+1:]
		of := new([8]int64)
		for ; which != 0; which &= which - 1 {
			records, n := binary.Uvarint(packed)
			if n <= 0 || records > mostNumber {
				return nil, errMinutes
			}
			of[bits.TrailingZeros8(which)] = int64(records)
			packed = packed[n:]
		}
		counts[minute] = of
	}
	return counts, nil
}

// MinutesAreOf tells whether the counts beside a block, where it has any, are those of its records.
func MinutesAreOf(b model.Block, content *block.Block) bool {
	counts, err := countsOf(content)
	return len(b.Minutes) == 0 || err == nil && bytes.Equal(b.Minutes, packMinutes(counts))
}

// Payload returns the payload of a block.
func Payload(db *gorm.DB, id uint64) ([]byte, error) {
	var of model.Block
	err := db.Select("payload").Take(&of, id).Error
	return of.Payload, err
}

// CountBlock adds the records of a block to counts by minute and severity. The block has
// what stands beside its records; only one that has no counts there is opened, by payload.
func CountBlock(b model.Block, payload func() ([]byte, error), counts map[model.Minute]int64) error {
	if len(b.Minutes) > 0 {
		byMinute, err := openMinutes(b.Minutes)
		addAll(counts, b.CaskID, byMinute)
		return err
	}
	packed, err := payload() // of an earlier version
	if err != nil {
		return err
	}
	content, err := block.Open(packed)
	if err != nil {
		return err
	}
	return CountContent(content, b.CaskID, counts)
}
