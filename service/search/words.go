package search

import (
	"cmp"
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
			known, err := s.askFilters(ctx, q, words, some)
			if err != nil {
				yield(head{}, err)
				return
			}
			for _, h := range some {
				if done++; q.Progress != nil {
					q.Progress(done, len(heads))
				}
				if f, ok := known[h.blockKey()]; ok && !q.Condition.Possible(f) {
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

// blockKey tells blocks of several shelves apart.
type blockKey struct {
	shelf uint32
	id    uint64
}

func (h head) blockKey() blockKey { return blockKey{h.shelf, h.ID} }

// askFilters asks the filters of blocks for words, those of each shelf side by side. Of a
// block that is gone, or where there are no words, nothing is known.
func (s *Store) askFilters(ctx context.Context, q *Query, words []uint64, heads []head) (map[blockKey]filtered, error) {
	known := map[blockKey]filtered{}
	if len(words) == 0 {
		return known, nil
	}
	asked := map[uint32]*filters{}
	for _, h := range heads {
		if h.asked {
			continue
		}
		known[h.blockKey()] = filtered{words, make([]cells, len(words))}
		of := asked[h.shelf]
		if of == nil {
			of = &filters{shelf: h.shelf, known: known}
			asked[h.shelf] = of
		}
		if h.WordsApart {
			of.apart = append(of.apart, h.ID)
		} else {
			of.whole = append(of.whole, h.ID)
		}
	}
	errs := make(chan error, len(asked))
	for id, of := range asked {
		go func() {
			db, err := s.shelves.Of(id).DB(ctx)
			if err == nil {
				err = of.ask(db, words)
			}
			if err != nil {
				err = s.lacks(ctx, s.shelves.Of(id), q, err)
			}
			errs <- err
		}()
	}
	var err error
	for range asked {
		err = cmp.Or(err, <-errs)
	}
	return known, err
}

// filters are those of blocks of one shelf that are asked together. What is noted of each
// is its own, so that several shelves may be asked at a time.
type filters struct {
	shelf        uint32
	whole, apart []uint64 // ids
	known        map[blockKey]filtered
}

func (f *filters) ask(db *gorm.DB, words []uint64) error {
	for i, hash := range words {
		if len(f.whole) > 0 {
			if err := f.askWhole(db, i, hash>>32); err != nil {
				return err
			}
		}
		if len(f.apart) > 0 {
			if err := f.askParts(db, i, hash>>32); err != nil {
				return err
			}
		}
	}
	return nil
}

// askWhole asks the filters that blocks have with them for a word, by its number.
func (f *filters) askWhole(db *gorm.DB, word int, number uint64) error {
	group := fmt.Sprintf("SUBSTRING(words, 2 + %[1]d * (%[2]d MOD ((LENGTH(words) - 1) DIV %[1]d)), %[1]d) AS cells", block.GroupSize, number)
	return f.note(db.Model(&model.Block{}).Select("id, COALESCE(ORD(words), 0) AS version, "+group).Where("id IN ?", f.whole), word)
}

// askParts asks the filters that are kept in parts.
func (f *filters) askParts(db *gorm.DB, word int, number uint64) error {
	group := fmt.Sprintf("SUBSTRING(cells, 1 + %[1]d * (%[2]d MOD (%[3]d * (LENGTH(cells) DIV %[1]d)) DIV %[3]d), %[1]d) AS cells", block.GroupSize, number, block.WordParts)
	query := db.Model(&model.WordPart{}).Select("block_id AS id, version, "+group).Where("part = ?", number%block.WordParts)
	least, greatest := slices.Min(f.apart), slices.Max(f.apart)
	if greatest-least < 4*uint64(len(f.apart)) { // quicker, with few others between them
		query = query.Where("block_id BETWEEN ? AND ?", least, greatest)
	} else {
		query = query.Where("block_id IN ?", f.apart)
	}
	return f.note(query, word)
}

// note notes the answers of a query.
func (f *filters) note(query *gorm.DB, word int) error {
	rows, err := query.Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id uint64
		var c cells
		if err := rows.Scan(&id, &c.version, &c.group); err != nil {
			return err
		}
		if of, wanted := f.known[blockKey{f.shelf, id}]; wanted {
			of.cells[word] = c
		}
	}
	return rows.Err()
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

// ValueHash returns the hash under which a value of a property is in the filters of blocks, and
// whether values of that property are.
func ValueHash(name string, v []byte) (hash uint64, is bool) {
	property, is := properties[name]
	return block.ValueHash(property, v), is
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
