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
func (k Keep) excess(pieces []Piece, live int64, s Settings, now time.Time, owed func(Piece) bool) (why []string) {
	total := live
	for _, p := range pieces {
		total += p.Size
	}
	counts, stamps := inTime(pieces, s, now)
	for n, p := range pieces {
		age := now.Sub(stamps[n])
		reason := ""
		switch {
		case k.DaysAtMost > 0 && age > days(k.DaysAtMost):
			reason = byDaysAtMost
		case owed(p):
		case k.Pieces > 0 && counts[n] > k.Pieces:
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

// inTime returns for each piece how many there are from it on, and when it was rolled. One
// that was rolled before its time, because somebody ordered it, counts with those behind
// it up to where the file would have been rolled without: so that no order makes any
// piece go that would stay.
func inTime(pieces []Piece, s Settings, now time.Time) (counts []int, stamps []time.Time) {
	counts, stamps = make([]int, len(pieces)), make([]time.Time, len(pieces))
	ends := rolledAt(pieces, s, now)
	count, stamp := 0, now
	for i := len(pieces) - 1; i >= 0; i-- {
		if !ends[i].IsZero() {
			count, stamp = count+1, ends[i]
		}
		counts[i], stamps[i] = count, stamp
	}
	return counts, stamps
}

// rolledAt returns when the file would have been rolled behind each piece without any
// order, at the latest; zero where it would not have been.
func rolledAt(pieces []Piece, s Settings, now time.Time) (ends []time.Time) {
	ends = make([]time.Time, len(pieces))
	var together int64 // bytes since the last that was rolled in its time
	for i, p := range pieces {
		next := now
		if i+1 < len(pieces) {
			next = pieces[i+1].Stamp
		}
		together += p.bytes()
		switch {
		case !p.isEarly():
			ends[i] = p.Stamp
		case s.Size > 0 && i+1 < len(pieces) && together+pieces[i+1].bytes() > s.Size:
			if ends[i] = next; !s.Every.Never() {
				ends[i] = s.Every.Next(s.in(next))
			}
		case !s.Every.Never(): // nothing may have stood in the file at the end of the period
			if end := s.Every.Next(s.Every.Next(s.in(p.Stamp))); !next.Before(end) {
				ends[i] = end
			}
		}
		if !ends[i].IsZero() {
			together = 0
		}
	}
	return ends
}

func days(n int) time.Duration { return time.Duration(n) * 24 * time.Hour }
