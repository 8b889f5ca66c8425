package search

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"

	"oakbarrel/core/block"
	"oakbarrel/core/condition"
	"oakbarrel/service/model"
)

// Which blocks surely have no hit is told by their filters. Of each only what
// tells of the words that are looked for is read, in the database.

const (
	firstTogether = 64   // filters that are asked at first, then more and more
	mostTogether  = 1024 // at a time
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
	if len(words) == 0 {
		return nil, nil
	}
	ids := make([]uint64, len(heads))
	for i, h := range heads {
		ids[i] = h.ID
	}
	groups := make([]string, len(words))
	for i, hash := range words {
		groups[i] = fmt.Sprintf("SUBSTRING(words, 2 + %[1]d * (%[2]d MOD ((LENGTH(words) - 1) DIV %[1]d)), %[1]d)", block.GroupSize, hash>>32)
	}
	var rows []struct {
		ID      uint64
		Version []byte
		Cells   []byte // of each word
	}
	columns := "id, SUBSTRING(words, 1, 1) AS version, CONCAT(" + strings.Join(groups, ", ") + ") AS cells"
	if err := s.db.WithContext(ctx).Model(&model.Block{}).Select(columns).Where("id IN ?", ids).Find(&rows).Error; err != nil {
		return nil, err
	}
	known := make(map[uint64]filtered, len(rows))
	for _, r := range rows {
		if len(r.Version) == 1 && len(r.Cells) == block.GroupSize*len(words) {
			known[r.ID] = filtered{r.Version[0], words, r.Cells}
		}
	}
	return known, nil
}

// filtered is the contents of a block as its filter shows them.
type filtered struct {
	version byte
	words   []uint64 // that were asked for, in order
	cells   []byte   // the group of each
}

func (f filtered) HasWord(hash uint64) bool {
	i, asked := slices.BinarySearch(f.words, hash)
	return !asked || block.GroupHasWord(f.version, f.cells[i*block.GroupSize:][:block.GroupSize], hash)
}

func (f filtered) HasText(*condition.Searcher) bool { return true }

func (f filtered) HasValue(name string, v []byte) bool {
	return f.HasWord(block.ValueHash(properties[name], v))
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
	return w.HasWord(block.ValueHash(properties[name], v))
}
