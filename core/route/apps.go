package route

import (
	"encoding/binary"
	"math/bits"
)

// appIndex finds the rules that are about an app by one look-up, cheaper than
// that of a map: names are short, and hashed by their first eight bytes, their
// last eight, and their length.
type appIndex struct {
	slots []appSlot // a power of two, at most half full; nil for none
	shift uint
}

type appSlot struct {
	app   string
	rules []int32 // nil for an empty slot
}

func newAppIndex(byApp map[string][]int32) (x appIndex) {
	if len(byApp) == 0 {
		return x
	}
	size := 1 << bits.Len(uint(2*len(byApp)))
	x.slots, x.shift = make([]appSlot, size), uint(64-bits.Len(uint(size-1)))
	for app, rules := range byApp {
		at := x.at([]byte(app))
		for x.slots[at].rules != nil {
			at = (at + 1) & (len(x.slots) - 1)
		}
		x.slots[at] = appSlot{app, rules}
	}
	return x
}

// at returns the slot where an app is looked for first.
func (x *appIndex) at(app []byte) int {
	n := len(app)
	h := uint64(n)
	switch {
	case n >= 8:
		h ^= binary.LittleEndian.Uint64(app) ^ bits.RotateLeft64(binary.LittleEndian.Uint64(app[n-8:]), 29)
	case n >= 4:
		h ^= uint64(binary.LittleEndian.Uint32(app))<<32 ^ uint64(binary.LittleEndian.Uint32(app[n-4:]))<<8
	case n > 0:
		h ^= uint64(app[0])<<48 ^ uint64(app[n/2])<<32 ^ uint64(app[n-1])<<16
	}
	return int(h * 0x9e3779b97f4a7c15 >> (x.shift & 63))
}

// rules returns the rules that are about an app.
func (x *appIndex) rules(app []byte) []int32 {
	if x.slots == nil {
		return nil
	}
	for at := x.at(app); x.slots[at].rules != nil; at = (at + 1) & (len(x.slots) - 1) {
		if x.slots[at].app == string(app) {
			return x.slots[at].rules
		}
	}
	return nil
}
