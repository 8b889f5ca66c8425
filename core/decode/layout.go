package decode

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"oakbarrel/core/record"
)

// Layout is a form of times, as people write it: "DD.MM.YYYY hh:mm:ss". It is not changed
// once it is made, and may be used by several goroutines at a time.
//
// YYYY, YY, MM, MON (a month by its name, short or whole), DAY (a weekday), DD, hh, mm, ss,
// AM (with a 12-hour clock) and zzz (a zone) are what they say; hours and days may have
// one digit, and a fraction may follow behind seconds (.fff says so, and is not needed).
// All else stands for itself, a space for one or more. Without a year the nearest one is
// meant, without a date that of the day.
type Layout struct {
	text  string
	parts []layoutPart
}

// String returns the layout as it was written.
func (l *Layout) String() string { return l.text }

type layoutPart struct {
	kind    partKind
	literal byte
}

type partKind uint8

const (
	literalPart partKind = iota
	yearPart
	shortYearPart
	monthPart
	monthNamePart
	weekdayPart
	dayPart
	hourPart
	minutePart
	secondPart
	fractionPart
	halfPart
	zonePart
)

var partWords = []struct {
	word string
	kind partKind
}{{"YYYY", yearPart}, {"YY", shortYearPart}, {"MON", monthNamePart}, {"MM", monthPart}, {"DAY", weekdayPart}, {"DD", dayPart}, {"hh", hourPart}, {"mm", minutePart}, {"ss", secondPart}, {"AM", halfPart}, {"zzz", zonePart}}

// ParseLayout reads a layout. An error says what it lacks.
func ParseLayout(text string) (l Layout, err error) {
	l.text = text
	has := map[partKind]bool{}
next:
	for at := 0; at < len(text); {
		for _, w := range partWords {
			if strings.HasPrefix(text[at:], w.word) {
				if has[w.kind] {
					return l, fmt.Errorf("%s stands in it twice", w.word)
				}
				has[w.kind] = true
				l.parts = append(l.parts, layoutPart{kind: w.kind})
				at += len(w.word)
				continue next
			}
		}
		if (text[at] == '.' || text[at] == ',') && at+1 < len(text) && text[at+1] == 'f' {
			for at++; at < len(text) && text[at] == 'f'; at++ {
			}
			continue // a fraction may follow anyway
		}
		l.parts = append(l.parts, layoutPart{literal: text[at]})
		at++
	}
	switch {
	case !has[hourPart] || !has[minutePart]:
		return l, fmt.Errorf("it has no hh and mm")
	case (has[monthPart] || has[monthNamePart]) != has[dayPart]:
		return l, fmt.Errorf("it has one of month and day without the other")
	case has[monthPart] && has[monthNamePart], has[yearPart] && has[shortYearPart]:
		return l, fmt.Errorf("it has the month, or the year, in two forms")
	}
	return l, nil
}

func mustLayout(text string) Layout {
	l, err := ParseLayout(text)
	if err != nil {
		panic(err)
	}
	return l
}

func layouts(texts ...string) (all []Layout) {
	for _, text := range texts {
		all = append(all, mustLayout(text))
	}
	return all
}

// The usual layouts, beside those that are read without one, by what they begin with.
var (
	digitLayouts  = layouts("DD.MM.YYYY hh:mm:ss", "MM/DD/YYYY hh:mm:ss AM", "DD MON YYYY hh:mm:ss zzz", "DD MON YYYY hh:mm:ss", "DD-MON-YYYY hh:mm:ss zzz", "DD-MON-YYYY hh:mm:ss", "DD/MON/YYYY:hh:mm:ss zzz", "YYYY-MM-DD hh:mm:ss AM", "MM-DD hh:mm:ss")
	letterLayouts = layouts("MON DD, YYYY hh:mm:ss AM", "MON DD, YYYY, hh:mm:ss AM", "MON DD, YYYY hh:mm:ss", "DAY MON DD hh:mm:ss YYYY", "DAY MON DD hh:mm:ss zzz YYYY", "DAY, DD MON YYYY hh:mm:ss zzz")
	codeLayout    = mustLayout("MMDD hh:mm:ss")
)

// calendarTime is a time as it stands in a text; -1 for what is not there.
type calendarTime struct {
	year, month, day, hour, minute, second int
	nsec                                   int32
	pm                                     int // 0 or 1
	zone                                   *time.Location
}

// read reads a time at the start of b, and tells how many bytes it takes.
func (l *Layout) read(b []byte, received record.Stamp, zone *time.Location) (s record.Stamp, n int, ok bool) {
	c := calendarTime{year: -1, month: -1, day: -1, pm: -1}
	for _, p := range l.parts {
		if n = c.readPart(p, b, n); n < 0 {
			return s, 0, false
		}
	}
	s, ok = c.stamp(received, zone)
	return s, n, ok
}

// readPart reads a part at b[n:], and returns where it ends, -1 where it is not there.
func (c *calendarTime) readPart(p layoutPart, b []byte, n int) (end int) {
	switch p.kind {
	case literalPart:
		return skipLiteral(p.literal, b, n)
	case yearPart:
		c.year, end = number(b, n, 4, 4)
	case shortYearPart:
		c.year, end = number(b, n, 2, 2)
		c.year += 2000
	case monthPart:
		c.month, end = number(b, n, 2, 2)
	case monthNamePart:
		c.month, end = name(b, n, months)
	case weekdayPart:
		_, end = name(b, n, weekdays)
	case dayPart:
		c.day, end = number(b, n, 1, 2)
	case hourPart:
		c.hour, end = number(b, n, 1, 2)
	case minutePart:
		c.minute, end = number(b, n, 2, 2)
	case secondPart:
		if c.second, end = number(b, n, 2, 2); end > 0 {
			end = c.readFraction(b, end)
		}
	case halfPart:
		end = c.readHalf(b, n)
	case zonePart:
		end = c.readZone(b, n)
	}
	return end
}

func skipLiteral(want byte, b []byte, n int) int {
	if n >= len(b) || b[n] != want {
		return -1
	}
	n++
	for want == ' ' && n < len(b) && b[n] == ' ' {
		n++
	}
	return n
}

// number reads least to most digits.
func number(b []byte, n, least, most int) (v, end int) {
	for end = n; end < len(b) && end < n+most && b[end]-'0' <= 9; end++ {
		v = v*10 + int(b[end]-'0')
	}
	if end < n+least {
		return 0, -1
	}
	return v, end
}

const weekdays = "SunMonTueWedThuFriSat"

// name reads one of names, of which three letters each stand one after the other, short or
// whole, and tells which it is, from 1.
func name(b []byte, n int, names string) (which, end int) {
	for end = n; end < len(b) && record.LowerASCII[b[end]]-'a' < 26; end++ {
	}
	if end-n < 3 {
		return 0, -1
	}
	for i := 0; i < len(names); i += 3 {
		if bytes.EqualFold(b[n:n+3], []byte(names[i:i+3])) {
			return i/3 + 1, end
		}
	}
	return 0, -1
}

func (c *calendarTime) readFraction(b []byte, n int) int {
	if n+1 >= len(b) || b[n] != '.' && b[n] != ',' || b[n+1]-'0' > 9 {
		return n
	}
	scale := int32(100_000_000)
	for n++; n < len(b) && b[n]-'0' <= 9; n++ {
		c.nsec += int32(b[n]-'0') * scale
		scale /= 10
	}
	return n
}

func (c *calendarTime) readHalf(b []byte, n int) int {
	if n+2 > len(b) || b[n+1]|0x20 != 'm' {
		return -1
	}
	switch b[n] | 0x20 {
	case 'a':
		c.pm = 0
	case 'p':
		c.pm = 1
	default:
		return -1
	}
	return n + 2
}

func (c *calendarTime) readZone(b []byte, n int) int {
	if n >= len(b) {
		return -1
	}
	if b[n] == '+' || b[n] == '-' {
		hours, end := number(b, n+1, 2, 2)
		if end > 0 && end < len(b) && b[end] == ':' {
			end++
		}
		minutes, last := number(b, max(end, 0), 2, 2)
		if end < 0 || last < 0 || hours > 14 || minutes > 59 {
			return -1
		}
		seconds := hours*3600 + minutes*60
		if b[n] == '-' {
			seconds = -seconds
		}
		c.zone = time.FixedZone("", seconds)
		return last
	}
	for _, word := range []string{"UTC", "GMT", "Z"} {
		if bytes.HasPrefix(b[n:], []byte(word)) {
			c.zone = time.UTC
			return n + len(word)
		}
	}
	return -1
}

// stamp makes a stamp of what was read. Without a year it is the one nearest to received.
func (c *calendarTime) stamp(received record.Stamp, zone *time.Location) (record.Stamp, bool) {
	if c.zone != nil {
		zone = c.zone
	} else if zone == nil {
		zone = time.Local
	}
	switch {
	case c.pm >= 0 && (c.hour < 1 || c.hour > 12):
		return record.Stamp{}, false
	case c.pm >= 0:
		c.hour = c.hour%12 + 12*c.pm
	}
	if c.hour > 23 || c.minute > 59 || c.second > 59 {
		return record.Stamp{}, false
	}
	now := received.Time().In(zone)
	if c.day < 0 {
		c.year, c.month, c.day = now.Year(), int(now.Month()), now.Day()
	}
	year := c.year
	if year < 0 {
		year = now.Year()
	}
	if c.month < 1 || c.month > 12 || c.day < 1 || c.day > record.DaysIn(2024, c.month) {
		return record.Stamp{}, false
	}
	at := c.in(year, zone)
	if c.year < 0 {
		const half = 183 * 24 * time.Hour
		switch ahead := at.Sub(now); {
		case ahead > half:
			at = c.in(year-1, zone)
		case ahead < -half:
			at = c.in(year+1, zone)
		}
	}
	if at.Day() != c.day {
		return record.Stamp{}, false // no such day in that year
	}
	return record.StampOf(at), true
}

func (c *calendarTime) in(year int, zone *time.Location) time.Time {
	return time.Date(year, time.Month(c.month), c.day, c.hour, c.minute, c.second, int(c.nsec), zone)
}
