package wire

import (
	"time"

	"oakbarrel/core/record"
)

// calendar is a stamp as RFC 3164 writes it, before it is known which year and
// which zone are meant.
type calendar struct {
	year, month, day, clock int // year 0: not given; clock in seconds
	nsec                    int32
	zone                    []byte // nil where none is named
}

const months = "janfebmaraprmayjunjulaugsepoctnovdec"

// parse reads "Mmm dd [yyyy] hh:mm:ss[.fraction] [yyyy] [zone]" and returns its length, 0 without one.
func (c *calendar) parse(b []byte) int {
	if len(b) < 14 || b[3] != ' ' {
		return 0
	}
	for i := 0; i < len(months); i += 3 {
		if b[0]|0x20 == months[i] && b[1]|0x20 == months[i+1] && b[2]|0x20 == months[i+2] {
			c.month = i/3 + 1
		}
	}
	n := 4
	if b[n] == ' ' {
		n++
	}
	c.day, n = digits(b, n, 2)
	if c.month == 0 || n == 0 || n >= len(b) || b[n] != ' ' || c.day < 1 || c.day > record.DaysIn(2024, c.month) {
		return 0
	}
	n++
	if year, end := digits(b, n, 4); end == n+4 && end < len(b) && b[end] == ' ' {
		c.year, n = year, end+1
	}
	if n = c.parseClock(b, n); n == 0 {
		return 0
	}
	if year, end := digits(b, n+1, 4); n < len(b) && b[n] == ' ' && c.year == 0 && end == n+5 && atEnd(b, end) {
		c.year, n = year, end
	}
	if c.year != 0 && c.day > record.DaysIn(c.year, c.month) {
		return 0
	}
	return c.parseZone(b, n)
}

// parseClock reads hh:mm:ss and a fraction at b[n:].
func (c *calendar) parseClock(b []byte, n int) int {
	if len(b) < n+8 || b[n+2] != ':' || b[n+5] != ':' {
		return 0
	}
	h, end1 := digits(b, n, 2)
	m, end2 := digits(b, n+3, 2)
	s, end3 := digits(b, n+6, 2)
	if end1 != n+2 || end2 != n+5 || end3 != n+8 || h > 23 || m > 59 || s > 59 {
		return 0
	}
	c.clock = h*3600 + m*60 + s
	n += 8
	if n+1 < len(b) && b[n] == '.' && b[n+1]-'0' <= 9 {
		scale := int32(100_000_000)
		for n++; n < len(b) && b[n]-'0' <= 9; n++ {
			c.nsec += int32(b[n]-'0') * scale
			scale /= 10
		}
	}
	return n
}

// parseZone reads the name of a zone after a space, where there is one that is known.
func (c *calendar) parseZone(b []byte, n int) int {
	end := n + 1
	for end < len(b) && b[end]-'A' < 26 {
		end++
	}
	if n >= len(b) || b[n] != ' ' || !atEnd(b, end) {
		return n
	}
	if _, known := zoneMinutes[string(b[n+1:end])]; !known {
		return n
	}
	c.zone = b[n+1 : end]
	return end
}

// atEnd tells whether a token may end at b[n:].
func atEnd(b []byte, n int) bool { return n >= len(b) || b[n] == ' ' || b[n] == ':' }

// digits reads at most longest digits at b[n:] and returns where they end, 0 without any.
func digits(b []byte, n, longest int) (v, end int) {
	start := n
	for n < len(b) && n < start+longest && b[n]-'0' <= 9 {
		v = v*10 + int(b[n]-'0')
		n++
	}
	if n == start {
		return 0, 0
	}
	return v, n
}

// zoneMinutes has the names of zones that are met in stamps, in minutes east of
// UTC. Some names mean several zones; the machine's own comes first, see stamp.
var zoneMinutes = map[string]int{
	"UTC": 0, "GMT": 0, "Z": 0, "WET": 0, "WEST": 60, "BST": 60, "CET": 60, "CEST": 120, "EET": 120, "EEST": 180, "MSK": 180,
	"IST": 330, "SGT": 480, "HKT": 480, "JST": 540, "KST": 540, "AEST": 600, "AEDT": 660, "NZST": 720, "NZDT": 780,
	"AKST": -540, "AKDT": -480, "PST": -480, "PDT": -420, "MST": -420, "MDT": -360, "CST": -360, "CDT": -300, "EST": -300, "EDT": -240,
}

// stamp finds the year, the nearest to now that has the date, and the offset.
func (c *calendar) stamp(received record.Stamp, zone *time.Location) record.Stamp {
	now := received.Time()
	year := c.year
	if year == 0 {
		year = c.nearestYear(now, zone)
	}
	at := time.Date(year, time.Month(c.month), c.day, 0, 0, c.clock, int(c.nsec), zone)
	if c.zone != nil {
		if name, _ := at.Zone(); name != string(c.zone) {
			named := time.FixedZone("", zoneMinutes[string(c.zone)]*60)
			at = time.Date(year, time.Month(c.month), c.day, 0, 0, c.clock, int(c.nsec), named)
		}
	}
	return record.StampOf(at)
}

// nearestYear returns the year in which the date is nearest to now; 29 February needs a leap year.
func (c *calendar) nearestYear(now time.Time, zone *time.Location) int {
	best, distance := now.Year(), time.Duration(1<<63-1)
	for year := now.Year() - 8; year <= now.Year()+8; year++ {
		if c.day > record.DaysIn(year, c.month) {
			continue
		}
		at := time.Date(year, time.Month(c.month), c.day, 0, 0, c.clock, 0, zone)
		if d := now.Sub(at).Abs(); d < distance {
			best, distance = year, d
		}
	}
	return best
}

// appendOldStamp writes "Mmm dd hh:mm:ss" at the offset of s.
func appendOldStamp(dst []byte, s record.Stamp) []byte {
	_, month, day, clock := s.Civil()
	dst = append(dst, "JanFebMarAprMayJunJulAugSepOctNovDec"[month*3-3:month*3]...)
	dst = append(dst, ' ', ' ')
	if day >= 10 {
		dst[len(dst)-1] = byte('0' + day/10)
	}
	dst = append(dst, byte('0'+day%10), ' ')
	return record.AppendClock(dst, clock)
}
