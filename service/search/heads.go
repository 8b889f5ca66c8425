package search

import (
	"cmp"
	"context"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

// heads returns the blocks that may hold a hit, in the order of the query: those of all
// shelves that have something of its casks, which are asked side by side. A query with a
// window gets a narrower span, of which these are all.
func (s *Store) heads(ctx context.Context, q *Query) (heads []head, err error) {
	var all [][]head
	err = s.steadily(ctx, q, func(view *shelf.View) (err error) {
		all, err = onEach(ctx, s, q, view.Shelves, func(db *gorm.DB, of *shelf.Shelf) ([]head, error) {
			heads, err := q.headsOf(db)
			for i := range heads {
				heads[i].shelf = of.ID
			}
			return heads, err
		})
		for i := range all {
			q.narrow(all[i])
			all[i] = slices.DeleteFunc(all[i], func(h head) bool { return !view.Counts(h.shelf, h.FeedID, h.LastNumber, h.Moving) })
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	since, until := q.span()
	heads = slices.DeleteFunc(slices.Concat(all...), func(h head) bool { return h.LastTime < since || h.FirstTime >= until })
	if len(all) > 1 {
		slices.SortFunc(heads, q.compareHeads)
	}
	return q.nameAgents(ctx, s.shelves.First(ctx), heads)
}

// compareHeads compares blocks in the order of the query, as the database has it.
func (q *Query) compareHeads(a, b head) int {
	if q.OldestFirst {
		return cmp.Or(cmp.Compare(a.FirstTime, b.FirstTime), cmp.Compare(a.ID, b.ID))
	}
	return cmp.Or(cmp.Compare(b.LastTime, a.LastTime), cmp.Compare(b.ID, a.ID))
}

// blocksOf chooses the blocks of one shelf that may hold a hit by what stands beside them, in
// the order of the query.
func (q *Query) blocksOf(db *gorm.DB) *gorm.DB {
	since, until := q.span()
	order := "last_time DESC, id DESC"
	if q.OldestFirst {
		order = "first_time, id"
	}
	severities, facilities := q.sets()
	return db.Limit(cmp.Or(q.window, -1)).Where("cask_id IN ? AND records > 0 AND last_time >= ? AND first_time < ? AND severities & ? <> 0 AND facilities & ? <> 0", q.Casks, since, until, severities, facilities).Order(order)
}

// readHeads reads the heads of the blocks that a query chooses. They are many: what takes a
// structure apart for each would take longer than the database does.
func readHeads(query *gorm.DB) (heads []head, err error) {
	rows, err := query.Model(&model.Block{}).Select("id, feed_id, first_number, last_number, first_time, last_time, records, words_apart, twice, moving").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var h head
		if err := rows.Scan(&h.ID, &h.FeedID, &h.FirstNumber, &h.LastNumber, &h.FirstTime, &h.LastTime, &h.Records, &h.WordsApart, &h.Twice, &h.Moving); err != nil {
			return nil, err
		}
		heads = append(heads, h)
	}
	return heads, rows.Err()
}

// mostLooks is how often something may move while it is looked at, before it is held.
const mostLooks = 3

// steadily looks at shelves, again where something has moved from one to another meanwhile.
func (s *Store) steadily(ctx context.Context, q *Query, look func(*shelf.View) error) error {
	for looks := 0; ; looks++ {
		if looks >= mostLooks {
			if err := s.shelves.Hold(ctx); err != nil {
				return err
			}
		}
		view, err := s.shelves.View(ctx, q.Casks)
		if err == nil {
			err = look(view)
		}
		if err != nil {
			return err
		}
		if moved, err := view.HasMoved(ctx); err != nil || !moved {
			return err
		}
	}
}

// onEach asks shelves side by side. One that is away is told of, and has nothing.
func onEach[T any](ctx context.Context, s *Store, q *Query, shelves []*shelf.Shelf, ask func(*gorm.DB, *shelf.Shelf) (T, error)) ([]T, error) {
	all, errs := make([]T, len(shelves)), make(chan error, len(shelves))
	for i, of := range shelves {
		go func() {
			db, err := of.DB(ctx)
			if err == nil {
				all[i], err = ask(db, of)
			}
			if err != nil {
				err = s.lacks(ctx, of, q, err)
			}
			errs <- err
		}()
	}
	var err error
	for range shelves {
		err = cmp.Or(err, <-errs)
	}
	return all, err
}

// lacks tells that an answer lacks what a shelf has, and returns the error where it may
// not: where nobody is told, and where the first shelf fails, which tells of all others.
// Without a query, what is lacking is asked for again later.
func (s *Store) lacks(ctx context.Context, of *shelf.Shelf, q *Query, err error) error {
	if ctx.Err() != nil || of.ID == model.FirstShelf || q != nil && q.Missing == nil {
		return err
	}
	if q == nil {
		return nil
	}
	if shelf.IsGone(err) {
		q.Missing(of.Name())
		return nil
	}
	return err
}
