package roll

import (
	"time"
)

// Ceiling returns the most that the set may take on disk, in bytes, 0 for no
// bound. Compression is not counted on.
func (s Settings) Ceiling() int64 {
	bySize := int64(0)
	if s.Size > 0 && s.Keep.Pieces > 0 {
		bySize = s.Size * int64(s.Keep.Pieces)
	}
	ceiling := s.Keep.Total
	if ceiling == 0 || bySize > 0 && bySize < ceiling {
		ceiling = bySize
	}
	if ceiling == 0 || s.Hold {
		return 0
	}
	return ceiling + s.Size // and the live file
}

// Coming is a roll to come: the name that the live file gets, and when, which
// is zero where only its size decides.
type Coming struct {
	At   time.Time
	Path string
}

// Coming returns the next n rolls of the set, if it never reaches its size
// before. Compressed pieces have the suffix that they will get.
func (s Settings) Coming(now time.Time, n int) (rolls []Coming) {
	at := s.in(now)
	for i := range n {
		c := Coming{}
		stamp := now
		if !s.Every.Never() {
			at = s.Every.Next(at)
			c.At, stamp = at, at
		}
		switch {
		case s.Counted:
			c.Path = countedName(s.Path, 1)
		case s.Every.Never():
			c.Path = pieceName(s.Path, stamp, i+1)
		default:
			c.Path = pieceName(s.Path, stamp, 1)
		}
		if s.Compress != NoCompression && s.Compress != "" {
			c.Path += compressorOf(s.Compress).suffix
		}
		rolls = append(rolls, c)
		if s.Every.Never() && s.Size == 0 {
			return nil // it never rolls
		}
		if s.Every.Never() || s.Counted {
			break
		}
	}
	return rolls
}
