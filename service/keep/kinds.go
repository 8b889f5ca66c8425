package keep

import (
	"errors"
	"time"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/service/ingest"
	"oakbarrel/service/model"
)

const (
	describeSpan  = 20_000              // ids of blocks that are looked through together
	describeSome  = 16                  // blocks of them that are opened together
	forgetShapes  = 90 * 24 * time.Hour // after no block has had them
	forgetEvery   = time.Hour
	forgetAtATime = 1000
)

// describe tells beside blocks of an earlier version of what kinds their records are, and what
// values the fields of settled ones have, some at a time, and tells whether there may be more. What was looked through is not looked at again
// while the service runs.
func (p *Keeper) describe(db *gorm.DB) (more bool, err error) {
	if p.described == nil {
		var last uint64
		if err := db.Model(&model.Block{}).Select("COALESCE(MAX(id), 0)").Scan(&last).Error; err != nil {
			return false, err
		}
		p.described = &span{0, last}
	}
	at := p.described
	if at.next > at.last {
		return false, nil
	}
	end := min(at.next+describeSpan, at.last+1)
	var blocks []model.Block
	err = db.Select("id, cask_id, arrived, settled, kinds, payload").Where("id >= ? AND id < ? AND (kinds IS NULL OR field_values IS NULL AND settled = 1) AND records > 0 AND moving = 0", at.next, end).Order("id").Limit(describeSome).Find(&blocks).Error
	if err != nil {
		return false, err
	}
	for _, b := range blocks {
		if err := p.describeOne(db, b); err != nil {
			return false, err
		}
	}
	if len(blocks) < describeSome {
		at.next = end
	} else {
		at.next = blocks[len(blocks)-1].ID + 1
	}
	return at.next <= at.last, nil
}

// span is a range of ids.
type span struct{ next, last uint64 }

func (p *Keeper) describeOne(db *gorm.DB, b model.Block) error {
	said := map[string]any{}
	var shapes []model.Shape
	if b.Kinds == nil {
		kinds, news, err := ingest.Describe(b)
		if err := unlessDamaged(err); err != nil {
			return err
		}
		said["kinds"], shapes = emptyFor(kinds), news
	}
	if b.Settled {
		values, err := ingest.DescribeValues(b.Payload)
		if err := unlessDamaged(err); err != nil {
			return err
		}
		said["field_values"] = emptyFor(values)
	}
	return p.change(db, func(tx *gorm.DB) error {
		if err := ingest.AddShapes(tx, shapes); err != nil {
			return err
		}
		return tx.Model(&model.Block{}).Where("id = ?", b.ID).Updates(said).Error
	})
}

// unlessDamaged returns an error that is not one of a damaged block, of which oakbarrel store
// check tells.
func unlessDamaged(err error) error {
	if errors.Is(err, block.ErrDamaged) {
		return nil
	}
	return err
}

// emptyFor returns what is said of a block, which is empty for nothing, not NULL.
func emptyFor(said []byte) []byte { return append([]byte{}, said...) }

// settle notes of a block that it is not merged any more, and what values its fields have.
func (p *Keeper) settle(db *gorm.DB, id uint64) error {
	payload, err := ingest.Payload(db, id)
	if err != nil {
		return err
	}
	said := map[string]any{"settled": true}
	if len(payload) > 0 {
		values, err := ingest.DescribeValues(payload)
		if err := unlessDamaged(err); err != nil {
			return err
		}
		said["field_values"] = emptyFor(values)
	}
	return db.Model(&model.Block{}).Where("id = ?", id).Updates(said).Error
}

// forget removes shapes that no block of their cask has had for long.
func (p *Keeper) forget(db *gorm.DB, casks []model.Cask) error {
	if now := p.Now(); now.Sub(p.forgot) < forgetEvery {
		return nil
	} else {
		p.forgot = now
	}
	for _, c := range casks {
		before := p.Now().Add(-forgetShapes).UnixMicro()
		var oldest []int64
		if err := db.Model(&model.Block{}).Where("cask_id = ?", c.ID).Order("arrived").Limit(1).Pluck("arrived", &oldest).Error; err != nil {
			return err
		}
		if len(oldest) > 0 {
			before = min(before, oldest[0])
		}
		err := p.change(db, func(tx *gorm.DB) error {
			return tx.Where("cask_id = ? AND last < ?", c.ID, before).Limit(forgetAtATime).Delete(&model.Shape{}).Error
		})
		if err != nil {
			return err
		}
	}
	return nil
}
