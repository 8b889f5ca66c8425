package shelf

import (
	"gorm.io/gorm"

	"oakbarrel/service/model"
)

// FeedsOn returns how many feeds live on each shelf, by the first one.
func FeedsOn(first *gorm.DB) (map[uint32]int64, error) {
	var counts []struct {
		ShelfID uint32
		Feeds   int64
	}
	err := first.Model(&model.Feed{}).Select("shelf_id, COUNT(*) AS feeds").Group("shelf_id").Find(&counts).Error
	feeds := map[uint32]int64{}
	for _, c := range counts {
		feeds[c.ShelfID] = c.Feeds
	}
	return feeds, err
}

// Best returns the shelf that a new feed is to live on, 0 for none: the one that is wanted,
// where it takes any, or of those with about the most room the one that has the fewest feeds.
func Best(all []*Shelf, feeds map[uint32]int64, wanted uint32) (best uint32) {
	var most int64
	for _, of := range all {
		if of.takes() && of.ID == wanted {
			return wanted
		}
		if of.takes() {
			most = max(most, of.Room())
		}
	}
	for _, of := range all {
		if of.takes() && of.Room() >= most-most/10 && (best == 0 || feeds[of.ID] < feeds[best]) {
			best = of.ID
		}
	}
	return best
}

// takes tells whether new feeds may live on the shelf.
func (of *Shelf) takes() bool {
	of.mu.Lock()
	defer of.mu.Unlock()
	return of.db != nil && !of.row.Drains
}

// Room returns how many bytes more the shelf is meant to hold, 0 where it is full.
func (of *Shelf) Room() int64 {
	of.mu.Lock()
	defer of.mu.Unlock()
	return max(0, of.row.Size-of.used)
}
