package ingest

import (
	"encoding/binary"
	"errors"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/service/model"
)

// The filter of a block stands with it where it is small, else in parts; once nothing is
// merged with the block any more, with those of others in a sheaf.

// Insert puts a block, whose filter is with it, into the database.
func Insert(tx *gorm.DB, row *model.Block) error {
	words := block.Words(row.Words)
	cells := words.Parts()
	if cells != nil {
		row.Words, row.WordsApart = nil, true
	}
	if err := tx.Create(row).Error; err != nil || cells == nil {
		return err
	}
	parts := make([]model.WordPart, len(cells))
	for i := range parts {
		parts[i] = model.WordPart{Part: uint8(i), BlockID: row.ID, Version: words.Version(), Cells: cells[i]}
	}
	return tx.Create(parts).Error
}

// allParts are the parts of a filter that is kept in parts.
var allParts = func() (all []int) {
	for i := range block.WordParts {
		all = append(all, i)
	}
	return
}()

var errTaken = errors.New("others have removed some of these blocks")

const filtersTogether = 64 // that are read or removed by one statement

// Filters returns the filters of blocks of a database, by block, wherever they are kept. One
// that is not whole is nil or a wrong one.
func Filters(db *gorm.DB, blocks []model.Block) (map[uint64]block.Words, error) {
	words := map[uint64]block.Words{}
	var apart, sheaves []uint64
	for _, b := range blocks {
		switch {
		case b.SheafID != 0:
			sheaves = append(sheaves, b.SheafID)
		case b.WordsApart:
			apart = append(apart, b.ID)
		default:
			words[b.ID] = b.Words
		}
	}
	for some := range slices.Chunk(apart, filtersTogether) {
		if err := readParts(db, some, words); err != nil {
			return nil, err
		}
	}
	slices.Sort(sheaves)
	for _, id := range slices.Compact(sheaves) {
		if err := readSheaf(db, id, words); err != nil {
			return nil, err
		}
	}
	return words, nil
}

// readParts reads filters that are kept in parts.
func readParts(db *gorm.DB, blocks []uint64, words map[uint64]block.Words) error {
	var rows []model.WordPart
	if err := db.Where("part IN ? AND block_id IN ?", allParts, blocks).Order("block_id, part").Find(&rows).Error; err != nil {
		return err
	}
	for len(rows) > 0 {
		var parts [][]byte
		first := rows[0]
		for len(rows) > 0 && rows[0].BlockID == first.BlockID {
			parts, rows = append(parts, rows[0].Cells), rows[1:]
		}
		words[first.BlockID] = block.WordsOf(first.Version, parts)
	}
	return nil
}

// readSheaf reads the filters of all blocks of a sheaf.
func readSheaf(db *gorm.DB, id uint64, words map[uint64]block.Words) error {
	var sheaves []model.Sheaf
	if err := db.Where("id = ?", id).Find(&sheaves).Error; err != nil || len(sheaves) == 0 {
		return err
	}
	parts := make([][]byte, sheaves[0].Parts)
	for i := range parts {
		var row model.SheafPart
		if err := db.Where("part = ? AND sheaf_id = ?", i, id).Limit(1).Find(&row).Error; err != nil {
			return err
		}
		parts[i] = row.Cells
	}
	blocks := BlocksOf(sheaves[0].Blocks)
	for i, b := range blocks {
		words[b] = block.Unbind(parts, sheaves[0].Version, len(blocks), i)
	}
	return nil
}

// BlocksOf returns the ids of blocks that a sheaf names.
func BlocksOf(named []byte) (ids []uint64) {
	for len(named) >= 8 {
		ids, named = append(ids, binary.LittleEndian.Uint64(named)), named[8:]
	}
	return ids
}

// BindTogether binds the filters of blocks of a cask, which stand with them or in parts, into
// a sheaf. All have the same number of groups.
func BindTogether(tx *gorm.DB, blocks []model.Block, words map[uint64]block.Words) error {
	var filters []block.Words
	for _, b := range blocks {
		filters = append(filters, words[b.ID])
	}
	parts := block.Bind(filters)
	sheaf := model.Sheaf{CaskID: blocks[0].CaskID, FirstTime: blocks[0].FirstTime, LastTime: blocks[0].LastTime, Version: filters[0].Version(), Groups: filters[0].Groups(), Parts: len(parts)}
	var ids, apart []uint64
	for _, b := range blocks {
		sheaf.FirstTime, sheaf.LastTime = min(sheaf.FirstTime, b.FirstTime), max(sheaf.LastTime, b.LastTime)
		sheaf.Blocks = binary.LittleEndian.AppendUint64(sheaf.Blocks, b.ID)
		if ids = append(ids, b.ID); b.WordsApart {
			apart = append(apart, b.ID)
		}
	}
	if err := tx.Create(&sheaf).Error; err != nil {
		return err
	}
	rows := make([]model.SheafPart, len(parts))
	for i := range rows {
		rows[i] = model.SheafPart{Part: uint8(i), SheafID: sheaf.ID, Cells: parts[i]}
	}
	if err := tx.CreateInBatches(rows, 16).Error; err != nil { // less than what any database takes at once
		return err
	}
	bound := tx.Model(&model.Block{}).Where("id IN ? AND sheaf_id = 0", ids).Updates(map[string]any{"sheaf_id": sheaf.ID, "words": nil, "words_apart": false})
	if bound.Error == nil && bound.RowsAffected != int64(len(ids)) {
		return errTaken
	}
	if bound.Error != nil {
		return bound.Error
	}
	return removeParts(tx, apart)
}

// RemoveSheaves removes the sheaves none of whose blocks is left, no more than some at a time,
// and tells how many they were.
func RemoveSheaves(tx *gorm.DB) (n int, err error) {
	var sheaves []model.Sheaf
	err = tx.Where("NOT EXISTS (SELECT 1 FROM blocks WHERE blocks.cask_id = sheaves.cask_id AND blocks.sheaf_id = sheaves.id)").Limit(filtersTogether).Find(&sheaves).Error
	for _, s := range sheaves {
		var parts []int
		for i := range s.Parts {
			parts = append(parts, i)
		}
		if err := tx.Where("part IN ? AND sheaf_id = ?", parts, s.ID).Delete(&model.SheafPart{}).Error; err != nil {
			return 0, err
		}
		if err := tx.Delete(&model.Sheaf{ID: s.ID}).Error; err != nil {
			return 0, err
		}
	}
	return len(sheaves), err
}

func removeParts(tx *gorm.DB, blocks []uint64) error {
	for some := range slices.Chunk(blocks, filtersTogether) {
		if err := tx.Where("part IN ? AND block_id IN ?", allParts, some).Delete(&model.WordPart{}).Error; err != nil {
			return err
		}
	}
	return nil
}

// Remove removes blocks from the database. A sheaf stays until it is looked for such as have
// none: see RemoveSheaves.
func Remove(tx *gorm.DB, blocks []model.Block) error {
	var ids, apart []uint64
	for _, b := range blocks {
		ids = append(ids, b.ID)
		if b.WordsApart {
			apart = append(apart, b.ID)
		}
	}
	if err := removeParts(tx, apart); err != nil {
		return err
	}
	gone := tx.Where("id IN ?", ids).Delete(&model.Block{})
	if gone.Error == nil && gone.RowsAffected != int64(len(ids)) {
		return errTaken
	}
	return gone.Error
}
