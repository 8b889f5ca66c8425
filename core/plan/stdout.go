package plan

import (
	"fmt"
	"time"

	"oakbarrel/core/format"
)

// stdoutDelay is how long lines for stdout are gathered, where the plan does not say.
const stdoutDelay = 50 * time.Millisecond

// readStdout reads an outlet that writes to the agent's own standard output.
func (r *planReader) readStdout(outlet mapping, e entry, out *Outlet) {
	for _, o := range r.outlets[:len(r.outlets)-1] {
		if o.Kind == StdoutOutlet {
			r.fail(e.at, fmt.Sprintf("outlet %s writes to stdout already", o.Name), "send the records of both to one outlet")
		}
	}
	if _, ok := outlet.get("batch"); !ok {
		out.Spool.Delay = stdoutDelay
	}
	out.Format, _ = format.Parse(format.Default)
	m, ok := r.mapping(e.value, e.at, "stdout", "stdout: {format: json}, or stdout: {}", "format")
	if !ok {
		return
	}
	if e, ok := m.get("format"); ok {
		out.Format = r.readFormat(e)
	}
}
