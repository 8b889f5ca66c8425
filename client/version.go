package client

import (
	"runtime"
	"runtime/debug"
)

// number is the version of the product.
const number = "0.24.0"

// built is when the binary was built, in RFC 3339, and commit of which commit; the Makefile
// sets them.
var built, commit = "", ""

// Version tells which binary this is.
type Version struct {
	Version string `json:"version" maxLength:"64"`
	Commit  string `json:"commit" maxLength:"80"` // with + where files were changed since; "" where it is not known
	Go      string `json:"go" maxLength:"64"`
	Built   string `json:"built" maxLength:"40"` // RFC 3339; the time of the commit where it is not known
}

// ThisVersion returns the version of the running binary.
func ThisVersion() Version {
	v := Version{Version: number, Commit: commit, Go: runtime.Version(), Built: built}
	info, ok := debug.ReadBuildInfo()
	if !ok || commit != "" {
		return v
	}
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			v.Commit = s.Value[:min(len(s.Value), 12)] + v.Commit
		case s.Key == "vcs.modified" && s.Value == "true":
			v.Commit += "+"
		case s.Key == "vcs.time" && v.Built == "":
			v.Built = s.Value
		}
	}
	return v
}
