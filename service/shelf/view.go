package shelf

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"github.com/go-sql-driver/mysql"
	"gorm.io/gorm"

	"oakbarrel/service/model"
)

// View is what counts where, of some casks, at a time. What is read by it holds only if
// nothing has moved when it was read: see HasMoved.
type View struct {
	Shelves []*Shelf // that have something of the casks

	set   *Set
	moves map[uint64]model.Move // by feed
	moved uint64
}

// View returns what counts where now, of some casks.
func (s *Set) View(ctx context.Context, casks []uint64) (*View, error) {
	if err := s.known(ctx); err != nil {
		return nil, err
	}
	v := &View{Shelves: s.All(), set: s}
	if len(v.Shelves) == 1 {
		return v, nil
	}
	var rows []struct {
		Kind    int
		Number  uint64 // of the moves so far, the feed, or the shelf
		FromID  uint32
		ToID    uint32
		Through uint64
	}
	// One question, so that its answers are of one moment, and one way there and back.
	err := s.First(ctx).Raw("SELECT 0 AS kind, moves AS number, 0 AS from_id, 0 AS to_id, 0 AS through FROM stores WHERE id = 1 "+
		"UNION ALL SELECT 1, feed_id, from_id, to_id, through FROM moves UNION ALL SELECT DISTINCT 2, shelf_id, 0, 0, 0 FROM feeds WHERE cask_id IN ?", append([]uint64{0}, casks...)).Find(&rows).Error
	if err != nil {
		return nil, err
	}
	v.moves = map[uint64]model.Move{}
	has := map[uint32]bool{}
	for _, r := range rows {
		switch r.Kind {
		case 0:
			v.moved = r.Number
		case 1:
			v.moves[r.Number] = model.Move{FeedID: r.Number, FromID: r.FromID, ToID: r.ToID, Through: r.Through}
			has[r.FromID], has[r.ToID] = true, true
		default:
			has[uint32(r.Number)] = true
		}
	}
	v.Shelves = nil
	for _, id := range slices.Sorted(maps.Keys(has)) {
		v.Shelves = append(v.Shelves, s.Of(id))
	}
	return v, nil
}

// HasMoved tells whether something has moved from one shelf to another since.
func (v *View) HasMoved(ctx context.Context) (bool, error) {
	if v.moves == nil {
		return false, nil
	}
	moved, err := v.set.moved(ctx)
	return moved != v.moved, err
}

func (s *Set) moved(ctx context.Context) (moved uint64, err error) {
	err = s.First(ctx).Model(&model.Store{}).Where("id = 1").Select("moves").Scan(&moved).Error
	return moved, err
}

// holdTime is for how long nothing is moved, so that somebody can read.
const holdTime = 5 * time.Second

// Hold has nothing moved for a while. Those who read a lot would never come to an end
// otherwise, where little by little is moved all the time.
func (s *Set) Hold(ctx context.Context) error {
	return s.First(ctx).Model(&model.Store{}).Where("id = 1").Update("held", gorm.Expr("UTC_TIMESTAMP(3) + INTERVAL ? SECOND", int(holdTime.Seconds()))).Error
}

// Note notes, in a transaction of the first database that changes what counts where, that it
// has changed. The error is ErrHeld where that is to wait.
func Note(tx *gorm.DB) error {
	noted := tx.Model(&model.Store{}).Where("id = 1 AND (held IS NULL OR held < UTC_TIMESTAMP(3))").Update("moves", gorm.Expr("moves + 1"))
	if noted.Error == nil && noted.RowsAffected == 0 {
		return ErrHeld
	}
	return noted.Error
}

// ErrHeld says that nothing is moved now, as somebody reads.
var ErrHeld = errors.New("nothing is moved now, as somebody reads")

// Counts tells whether a block on a shelf counts: of a feed that moves some are on both.
func (v *View) Counts(shelf uint32, feed, last uint64, moving bool) bool {
	m, moves := v.moves[feed]
	if moving {
		return moves && m.ToID == shelf && last <= m.Through
	}
	return !moves || m.FromID != shelf || last > m.Through
}

// Moves returns the feeds that move to or from a shelf.
func (v *View) Moves(shelf uint32) (feeds []uint64) {
	for _, m := range v.moves {
		if m.FromID == shelf || m.ToID == shelf {
			feeds = append(feeds, m.FeedID)
		}
	}
	return feeds
}

// IsGone tells whether an error says that a database does not answer, rather than that it
// answers with a refusal.
func IsGone(err error) bool {
	var refusal *mysql.MySQLError
	return !errors.As(err, &refusal) || slices.Contains([]uint16{1047, 1053, 1927}, refusal.Number) // away from its cluster, shuts down, was cut
}
