package condition

import (
	"testing"

	"oakbarrel/core/record"
)

func TestAHintNeverHidesWhatMatches(t *testing.T) {
	texts := []string{"", "pump stall in loop c", "STALL", "seq 00765432, order", "Seq 00765432", "xseq 007654322", "stal", "zz", "PuMp", "pump pumps", "refused: 12 times", "sTaLls stall"}
	for _, where := range []string{`"stall"`, `text contains "stall"`, `text contains "stall" ignoring case`, `text has word stall`, `"seq 00765432"`, `text is "STALL"`, `text starts with pump`, `text in (stall, "zz", "STALL")`, `text ends with "12 times" and severity is info`, `"pump" and "loop"`, `not "stall"`, `"stall" or "pump"`, `text matches /st.ll/`, `"é stall"`, `"sé"`, `"a\"b"`} {
		c, err := Parse(where, nil)
		if err != nil {
			t.Fatal(err)
		}
		h := c.Hint()
		hidden := 0
		for _, text := range texts {
			r := record.Record{Priority: 14, Text: []byte(text)}
			if h == nil {
				continue
			}
			if line := "2026-11-25T10:00:00Z info: " + text + " behind"; !h.In([]byte(line)) {
				hidden++
				if c.Match(&r) {
					t.Errorf("%s hides %q", where, text)
				}
			}
		}
		if h != nil && hidden == 0 {
			t.Errorf("%s hides nothing", where)
		}
	}
	for _, where := range []string{"any", `not "stall"`, `"stall" or "pump"`, `text matches /stall/`, `"ab"`, `"a\"b"`, `"é stall"`} {
		if c, _ := Parse(where, nil); c.Hint() != nil {
			t.Errorf("%s has a hint", where)
		}
	}
}

func FuzzHint(f *testing.F) {
	f.Add("stall", "the STALLED pump", true)
	f.Add("seq 007", "x seq 0077", false)
	f.Fuzz(func(t *testing.T, want, text string, fold bool) {
		w := newSearcher(want, fold)
		if !w.ascii || !plainWord(w.want) {
			return
		}
		h := Hint{[]hintWord{newHintWord(w.want, fold)}}
		if got, in := h.In([]byte(text)), w.In([]byte(text)); got != in {
			t.Errorf("%q in %q, letter case ignored %v: %v instead of %v", want, text, fold, got, in)
		}
	})
}
