package ingest

import (
	"bytes"
	"encoding/binary"
	"errors"

	"oakbarrel/core/block"
	"oakbarrel/core/record"
	"oakbarrel/service/model"
)

// Beside a block stands of what kinds its records are, so that shapes are counted without
// opening it: a byte that tells whether facilities are told apart, the names of hosts and apps,
// the keys of shapes, the least time, and for each kind its host and app (0 for missing, else
// the place and 1), its priority, its shape, how many, and when they begin and end, in
// milliseconds from the least time and from their begin.

const (
	mostKinds      = 4096 // of a block; one with more is opened when shapes are counted
	mostWhole      = 1024 // with facilities
	mostKindBytes  = 256 << 10
	withFacilities = 1 // the first byte
	severitiesOnly = 2 // likewise
	leastKindBytes = 7
)

// kindsOf are the kinds of a block's records.
type kindsOf struct {
	all        []block.Kind // none where they are too many
	facilities bool         // are told apart
}

// readKinds reads of what kinds the records of a block are; where they are too many without
// their facilities.
func readKinds(content *block.Block) (k kindsOf, err error) {
	k.facilities = true
	if k.all, err = content.Kinds(mostWhole, true); err == nil && k.all == nil {
		k.facilities = false
		k.all, err = content.Kinds(mostKinds, false)
	}
	return k, err
}

// Kind is how many records of a block are of one host, app, priority and shape.
type Kind struct {
	Host, App   []byte          // nil where missing
	Priority    record.Priority // the severity alone, where facilities are not told apart
	Key         uint64          // of the shape
	Count       int64
	First, Last int64 // microseconds since 1970, down and up to milliseconds
}

// pack writes kinds; nothing where they are too many, or take too much.
func (of kindsOf) pack() []byte {
	kinds := of.all
	if len(kinds) == 0 {
		return []byte{}
	}
	version := byte(severitiesOnly)
	if of.facilities {
		version = withFacilities
	}
	var names, keys, entries []byte
	places, shapes := map[string]uint64{}, map[uint64]uint64{}
	place := func(name []byte) uint64 {
		if name == nil {
			return 0
		}
		at, known := places[string(name)]
		if !known {
			at = uint64(len(places)) + 1
			places[string(name)] = at
			names = append(binary.AppendUvarint(names, uint64(len(name))), name...)
		}
		return at
	}
	least := floor(Micros(kinds[0].First), 1000)
	for _, k := range kinds {
		least = min(least, floor(Micros(k.First), 1000))
	}
	for _, k := range kinds {
		at, known := shapes[k.Key]
		if !known {
			at = uint64(len(shapes))
			shapes[k.Key] = at
			keys = binary.LittleEndian.AppendUint64(keys, k.Key)
		}
		first, last := floor(Micros(k.First), 1000), floor(Micros(k.Last)+999, 1000)
		entries = binary.AppendUvarint(entries, place(k.Host))
		entries = binary.AppendUvarint(entries, place(k.App))
		entries = append(entries, byte(k.Priority))
		entries = binary.AppendUvarint(entries, at)
		entries = binary.AppendUvarint(entries, uint64(k.Count))
		entries = binary.AppendUvarint(entries, uint64(first-least))
		entries = binary.AppendUvarint(entries, uint64(last-first))
	}
	packed := binary.AppendUvarint([]byte{version}, uint64(len(places)))
	packed = append(packed, names...)
	packed = append(binary.AppendUvarint(packed, uint64(len(shapes))), keys...)
	packed = append(binary.AppendVarint(packed, least), entries...)
	if len(packed) > mostKindBytes {
		return []byte{}
	}
	return packed
}

// KindsAreOf tells whether what stands beside a block of its kinds, if anything does, is that of
// its records.
func KindsAreOf(b model.Block, content *block.Block) bool {
	if len(b.Kinds) == 0 {
		return true
	}
	kinds, err := readKinds(content)
	return err == nil && bytes.Equal(b.Kinds, kinds.pack())
}

var errKinds = errors.New("the kinds beside a block cannot be read")

// OpenKinds reads what stands beside a block, and whether facilities are told apart in it;
// nothing where the block must be opened for its kinds. What is returned points into packed.
func OpenKinds(packed []byte) (kinds []Kind, facilities bool, err error) {
	if len(packed) == 0 || packed[0] != withFacilities && packed[0] != severitiesOnly {
		return nil, false, nil
	}
	kinds, err = readPacked(packed[1:])
	return kinds, packed[0] == withFacilities, err
}

func readPacked(packed []byte) (kinds []Kind, err error) {
	r := kindReader{left: packed}
	names := [][]byte{nil}
	for n := r.number(uint64(len(packed))); n > 0; n-- {
		names = append(names, r.bytes(r.number(uint64(len(packed)))))
	}
	keys := r.bytes(8 * r.number(uint64(len(packed)/8)))
	least, n := binary.Varint(r.left)
	if r.bad || n <= 0 {
		return nil, errKinds
	}
	r.left = r.left[n:]
	kinds = make([]Kind, 0, len(r.left)/leastKindBytes)
	for len(r.left) > 0 && !r.bad {
		k := Kind{Host: names[r.number(uint64(len(names)-1))], App: names[r.number(uint64(len(names)-1))]}
		if of := r.bytes(1); !r.bad && of[0] < record.Priorities {
			k.Priority = record.Priority(of[0])
		} else {
			return nil, errKinds
		}
		at := 8 * r.number(uint64(max(len(keys)/8, 1)-1))
		k.Count = int64(r.number(block.MaxRecords))
		k.First = (least + int64(r.number(1<<52))) * 1000
		k.Last = k.First + int64(r.number(1<<52))*1000
		if len(keys) == 0 {
			return nil, errKinds
		}
		k.Key = binary.LittleEndian.Uint64(keys[at:])
		kinds = append(kinds, k)
	}
	if r.bad {
		return nil, errKinds
	}
	return kinds, nil
}

// kindReader reads numbers and bytes until something is not there.
type kindReader struct {
	left []byte
	bad  bool
}

// number reads a number of at most most, 0 where there is none.
func (r *kindReader) number(most uint64) uint64 {
	v, n := binary.Uvarint(r.left)
	if n <= 0 || v > most {
		r.bad, r.left = true, nil
		return 0
	}
	r.left = r.left[n:]
	return v
}

// part reads how long a part is, and the part.
func (r *kindReader) part() []byte { return r.bytes(r.number(uint64(len(r.left)))) }

func (r *kindReader) bytes(n uint64) []byte {
	if n > uint64(len(r.left)) {
		r.bad, r.left = true, nil
		return nil
	}
	v := r.left[:n:n]
	r.left = r.left[n:]
	return v
}
