package keep

import (
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
)

// What a search asks of a block that it passes over is its filter. Filters of blocks that are
// not merged any more are bound into sheaves, of which a row tells what dozens would.

// bindLook is how many blocks of a cask are looked at together. Of those that have no others
// of their size yet there are fewer.
const bindLook = 4096

// bind binds filters of some blocks of each cask, and tells whether there may be more.
func (p *Keeper) bind(db *gorm.DB, casks []model.Cask) (more bool, err error) {
	for _, c := range casks {
		alike, err := looseBlocks(db, c)
		if err != nil {
			return false, err
		}
		for groups, blocks := range alike {
			room := block.SheafRoom(groups)
			for ; len(blocks) >= room; blocks = blocks[room:] {
				bound, err := p.bindSome(db, groups, blocks[:room])
				if err != nil {
					return false, err
				}
				more = more || bound
			}
		}
	}
	err = p.change(db, func(tx *gorm.DB) error {
		n, err := ingest.RemoveSheaves(tx)
		more = more || n > 0
		return err
	})
	return more, err
}

// looseBlocks returns blocks of a cask whose filters may be bound, by how many groups their
// filters have, those that came first before the others.
func looseBlocks(db *gorm.DB, c model.Cask) (map[int][]uint64, error) {
	var rows []struct {
		ID    uint64
		Bytes int // of the filter's groups
	}
	err := db.Model(&model.Block{}).Select("blocks.id, COALESCE(? * LENGTH(cells), LENGTH(words) - 1) AS bytes", block.WordParts).
		Joins("LEFT JOIN word_parts ON words_apart AND part = 0 AND block_id = blocks.id").
		Where("cask_id = ? AND sheaf_id = 0 AND settled = 1 AND moving = 0 AND records > 0 AND COALESCE(version, ORD(words)) = ?", c.ID, block.WordsVersion).
		Order("blocks.id").Limit(bindLook).Find(&rows).Error
	alike := map[int][]uint64{}
	for _, r := range rows {
		groups := r.Bytes / block.GroupSize
		alike[groups] = append(alike[groups], r.ID)
	}
	delete(alike, 0)
	return alike, err
}

// bindSome binds the filters of blocks into a sheaf, and tells whether there were any. One that
// is not whole is left out.
func (p *Keeper) bindSome(db *gorm.DB, groups int, ids []uint64) (bound bool, err error) {
	err = p.change(db, func(tx *gorm.DB) error {
		var blocks []model.Block
		if err := tx.Omit("payload", "minutes", "kinds", "field_values").Where("id IN ?", ids).Order("id").Find(&blocks).Error; err != nil {
			return err
		}
		words, err := ingest.Filters(tx, blocks)
		if err != nil {
			return err
		}
		blocks = slices.DeleteFunc(blocks, func(b model.Block) bool { return words[b.ID].Groups() != groups })
		if bound = len(blocks) > 0; !bound {
			return nil
		}
		return ingest.BindTogether(tx, blocks, words)
	})
	return bound, err
}
