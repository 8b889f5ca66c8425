package shape_test

import (
	"bytes"
	"strings"
	"testing"

	"oakbarrel/core/shape"
)

func TestTheShapeOfAText(t *testing.T) {
	for text, want := range map[string]string{
		"Pump P07 stalled: flow=0.3 l/min, id 7f3a9c21": "Pump P… stalled: flow=… l/min, id …",
		"valve closed":            "valve closed",
		"":                        "",
		"42":                      "…",
		"took 3ms, then 0.25s":    "took …, then …",
		"took -3 of +4 (-5), a-6": "took … of … (…), a-…",
		"from 10.20.0.9:514 to fe80::1ff:fe23:4567:890a":   "from … to …::…",
		"2026-11-29T10:15:00.123+01:00 tide-gw up":         "…+… tide-gw up",
		"trace 6f1e4a52-feed-4c1b-9ab0-c0ffee00beef ended": "trace … ended",
		"trace 6f1e4a52-beef-cafe-9ab0-c0ffee00beef ended": "trace … ended",
		"ref eebfcbfa, facade, FEEDFACE and feedface01":    "ref …, facade, … and …",
		"kelp-01 answers":                       "kelp-… answers",
		"key aB3xY9kQ2 expires":                 "key … expires",
		"session ab12 of user noor":             "session … of user noor",
		`pump "circulator" of "tank 3" stalled`: `pump "…" of "…" stalled`,
		`level=error msg="flow is low" pump=7`:  `level=error msg="flow is low" pump=…`,
		`{"level":"error","pump":7}`:            `{"level":"error","pump":…}`,
		`he said "so`:                           `he said "so`,
		"water at 8.1 °C in Größe 12":           "water at … °C in Größe …",
		"first line 1\nat line 2\nat line 3":    "first line …",
		"v2beta and x86_64 and utf8":            "… and x…_… and utf…",
		"wait for it… 5":                        "wait for it… …",
	} {
		if got := string(shape.Append(nil, []byte(text))); got != want {
			t.Errorf("%q\n is %q\nnot %q", text, got, want)
		}
	}
}

// Texts of a kind have one key, and texts of others have others.
func TestTextsOfAKindHaveOneKey(t *testing.T) {
	kinds := [][]string{
		{"Pump P07 stalled after 3 s", "Pump P112 stalled after 0.25 s", "Pump P… stalled after … s"},
		{"Pump P07 started after 3 s"},
		{"session 7f3a opened", "session 00000000000000000000000001 opened"},
		{"session opened"},
		{""},
	}
	seen := map[uint64]int{}
	for i, texts := range kinds {
		for _, text := range texts {
			key := shape.Key([]byte(text))
			if of, known := seen[key]; key == 0 || known && of != i {
				t.Errorf("%q has the key %x, as kind %d has", text, key, of)
			}
			seen[key] = i
		}
	}
	if len(seen) != len(kinds) {
		t.Errorf("%d kinds have %d keys", len(kinds), len(seen))
	}
}

func TestALongTextIsCutBetweenCharacters(t *testing.T) {
	for _, part := range []string{"a", "ü", "…", "tank 7, ", `"x" `, "1a "} {
		for n := range 8 {
			text := strings.Repeat("b", n) + strings.Repeat(part, 2*shape.Most)
			got := shape.Append(nil, []byte(text))
			if len(got) > shape.Most || !bytes.Equal(bytes.ToValidUTF8(got, nil), got) {
				t.Errorf("%q, again and again, is of %d bytes and ends with %q", part, len(got), got[max(0, len(got)-9):])
			}
		}
	}
}

func TestAKeyAllocatesNothing(t *testing.T) {
	text := []byte("Pump P07 stalled: flow=0.3 l/min, id 7f3a9c21")
	if n := testing.AllocsPerRun(100, func() { shape.Key(text) }); n > 0 {
		t.Errorf("%v allocations", n)
	}
}

func FuzzShape(f *testing.F) {
	for _, text := range []string{"Pump P07 stalled: flow=0.3", `a "b" c`, "fee7…12 x…aB3xY9kQ", "10.20.0.9:514/feed-cafe", "-… +7", "…-dead"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		once := shape.Append(nil, text)
		if twice := shape.Append(nil, once); !bytes.Equal(once, twice) {
			t.Errorf("%q has the shape %q, which has the shape %q", text, once, twice)
		}
		if behind := shape.Append([]byte("x"), text); string(behind) != "x"+string(once) {
			t.Errorf("%q behind something is %q, not %q", text, behind, once)
		}
	})
}
