package record

import "strings"

// Severity says how serious a record is, RFC 5424 section 6.2.1: 0 is the most
// serious, 7 the least. Speak of it in words; the numbers run the other way.
type Severity uint8

// The eight severities.
const (
	Emergency Severity = iota
	Alert
	Critical
	Error
	Warning
	Notice
	Info
	Debug
)

// Severities holds the keyword of each severity, by its number.
var Severities = [8]string{"emergency", "alert", "critical", "error", "warning", "notice", "info", "debug"}

var severityAliases = map[string]Severity{"emerg": Emergency, "panic": Emergency, "crit": Critical, "err": Error, "warn": Warning, "informational": Info}

// String returns the keyword, such as "warning".
func (s Severity) String() string { return Severities[s&7] }

// ParseSeverity reads a keyword or one of its common short forms, in any letter case.
func ParseSeverity(word string) (Severity, bool) {
	for i, name := range Severities {
		if strings.EqualFold(word, name) {
			return Severity(i), true
		}
	}
	s, ok := severityAliases[strings.ToLower(word)]
	return s, ok
}
