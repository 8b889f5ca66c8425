package decode

import (
	"bytes"
	"strconv"
	"time"

	"oakbarrel/core/record"
)

// FindStamp returns the time at the start of a line, behind a bracket too, or
// that of an access log, "[25/Nov/2026:10:15:00 +0000]", further on. The forms
// are RFC 3339, also with a space for its T, a comma for its point, slashes for
// its hyphens and without a zone, that of RFC 3164, those of usualLayouts, and those
// that the plan adds, which come first.
func (d *Decoder) FindStamp(line []byte, received record.Stamp) (record.Stamp, bool) {
	s, _, ok := d.findStamp(line, received)
	return s, ok
}

// findStamp also tells where a stamp ends that the line begins with, 0 for
// where that is not known.
func (d *Decoder) findStamp(line []byte, received record.Stamp) (s record.Stamp, end int, ok bool) {
	for i := range d.Reading.Times {
		if s, n, ok := d.Reading.Times[i].read(behindBracket(line), received, d.Reading.Zone); ok && ends(behindBracket(line), n) {
			return s, 0, true
		}
	}
	if len(line) < 15 {
		return s, 0, false
	}
	if line[0]-'0' <= 9 {
		if s, end, ok = d.stamps.Read(line); ok && ends(line, end) {
			return s, end, true
		}
	}
	s, ok = d.findRareStamp(line, received)
	return s, 0, ok
}

func (d *Decoder) findRareStamp(line []byte, received record.Stamp) (record.Stamp, bool) {
	b := behindBracket(line)
	if startsWithCode(b) { // the code of a severity stands before the time
		if s, n, ok := codeLayout.read(b[1:], received, d.Reading.Zone); ok && ends(b[1:], n) {
			return s, true
		}
	}
	if b[0]-'0' <= 9 {
		if s, n, ok := d.stamps.Read(b); ok && ends(b, n) {
			return s, true
		}
		if s, ok := d.looseStamp(b, received); ok {
			return s, true
		}
		if s, ok := accessStamp(line); ok {
			return s, true
		}
		return d.usualStamp(b, digitLayouts, received)
	}
	if record.LowerASCII[b[0]]-'a' < 26 && (b[3] == ' ' || b[3] == ',') {
		d.parser.Zone = d.Reading.Zone
		if s, n := d.parser.ParseStamp(b, received); n > 0 {
			return s, true
		}
		if s, ok := d.usualStamp(b, letterLayouts, received); ok {
			return s, true
		}
	}
	return accessStamp(line)
}

func (d *Decoder) usualStamp(b []byte, layouts []Layout, received record.Stamp) (record.Stamp, bool) {
	for i := range layouts {
		if s, n, ok := layouts[i].read(b, received, d.Reading.Zone); ok && ends(b, n) {
			return s, true
		}
	}
	return record.Stamp{}, false
}

func behindBracket(line []byte) []byte {
	if len(line) > 0 && line[0] == '[' {
		return line[1:]
	}
	return line
}

// ends tells whether a stamp can end at b[n:].
func ends(b []byte, n int) bool {
	return n == len(b) || b[n] == ' ' || b[n] == ']' || b[n] == ',' || b[n] == '|' || b[n] == '\t'
}

// looseStamp reads "2026-11-25 10:15:00,123" and its like.
func (d *Decoder) looseStamp(b []byte, received record.Stamp) (record.Stamp, bool) {
	if len(b) < 19 || b[4] != b[7] || b[4] != '-' && b[4] != '/' || b[10] != ' ' && b[10] != 'T' {
		return record.Stamp{}, false
	}
	var form [40]byte
	n := copy(form[:19], b)
	form[4], form[7], form[10] = '-', '-', 'T'
	at := 19
	if at+1 < len(b) && (b[at] == ',' || b[at] == '.') && b[at+1]-'0' <= 9 {
		form[n] = '.'
		n, at = n+1, at+1
		for digits := 0; at < len(b) && b[at]-'0' <= 9; digits++ {
			if digits < 9 {
				form[n] = b[at]
				n++
			}
			at++
		}
	}
	zone := b[at:]
	if len(zone) > 1 && zone[0] == ' ' && (zone[1] == '+' || zone[1] == '-' || zone[1] == 'Z') {
		zone = zone[1:]
	}
	switch {
	case len(zone) > 0 && zone[0] == 'Z' && ends(zone, 1):
		n += copy(form[n:], "Z")
	case len(zone) >= 6 && (zone[0] == '+' || zone[0] == '-') && zone[3] == ':' && ends(zone, 6):
		n += copy(form[n:], zone[:6])
	case len(zone) >= 5 && (zone[0] == '+' || zone[0] == '-') && ends(zone, 5) && isDigits(zone[1:5]):
		n += copy(form[n:], zone[:3])
		form[n] = ':'
		n++
		n += copy(form[n:], zone[3:5])
	case ends(b, at):
		n += copy(form[n:], "Z")
		s, _, ok := d.stamps.Read(form[:n])
		return d.local(s), ok
	default:
		return record.Stamp{}, false
	}
	s, _, ok := d.stamps.Read(form[:n])
	return s, ok
}

func isDigits(b []byte) bool {
	for _, c := range b {
		if c-'0' > 9 {
			return false
		}
	}
	return true
}

// local takes a stamp that was read as if at UTC for one on the intake's clock.
func (d *Decoder) local(s record.Stamp) record.Stamp {
	zone := d.Reading.Zone
	if zone == nil {
		zone = time.Local
	}
	t := s.Time()
	return record.StampOf(time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), zone))
}

const months = "JanFebMarAprMayJunJulAugSepOctNovDec"

// accessStamp finds "[25/Nov/2026:10:15:00 +0000]".
func accessStamp(line []byte) (s record.Stamp, ok bool) {
	head := line[:min(len(line), headBytes)]
	at := bytes.IndexByte(head, '[')
	if at < 0 || len(head)-at < 28 {
		return s, false
	}
	b := head[at+1:]
	if b[2] != '/' || b[6] != '/' || b[11] != ':' || b[20] != ' ' || b[26] != ']' {
		return s, false
	}
	month := bytes.Index([]byte(months), b[3:6])
	if month < 0 || month%3 != 0 {
		return s, false
	}
	var form [25]byte
	copy(form[:], b[7:11])
	form[4], form[7], form[10], form[22] = '-', '-', 'T', ':'
	form[5], form[6] = byte('0'+(month/3+1)/10), byte('0'+(month/3+1)%10)
	copy(form[8:], b[:2])
	copy(form[11:19], b[12:20])
	copy(form[19:22], b[21:24])
	copy(form[23:], b[24:26])
	s, _, ok = record.ParseStamp(form[:])
	return s, ok
}

// stampOfNumber reads seconds, milliseconds, microseconds or nanoseconds since
// 1970; which of them it is, their number tells.
func stampOfNumber(text []byte) (record.Stamp, bool) {
	if len(text) < 9 || len(text) > 20 || text[0]-'1' > 8 {
		return record.Stamp{}, false
	}
	whole, fraction, _ := bytes.Cut(text, []byte{'.'})
	v, err := strconv.ParseInt(string(whole), 10, 64)
	if err != nil || !isDigits(fraction) {
		return record.Stamp{}, false
	}
	unit := time.Nanosecond
	switch {
	case v < 1e11:
		unit = time.Second
	case v < 1e14:
		unit = time.Millisecond
	case v < 1e17:
		unit = time.Microsecond
	}
	perSecond := int64(time.Second / unit)
	sec, rest := v/perSecond, v%perSecond*int64(unit)
	scale := int64(unit) / 10
	for i := 0; i < len(fraction) && scale > 0; i++ {
		rest += int64(fraction[i]-'0') * scale
		scale /= 10
	}
	return record.Stamp{Sec: sec, Nsec: int32(rest), Form: record.Zulu}, true
}
