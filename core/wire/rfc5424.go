package wire

import (
	"bytes"
	"encoding/binary"
	"math/bits"

	"oakbarrel/core/record"
)

// parseRFC5424 reads what follows "<PRI>1 " and tells whether it keeps to the
// grammar of RFC 5424 section 6. Of a message whose header can be read but not
// what follows it, the header is kept.
func (p *Parser) parseRFC5424(r *record.Record, b []byte) bool {
	var stamp record.Stamp
	n := 0
	if len(b) > 1 && b[0] == '-' && b[1] == ' ' {
		n = 2
	} else {
		var ok bool
		if stamp, n, ok = p.stamps.Read(b); !ok || n == len(b) || b[n] != ' ' {
			return false
		}
		n++
	}
	ends, ok := nameEnds(b, n)
	if !ok {
		return false
	}
	r.Time = stamp
	r.Host = present(b[n:ends[0]:ends[0]])
	r.App = present(b[ends[0]+1 : ends[1] : ends[1]])
	r.ProcID = present(b[ends[1]+1 : ends[2] : ends[2]])
	r.MsgID = present(b[ends[2]+1 : ends[3] : ends[3]])
	return parseData(r, b[ends[3]+1:])
}

// nameEnds returns where the four names of the header end that begin at b[n],
// each by a space and none of them empty.
func nameEnds(b []byte, n int) (ends [4]int, ok bool) {
	const highs, spaces = 0x8080808080808080, ' ' * 0x0101010101010101
	found, last := 0, n-1
	for at := n; at < len(b); at += 8 {
		var eight [8]byte
		if at+8 > len(b) {
			copy(eight[:], b[at:])
		} else {
			eight = [8]byte(b[at:])
		}
		x := binary.LittleEndian.Uint64(eight[:]) ^ spaces
		for hits := ^((x&^highs + ^uint64(highs)) | x) & highs; hits != 0; hits &= hits - 1 { // the zero bytes of x
			end := at + bits.TrailingZeros64(hits)/8
			if end == last+1 {
				return ends, false
			}
			ends[found], last = end, end
			if found++; found == len(ends) {
				return ends, true
			}
		}
	}
	return ends, false
}

// parseData reads "SD [SP MSG]".
func parseData(r *record.Record, b []byte) bool {
	n := record.ScanData(b)
	if n == 0 || n < len(b) && b[n] != ' ' {
		r.Text = b
		return false
	}
	r.Text = nil
	if n < len(b) {
		r.Text = bytes.TrimPrefix(b[n+1:], bom)
	}
	if b[0] == '[' {
		r.Data = b[:n]
		if bytes.HasPrefix(r.Data, escapedMark) {
			unescapeRecord(r)
		}
	}
	return true
}

// The longest names that RFC 5424 allows, in bytes.
const (
	maxHost   = 255
	maxApp    = 48
	maxProcID = 128
	maxMsgID  = 32
)

// AppendRFC5424 writes r as one RFC 5424 message, without an end mark. The
// time is cut to microseconds; names that are longer than allowed are cut,
// and characters that may not stand in them become "?". The text is written
// byte for byte, so it may hold line feeds.
func AppendRFC5424(dst []byte, r *record.Record) []byte {
	dst = appendHeader(dst, r)
	dst = appendData(dst, r, dataOf(r))
	return appendMessage(dst, r.Text)
}

// ClaimHost returns a message that AppendRFC5424 wrote of a record without a host, with
// a host. It does not change the message.
func ClaimHost(message, host []byte) []byte {
	missing := bytes.Index(message, []byte(" - "))
	claimed := appendName(bytes.Clone(message[:missing+1]), host, maxHost)
	return append(claimed, message[missing+2:]...)
}

// AppendRFC5424Line writes r as [AppendRFC5424] does, but always as one line
// and without control characters other than a tab. A record that holds any is
// marked by the element [escaped@32473] and has backslash escapes in its text
// and in its parameter values; Parse undoes them, so no byte is lost.
func AppendRFC5424Line(dst []byte, r *record.Record) []byte {
	data := dataOf(r)
	if !mustEscape(r.Text) && !mustEscape(data) {
		dst = appendData(appendHeader(dst, r), r, data)
		return appendMessage(dst, r.Text)
	}
	dst = appendHeader(dst, r)
	dst = append(dst, escapedMark...)
	if len(data) > 0 || r.Cut {
		dst = appendData(dst, r, escapeData(data))
	}
	if r.Text == nil {
		return dst
	}
	return appendMessage(dst, appendEscaped([]byte{}, r.Text))
}

// dataOf returns the fields as structured data, which is most often what they are.
func dataOf(r *record.Record) []byte {
	if len(r.Data) > 0 && r.Data[0] != '[' {
		return r.AppendData(nil)
	}
	return r.Data
}

func appendHeader(dst []byte, r *record.Record) []byte {
	dst = appendPriority(dst, r.Priority)
	dst = append(dst, '1', ' ')
	dst = r.Time.Append(dst, 6)
	dst = appendName(append(dst, ' '), r.Host, maxHost)
	dst = appendName(append(dst, ' '), r.App, maxApp)
	dst = appendName(append(dst, ' '), r.ProcID, maxProcID)
	dst = appendName(append(dst, ' '), r.MsgID, maxMsgID)
	return append(dst, ' ')
}

// appendData writes structured data, which may have become longer than r.Data
// by escapes, and the mark of a record that was cut.
func appendData(dst []byte, r *record.Record, data []byte) []byte {
	if len(data) == 0 && !r.Cut {
		return append(dst, '-')
	}
	dst = append(dst, data...)
	if r.Cut && !bytes.Contains(data, cutMark) {
		dst = append(dst, cutMark...)
	}
	return dst
}

var cutMark = []byte("[cut@32473]")

func appendMessage(dst, text []byte) []byte {
	if text == nil {
		return dst
	}
	dst = append(dst, ' ')
	if bytes.HasPrefix(text, bom) { // else the reader would take it for the mark of UTF-8
		dst = append(dst, bom...)
	}
	return append(dst, text...)
}

func appendPriority(dst []byte, p record.Priority) []byte {
	dst = append(dst, '<')
	if p >= 100 {
		dst = append(dst, '1')
	}
	if p >= 10 {
		dst = append(dst, '0'+byte(p/10%10))
	}
	return append(dst, '0'+byte(p%10), '>')
}

func appendName(dst, name []byte, longest int) []byte {
	if len(name) == 0 {
		return append(dst, '-')
	}
	start := len(dst)
	dst = append(dst, name[:min(len(name), longest)]...)
	for i := start; i < len(dst); i++ {
		if dst[i] <= ' ' || dst[i] >= 0x7f {
			dst[i] = '?'
		}
	}
	return dst
}
