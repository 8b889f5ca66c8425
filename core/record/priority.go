package record

import "strings"

// Priority is a facility and a severity in one number, 0 to 191: facility*8 + severity.
type Priority uint8

// Priorities is how many different priorities there are.
const Priorities = 192

// DefaultPriority is user.notice, given to what names none (RFC 3164 section 4.3.3).
const DefaultPriority Priority = 13

// MakePriority joins a facility (0 to 23) and a severity (0 to 7).
func MakePriority(f Facility, s Severity) Priority { return Priority(f)<<3 | Priority(s) }

// Facility returns the facility of p.
func (p Priority) Facility() Facility { return Facility(p >> 3) }

// Severity returns the severity of p.
func (p Priority) Severity() Severity { return Severity(p & 7) }

// String returns "facility.severity", such as "local3.error".
func (p Priority) String() string { return p.Facility().String() + "." + p.Severity().String() }

// ParsePriority reads "facility.severity", in any letter case.
func ParsePriority(s string) (Priority, bool) {
	facility, severity, found := strings.Cut(s, ".")
	f, ok1 := ParseFacility(facility)
	sev, ok2 := ParseSeverity(severity)
	return MakePriority(f, sev), found && ok1 && ok2
}
