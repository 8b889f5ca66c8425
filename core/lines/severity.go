package lines

import (
	"bytes"

	"oakbarrel/core/record"
)

const longestWord = 13

// ParseWord reads the name of a severity as programs write it, in any letter
// case: the standard's keywords, and trace, verbose and fatal.
func ParseWord(word []byte) (record.Severity, bool) {
	var lower [longestWord]byte
	if len(word) < 3 || len(word) > longestWord {
		return 0, false
	}
	for i, c := range word {
		lower[i] = record.LowerASCII[c]
	}
	switch string(lower[:len(word)]) {
	case "emergency", "emerg":
		return record.Emergency, true
	case "alert":
		return record.Alert, true
	case "critical", "crit", "fatal":
		return record.Critical, true
	case "error", "err":
		return record.Error, true
	case "warning", "warn":
		return record.Warning, true
	case "notice":
		return record.Notice, true
	case "info", "informational", "information":
		return record.Info, true
	case "debug", "trace", "verbose":
		return record.Debug, true
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
func FindSeverity(line []byte) (record.Severity, bool) {
	line = line[:min(len(line), headBytes)]
	for at, count := 0, 0; count < headWords; count++ {
		for at < len(line) && line[at] == ' ' {
			at++
		}
		end := at + bytes.IndexByte(line[at:], ' ')
		if end < at {
			end = len(line)
		}
		if end == at {
			return 0, false
		}
		token := line[at:end]
		at = end
		if token[0]-'0' <= 9 { // a time or a number, most often
			continue
		}
		if s, ok := severityOf(token, count == 0); ok {
			return s, true
		}
		if !isHead(token) && !followedByMark(line[end:]) {
			return 0, false
		}
	}
	return 0, false
}

// severityOf reads a token that may be a severity, or begin with one.
func severityOf(token []byte, first bool) (record.Severity, bool) {
	start := 0
	for start < len(token) && isOpening(token[start]) {
		start++
	}
	end := start
	for end < len(token) && record.LowerASCII[token[end]]-'a' < 26 {
		end++
	}
	if end < len(token) && token[end] == '=' {
		switch string(token[start:end]) {
		case "level", "lvl", "severity", "loglevel":
			return ParseWord(bytes.Trim(token[end+1:], `"',;`))
		}
		return 0, false
	}
	s, ok := ParseWord(token[start:end])
	if !ok {
		return 0, false
	}
	behind := byte(' ')
	if end < len(token) {
		behind = token[end]
	}
	switch {
	case start > 0: // between brackets, and nothing else
		return s, behind == ']' || behind == ')' || behind == '>' || behind == '|'
	case isUpper(token[start:end]):
		return s, behind == ' ' || behind == ':' || behind == '|' || behind == ']' || behind == ','
	}
	return s, first && behind == ':'
}

func isOpening(c byte) bool { return c == '[' || c == '(' || c == '<' || c == '|' }

func isUpper(word []byte) bool {
	for _, c := range word {
		if c-'A' >= 26 {
			return false
		}
	}
	return true
}

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
