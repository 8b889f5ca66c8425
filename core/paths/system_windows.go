package paths

import (
	"path/filepath"
	"regexp"
	"strings"
)

// Separator stands between the parts of a path.
const Separator = `\`

// fold is for comparing names: their letter case tells none apart.
func fold(name string) string { return strings.ToLower(name) }

// NotInNames are the signs that patterns have and no name can.
const NotInNames = "*?"

// HowAbsolute tells how an absolute path begins.
const HowAbsolute = `begin it with a drive, as in C:\logs\pump.log`

var (
	device = regexp.MustCompile(`(?i)^(con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³]|conin\$|conout\$)\s*(\.|$)`)
	short  = regexp.MustCompile(`^[^.]{1,6}~[0-9]+(\.|$)`)
)

// Wrong tells what of a path the system does not take as it stands, so that it would lead
// elsewhere than it says, and how to mend it.
func Wrong(path string) (what, mend string) {
	if strings.HasPrefix(path, `\\?\`) || strings.HasPrefix(path, `\\.\`) || strings.HasPrefix(path, "//") {
		return "the path names a device", `write a drive, as in C:\logs, or a share, as in \\kelp-01\logs`
	}
	root, parts := Split(filepath.FromSlash(path))
	for _, part := range append(parts, strings.TrimSuffix(strings.TrimPrefix(root, `\\`), Separator)) {
		isDrive := len(part) == 2 && part[1] == ':' && part+Separator == root
		switch {
		case isDrive:
		case strings.ContainsAny(part, `<>:"|`):
			return "a name in the path holds one of < > : \" |, which no name may", "write another name"
		case part != "" && strings.TrimRight(part, ". ") != part:
			return "a name in the path ends with a dot or a space, which the system would leave out", "write it without"
		case device.MatchString(part):
			return "the path names a device", "write another name"
		case short.MatchString(part):
			return "the path has the short form of a name", "write the long one"
		}
	}
	return "", ""
}
