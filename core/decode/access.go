package decode

import (
	"bytes"
	"strconv"

	"oakbarrel/core/record"
)

// access reads an access line: the common and the combined form of web servers, also with
// the name of the site before it and times behind it, or the line of a load balancer. The
// text stays as it is; its parts become fields.
func (d *Decoder) access(r *record.Record, text []byte) bool {
	start := d.begin()
	if !d.webAccess(r, text) {
		d.Memory = d.Memory[:start+1]
		if !d.balancerAccess(r, text) {
			d.Memory = d.Memory[:start]
			return false
		}
	}
	d.setFields(r, d.end(start))
	return true
}

// webAccess reads: [SITE] CLIENT IDENT USER [TIME] "REQUEST" STATUS BYTES ["REFERRER" "AGENT"] [TIMES].
func (d *Decoder) webAccess(r *record.Record, line []byte) bool {
	bracket := bytes.IndexByte(line, '[')
	if bracket < 6 || len(line)-bracket < 30 || line[bracket+27] != ']' || line[bracket+28] != ' ' || line[bracket+29] != '"' {
		return false
	}
	at, ok := accessStamp(line[bracket:])
	if !ok {
		return false
	}
	head := line[:bracket]
	var words [4][]byte
	n := 0
	for ; len(head) > 0; n++ {
		end := bytes.IndexByte(head, ' ')
		if end <= 0 || n == len(words) {
			return false
		}
		words[n], head = head[:end], head[end+1:]
	}
	switch n {
	case 4: // the site stands before them
		d.text("site", words[0])
		copy(words[:], words[1:])
	case 3:
	default:
		return false
	}
	d.text("client", words[0])
	if string(words[2]) != "-" {
		d.text("user", words[2])
	}
	rest, ok := d.request(line[bracket+29:])
	if !ok {
		return false
	}
	status, rest := nextWord(rest)
	size, rest := nextWord(rest)
	if len(status) != 3 || !isDigits(status) || status[0] == '0' || string(size) != "-" && !isNumber(size) {
		return false
	}
	d.number("status", status)
	if string(size) != "-" {
		d.number("bytes", size)
	}
	if len(rest) > 0 && rest[0] == '"' {
		for _, name := range []string{"referrer", "agent"} {
			value, behind, ok := quoted(rest)
			if !ok {
				break
			}
			if rest = behind; string(value) != "-" && len(value) > 0 {
				d.text(name, value)
			}
		}
	}
	d.trailingTime(rest)
	r.Time = at
	return true
}

// request reads "METHOD PATH PROTOCOL" between quotes, and a space. What is none, as a
// scanner sends it, is the path alone.
func (d *Decoder) request(b []byte) (rest []byte, ok bool) {
	line, rest, ok := quoted(b)
	if !ok {
		return nil, false
	}
	method, path := nextWord(line)
	if len(method) == 0 || len(path) == 0 || !isCapitals(method) {
		if len(line) > 0 && string(line) != "-" {
			d.text("path", line)
		}
		return rest, true
	}
	if at := bytes.LastIndexByte(path, ' '); at > 0 && bytes.HasPrefix(path[at+1:], []byte("HTTP/")) {
		d.text("method", method)
		d.text("path", path[:at])
		d.text("protocol", path[at+1:])
		return rest, true
	}
	d.text("method", method)
	d.text("path", path)
	return rest, true
}

// quoted reads a text between quotes, in which a backslash keeps a quote from ending it,
// and the space behind it.
func quoted(b []byte) (value, rest []byte, ok bool) {
	if len(b) == 0 || b[0] != '"' {
		return nil, b, false
	}
	for end := 1; ; end++ {
		next := bytes.IndexByte(b[end:], '"')
		if next < 0 {
			return nil, b, false
		}
		end += next
		slashes := 0
		for b[end-1-slashes] == '\\' {
			slashes++
		}
		if slashes%2 == 0 {
			return b[1:end], bytes.TrimPrefix(b[end+1:], space), true
		}
	}
}

// nextWord returns what comes up to a space, and what comes behind it.
func nextWord(b []byte) (word, rest []byte) {
	if end := bytes.IndexByte(b, ' '); end >= 0 {
		return b[:end], b[end+1:]
	}
	return b, nil
}

func isCapitals(b []byte) bool {
	for _, c := range b {
		if c-'A' > 25 {
			return false
		}
	}
	return true
}

// isNumber tells whether b is a whole number in JSON, of a size that can be counted with.
func isNumber(b []byte) bool {
	return len(b) > 0 && len(b) < 16 && isDigits(b) && (b[0] != '0' || len(b) == 1)
}

// trailingTime reads how long the answer took, from what stands behind the line: seconds
// with a fraction, or microseconds without, also as rt=0.005 or between quotes.
func (d *Decoder) trailingTime(b []byte) {
	for len(b) > 0 {
		var word []byte
		word, b = nextWord(b)
		if at := bytes.IndexByte(word, '='); at >= 0 {
			word = word[at+1:]
		}
		word = bytes.Trim(word, `"`)
		whole, fraction, seconds := bytes.Cut(word, []byte{'.'})
		switch {
		case seconds && isNumber(whole) && len(fraction) > 0 && len(fraction) < 10 && isDigits(fraction):
			d.number("seconds", word)
			return
		case !seconds && isNumber(word):
			d.seconds(word, 1e6)
			return
		}
	}
}

// seconds adds a time that is given in parts of a second.
func (d *Decoder) seconds(word []byte, parts float64) {
	n, err := strconv.Atoi(string(word))
	if err != nil {
		return
	}
	d.name([]byte("seconds"))
	d.Memory = strconv.AppendFloat(d.Memory, float64(n)/parts, 'f', -1, 64)
}

// balancerAccess reads the line of a load balancer, most often by syslog:
// CLIENT:PORT [TIME] FRONTEND BACKEND/SERVER T/T/T/T/T STATUS BYTES … "REQUEST", where the last
// time is that of the whole, in milliseconds.
func (d *Decoder) balancerAccess(r *record.Record, line []byte) bool {
	client, rest := nextWord(line)
	port := bytes.LastIndexByte(client, ':')
	if port <= 0 || !isDigits(client[port+1:]) || len(rest) < 27 || rest[0] != '[' {
		return false
	}
	at, n, ok := balancerLayout.read(rest[1:], r.Received, d.Reading.Zone)
	if !ok || n+2 >= len(rest) || rest[n+1] != ']' || rest[n+2] != ' ' {
		return false
	}
	frontend, rest := nextWord(rest[n+3:])
	backend, rest := nextWord(rest)
	times, rest := nextWord(rest)
	status, rest := nextWord(rest)
	size, rest := nextWord(rest)
	quote := bytes.IndexByte(rest, '"')
	last := bytes.LastIndexByte(times, '/')
	if quote < 0 || last < 0 || bytes.IndexByte(backend, '/') < 0 || len(status) != 3 || !isDigits(status) || status[0] == '0' || !isNumber(size) {
		return false
	}
	d.text("client", client[:port])
	d.text("frontend", bytes.TrimRight(frontend, "~"))
	d.text("backend", backend)
	if _, ok := d.request(rest[quote:]); !ok {
		return false
	}
	d.number("status", status)
	d.number("bytes", size)
	if whole := bytes.TrimPrefix(times[last+1:], []byte{'+'}); isNumber(whole) {
		d.seconds(whole, 1e3)
	}
	r.Time = at
	return true
}

var balancerLayout = mustLayout("DD/MON/YYYY:hh:mm:ss")
