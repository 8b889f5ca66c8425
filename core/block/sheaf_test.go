package block_test

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"oakbarrel/core/block"
)

// everySize are the numbers of groups that a filter may have.
var everySize = []int{2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128, 192, 256, 384, 512, 768, 1024, 1536, 2048, 3072, 6144}

// What a sheaf tells of a word in a block is what the block's own filter tells, whatever its
// size: read where SheafParts says it stands, and after it is unbound.
func TestASheafTellsWhatItsFiltersTell(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 20))
	for _, groups := range everySize {
		n := block.SheafRoom(groups)
		if n < 2 {
			t.Fatalf("%d groups: a sheaf has room for %d", groups, n)
		}
		filters := make([]block.Words, n)
		for i := range filters {
			w := make(block.Words, 1+block.GroupSize*groups)
			for at := range w {
				w[at] = byte(random.Uint32())
			}
			w[0] = block.WordsVersion
			if filters[i] = w; w.Groups() != groups {
				t.Fatalf("%d groups: they are %d", groups, w.Groups())
			}
		}
		parts := block.Bind(filters)
		if len(parts) != block.SheafParts(groups) || len(parts[0]) > 16<<10 {
			t.Fatalf("%d groups: %d parts, the first of %d bytes", groups, len(parts), len(parts[0]))
		}
		for range 200 {
			number, i := uint64(random.Uint32()), random.IntN(n)
			part := parts[number%uint64(len(parts))]
			piece := int(number) / len(parts) % (groups / len(parts))
			got := part[block.GroupSize*(piece*n+i):][:block.GroupSize]
			if want := filters[i][1+block.GroupSize*(int(number)%groups):][:block.GroupSize]; !bytes.Equal(got, want) {
				t.Fatalf("%d groups: block %d tells of %d something else", groups, i, number)
			}
		}
		for i, w := range filters {
			if !bytes.Equal(block.Unbind(parts, block.WordsVersion, n, i), w) {
				t.Fatalf("%d groups: filter %d is another one", groups, i)
			}
		}
	}
}

func TestWhatIsNoFilterIsNotBound(t *testing.T) {
	whole := make(block.Words, 1+block.GroupSize*4)
	whole[0] = block.WordsVersion
	for name, w := range map[string]block.Words{
		"nothing": nil, "a version alone": whole[:1], "a part of a group": whole[:block.GroupSize], "five groups": make(block.Words, 1+block.GroupSize*5),
		"another version": append(block.Words{2}, whole[1:]...), "a byte too many": append(bytes.Clone(whole), 0),
	} {
		if w.Groups() != 0 {
			t.Errorf("%s: %d groups", name, w.Groups())
		}
	}
	parts := block.Bind([]block.Words{whole, whole})
	for name, w := range map[string]block.Words{
		"no parts": block.Unbind(nil, 3, 2, 0), "no such block": block.Unbind(parts, 3, 2, 2), "a part is short": block.Unbind(append([][]byte{parts[0][:block.GroupSize]}, parts[1:]...), 3, 2, 0),
	} {
		if w.Groups() != 0 {
			t.Errorf("%s: unbound as %d groups", name, w.Groups())
		}
	}
}

func TestPartsOfAFilterArePutTogetherAgain(t *testing.T) {
	for _, groups := range everySize {
		w := make(block.Words, 1+block.GroupSize*groups)
		for i := range w {
			w[i] = byte(i * 7)
		}
		w[0] = block.WordsVersion
		if parts := w.Parts(); parts != nil && !bytes.Equal(block.WordsOf(w.Version(), parts), w) {
			t.Errorf("%d groups: another filter", groups)
		}
	}
}
