package block

import (
	"encoding/binary"

	"oakbarrel/core/record"
)

// A column of times is a unit in nanoseconds, of which all of them are
// multiples, and for each how many units it is after the one before it. Where
// one is too far away for that the unit is 0, and each is its seconds less
// those before, and its nanoseconds.

// mostUnits bounds the seconds of times that are counted in units, so that
// what is between two of them fits 64 bits in nanoseconds.
const mostUnits = 1 << 32

// unitOf returns the largest unit that fits all times.
func unitOf(all []record.Stamp) int32 {
	unit := int32(1e9)
	for _, s := range all {
		if s.Sec <= -mostUnits || s.Sec >= mostUnits {
			return 0
		}
		for s.Nsec%unit != 0 {
			unit /= 1000
		}
	}
	return unit
}

func appendStamps(dst []byte, all []record.Stamp) []byte {
	unit := unitOf(all)
	dst = appendUvarint(dst, uint64(unit))
	sec, units := int64(0), int32(0) // of the one before
	for _, s := range all {
		if unit == 0 {
			dst = appendUvarint(binary.AppendVarint(dst, s.Sec-sec), uint64(s.Nsec))
		} else {
			now := s.Nsec / unit
			step := (s.Sec-sec)*int64(1e9/unit) + int64(now-units)
			dst, units = appendUvarint(dst, uint64(step<<1^step>>63)), now
		}
		sec = s.Sec
	}
	return dst
}

func appendZones(dst []byte, all []record.Stamp) []byte {
	for _, s := range all {
		dst = binary.AppendVarint(dst, int64(s.Zone)<<2|int64(s.Form))
	}
	return dst
}

// stamps reads a column of times, and that of their zones.
func (b *Block) stamps(column, zoneColumn int) ([]record.Stamp, error) {
	steps, zones, unit := b.columns[column], b.columns[zoneColumn], uint64(0)
	switch {
	case b.version == version:
		n := 0
		if unit, n = uvarint(steps); n <= 0 || unit != 0 && unit != 1 && unit != 1e3 && unit != 1e6 && unit != 1e9 {
			return nil, damaged("the unit of its times")
		}
		steps = steps[n:]
	case column == receipts:
		steps, zones = zonesApart(steps)
	}
	all := make([]record.Stamp, b.header.Records)
	var ok bool
	if unit == 0 {
		steps, ok = readSeconds(all, steps)
	} else {
		steps, ok = readUnits(all, steps, int64(unit))
	}
	if !ok || !readZones(all, zones) || len(steps) > 0 {
		return nil, damaged("a time")
	}
	return all, nil
}

// maxSecond bounds times to the years that RFC 3339 can write.
const maxSecond = 253402300799 + 86400

func readSeconds(all []record.Stamp, b []byte) (rest []byte, ok bool) {
	sec := int64(0)
	for i := range all {
		step, n := uvarint(b)
		if n <= 0 {
			return b, false
		}
		nsec, m := uvarint(b[n:])
		sec += unzigzag(step)
		if m <= 0 || nsec >= 1e9 || sec <= -maxSecond || sec >= maxSecond {
			return b, false
		}
		all[i].Sec, all[i].Nsec = sec, int32(nsec)
		b = b[n+m:]
	}
	return b, true
}

func readUnits(all []record.Stamp, b []byte, unit int64) (rest []byte, ok bool) {
	sec, units, second := int64(0), int64(0), 1e9/unit
	for i := range all {
		step, n := uvarint(b)
		if n <= 0 {
			return b, false
		}
		b = b[n:]
		if units += unzigzag(step); uint64(units) >= uint64(second) {
			sec += units / second
			if units %= second; units < 0 {
				sec, units = sec-1, units+second
			}
			if sec <= -maxSecond || sec >= maxSecond {
				return b, false
			}
		}
		all[i].Sec, all[i].Nsec = sec, int32(units*unit)
	}
	return b, true
}

func readZones(all []record.Stamp, b []byte) bool {
	for i := range all {
		v, n := uvarint(b)
		z := unzigzag(v)
		if n <= 0 || z>>2 <= -1440 || z>>2 >= 1440 {
			return false
		}
		all[i].Zone, all[i].Form = int16(z>>2), record.Form(z&3)
		b = b[n:]
	}
	return len(b) == 0
}

// zonesApart takes the zones out of a column of receipts of an older version, in
// which each stands behind the nanoseconds of its time. What is no column of
// receipts stays what it is.
func zonesApart(column []byte) (steps, zones []byte) {
	for rest := column; len(rest) > 0; {
		_, sec := uvarint(rest)
		if sec <= 0 {
			return column, nil
		}
		_, nsec := uvarint(rest[sec:])
		if nsec <= 0 {
			return column, nil
		}
		_, zone := uvarint(rest[sec+nsec:])
		if zone <= 0 {
			return column, nil
		}
		steps = append(steps, rest[:sec+nsec]...)
		zones = append(zones, rest[sec+nsec:sec+nsec+zone]...)
		rest = rest[sec+nsec+zone:]
	}
	return steps, zones
}

// uvarint is that of encoding/binary, quick with small numbers.
func uvarint(b []byte) (uint64, int) {
	if len(b) > 0 && b[0] < 0x80 {
		return uint64(b[0]), 1
	}
	return binary.Uvarint(b)
}

func unzigzag(v uint64) int64 { return int64(v>>1) ^ -int64(v&1) }

func before(a, b record.Stamp) bool { return a.Sec < b.Sec || a.Sec == b.Sec && a.Nsec < b.Nsec }

func earlier(a, b record.Stamp) record.Stamp {
	if before(b, a) {
		return b
	}
	return a
}

func later(a, b record.Stamp) record.Stamp {
	if before(a, b) {
		return b
	}
	return a
}
