package tail

import (
	"math"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// What rolling adds to a name: numbers, dates, and words for an old copy.
var rolledPart = regexp.MustCompile(`(?i)^(\d[\d:tz]*|gz|zst|old|bak|copy|orig|save|tmp|temp|part|prev)$`)

// parts takes the name of a file apart.
func parts(path string) []string {
	return strings.FieldsFunc(filepath.Base(path), func(r rune) bool { return r == '.' || r == '-' || r == '_' || r == '~' })
}

// setOf returns what the paths of files have in common that are rolled one after the other.
func setOf(path string) string { return filepath.Join(filepath.Dir(path), familyOf(path)) }

// familyOf returns what the names of such files have in common, in whatever folder.
func familyOf(path string) string {
	kept := slices.DeleteFunc(parts(path), rolledPart.MatchString)
	return strings.Join(kept, ".")
}

// relationOf tells how the name of a file stands to one that a source has or had.
// Names such as worker-1.log and worker-2.log are of a family, but neither is
// made of the other; app.log.1 is made of app.log, and app.log.2.gz of both.
func relationOf(source, file string) relation {
	switch {
	case source == file:
		return alike
	case familyOf(source) != familyOf(file):
		return stranger
	case filepath.Dir(source) != filepath.Dir(file):
		return family
	case isMade(source, file):
		return made
	}
	return family
}

// isMade tells whether the parts of one name stand in the other, in their order,
// with more between or behind that rolling adds. Numbers at the end may be others.
func isMade(source, file string) bool {
	from, to := parts(source), parts(file)
	end := len(from)
	for end > 0 && rolledPart.MatchString(from[end-1]) {
		end--
	}
	if end == 0 { // such as 0.log, whose name is a number
		end = len(from)
	}
	from = from[:end]
	added := 0
	for _, part := range to {
		switch {
		case len(from) > 0 && part == from[0]:
			from = from[1:]
		case rolledPart.MatchString(part):
			added++
		default:
			return false
		}
	}
	return len(from) == 0 && (added > 0 || strings.HasSuffix(file, "~"))
}

// rolledAge tells by its name how long ago a file was rolled, beside others of
// its set: app.log.2 is older than app.log.1, a stamp than a later one. What was
// not rolled has 0.
func rolledAge(path string) int64 {
	stem := strings.TrimSuffix(strings.TrimSuffix(path, ".gz"), ".zst")
	if stem == "" || !strings.ContainsRune("0123456789-_:T", rune(stem[len(stem)-1])) { // most names
		return 0
	}
	parts := rolledNumber.FindStringSubmatch(filepath.Base(path))
	if parts == nil {
		return 0
	}
	digits := strings.Map(func(c rune) rune {
		if c < '0' || c > '9' {
			return -1
		}
		return c
	}, parts[1])
	n, _ := strconv.ParseInt(digits[:min(len(digits), 17)], 10, 64)
	if len(digits) >= len("20261125") {
		return math.MaxInt64 - n
	}
	return n
}

// rolledNumber is the number or the stamp at the end of a name.
var rolledNumber = regexp.MustCompile(`[.\-_](\d[\d\-_:T]*)(?:\.gz|\.zst)?$`)
