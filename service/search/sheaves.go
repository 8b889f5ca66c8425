package search

import (
	"fmt"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/service/ingest"
)

// Most blocks have their filters bound into sheaves. Those that a sheaf rules out cost a search
// nothing more: they are not even told of.

// fewPossible: where more than one of so many blocks in sheaves may have a hit, it is quicker
// to read of all of them.
const fewPossible = 8

// headsOf returns the blocks of one shelf that may hold a hit, in the order of the query.
func (q *Query) headsOf(db *gorm.DB) (heads []head, err error) {
	words := q.words()
	if len(words) == 0 {
		return readHeads(q.blocksOf(db))
	}
	// Before the sheaves, so that what is bound meanwhile is not passed over.
	if heads, err = readHeads(q.blocksOf(db).Where("sheaf_id = 0")); err != nil {
		return nil, err
	}
	bound, possible, err := q.askSheaves(db, words)
	if err != nil || len(possible) == 0 {
		return heads, err
	}
	maybe, err := q.readBound(db, possible, len(possible) <= max(firstTogether, bound/fewPossible))
	if err != nil {
		return nil, err
	}
	loose := map[uint64]bool{}
	for _, h := range heads {
		loose[h.ID] = true
	}
	for _, h := range maybe {
		if h.asked = true; !loose[h.ID] {
			heads = append(heads, h)
		}
	}
	slices.SortFunc(heads, q.compareHeads)
	return heads, nil
}

// readBound reads of blocks in sheaves, by their ids, which are sorted: of them alone, or of
// all that the query chooses, where that is quicker.
func (q *Query) readBound(db *gorm.DB, ids []uint64, alone bool) (heads []head, err error) {
	if !alone {
		heads, err = readHeads(q.blocksOf(db))
		return slices.DeleteFunc(heads, func(h head) bool { _, is := slices.BinarySearch(ids, h.ID); return !is }), err
	}
	for some := range slices.Chunk(ids, mostTogether) {
		more, err := readHeads(q.blocksOf(db).Where("id IN ?", some))
		if err != nil {
			return nil, err
		}
		heads = append(heads, more...)
	}
	return heads, nil
}

// sheaf is what a sheaf tells of the words that are looked for.
type sheaf struct {
	blocks []uint64
	told   []cells // of each word: the groups of all blocks
}

// sheavesTogether is a range of ids of sheaves that are asked together: what they tell of all
// words that may be looked for is a few megabytes.
const sheavesTogether = 1024

// askSheaves asks the sheaves of one shelf for words. It returns how many blocks they have, and
// which of these may have a hit, sorted.
func (q *Query) askSheaves(db *gorm.DB, words []uint64) (bound int, possible []uint64, err error) {
	var ids struct{ First, Last uint64 }
	if err := q.sheavesOf(db).Select("COALESCE(MIN(id), 1) AS first, COALESCE(MAX(id), 0) AS last").Scan(&ids).Error; err != nil {
		return 0, nil, err
	}
	for first := ids.First; first <= ids.Last; first += sheavesTogether {
		sheaves := map[uint64]*sheaf{}
		for i, hash := range words {
			if err := q.askSome(db, first, hash>>32, func(id uint64, blocks []byte, told cells) {
				s := sheaves[id]
				if s == nil {
					s = &sheaf{ingest.BlocksOf(blocks), make([]cells, len(words))}
					sheaves[id] = s
				}
				s.told[i] = told
			}); err != nil {
				return 0, nil, err
			}
		}
		for _, s := range sheaves {
			bound += len(s.blocks)
			possible = q.appendPossible(possible, words, s)
		}
	}
	slices.Sort(possible)
	return bound, possible, nil
}

// appendPossible appends the blocks of a sheaf that may have a hit.
func (q *Query) appendPossible(possible, words []uint64, s *sheaf) []uint64 {
	f := filtered{words, make([]cells, len(words))}
	for at, id := range s.blocks {
		for i, all := range s.told {
			f.cells[i] = all.of(at, len(s.blocks))
		}
		if q.Condition.Possible(f) {
			possible = append(possible, id)
		}
	}
	return possible
}

// sheavesOf chooses the sheaves of one shelf that may have a block of the query.
func (q *Query) sheavesOf(db *gorm.DB) *gorm.DB {
	since, until := q.span()
	return db.Table("sheaves").Where("cask_id IN ? AND last_time >= ? AND first_time < ?", q.Casks, since, until)
}

// askSome asks some sheaves, from one on, for a word by its number.
func (q *Query) askSome(db *gorm.DB, first, number uint64, each func(id uint64, blocks []byte, told cells)) error {
	const size = "(LENGTH(blocks) DIV 8 * %d)" // bytes of a word's groups
	groups := fmt.Sprintf(size, block.GroupSize)
	rows, err := q.sheavesOf(db).Joins("JOIN sheaf_parts ON part = ? MOD parts AND sheaf_id = id", number).Where("id >= ? AND id < ?", first, first+sheavesTogether).
		Select("id, blocks, version, SUBSTRING(cells, 1 + "+groups+" * (? DIV parts MOD (`groups` DIV parts)), "+groups+")", number).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id uint64
		var blocks []byte
		var told cells
		if err := rows.Scan(&id, &blocks, &told.version, &told.group); err != nil {
			return err
		}
		each(id, blocks, told)
	}
	return rows.Err()
}

// of returns what is told of one of n blocks, nothing where the sheaf is not whole.
func (c cells) of(at, n int) cells {
	if len(c.group) != n*block.GroupSize {
		return cells{}
	}
	return cells{c.version, c.group[at*block.GroupSize:][:block.GroupSize]}
}
