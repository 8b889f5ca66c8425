package condition

import (
	"bytes"
	"unicode/utf8"

	"oakbarrel/core/record"
)

// Searcher looks for one text in others. It may be used by several goroutines at a time.
type Searcher struct {
	want  []byte // in lower case where folding in ASCII
	fold  bool
	ascii bool // want has ASCII characters only, so that bytes can be compared
}

func newSearcher(want string, fold bool) Searcher {
	s := Searcher{want: []byte(want), fold: fold, ascii: true}
	for _, c := range s.want {
		s.ascii = s.ascii && c < utf8.RuneSelf
	}
	if fold && s.ascii {
		s.want = bytes.ToLower(s.want)
	}
	return s
}

// holds tells whether v meets the operator with the text looked for.
func (s *Searcher) holds(op textOp, v []byte) bool {
	switch op {
	case equal:
		if !s.fold {
			return string(v) == string(s.want)
		}
		return s.startAt(v) == len(v)
	case prefix:
		return s.startAt(v) >= 0
	case suffix:
		return s.endsWith(v)
	case contains:
		start, _ := s.index(v, 0)
		return start >= 0
	}
	return s.wordIn(v)
}

// startAt returns the length of the text where v starts with it, else -1.
func (s *Searcher) startAt(v []byte) int {
	switch {
	case !s.fold:
		if bytes.HasPrefix(v, s.want) {
			return len(s.want)
		}
		return -1
	case s.ascii:
		if len(v) < len(s.want) {
			return -1
		}
		for i, c := range s.want {
			if record.LowerASCII[v[i]] != c {
				return -1
			}
		}
		return len(s.want)
	}
	at := 0
	for i := 0; i < len(s.want); {
		want, size := utf8.DecodeRune(s.want[i:])
		got, gotSize := utf8.DecodeRune(v[at:])
		if gotSize == 0 || record.FoldRune(want) != record.FoldRune(got) {
			return -1
		}
		i, at = i+size, at+gotSize
	}
	return at
}

func (s *Searcher) endsWith(v []byte) bool {
	switch {
	case !s.fold:
		return bytes.HasSuffix(v, s.want)
	case s.ascii:
		return len(v) >= len(s.want) && s.startAt(v[len(v)-len(s.want):]) >= 0
	}
	start := len(v)
	for range utf8.RuneCount(s.want) {
		_, size := utf8.DecodeLastRune(v[:start])
		start -= size
	}
	return s.startAt(v[start:]) == len(v)-start
}

// index returns where the text first stands in v at or after from, -1 if nowhere.
func (s *Searcher) index(v []byte, from int) (start, end int) {
	if !s.fold {
		i := bytes.Index(v[from:], s.want)
		if i < 0 {
			return -1, -1
		}
		return from + i, from + i + len(s.want)
	}
	if len(s.want) == 0 {
		return from, from
	}
	first := s.want[0]
	for i := from; i < len(v); i++ {
		if s.ascii && record.LowerASCII[v[i]] != first {
			continue
		}
		if n := s.startAt(v[i:]); n >= 0 {
			return i, i + n
		}
	}
	return -1, -1
}

// wordIn tells whether the text stands in v with no letter or digit next to it.
func (s *Searcher) wordIn(v []byte) bool {
	for at := 0; at <= len(v); at++ {
		start, end := s.index(v, at)
		if start < 0 {
			return false
		}
		before, _ := utf8.DecodeLastRune(v[:start])
		after, _ := utf8.DecodeRune(v[end:])
		if !record.Alphanumeric(before) && !record.Alphanumeric(after) {
			return true
		}
		at = start
	}
	return false
}

// In tells whether the text stands anywhere in v.
func (s *Searcher) In(v []byte) bool { return s.holds(contains, v) }
