// Package wire reads and writes log records as they travel: syslog in both its forms
// (RFC 5424, RFC 3164), the framing of streams (RFC 6587), and the records of the
// kernel. It turns bytes into records and back, and does no input or output itself.
//
// A [Parser] and a [Framer] are for one goroutine. A parser never fails: what has no
// form it knows is a record whose text is the whole message, and is marked so.
package wire

import (
	"bytes"
	"time"

	"oakbarrel/core/record"
)

// MaxMessage is the longest message that is taken whole, in bytes.
const MaxMessage = 64 << 10

// Parser reads syslog messages, RFC 5424 and RFC 3164 with the forms of both
// that are met in practice. It is for one goroutine at a time.
type Parser struct {
	// Zone is where senders live that name no zone; nil is the machine's.
	Zone *time.Location
	// Default is what a message without a valid priority gets.
	Default record.Priority
	// Local says that programs of this host speak, by its own socket: they do not name
	// the host in the form of RFC 3164, and their names may have spaces.
	Local bool

	stamps record.StampReader
}

// Parse fills r from one message. r.Received must be set: it stands in for a
// missing time, and tells the year where a stamp has none. Nothing is refused:
// what cannot be read is kept in r.Text, and r.Unparsed says so. The slices of
// r point into msg.
func (p *Parser) Parse(r *record.Record, msg []byte) {
	r.Priority, r.Text = p.Default, msg
	priority, n := parsePriority(msg)
	if n == 0 {
		r.Unparsed = true
	} else {
		r.Priority, r.Text = priority, msg[n:]
		if rest := msg[n:]; len(rest) > 1 && rest[0] == '1' && rest[1] == ' ' {
			r.Unparsed = !p.parseRFC5424(r, rest[2:])
		} else {
			r.Unparsed = !p.parseRFC3164(r, rest)
		}
	}
	if r.Time.IsZero() {
		r.Time = r.Received
	}
}

// parsePriority reads "<PRI>", 0 to 191 without leading zeros, and returns its length, 0 without one.
func parsePriority(b []byte) (record.Priority, int) {
	if len(b) < 3 || b[0] != '<' {
		return 0, 0
	}
	v, n := 0, 1
	for ; n < len(b) && n < 4 && b[n]-'0' <= 9; n++ {
		v = v*10 + int(b[n]-'0')
	}
	if n == 1 || n == len(b) || b[n] != '>' || v >= record.Priorities || b[1] == '0' && n > 2 {
		return 0, 0
	}
	return record.Priority(v), n + 1
}

// TrimDatagram cuts the end mark that some senders put into a datagram: LF (a
// CR before it too), NUL or both.
func TrimDatagram(b []byte) []byte {
	b = bytes.TrimSuffix(b, []byte{0})
	if line, found := bytes.CutSuffix(b, []byte("\n")); found {
		b = bytes.TrimSuffix(bytes.TrimSuffix(line, []byte{'\r'}), []byte{0})
	}
	return b
}

var bom = []byte("\xef\xbb\xbf")

// present returns b, and nil where it is the mark of a missing property.
func present(b []byte) []byte {
	if len(b) == 1 && b[0] == '-' {
		return nil
	}
	return b
}

// token returns the bytes up to the next space and how many bytes it takes
// with that space; 0 where there is no token or no space behind it.
func token(b []byte) ([]byte, int) {
	i := bytes.IndexByte(b, ' ')
	if i <= 0 {
		return nil, 0
	}
	return b[:i], i + 1
}
