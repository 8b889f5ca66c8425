package wire

import (
	"bytes"

	"oakbarrel/core/record"
)

// KernelMessage is what /dev/kmsg tells of a record beside the record itself.
type KernelMessage struct {
	Sequence uint64 // counts from the start of the machine; a gap is a loss
	Micros   int64  // since the start of the machine
}

// ParseKernel fills r from one record of /dev/kmsg, "PRIORITY,SEQUENCE,MICROS,FLAGS;TEXT"
// and lines of " KEY=VALUE" behind it. The priority may have more than a
// facility in it; what the kernel itself says is of facility kern. It returns
// false where b is no such record; then all of b is text. The slices of r point
// into b, or are new.
func ParseKernel(r *record.Record, b []byte) (m KernelMessage, ok bool) {
	r.Priority, r.Text, r.Unparsed = record.MakePriority(0, record.Notice), bytes.TrimRight(b, "\n"), true
	head, rest, found := bytes.Cut(b, []byte{';'})
	parts := bytes.Split(head, []byte{','})
	if !found || len(parts) < 3 {
		return m, false
	}
	var numbers [3]uint64
	for i := range numbers {
		n, end := number64(parts[i])
		if end == 0 || end != len(parts[i]) {
			return m, false
		}
		numbers[i] = n
	}
	if numbers[0] < record.Priorities {
		r.Priority = record.Priority(numbers[0])
	}
	m = KernelMessage{numbers[1], int64(min(numbers[2], 1<<62))}
	text, values, _ := bytes.Cut(rest, []byte{'\n'})
	r.Text, r.Unparsed = unescapeKernel(text), false
	if r.Facility() == 0 {
		r.App = []byte("kernel")
	}
	r.SetData(kernelData(values))
	return m, true
}

// number64 reads digits at the start of b.
func number64(b []byte) (v uint64, end int) {
	for end < len(b) && end < 19 && b[end]-'0' <= 9 {
		v = v*10 + uint64(b[end]-'0')
		end++
	}
	return v, end
}

// unescapeKernel undoes \xNN, by which the kernel writes what is not printable.
func unescapeKernel(b []byte) []byte {
	if !bytes.Contains(b, []byte(`\x`)) {
		return b
	}
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		if b[i] == '\\' && i+3 < len(b) && b[i+1] == 'x' {
			high, low := hexDigit(b[i+2]), hexDigit(b[i+3])
			if high >= 0 && low >= 0 {
				out = append(out, byte(high<<4|low))
				i += 3
				continue
			}
		}
		out = append(out, b[i])
	}
	return out
}

func hexDigit(c byte) int {
	switch {
	case c-'0' <= 9:
		return int(c - '0')
	case c|0x20-'a' < 6:
		return int(c|0x20-'a') + 10
	}
	return -1
}

// kernelData makes structured data of the lines behind the text, such as
// " SUBSYSTEM=pci"; nil without any.
func kernelData(lines []byte) []byte {
	var data []byte
	for _, line := range bytes.Split(lines, []byte{'\n'}) {
		name, value, found := bytes.Cut(bytes.TrimPrefix(line, []byte{' '}), []byte{'='})
		if !found || len(name) == 0 || len(name) > 32 || bytes.ContainsFunc(name, func(c rune) bool {
			return !(c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '_')
		}) {
			continue
		}
		if data == nil {
			data = []byte("[kernel@32473")
		}
		data = append(append(append(data, ' '), name...), '=', '"')
		data = append(record.AppendDataValue(data, unescapeKernel(value)), '"')
	}
	if data == nil {
		return nil
	}
	return append(data, ']')
}
