package record

import "strings"

// Facility says what kind of program speaks, RFC 5424 section 6.2.1: 0 to 23.
type Facility uint8

// The facilities that code refers to by name.
const (
	Kern   Facility = 0
	User   Facility = 1
	Local0 Facility = 16
	Local7 Facility = 23
)

// Facilities holds the keyword of each facility, by its number (the labels of RFC 5427).
var Facilities = [24]string{
	"kern", "user", "mail", "daemon", "auth", "syslog", "lpr", "news", "uucp", "cron", "authpriv", "ftp",
	"ntp", "audit", "console", "cron2", "local0", "local1", "local2", "local3", "local4", "local5", "local6", "local7",
}

var facilityAliases = map[string]Facility{"security": 4, "alert": 14, "clock": 15}

// String returns the keyword, such as "local3".
func (f Facility) String() string { return Facilities[f%24] }

// ParseFacility reads a keyword in any letter case.
func ParseFacility(word string) (Facility, bool) {
	for i, name := range Facilities {
		if strings.EqualFold(word, name) {
			return Facility(i), true
		}
	}
	f, ok := facilityAliases[strings.ToLower(word)]
	return f, ok
}
