package roll

import "time"

// Keep says when a piece is removed: when any of its limits is exceeded, the
// oldest first. A limit of 0 does not count; the zero Keep is forever.
type Keep struct {
	Pieces     int   // how many closed pieces stay
	Days       int   // days of 24 hours since a piece was rolled
	Total      int64 // bytes on disk, the live file included
	DaysAtMost int   // likewise in days, and overrides what a piece waits for
}

// Why a piece was removed, as the tally has it.
const (
	byPieces     = "pieces"
	byDays       = "days"
	byTotal      = "total"
	byDaysAtMost = "days_at_most"
	byFloor      = "floor" // of free disk space
)

// excess returns of the oldest pieces, which must go, why. A piece that is
// owed stays, and with it those behind it, as long as DaysAtMost allows.
func (k Keep) excess(pieces []Piece, live int64, now time.Time, owed func(Piece) bool) (why []string) {
	total := live
	for _, p := range pieces {
		total += p.Size
	}
	for n, p := range pieces {
		age := now.Sub(p.Stamp)
		reason := ""
		switch {
		case k.DaysAtMost > 0 && age > days(k.DaysAtMost):
			reason = byDaysAtMost
		case owed(p):
		case k.Pieces > 0 && len(pieces)-n > k.Pieces:
			reason = byPieces
		case k.Days > 0 && age > days(k.Days):
			reason = byDays
		case k.Total > 0 && total > k.Total:
			reason = byTotal
		}
		if reason == "" {
			return why
		}
		why = append(why, reason)
		total -= p.Size
	}
	return why
}

func days(n int) time.Duration { return time.Duration(n) * 24 * time.Hour }
