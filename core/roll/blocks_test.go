package roll

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"
)

func TestBlocksHoldWhatLinesHold(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 32473))
	for range 40 {
		var text []byte
		for range r.IntN(30) {
			text = append(text, bytes.Repeat([]byte{byte('a' + r.IntN(26))}, r.IntN([]int{20, 2000, 300_000, 2 << 20}[r.IntN(4)]))...)
			text = append(text, '\n')
		}
		if r.IntN(2) == 0 {
			text = append(text, "no end"...)
		}
		var want []string
		rest, _ := lines(bytes.NewReader(text), func(line []byte) error { want = append(want, string(line)); return nil })
		if len(rest) > 0 {
			want = append(want, string(rest))
		}
		var got []string
		err := readBlocks(iotest.HalfReader(bytes.NewReader(text)), func(block []byte) error {
			for len(block) > 0 {
				line, after, _ := bytes.Cut(block, []byte{'\n'})
				got = append(got, string(line[:min(len(line), MaxLine)]))
				block = after
			}
			return nil
		})
		if err != nil || len(got) != len(want) || strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Fatalf("%d lines instead of %d, %v", len(got), len(want), err)
		}
	}
}

func TestBlocksTellTheErrorsOfBothSides(t *testing.T) {
	broken := errors.New("broken")
	if err := readBlocks(io.MultiReader(strings.NewReader("one\n"), iotest.ErrReader(broken)), func([]byte) error { return nil }); err != broken {
		t.Error(err)
	}
	if err := readBlocks(strings.NewReader(strings.Repeat("x\n", 1<<20)), func([]byte) error { return broken }); err != broken {
		t.Error(err)
	}
}
