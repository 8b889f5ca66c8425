package plan

import (
	"fmt"
	"io/fs"
	"math"
	"net"
	"net/netip"
	"strconv"
	"strings"

	"oakbarrel/core/limit"
	"oakbarrel/core/nearest"
	"oakbarrel/core/roll"
)

var sizeUnits = []struct {
	name  string
	bytes float64
}{
	{"B", 1}, {"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"kB", 1e3}, {"MB", 1e6}, {"GB", 1e9}, {"TB", 1e12},
}

// ParseSize reads a number with a unit of bytes, such as 10MiB or 1.5 GiB.
func ParseSize(s string) (int64, bool) {
	number := strings.TrimRightFunc(s, func(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' })
	unit := s[len(number):]
	for _, u := range sizeUnits {
		if !strings.EqualFold(u.name, unit) {
			continue
		}
		v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		bytes := v * u.bytes
		return int64(bytes), err == nil && bytes >= 1 && bytes < math.MaxInt64
	}
	return 0, false
}

// timeWords has what people say for intervals, and what the plan calls them.
var timeWords = map[string]string{"midnight": "day", "daily": "day", "day": "day", "hourly": "hour", "hour": "hour", "weekly": "week", "week": "week", "monthly": "month", "month": "month"}

func (r *reader) size(e entry) int64 {
	s, ok := r.text(e, "a size, such as 10MiB")
	if !ok {
		return 0
	}
	size, ok := ParseSize(s.text)
	if ok {
		return size
	}
	what, mend := fmt.Sprintf("%s cannot be %q", e.key, shorten(s.text)), "write a number and a unit: KiB, MiB, GiB, such as 10MiB"
	number := strings.TrimRight(strings.ToLower(s.text), "kmgt")
	if word, known := timeWords[strings.ToLower(s.text)]; known {
		what, mend = fmt.Sprintf("%q is a time, not a size", s.text), "write every: "+word
	} else if _, err := roll.ParseEvery(s.text); err == nil && !strings.HasSuffix(s.text, "M") {
		what, mend = fmt.Sprintf("%q is a time, not a size", s.text), "write every: "+s.text
	} else if _, err := strconv.Atoi(number); err == nil && number == s.text {
		mend = fmt.Sprintf("a size has a unit: %sMiB, or %sB for bytes", number, number)
	} else if err == nil {
		mend = fmt.Sprintf("write %siB", s.text)
	}
	r.fail(e.valueAt(), what, mend)
	return 0
}

func (r *reader) every(e entry) roll.Every {
	s, ok := r.text(e, "an interval: 5m, hour, day, week or month")
	if !ok {
		return roll.Every{}
	}
	every, err := roll.ParseEvery(s.text)
	if err == nil {
		return every
	}
	what, mend := fmt.Sprintf("%s cannot be %q", e.key, shorten(s.text)), "write hour, day, week, month, or an interval from 1s to 24h such as 5m"
	if word, known := timeWords[strings.ToLower(s.text)]; known {
		mend = "write every: " + word
	} else if _, isSize := ParseSize(s.text); isSize {
		what, mend = fmt.Sprintf("%q is a size, not a time", s.text), "write size: "+s.text
	} else if word, near := nearest.Word(s.text, []string{"hour", "day", "week", "month"}); near {
		mend = fmt.Sprintf("did you mean %s?", word)
	}
	r.fail(e.valueAt(), what, mend)
	return every
}

// count reads a whole number from 1.
func (r *reader) count(e entry, unit string) int {
	s, ok := r.text(e, "a number of "+unit)
	if !ok {
		return 0
	}
	n, err := strconv.Atoi(s.text)
	if err != nil || n < 1 || n > 1_000_000 {
		r.fail(e.valueAt(), fmt.Sprintf("%s cannot be %q", e.key, shorten(s.text)), fmt.Sprintf("write a whole number of %s, from 1", unit))
		return 0
	}
	return n
}

// mode reads the permissions of a file: octal, as people mean it, also without quotes.
func (r *reader) mode(e entry) fs.FileMode {
	s, ok := r.text(e, "permissions, such as 0640")
	if !ok {
		return 0
	}
	v, err := strconv.ParseUint(strings.TrimPrefix(strings.ToLower(s.text), "0o"), 8, 32)
	if err != nil || v > 0o777 {
		r.fail(e.valueAt(), fmt.Sprintf("mode cannot be %q", shorten(s.text)), "write three octal digits, such as 0640")
		return 0
	}
	if v&0o200 == 0 {
		r.fail(e.valueAt(), fmt.Sprintf("with mode %s the agent could not write the file", s.text), "give the owner the right to write: 0640")
	}
	return fs.FileMode(v)
}

// address reads HOST:PORT; without a host it is every address of the machine.
func (r *reader) address(e entry) string {
	s, ok := r.text(e, `an address, such as ":514" or "127.0.0.1:514"`)
	if !ok {
		return ""
	}
	host, port, err := net.SplitHostPort(s.text)
	if err != nil {
		mend := `write HOST:PORT, such as "127.0.0.1:514", or ":514" for all addresses`
		if _, err := strconv.ParseUint(s.text, 10, 16); err == nil {
			mend = fmt.Sprintf(`write ":%s" for all addresses of the machine, or "127.0.0.1:%s"`, s.text, s.text)
		}
		r.fail(e.valueAt(), fmt.Sprintf("%q is not an address", shorten(s.text)), mend)
		return ""
	}
	if _, err := strconv.ParseUint(port, 10, 16); err != nil {
		r.fail(e.valueAt(), fmt.Sprintf("%q is not a port", shorten(port)), "write a number from 0 to 65535; 0 takes a free one")
		return ""
	}
	if _, err := netip.ParseAddr(host); err != nil && host != "" && !strings.EqualFold(host, "localhost") {
		r.fail(e.valueAt(), fmt.Sprintf("%q is not an IP address", shorten(host)), `write an address of this machine, such as 127.0.0.1 or [::1], or none for all of them`)
		return ""
	}
	return s.text
}

// limit reads a rate with a burst: {rate: 100/s, burst: 500}.
func (r *reader) limit(e entry) (l limit.Rate, ok bool) {
	m, ok := r.mapping(e.value, e.at, "limit", "limit: {rate: 100/s, burst: 500}", "rate", "burst")
	if !ok {
		return l, false
	}
	rate, ok := m.require("rate", "write rate: 100/s, or rate: 600/m")
	if !ok {
		return l, false
	}
	v, ok := r.text(rate, "a number of records in a time, such as 100/s")
	if !ok {
		return l, false
	}
	number, unit, _ := strings.Cut(strings.ToLower(v.text), "/")
	per, known := map[string]float64{"": 1, "s": 1, "m": 60, "h": 3600}[unit]
	n, err := strconv.ParseFloat(number, 64)
	if err != nil || !known || !(n > 0) || n > 1e9 {
		r.fail(rate.valueAt(), fmt.Sprintf("rate cannot be %q", shorten(v.text)), "write a number of records in a second, a minute or an hour: 100/s, 600/m, 1000/h")
		return l, false
	}
	l = limit.Rate{PerSecond: n / per, Burst: max(1, n/per)}
	if burst, ok := m.get("burst"); ok {
		l.Burst = float64(r.count(burst, "records"))
	}
	return l, l.Burst >= 1
}

// LeastMemory is the least that senders may be allowed to have the agent hold, in bytes.
const LeastMemory = 16 << 20

// memory reads how much memory senders can make the agent hold.
func (r *reader) memory(e entry) int64 {
	n := r.size(e)
	if n > 0 && n < LeastMemory {
		r.fail(e.valueAt(), fmt.Sprintf("memory is less than %d MiB", LeastMemory>>20), "write memory: 64MiB, or leave it away for the smaller of 256MiB and a tenth of the machine")
		return 0
	}
	return n
}
