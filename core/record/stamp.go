package record

import (
	"encoding/binary"
	"time"
)

// Stamp is a moment with the offset its sender wrote. It holds no pointer, so
// that a record costs no allocation. The zero Stamp is a missing one.
type Stamp struct {
	Sec  int64 // seconds since 1970-01-01T00:00:00Z
	Nsec int32 // 0 to 999,999,999
	Zone int16 // minutes east of UTC, -1439 to 1439
	Form Form
}

// Form says how the offset of a Stamp is written.
type Form uint8

// The forms of an offset.
const (
	None    Form = iota // no stamp at all
	Zulu                // "Z"
	Numeric             // "+01:00"
	Unknown             // "-00:00": the time is UTC, the sender's zone is not known (RFC 3339 section 4.3)
)

// StampOf returns t with the offset of its location.
func StampOf(t time.Time) Stamp {
	_, offset := t.Zone()
	s := Stamp{Sec: t.Unix(), Nsec: int32(t.Nanosecond()), Zone: int16(offset / 60), Form: Numeric}
	if s.Zone == 0 {
		s.Form = Zulu
	}
	return s
}

// IsZero tells whether the stamp is missing.
func (s Stamp) IsZero() bool { return s.Form == None }

// Time returns the moment as a time.Time in UTC.
func (s Stamp) Time() time.Time { return time.Unix(s.Sec, int64(s.Nsec)).UTC() }

// Append writes s in RFC 3339 with at most digits (0 to 9) digits of a
// fraction, cut and not rounded, without trailing zeros.
func (s Stamp) Append(dst []byte, digits int) []byte {
	year, month, day, clock := s.Civil()
	dst = appendDigits(dst, year, 4)
	dst = append(dst, '-', byte('0'+month/10), byte('0'+month%10), '-', byte('0'+day/10), byte('0'+day%10), 'T')
	dst = AppendClock(dst, clock)
	dst = appendFraction(dst, s.Nsec, digits)
	switch {
	case s.Form == Unknown:
		return append(dst, "-00:00"...)
	case s.Form == Zulu:
		return append(dst, 'Z')
	}
	zone, sign := int(s.Zone), byte('+')
	if zone < 0 {
		zone, sign = -zone, '-'
	}
	dst = append(dst, sign)
	dst = appendDigits(dst, zone/60, 2)
	dst = append(dst, ':')
	return appendDigits(dst, zone%60, 2)
}

// String returns s in RFC 3339 with up to nanoseconds.
func (s Stamp) String() string { return string(s.Append(nil, 9)) }

// Civil returns the date at the offset of s, and the seconds since midnight.
func (s Stamp) Civil() (year, month, day, clock int) {
	sec := s.Sec + int64(s.Zone)*60
	days := sec / 86400
	clock = int(sec % 86400)
	if clock < 0 {
		clock += 86400
		days--
	}
	year, month, day = civilOf(days)
	return
}

// AppendClock writes seconds since midnight as hh:mm:ss.
func AppendClock(dst []byte, clock int) []byte {
	h, m, sec := clock/3600, clock/60%60, clock%60
	return append(dst, byte('0'+h/10), byte('0'+h%10), ':', byte('0'+m/10), byte('0'+m%10), ':', byte('0'+sec/10), byte('0'+sec%10))
}

// appendDigits writes the last n (up to 9) digits of v.
func appendDigits(dst []byte, v, n int) []byte {
	start := len(dst)
	dst = append(dst, "000000000"[:n]...)
	for i := start + n - 1; i >= start; i-- {
		dst[i] = byte('0' + uint32(v)%10)
		v = int(uint32(v) / 10)
	}
	return dst
}

func appendFraction(dst []byte, nsec int32, digits int) []byte {
	for i := digits; i < 9; i++ {
		nsec /= 10
	}
	for digits > 0 && nsec%10 == 0 {
		nsec /= 10
		digits--
	}
	if nsec == 0 {
		return dst
	}
	return appendDigits(append(dst, '.'), int(nsec), digits)
}

// ParseStamp reads an RFC 3339 stamp from the start of b and returns how many
// bytes it takes. T and Z must be upper case, and there is no second 60 (RFC
// 5424 section 6.2.3); up to nine digits of a fraction are read where the
// standard has six.
func ParseStamp(b []byte) (s Stamp, n int, ok bool) {
	var r StampReader
	return r.Read(b)
}

// StampReader reads stamps one after the other. It remembers the last minute,
// of which the next stamp most often is too. The zero value is ready; it is
// for one goroutine at a time.
type StampReader struct {
	date, clock uint64 // the bytes of that minute as they stood, 0 for none
	start       int64  // of the minute, in seconds since 1970 as if at UTC
}

// Read reads a stamp as [ParseStamp] does.
func (r *StampReader) Read(b []byte) (s Stamp, n int, ok bool) {
	if len(b) < 20 {
		return Stamp{}, 0, false
	}
	// Eight bytes at a time: what stands between the digits is compared, and
	// digits are told by the carries that others would give.
	date := binary.LittleEndian.Uint64(b)      // YYYY-MM-
	clock := binary.LittleEndian.Uint64(b[8:]) // DDTHH:MM
	if date != r.date || clock != r.clock || r.date == 0 {
		if r.start, ok = minute(date^dateForm, clock^clockForm); !ok {
			*r = StampReader{}
			return Stamp{}, 0, false
		}
		r.date, r.clock = date, clock
	}
	second := binary.LittleEndian.Uint32(b[16:]) ^ ':' ^ '0'<<8 ^ '0'<<16
	sec := int64(second>>8&15)*10 + int64(second>>16&15)
	if second&0xff != 0 || (second|(second+0x060606))&0xf0f0f0 != 0 || sec > 59 {
		return Stamp{}, 0, false
	}
	n = 19
	if b[n] == '.' {
		s.Nsec, n, ok = fraction(b, n+1)
		if !ok {
			return Stamp{}, 0, false
		}
	}
	s.Zone, s.Form, n, ok = offset(b, n)
	if !ok {
		return Stamp{}, 0, false
	}
	s.Sec = r.start + sec - int64(s.Zone)*60
	return s, n, true
}

// minute returns the start of a minute in seconds since 1970. Its bytes are
// given without what its form has.
func minute(date, clock uint64) (start int64, ok bool) {
	const carry = 0x06 * ones // takes 10 and more over 15
	if date&(0xff<<32|0xff<<56) != 0 || clock&(0xff<<16|0xff<<40) != 0 || (date|(date+carry)|clock|(clock+carry))&(0xf0*ones) != 0 {
		return 0, false
	}
	year := int(date&15)*1000 + int(date>>8&15)*100 + int(date>>16&15)*10 + int(date>>24&15)
	month, day := int(date>>40&15)*10+int(date>>48&15), int(clock&15)*10+int(clock>>8&15)
	h, m := int(clock>>24&15)*10+int(clock>>32&15), int(clock>>48&15)*10+int(clock>>56&15)
	if month < 1 || month > 12 || day < 1 || day > DaysIn(year, month) || h > 23 || m > 59 {
		return 0, false
	}
	return daysOf(year, month, day)*86400 + int64(h*3600+m*60), true
}

// A stamp's form: zeros for its digits, and what stands between them.
const (
	dateForm  = '0' | '0'<<8 | '0'<<16 | '0'<<24 | '-'<<32 | '0'<<40 | '0'<<48 | '-'<<56
	clockForm = '0' | '0'<<8 | 'T'<<16 | '0'<<24 | '0'<<32 | ':'<<40 | '0'<<48 | '0'<<56
)

// fraction reads 1 to 9 digits at b[n:] as nanoseconds.
func fraction(b []byte, n int) (nsec int32, end int, ok bool) {
	if n+8 <= len(b) && b[n+6] == 'Z' { // six digits, most often
		digits := binary.LittleEndian.Uint64(b[n:])&(1<<48-1) ^ 0x303030303030
		if (digits|(digits+0x060606060606))&0xf0f0f0f0f0f0 == 0 {
			pairs := (digits*10 + digits>>8) & 0x00ff00ff00ff // each pair of digits as one number
			return int32(pairs&0xff)*10_000_000 + int32(pairs>>16&0xff)*100_000 + int32(pairs>>32&0xff)*1000, n + 6, true
		}
	}
	if n+4 <= len(b) && b[n+3]-'0' > 9 { // three
		if x, y, z := b[n]-'0', b[n+1]-'0', b[n+2]-'0'; x <= 9 && y <= 9 && z <= 9 {
			return int32(x)*100_000_000 + int32(y)*10_000_000 + int32(z)*1_000_000, n + 3, true
		}
	}
	scale, start := int32(100_000_000), n
	for ; n < len(b) && b[n]-'0' <= 9; n++ {
		if n-start == 9 {
			return 0, 0, false
		}
		nsec += int32(b[n]-'0') * scale
		scale /= 10
	}
	return nsec, n, n > start
}

// offset reads "Z" or "+hh:mm" at b[n:].
func offset(b []byte, n int) (zone int16, form Form, end int, ok bool) {
	if n >= len(b) {
		return 0, None, 0, false
	}
	sign := b[n]
	if sign == 'Z' {
		return 0, Zulu, n + 1, true
	}
	if sign != '+' && sign != '-' || len(b) < n+6 || b[n+3] != ':' {
		return 0, None, 0, false
	}
	h, ok1 := number(b[n+1 : n+3])
	m, ok2 := number(b[n+4 : n+6])
	if !ok1 || !ok2 || h > 23 || m > 59 {
		return 0, None, 0, false
	}
	zone, form = int16(h*60+m), Numeric
	if sign == '-' {
		if zone == 0 {
			form = Unknown
		}
		zone = -zone
	}
	return zone, form, n + 6, true
}

// number reads b, all digits.
func number(b []byte) (v int, ok bool) {
	for _, c := range b {
		if c-'0' > 9 {
			return 0, false
		}
		v = v*10 + int(c-'0')
	}
	return v, true
}

// DaysIn returns how many days a month (1 to 12) of a year has.
func DaysIn(year, month int) int {
	if month == 2 && year%4 == 0 && (year%100 != 0 || year%400 == 0) {
		return 29
	}
	return int("\x1f\x1c\x1f\x1e\x1f\x1e\x1f\x1f\x1e\x1f\x1e\x1f"[month-1])
}

// daysOf returns the days from 1970-01-01 to a date. Years are counted from
// March, so that the leap day is the last of its year, and in eras of 400 years.
func daysOf(year, month, day int) int64 {
	if month <= 2 {
		year--
	}
	era := floorDiv(int64(year), 400)
	yearOfEra := int64(year) - era*400
	dayOfYear := int64((153*((month+9)%12)+2)/5 + day - 1)
	return era*146097 + yearOfEra*365 + yearOfEra/4 - yearOfEra/100 + dayOfYear - 719468
}

// civilOf is the inverse of daysOf.
func civilOf(days int64) (year, month, day int) {
	days += 719468
	era := floorDiv(days, 146097)
	dayOfEra := days - era*146097
	yearOfEra := (dayOfEra - dayOfEra/1460 + dayOfEra/36524 - dayOfEra/146096) / 365
	dayOfYear := int(dayOfEra - (365*yearOfEra + yearOfEra/4 - yearOfEra/100))
	m := (5*dayOfYear + 2) / 153
	day = dayOfYear - (153*m+2)/5 + 1
	month = m + 3
	year = int(yearOfEra + era*400)
	if month > 12 {
		month -= 12
		year++
	}
	return
}

func floorDiv(a, b int64) int64 {
	if a < 0 {
		return -((b - 1 - a) / b)
	}
	return a / b
}
