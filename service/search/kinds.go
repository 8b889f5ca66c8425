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
		left, err := q.eachKindOn(ctx, of, byShelf[id], each)
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

// eachKindOn is eachKind for the blocks of one shelf.
func (q *Query) eachKindOn(ctx context.Context, of *shelf.Shelf, heads []head, each func(head, *ingest.Kind)) (left []head, err error) {
	asksShape := q.Condition != nil && slices.Contains(q.Condition.Asks(), "shape")
	texts := map[uint64][]byte{} // of shapes
	for some := range slices.Chunk(heads, kindsTogether) {
		kinds, err := readKinds(ctx, of, some, q.asksFacility())
		if err == nil && asksShape {
			err = readShapes(ctx, of, q.Casks, kinds, texts)
		}
		if err != nil {
			return nil, err
		}
		for _, h := range some {
			if kinds[h.ID] == nil {
				left = append(left, h)
			}
			for i := range kinds[h.ID] {
				if k := &kinds[h.ID][i]; q.meetsKind(h, k, texts) {
					each(h, k)
				}
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

// readKinds reads what stands beside blocks of a shelf, by their ids; where facilities are asked
// for, of those only that tell them apart.
func readKinds(ctx context.Context, of *shelf.Shelf, heads []head, facilities bool) (map[uint64][]ingest.Kind, error) {
	db, err := of.DB(ctx)
	if err != nil {
		return nil, err
	}
	var ids []uint64
	for _, h := range heads {
		ids = append(ids, h.ID)
	}
	var rows []model.Block
	if err := db.Select("id, kinds").Where("id IN ?", ids).Find(&rows).Error; err != nil {
		return nil, err
	}
	kinds := map[uint64][]ingest.Kind{}
	for _, r := range rows {
		if of, tells, err := ingest.OpenKinds(r.Kinds); err == nil && len(of) > 0 && (tells || !facilities) {
			kinds[r.ID] = of
		}
	}
	return kinds, nil
}

// readShapes reads the texts of the shapes of kinds that are not known yet.
func readShapes(ctx context.Context, of *shelf.Shelf, casks []uint64, kinds map[uint64][]ingest.Kind, texts map[uint64][]byte) error {
	var keys []uint64
	for _, all := range kinds {
		for _, k := range all {
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
