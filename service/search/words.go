package search

import (
	"context"
	"fmt"
	"iter"
	"slices"

	"gorm.io/gorm"

	"oakbarrel/core/block"
	"oakbarrel/core/condition"
	"oakbarrel/service/model"
)

// Which blocks surely have no hit is told by their filters. Of each only what
// tells of the words that are looked for is read, in the database.

const (
	firstTogether = 256  // filters that are asked at first, then more and more
	mostTogether  = 4096 // at a time
	mostWords     = 32   // that are looked for; what is asked of more is not known
)

// picked gives the blocks whose filters do not rule a hit out.
func (s *Store) picked(ctx context.Context, q *Query, heads []head) iter.Seq2[head, error] {
	return func(yield func(head, error) bool) {
		words := q.words()
		for done, together := 0, firstTogether; done < len(heads); together = min(2*together, mostTogether) {
			some := heads[done:min(done+together, len(heads))]
			known, err := s.askFilters(ctx, words, some)
			if err != nil {
				yield(head{}, err)
				return
			}
			for _, h := range some {
				if done++; q.Progress != nil {
					q.Progress(done, len(heads))
				}
				if f, ok := known[h.ID]; ok && !q.Condition.Possible(f) {
					continue
				}
				if !yield(h, nil) {
					return
				}
			}
		}
	}
}

// words returns the hashes of the words that the condition may ask for.
func (q *Query) words() []uint64 {
	var w wordsAsked
	if q.Condition != nil {
		q.Condition.Ask(&w)
	}
	slices.Sort(w.hashes)
	w.hashes = slices.Compact(w.hashes)
	return w.hashes[:min(len(w.hashes), mostWords)]
}

// askFilters asks the filters of blocks for words. Of a block that is gone, or
// where there are no words, nothing is known.
func (s *Store) askFilters(ctx context.Context, words []uint64, heads []head) (map[uint64]filtered, error) {
	known := map[uint64]filtered{}
	if len(words) == 0 {
		return known, nil
	}
	var whole, apart []uint64
	for _, h := range heads {
		known[h.ID] = filtered{words, make([]cells, len(words))}
		if h.WordsApart {
			apart = append(apart, h.ID)
		} else {
			whole = append(whole, h.ID)
		}
	}
	for i, hash := range words {
		if len(whole) > 0 {
			if err := s.askWhole(ctx, i, hash>>32, whole, known); err != nil {
				return nil, err
			}
		}
		if len(apart) > 0 {
			if err := s.askParts(ctx, i, hash>>32, apart, known); err != nil {
				return nil, err
			}
		}
	}
	return known, nil
}

// askWhole asks the filters that blocks have with them for a word, by its number.
func (s *Store) askWhole(ctx context.Context, word int, number uint64, ids []uint64, known map[uint64]filtered) error {
	group := fmt.Sprintf("SUBSTRING(words, 2 + %[1]d * (%[2]d MOD ((LENGTH(words) - 1) DIV %[1]d)), %[1]d) AS cells", block.GroupSize, number)
	return ask(s.db.WithContext(ctx).Model(&model.Block{}).Select("id, ORD(words) AS version, "+group).Where("id IN ?", ids), word, known)
}

// askParts asks the filters that are kept in parts.
func (s *Store) askParts(ctx context.Context, word int, number uint64, ids []uint64, known map[uint64]filtered) error {
	group := fmt.Sprintf("SUBSTRING(cells, 1 + %[1]d * (%[2]d MOD (%[3]d * (LENGTH(cells) DIV %[1]d)) DIV %[3]d), %[1]d) AS cells", block.GroupSize, number, block.WordParts)
	query := s.db.WithContext(ctx).Model(&model.WordPart{}).Select("block_id AS id, version, "+group).Where("part = ?", number%block.WordParts)
	least, greatest := slices.Min(ids), slices.Max(ids)
	if greatest-least < 4*uint64(len(ids)) { // quicker, with few others between them
		query = query.Where("block_id BETWEEN ? AND ?", least, greatest)
	} else {
		query = query.Where("block_id IN ?", ids)
	}
	return ask(query, word, known)
}

// ask notes the answers of a query.
func ask(query *gorm.DB, word int, known map[uint64]filtered) error {
	var rows []struct {
		ID      uint64
		Version uint8
		Cells   []byte
	}
	if err := query.Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		if f, wanted := known[r.ID]; wanted {
			f.cells[word] = cells{r.Version, r.Cells}
		}
	}
	return nil
}

// filtered is the contents of a block as its filter shows them.
type filtered struct {
	words []uint64 // that were asked for, in order
	cells []cells  // the group of each
}

// cells is what a filter of a version tells of a word; nothing where it has no bytes.
type cells struct {
	version uint8
	group   []byte
}

func (f filtered) HasWord(hash uint64) bool {
	i, asked := slices.BinarySearch(f.words, hash)
	return !asked || block.GroupHasWord(f.cells[i].version, f.cells[i].group, hash)
}

func (f filtered) HasText(*condition.Searcher) bool { return true }

func (f filtered) HasValue(name string, v []byte) bool {
	property, known := properties[name]
	return !known || f.HasWord(block.ValueHash(property, v))
}

var properties = map[string]block.Property{"host": block.Host, "app": block.App, "procid": block.ProcID, "msgid": block.MsgID}

// wordsAsked notes which words are asked for.
type wordsAsked struct{ hashes []uint64 }

func (w *wordsAsked) HasWord(hash uint64) bool {
	w.hashes = append(w.hashes, hash)
	return true
}

func (w *wordsAsked) HasText(*condition.Searcher) bool { return true }

func (w *wordsAsked) HasValue(name string, v []byte) bool {
	property, known := properties[name]
	return !known || w.HasWord(block.ValueHash(property, v))
}
