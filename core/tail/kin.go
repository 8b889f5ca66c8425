package tail

import (
	"bytes"
	"slices"
)

// kin are the sources of one family of names, with which a file of it is compared.
type kin struct {
	all     []*source
	begun   map[fingerprint][]*source // by their beginning
	lengths []int                     // of these
	behind  []*source                 // that begin behind a hole
}

// mostAlike is with how many sources a file is compared that begin as it does.
const mostAlike = 500

func (k *kin) add(s *source) {
	k.all = append(k.all, s)
	switch {
	case s.Head.At > 0:
		k.behind = append(k.behind, s)
	case s.Head.Length > 0:
		k.begun[s.Head] = append(k.begun[s.Head], s)
		if !slices.Contains(k.lengths, s.Head.Length) {
			k.lengths = append(k.lengths, s.Head.Length)
		}
	}
}

// of returns the sources that a file could be by its beginning. Where they are
// too many it returns the latest of those that have lost their file, and of the
// others, and false.
func (k *kin) of(p *probe) (found []*source, all bool) {
	p.load()
	if p.err != nil {
		return k.all, true
	}
	found = slices.Clone(k.behind)
	for _, length := range k.lengths {
		if length <= len(p.head) {
			found = append(found, k.begun[p.headOf(length)]...)
		}
	}
	if len(p.head) < printSize {
		for _, s := range k.all {
			if len(s.head) > len(p.head) && bytes.HasPrefix(s.head, p.head) {
				found = append(found, s)
			}
		}
	}
	if len(found) <= mostAlike {
		return found, true
	}
	lost := slices.DeleteFunc(slices.Clone(found), func(s *source) bool { return s.known })
	latest := slices.DeleteFunc(found, func(s *source) bool { return !s.known })
	latest = latest[max(0, len(latest)-mostAlike):]
	return append(lost[max(0, len(lost)-mostAlike):], latest...), false
}
