// Package refusal is how the parts of the service say why something is not done.
package refusal

import "fmt"

// Refusal says why something is not done, and how to mend it. Conflict tells that
// somebody else was first; Unknown that there is no such thing; Forbidden that it takes
// somebody with more rights.
type Refusal struct {
	What, Mend                   string
	Conflict, Unknown, Forbidden bool
}

func (r *Refusal) Error() string { return r.What + "; " + r.Mend }

// Of returns a refusal of what is wrong in itself.
func Of(mend, format string, args ...any) error {
	return &Refusal{What: fmt.Sprintf(format, args...), Mend: mend}
}
