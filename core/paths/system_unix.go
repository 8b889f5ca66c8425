//go:build unix

package paths

// Separator stands between the parts of a path.
const Separator = "/"

// fold is for comparing names: they are compared as they are.
func fold(name string) string { return name }

// Wrong tells what of a path the system does not take as it stands: nothing.
func Wrong(string) (what, mend string) { return "", "" }

// NotInNames are the signs that patterns have and no name can.
const NotInNames = ""

// HowAbsolute tells how an absolute path begins.
const HowAbsolute = "begin it with /"
