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
	if s.Every.Never() && s.Size == 0 {
		return nil // it never rolls
	}
	if s.Every.Never() || s.Counted {
		n = 1 // the names of the others cannot be told, or are the same
	}
	suffix := ""
	if s.Compress != NoCompression && s.Compress != "" {
		suffix = compressorOf(s.Compress).suffix
	}
	at, stamp := s.in(now), now
	for range n {
		c := Coming{}
		if !s.Every.Never() {
			at = s.Every.Next(at)
			c.At, stamp = at, at
		}
		c.Path = pieceName(s.Path, stamp, 1) + suffix
		if s.Counted {
			c.Path = countedName(s.Path, 1) + suffix
		}
		rolls = append(rolls, c)
	}
	return rolls
}
