package block

import (
	"encoding/binary"

	"oakbarrel/core/record"
	"oakbarrel/core/shape"
)

// Kind is how many records of a block are of one host, app and priority, with texts of one shape.
type Kind struct {
	Host, App   []byte          // nil where missing; the block's own
	Priority    record.Priority // the severity alone, where facilities are not told apart
	Shape       []byte          // of their texts, see [shape.Append]; shared by kinds
	Key         uint64          // of the shape
	Count       int
	First, Last record.Stamp // the least and the greatest of their times
}

// combination is what the records of a kind have in common, by their places in the block.
type combination struct {
	host, app     uint32
	shapePriority uint32 // the priority in the last byte
}

// Kinds counts the records by kind, in the order in which kinds appear, with facilities told
// apart or not; nil where there are more than most. An error is as one of Each. Of texts that
// are held by their shapes one of each is looked at.
func (b *Block) Kinds(most int, facilities bool) ([]Kind, error) {
	return b.kinds(most, facilities, nil)
}

// kinds is Kinds, and gives the place of each record's kind, in order of the records, to each,
// which is nil for nobody.
func (b *Block) kinds(most int, facilities bool, each func(kind int)) ([]Kind, error) {
	if err := b.ReadyFrom(0); err != nil {
		return nil, err
	}
	var kinds []Kind
	places := map[combination]int{}
	var last combination // of the record before
	at := -1
	shapes := shapesOf(b)
	hostColumn, appColumn := b.columns[hosts], b.columns[apps]
	for i, t := range b.times {
		var host, app uint64
		host, hostColumn = next(hostColumn)
		app, appColumn = next(appColumn)
		priority, place := record.Priority(b.columns[priorities][i]), shapes.next()
		if !facilities {
			priority = record.Priority(priority.Severity())
		}
		c := combination{uint32(host), uint32(app), place<<8 | uint32(priority)}
		if at < 0 || c != last {
			known := false
			if at, known = places[c]; !known {
				if len(kinds) == most {
					return nil, nil
				}
				at = len(kinds)
				places[c] = at
				of := shapes.all[place]
				kinds = append(kinds, Kind{Host: b.word(host), App: b.word(app), Priority: priority, Shape: of.shape, Key: of.key, First: t, Last: t})
			}
			last = c
		}
		k := &kinds[at]
		k.Count++
		k.First, k.Last = earlier(k.First, t), later(k.Last, t)
		if each != nil {
			each(at)
		}
	}
	return kinds, nil
}

// next takes a number off a column that was checked.
func next(column []byte) (uint64, []byte) {
	v, n := uvarint(column)
	return v, column[n:]
}

// textShapes gives the shapes of the texts of a block, one after the other.
type textShapes struct {
	lengths, texts []byte            // that are left
	ids            []byte            // likewise, where texts are held by shapes
	known          []uint32          // by the shape of the block: the place in all and 1
	byKey          map[uint64]uint32 // several shapes of a block may be one to people
	all            []oneShape
	room           []byte
}

type oneShape struct {
	shape []byte
	key   uint64
}

func shapesOf(b *Block) *textShapes {
	s := &textShapes{lengths: b.columns[texts], texts: b.columns[textBytes], byKey: map[uint64]uint32{}}
	if ids := b.held[texts].ids; ids != nil {
		_, n := binary.Uvarint(ids) // bytes of all texts
		ids = ids[n:]
		count, n := binary.Uvarint(ids) // shapes
		s.ids, s.known = ids[n:], make([]uint32, count+1)
	}
	return s
}

// next returns the place in all of the next text's shape.
func (s *textShapes) next() (at uint32) {
	var size, id uint64
	size, s.lengths = next(s.lengths)
	text := s.texts[:max(size, 1)-1]
	s.texts = s.texts[len(text):]
	if s.ids == nil {
		return s.place(text)
	}
	id, s.ids = next(s.ids)
	if s.known[id] == 0 {
		s.known[id] = s.place(text) + 1
	}
	return s.known[id] - 1
}

// place returns the place of a text's shape.
func (s *textShapes) place(text []byte) uint32 {
	s.room = shape.Append(s.room[:0], text)
	key := shape.KeyOf(s.room)
	at, known := s.byKey[key]
	if !known {
		at = uint32(len(s.all))
		s.byKey[key] = at
		s.all = append(s.all, oneShape{append([]byte(nil), s.room...), key})
	}
	return at
}
