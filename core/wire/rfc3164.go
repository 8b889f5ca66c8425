package wire

import (
	"bytes"
	"time"

	"oakbarrel/core/record"
)

// parseRFC3164 reads what follows "<PRI>" in the older form and tells whether
// it found a stamp or a tag. Without either, all is text.
func (p *Parser) parseRFC3164(r *record.Record, b []byte) bool {
	b = skipCounter(b)
	stamp, n := p.ParseStamp(b, r.Received)
	if n == 0 {
		return parseTag(r, b) // no stamp: only the first token can be the tag
	}
	r.Time = stamp
	b = bytes.TrimLeft(b[n:], " ")
	if p.Local {
		if r.Text = b; !parseTag(r, b) {
			parseName(r, b)
		}
		return true
	}
	if parseTag(r, b) {
		return true
	}
	host, size := token(b)
	if size == 0 {
		host, size = b, len(b)
	}
	r.Host, r.Text = present(host), b[size:]
	if len(host) == 0 {
		r.Host = nil
	}
	parseTag(r, b[size:])
	return true
}

// skipCounter passes over a counter or a mark that network equipment puts
// before the stamp: "29: ", "*", ".".
func skipCounter(b []byte) []byte {
	n := 0
	for n < len(b) && b[n]-'0' <= 9 {
		n++
	}
	if n > 0 && n+1 < len(b) && b[n] == ':' && b[n+1] == ' ' {
		b = b[n+2:]
	}
	if len(b) > 1 && (b[0] == '*' || b[0] == '.') && isLetter(b[1]) {
		b = b[1:]
	}
	return b
}

// parseTag reads "TAG: text" or "TAG[pid]: text" and sets App, ProcID and Text.
func parseTag(r *record.Record, b []byte) bool {
	n := 0
	for n < len(b) && isTagByte(b[n]) {
		n++
	}
	if n == 0 || n == len(b) {
		return false
	}
	app, procID := b[:n], []byte(nil)
	if b[n] == '[' {
		end := bytes.IndexByte(b[n:], ']')
		if end < 2 || bytes.IndexByte(b[n:n+end], ' ') >= 0 {
			return false
		}
		procID = b[n+1 : n+end]
		n += end + 1
	}
	if n == len(b) || b[n] != ':' || n+1 < len(b) && b[n+1] != ' ' {
		return false
	}
	r.App, r.ProcID = present(app), present(procID)
	r.Text = b[min(n+2, len(b)):]
	return true
}

// longestName bounds the name of a program that has spaces, in bytes.
const longestName = 64

// parseName is parseTag for a name with spaces, or other signs that a tag may not have.
func parseName(r *record.Record, b []byte) bool {
	end := bytes.Index(b[:min(len(b), longestName+2)], []byte(": "))
	if end < 0 && bytes.HasSuffix(b, []byte(":")) && len(b) <= longestName {
		end = len(b) - 1
	}
	if end <= 0 {
		return false
	}
	name, procID := b[:end], []byte(nil)
	if at := bytes.LastIndexByte(name, '['); at > 0 && name[end-1] == ']' && end-at > 2 {
		name, procID = name[:at], name[at+1:end-1]
	}
	r.App, r.ProcID, r.Text = name, procID, b[min(end+2, len(b)):]
	return true
}

func isLetter(c byte) bool { return c|0x20-'a' < 26 }

func isTagByte(c byte) bool {
	return isLetter(c) || c-'0' <= 9 || c == '.' || c == '-' || c == '_' || c == '/' || c == '%'
}

// ParseStamp reads a stamp at the start of b and returns its length, 0
// without one: "Mmm dd hh:mm:ss" with the additions that are met (a year, a
// fraction, a zone), or an RFC 3339 stamp in its place.
func (p *Parser) ParseStamp(b []byte, received record.Stamp) (record.Stamp, int) {
	if stamp, n, ok := record.ParseStamp(b); ok {
		return stamp, endOfStamp(b, n)
	}
	var c calendar
	n := c.parse(b)
	if n == 0 {
		return record.Stamp{}, 0
	}
	end := endOfStamp(b, n)
	if end == 0 {
		return record.Stamp{}, 0
	}
	zone := p.Zone
	if zone == nil {
		zone = time.Local
	}
	return c.stamp(received, zone), end
}

// endOfStamp passes over the colon that may follow a stamp; after it comes a space or nothing.
func endOfStamp(b []byte, n int) int {
	if n < len(b) && b[n] == ':' {
		n++
	}
	if n < len(b) && b[n] != ' ' {
		return 0
	}
	return n
}

// AppendRFC3164Line writes r as one RFC 3164 line without an end mark. The
// form has no room for a year, a zone, a message id or fields; a missing host
// or tag is written as "-".
func AppendRFC3164Line(dst []byte, r *record.Record) []byte {
	dst = appendPriority(dst, r.Priority)
	dst = appendOldStamp(dst, r.Time)
	dst = appendName(append(dst, ' '), r.Host, maxHost)
	dst = append(dst, ' ')
	start := len(dst)
	dst = appendName(dst, r.App, maxApp)
	for i := start; i < len(dst); i++ {
		if !isTagByte(dst[i]) {
			dst[i] = '_'
		}
	}
	if len(r.ProcID) > 0 {
		dst = append(dst, '[')
		start = len(dst)
		dst = appendName(dst, r.ProcID, maxProcID)
		for i := start; i < len(dst); i++ {
			if dst[i] == ']' {
				dst[i] = '_'
			}
		}
		dst = append(dst, ']')
	}
	return record.AppendVisible(append(dst, ':', ' '), r.Text)
}
