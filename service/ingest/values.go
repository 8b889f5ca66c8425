package ingest

import (
	"bytes"
	"encoding/binary"
	"errors"

	"oakbarrel/core/block"
	"oakbarrel/service/model"
)

// Beside a block that is not merged any more stands what values the fields of its records have,
// by group, so that they are counted without opening it: a byte, how many groups there are, and
// three fields: that which holds all, the message id and the intake. A field is its name, a byte
// that tells how much is told, its values, each with the groups that have it and how often, and
// the fields below. Before what can be passed over stands how long it is.

const (
	valuesVersion  = 1
	mostValueBytes = 128 << 10
)

// readValues reads what stands beside a block of the values of its records, which kinds is of;
// nothing where they are too many, or take too much.
func readValues(content *block.Block, kinds kindsOf) ([]byte, error) {
	if len(kinds.all) == 0 {
		return []byte{}, nil
	}
	values, err := content.Values(len(kinds.all), kinds.facilities)
	if err != nil || values == nil {
		return []byte{}, err
	}
	var groups block.Grouper
	for _, k := range kinds.all {
		groups.Place(k.Host, k.App, k.Priority)
	}
	packed := binary.AppendUvarint([]byte{valuesVersion}, uint64(groups.Len()))
	for _, f := range []*block.Field{values.Fields, values.MsgID, values.Intake} {
		packed = appendPart(packed, appendField(nil, f))
	}
	if len(packed) > mostValueBytes {
		return []byte{}, nil
	}
	return packed, nil
}

// DescribeValues returns what is to stand beside a settled block of the values of its records.
func DescribeValues(payload []byte) ([]byte, error) {
	content, err := block.Open(payload)
	if err != nil {
		return nil, err
	}
	kinds, err := readKinds(content)
	if err != nil {
		return nil, err
	}
	return readValues(content, kinds)
}

func appendField(dst []byte, f *block.Field) []byte {
	dst = append(appendPart(dst, f.Name), byte(f.Told))
	dst = appendPart(dst, appendCounts(nil, f.Counts))
	for _, below := range f.Below {
		dst = appendPart(dst, appendField(nil, below))
	}
	return dst
}

func appendPart(dst, part []byte) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(part))), part...)
}

// appendCounts writes counts, which are sorted by their values.
func appendCounts(dst []byte, counts []block.Count) []byte {
	for len(counts) > 0 {
		n := 1
		for n < len(counts) && counts[n].Value == counts[0].Value {
			n++
		}
		dst = appendPart(dst, []byte(counts[0].Value))
		dst = binary.AppendUvarint(dst, uint64(n))
		for _, c := range counts[:n] {
			dst = binary.AppendUvarint(dst, uint64(c.Group))
			dst = binary.AppendUvarint(dst, uint64(c.Count))
		}
		counts = counts[n:]
	}
	return dst
}

// ValuesAreOf tells whether what stands beside a block of its values, if anything does, is that
// of its records.
func ValuesAreOf(b model.Block, content *block.Block) bool {
	if len(b.Values) == 0 {
		return true
	}
	kinds, err := readKinds(content)
	if err != nil {
		return false
	}
	values, err := readValues(content, kinds)
	return err == nil && bytes.Equal(b.Values, values)
}

// ErrValues: what stands beside a block of its values cannot be read, or is wrong.
var ErrValues = errors.New("the values beside a block cannot be read")

// ValueCounts is what stands beside a block of the values of its records.
type ValueCounts struct{ Fields, MsgID, Intake FieldCounts }

// OpenValues reads what stands beside a block with so many groups, and tells whether anything
// does. What is returned points into packed.
func OpenValues(packed []byte, groups int) (v ValueCounts, told bool, err error) {
	if len(packed) == 0 || packed[0] != valuesVersion {
		return v, false, nil
	}
	r := kindReader{left: packed[1:]}
	if int(r.number(uint64(groups))) != groups {
		r.bad = true
	}
	for _, f := range []*FieldCounts{&v.Fields, &v.MsgID, &v.Intake} {
		if *f, err = openField(r.part(), groups); err != nil {
			return v, false, err
		}
	}
	if r.bad || len(r.left) > 0 {
		return v, false, ErrValues
	}
	return v, true, nil
}

// FieldCounts is what stands beside a block of a field.
type FieldCounts struct {
	Name   []byte
	Told   block.Told
	groups int // of the block
	counts []byte
	below  []byte
}

func openField(packed []byte, groups int) (f FieldCounts, err error) {
	r := kindReader{left: packed}
	f.groups, f.Name = groups, r.part()
	how := r.bytes(1)
	f.counts = r.part()
	if r.bad || !block.Told(how[0]).Valid() {
		return f, ErrValues
	}
	f.Told, f.below = block.Told(how[0]), r.left
	return f, nil
}

// Nothing is what stands beside a block of a field that none of its records has.
func (f FieldCounts) Nothing() FieldCounts { return FieldCounts{groups: f.groups} }

// Below calls f with each field below, until it returns false.
func (f FieldCounts) Below(each func(FieldCounts) bool) error {
	for r := (kindReader{left: f.below}); len(r.left) > 0; {
		below, err := openField(r.part(), f.groups)
		if err != nil {
			return err
		}
		if !each(below) {
			return nil
		}
	}
	return nil
}

// Each calls each with each value, a group by its place that has it, and how often.
func (f FieldCounts) Each(each func(value []byte, group int, count int64)) error {
	r := kindReader{left: f.counts}
	for len(r.left) > 0 {
		value := r.part()
		for n := r.number(uint64(f.groups)); n > 0 && !r.bad; n-- {
			if group, count := int(r.number(uint64(f.groups-1))), int64(r.number(block.MaxRecords)); !r.bad {
				each(value, group, count)
			}
		}
	}
	if r.bad {
		return ErrValues
	}
	return nil
}
