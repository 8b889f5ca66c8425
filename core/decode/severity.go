package decode

import (
	"bytes"
	"encoding/binary"
	"strconv"

	"oakbarrel/core/record"
)

const longestWord = 13

// parseWord reads the name of a severity as programs write it, in any letter case: the
// standard's keywords, trace, verbose and fatal, their codes of three letters, the names
// of Java's own logger, and those that the plan adds.
func (rd *Reading) parseWord(word []byte) (record.Severity, bool) {
	if len(word) < 3 || len(word) > longestWord {
		return 0, false
	}
	var lower [longestWord + 3]byte
	copy(lower[:], word)
	const bits = 0x2020202020202020 // of lower case: no other byte becomes a letter
	binary.LittleEndian.PutUint64(lower[:], binary.LittleEndian.Uint64(lower[:])|bits)
	if len(word) > 8 {
		binary.LittleEndian.PutUint64(lower[8:], binary.LittleEndian.Uint64(lower[8:])|bits)
	}
	if rd.Levels != nil {
		if s, ok := rd.Levels[string(bytes.ToLower(word))]; ok {
			return s, true
		}
	}
	switch string(lower[:len(word)]) {
	case "emergency", "emerg":
		return record.Emergency, true
	case "alert":
		return record.Alert, true
	case "critical", "crit", "fatal", "ftl":
		return record.Critical, true
	case "error", "err", "severe", "fail":
		return record.Error, true
	case "warning", "warn", "wrn":
		return record.Warning, true
	case "notice":
		return record.Notice, true
	case "info", "informational", "information", "inf", "config":
		return record.Info, true
	case "debug", "trace", "verbose", "dbg", "trc", "vrb", "dbug", "trce", "fine", "finer", "finest":
		return record.Debug, true
	}
	return 0, false
}

// parseLevel reads what stands where a severity is expected: a word as parseWord reads
// it, a code of one letter, or a number of the usual scales.
func (rd *Reading) parseLevel(word []byte) (record.Severity, bool) {
	if s, ok := rd.parseWord(word); ok {
		return s, true
	}
	if rd.Levels != nil { // short ones, too
		if s, ok := rd.Levels[string(bytes.ToLower(word))]; ok {
			return s, true
		}
	}
	if len(word) == 1 {
		if s, ok := letterSeverity(word[0]); ok {
			return s, true
		}
	}
	return numberSeverity(word)
}

// letterSeverity reads the code of one letter that some loggers write, a capital.
func letterSeverity(c byte) (record.Severity, bool) {
	switch c {
	case 'F':
		return record.Critical, true
	case 'E':
		return record.Error, true
	case 'W':
		return record.Warning, true
	case 'I':
		return record.Info, true
	case 'D', 'T', 'V':
		return record.Debug, true
	}
	return 0, false
}

// numberSeverity reads a number of syslog's scale (0 to 7), of the one that counts in
// tens from trace (10 to 60), in ten thousands likewise (5000 to 40000), or of Java's own
// logger (300 to 1000).
func numberSeverity(v []byte) (record.Severity, bool) {
	if len(v) == 0 || len(v) > 5 || !isDigits(v) {
		return 0, false
	}
	n, err := strconv.Atoi(string(v))
	if err != nil {
		return 0, false
	}
	if n <= 7 {
		return record.Severity(n), true
	}
	switch n {
	case 10, 20, 300, 400, 500, 5000, 10000:
		return record.Debug, true
	case 30, 700, 800, 20000:
		return record.Info, true
	case 40, 900, 30000:
		return record.Warning, true
	case 50, 1000, 40000:
		return record.Error, true
	case 60:
		return record.Critical, true
	}
	return 0, false
}

// How far into a line its severity is looked for: behind what stands at the
// head of a line, such as a time, a number, or a name between brackets.
const (
	headBytes = 120
	headWords = 8
)

// FindSeverity returns the severity that a line names near its start: as a word
// in capitals, between brackets, before a colon, or as level=…. The words of a
// sentence are never taken for one.
func FindSeverity(line []byte) (record.Severity, bool) { return usualReading.findSeverity(line, 0) }

var usualReading Reading

// usual are the words that stand behind a time most often, with the space
// behind them: eight bytes are compared at once, of which mask has those that count.
var usual = func() (t []usualWord) {
	for _, word := range []string{"INFO", "DEBUG", "WARN", "ERROR", "NOTICE", "WARNING", "TRACE", "FATAL"} {
		var b, mask [8]byte
		for i := range copy(b[:], word+" ") {
			mask[i] = 0xff
		}
		severity, _ := (&Reading{}).parseWord([]byte(word))
		t = append(t, usualWord{binary.LittleEndian.Uint64(b[:]), binary.LittleEndian.Uint64(mask[:]), severity})
	}
	return t
}()

type usualWord struct {
	bytes, mask uint64
	severity    record.Severity
}

// findSeverity looks for the severity of a line behind what is known to be its time.
func (rd *Reading) findSeverity(line []byte, at int) (record.Severity, bool) {
	if at > 0 && len(line)-at > 8 && at+9 <= headBytes {
		word := binary.LittleEndian.Uint64(line[at+1:])
		for i := range usual {
			if u := &usual[i]; word&u.mask == u.bytes {
				return u.severity, true
			}
		}
	}
	if at == 0 && startsWithCode(line) {
		return letterSeverity(line[0])
	}
	first := true // of its words
	line = line[:min(len(line), headBytes)]
	for range headWords {
		for at < len(line) && line[at] == ' ' {
			at++
		}
		if at == len(line) {
			return 0, false
		}
		digit := line[at]-'0' <= 9 // a time or a number, most often
		if !digit {
			if s, ok := rd.severityAt(line[at:], first); ok {
				return s, true
			}
			first = false
		}
		end := at + bytes.IndexByte(line[at:], ' ')
		if end < at {
			return 0, false
		}
		if !digit && !isHead(line[at:end]) && !followedByMark(line[end:]) {
			return 0, false
		}
		at = end
	}
	return 0, false
}

// severityAt reads the severity that b begins with; first says that b is the
// first word of its line.
func (rd *Reading) severityAt(b []byte, first bool) (record.Severity, bool) {
	start := 0
	for start < len(b) && isOpening(b[start]) {
		start++
	}
	end, bits := start, byte(0)
	for end < len(b) && (b[end]|0x20)-'a' < 26 {
		bits |= b[end]
		end++
	}
	behind := byte(' ')
	if end < len(b) {
		behind = b[end]
	}
	if behind == '=' {
		switch string(b[start:end]) {
		case "level", "lvl", "severity", "loglevel":
			value, _, _ := bytes.Cut(b[end+1:], space)
			return rd.parseLevel(bytes.Trim(value, `"',;`))
		}
		return 0, false
	}
	if start > 0 && end == start+1 && (behind == ']' || behind == ' ') { // "[W] …", "[W 261125 10:15:00 …"
		return letterSeverity(b[start])
	}
	s, ok := rd.parseWord(b[start:end])
	if !ok {
		return 0, false
	}
	switch capitals := bits&0x20 == 0; {
	case start > 0: // between brackets, and nothing else
		return s, behind == ']' || behind == ')' || behind == '>' || behind == '|'
	case capitals:
		return s, behind == ' ' || behind == ':' || behind == '|' || behind == ']' || behind == ','
	}
	return s, first && behind == ':'
}

// startsWithCode tells whether a line is like "E1125 10:15:00.000001 7 pump.c:12] …": the
// code of a severity, the month and the day.
func startsWithCode(line []byte) bool {
	return len(line) > 14 && isDigits(line[1:5]) && line[5] == ' ' && line[8] == ':'
}

var space = []byte{' '}

func isOpening(c byte) bool { return c == '[' || c == '(' || c == '<' || c == '|' }

// isHead tells whether a token is no word of a sentence: it has a digit or a
// sign in it, or stands between brackets.
func isHead(token []byte) bool {
	for i, c := range token {
		switch {
		case c-'0' <= 9, isOpening(c), c == '=', c == '/', c == '_', c == '@', c == '|':
			return true
		case c == ']', c == ':' && i == len(token)-1, c == '.' && i < len(token)-1:
			return true
		case c == '-' && (len(token) == 1 || i > 0 && i < len(token)-1):
			return true
		}
	}
	return false
}

// followedByMark tells whether a sign of its own follows, which parts the
// fields of a head: "root - ERROR - …".
func followedByMark(rest []byte) bool {
	return len(rest) > 2 && rest[0] == ' ' && rest[2] == ' ' && (rest[1] == '-' || rest[1] == '|' || rest[1] == ':')
}
