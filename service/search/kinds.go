package search

import (
	"context"
	"maps"
	"slices"

	"oakbarrel/core/record"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// Beside most blocks stands of what kinds their records are: by host, app, priority and shape.
// What asks for no more than that opens none of them.

const kindsTogether = 64 // blocks whose kinds are read together

// ToldByKinds are what conditions may ask for where what stands beside blocks answers.
var ToldByKinds = []string{"severity", "facility", "host", "app", "agent", "shape"}

// kindsTell tells whether the kinds of a block tell which of its records meet the condition.
func (q *Query) kindsTell() bool {
	return q.Condition == nil || !slices.ContainsFunc(q.Condition.Asks(), func(what string) bool { return !slices.Contains(ToldByKinds, what) })
}

// asksFacility tells whether the condition, or what is counted, asks for facilities.
func (q *Query) asksFacility() bool {
	return q.byFacility || q.Condition != nil && slices.Contains(q.Condition.Asks(), "facility")
}

// eachKind calls each with the kinds that meet the query, of blocks that lie within its span and
// may be told so, which is nil for all. It returns the other blocks, in order, which must be opened.
func (s *Store) eachKind(ctx context.Context, q *Query, heads []head, may func(head) bool, each func(head, *ingest.Kind)) (opened []head, err error) {
	return s.eachTold(ctx, q, heads, may, func(told toldBlock) bool {
		for i := range told.kinds {
			if told.meets[i] {
				each(told.head, &told.kinds[i])
			}
		}
		return true
	})
}

// toldBlock is what stands beside a block.
type toldBlock struct {
	head   head
	kinds  []ingest.Kind
	meets  []bool // by kind: whether its records meet the query
	values []byte // packed, where they are asked for
}

// eachTold calls each with what stands beside blocks that lie within the span of the query and
// may be told so, which is nil for all, where it tells which of their records meet the query. It
// returns the other blocks, in order, which must be opened; those too for which each returns false.
func (s *Store) eachTold(ctx context.Context, q *Query, heads []head, may func(head) bool, each func(toldBlock) bool) (opened []head, err error) {
	if !q.kindsTell() {
		return heads, nil
	}
	byShelf := map[uint32][]head{}
	for _, h := range heads {
		if q.wholly(h) && (may == nil || may(h)) {
			byShelf[h.shelf] = append(byShelf[h.shelf], h)
		} else {
			opened = append(opened, h)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(byShelf)) {
		of := s.shelves.Of(id)
		left, err := q.eachToldOn(ctx, of, byShelf[id], each)
		if err != nil {
			err = s.lacks(ctx, of, q, err)
		}
		if err != nil {
			return nil, err
		}
		opened = append(opened, left...)
	}
	slices.SortFunc(opened, q.compareHeads)
	return opened, nil
}

// eachToldOn is eachTold for the blocks of one shelf.
func (q *Query) eachToldOn(ctx context.Context, of *shelf.Shelf, heads []head, each func(toldBlock) bool) (left []head, err error) {
	asksShape := q.Condition != nil && slices.Contains(q.Condition.Asks(), "shape")
	texts := map[uint64][]byte{} // of shapes
	for some := range slices.Chunk(heads, kindsTogether) {
		told, err := q.readTold(ctx, of, some)
		if err == nil && asksShape {
			err = readShapes(ctx, of, q.Casks, told, texts)
		}
		if err != nil {
			return nil, err
		}
		for _, h := range some {
			b, tells := told[h.ID]
			if tells {
				b.head = h
				for i := range b.kinds {
					b.meets = append(b.meets, q.meetsKind(h, &b.kinds[i], texts))
				}
			}
			if !tells || !each(b) {
				left = append(left, h)
			}
		}
	}
	return left, nil
}

// meetsKind tells whether the records of a kind meet the condition.
func (q *Query) meetsKind(h head, k *ingest.Kind, texts map[uint64][]byte) bool {
	if q.Condition == nil {
		return true
	}
	r := record.Record{Host: k.Host, App: k.App, Priority: k.Priority, Agent: h.agent.name(), Text: texts[k.Key]}
	return q.Condition.Match(&r)
}

// readTold reads what stands beside blocks of a shelf, by their ids; where facilities are asked
// for, of those only that tell them apart.
func (q *Query) readTold(ctx context.Context, of *shelf.Shelf, heads []head) (map[uint64]toldBlock, error) {
	db, err := of.DB(ctx)
	if err != nil {
		return nil, err
	}
	columns := "id, kinds"
	if q.byValue {
		columns += ", field_values"
	}
	var ids []uint64
	for _, h := range heads {
		ids = append(ids, h.ID)
	}
	var rows []model.Block
	if err := db.Select(columns).Where("id IN ?", ids).Find(&rows).Error; err != nil {
		return nil, err
	}
	told := map[uint64]toldBlock{}
	for _, r := range rows {
		if kinds, facilities, err := ingest.OpenKinds(r.Kinds); err == nil && len(kinds) > 0 && (facilities || !q.asksFacility()) {
			told[r.ID] = toldBlock{kinds: kinds, values: r.Values}
		}
	}
	return told, nil
}

// readShapes reads the texts of the shapes of kinds that are not known yet.
func readShapes(ctx context.Context, of *shelf.Shelf, casks []uint64, told map[uint64]toldBlock, texts map[uint64][]byte) error {
	var keys []uint64
	for _, b := range told {
		for _, k := range b.kinds {
			if _, known := texts[k.Key]; !known {
				keys = append(keys, k.Key)
				texts[k.Key] = nil
			}
		}
	}
	db, err := of.DB(ctx)
	if err != nil {
		return err
	}
	return eachShape(db, casks, keys, func(row model.Shape) { texts[row.Key] = row.Text })
}
