package route

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// Every word that stands in a text is found, wherever it stands; of the others few.
func TestLiteralsFindEveryWord(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 7))
	for range 3000 {
		words := map[string][]int32{}
		for i := range 1 + rnd.IntN(6) {
			w := make([]byte, 3+rnd.IntN(6))
			for j := range w {
				w[j] = "abAB-1"[rnd.IntN(6)]
			}
			words[strings.ToLower(string(w))] = append(words[strings.ToLower(string(w))], int32(i))
		}
		l := newLiterals(words)
		text := make([]byte, rnd.IntN(30))
		for i := range text {
			text[i] = "abAB-1 \xc3"[rnd.IntN(8)]
		}
		found := l.find(nil, text)
		if !slices.IsSorted(found) {
			t.Fatalf("%v", found)
		}
		for w, rules := range words {
			if bytes.Contains(bytes.ToLower(text), []byte(w)) && !slices.Contains(found, rules[0]) {
				t.Fatalf("%q is not found in %q among %v", w, text, words)
			}
		}
	}
	l := newLiterals(map[string][]int32{"stall": {3}, "no flow": {1, 3}, "lost": {2}})
	if got := l.find(nil, []byte("Pump P7 STALLED: no flow")); !slices.Equal(got, []int32{1, 3}) {
		t.Errorf("%v", got)
	}
	if got := l.find(nil, []byte("pump P7 at 1400 rpm")); len(got) > 0 {
		t.Errorf("%v", got)
	}
}
