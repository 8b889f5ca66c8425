package roll

import "time"

// Keep says when a piece is removed: when any of its limits is exceeded, the
// oldest first. A limit of 0 does not count; the zero Keep is forever.
type Keep struct {
	Pieces int   // how many closed pieces stay
	Days   int   // days of 24 hours since a piece was rolled
	Total  int64 // bytes on disk, the live file included
}

// excess returns how many of the oldest pieces must go.
func (k Keep) excess(pieces []Piece, live int64, now time.Time) (n int) {
	total := live
	for _, p := range pieces {
		total += p.Size
	}
	for ; n < len(pieces); n++ {
		p := pieces[n]
		tooMany := k.Pieces > 0 && len(pieces)-n > k.Pieces
		tooOld := k.Days > 0 && now.Sub(p.Stamp) > time.Duration(k.Days)*24*time.Hour
		tooLarge := k.Total > 0 && total > k.Total
		if !tooMany && !tooOld && !tooLarge {
			break
		}
		total -= p.Size
	}
	return n
}
