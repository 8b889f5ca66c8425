//go:build linux || windows

package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/agent/watch"
	"oakbarrel/client"
	"oakbarrel/core/record"
)

// tracer sends one marked record and looks where it goes.
type tracer struct {
	*app
	state string
	wait  time.Duration
	send  sender

	watch.Watcher
	hops []client.Hop
}

func (a *app) traceCommand() *cobra.Command {
	t := &tracer{app: a, send: sender{app: a, form: "rfc5424"}}
	t.Tell = t.tell
	var priority string
	c := &cobra.Command{
		Use:   "trace",
		Short: "Send one marked record, and watch it hop by hop",
		Long: `Send one marked record to a running agent and tell each hop with its time: taken
in, rules matched, written to which file at which offset, spooled, confirmed by
the store, found by a search; or where it stopped, and why. The search asks the
service of OAKBARREL_URL and OAKBARREL_TOKEN.

Exit code 1 says that it has not come to all of its outlets.`,
		Example: `  oakbarrel trace --state lantern-bay/tide-gw/state
  oakbarrel trace --state lantern-bay/reef-02/state --priority local3.error --app pumpd`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p, ok := record.ParsePriority(priority)
			if !ok {
				return usageError("--priority cannot be %q; write FACILITY.SEVERITY, such as local3.error", priority)
			}
			return t.run(c.Context(), p)
		},
	}
	stateFlag(c, &t.state)
	c.Flags().StringVar(&t.send.to, "to", "", "udp://HOST:PORT, tcp://HOST:PORT or unix:PATH (default: the agent's first intake)")
	c.Flags().StringVar(&priority, "priority", "user.notice", "facility and severity")
	c.Flags().StringVar(&t.send.appName, "app", "oakbarrel", "name of the program")
	c.Flags().StringVar(&t.send.host, "host", "", "name of the host (default: this machine's)")
	c.Flags().DurationVar(&t.wait, "wait", 10*time.Second, "how long to wait for the last hop")
	return c
}

func (t *tracer) run(ctx context.Context, p record.Priority) error {
	s, err := control.AskStatus(ctx, t.state)
	if err != nil {
		return couldNot(err)
	}
	if t.send.to == "" {
		if t.send.to = traceable(s); t.send.to == "" {
			return couldNot(errors.New("the agent has no intake that a record could be sent to; name one with --to"))
		}
	}
	random := make([]byte, 6)
	rand.Read(random)
	t.Mark = "trace-" + hex.EncodeToString(random)
	if _, err := control.AskTrace(ctx, t.state, t.Mark); err != nil {
		return couldNot(err)
	}
	out, err := dial(ctx, t.send.to)
	if err != nil {
		return err
	}
	t.Start = time.Now()
	err = errors.Join(out.send(t.send.message(p, []byte("a traced record, "+t.Mark))), out.finish())
	out.conn.Close()
	if err != nil {
		return couldNot(fmt.Errorf("%s: %w", t.send.to, explainNetwork(err)))
	}
	t.Hop(client.Hop{Hop: "sent", Done: true, Detail: "to " + t.send.to + ", as " + p.String()})
	last, arrived, err := t.Watch(ctx, t.wait, func() (client.Trace, error) { return control.AskTrace(ctx, t.state, t.Mark) })
	if err != nil {
		return couldNot(err)
	}
	arrived = t.searched(ctx, last) && arrived
	if t.json() {
		err = t.printJSON(map[string]any{"mark": t.Mark, "arrived": arrived, "hops": t.hops})
	}
	if err == nil && !arrived {
		err = no
	}
	return err
}

// traceable returns the first address to which a record can be sent.
func traceable(s client.Status) string {
	for _, in := range s.Intakes {
		for _, a := range in.Addresses {
			if strings.HasPrefix(a, "udp:") || strings.HasPrefix(a, "tcp:") || strings.HasPrefix(a, "unix:") {
				a = strings.Replace(a, "//[::]:", "//[::1]:", 1)
				return strings.Replace(a, "//0.0.0.0:", "//127.0.0.1:", 1)
			}
		}
	}
	return ""
}

// tell notes a hop, and prints it at once for people.
func (t *tracer) tell(h client.Hop) {
	t.hops = append(t.hops, h)
	if t.json() {
		return
	}
	name := h.Hop
	if !h.Done {
		name = "NOT " + strings.ToUpper(h.Hop)
	}
	if h.Outlet != "" {
		name += " (" + h.Outlet + ")"
	}
	fmt.Fprintf(t.stdout, "%9.1f ms  %-24s %s\n", h.Ms, name, record.Visible(h.Detail))
}

// searched looks for the record in the store, where it is and the environment
// tells how, and tells whether it was not missed there.
func (t *tracer) searched(ctx context.Context, last client.Trace) bool {
	stored := slices.ContainsFunc(last.Outlets, func(o client.OutletOfTrace) bool { return o.Kind == "store" && o.Done })
	switch {
	case !stored:
		return true
	case os.Getenv("OAKBARREL_URL") != "" && os.Getenv("OAKBARREL_TOKEN") != "":
		return t.search(ctx)
	case !t.json():
		fmt.Fprintln(t.stdout, "              (set OAKBARREL_URL and OAKBARREL_TOKEN, and it is looked for in the store)")
	}
	return true
}

// search looks for the record in the store.
func (t *tracer) search(ctx context.Context) bool {
	store, err := storeClient()
	var found []string
	if err == nil {
		q := client.Query{Since: time.Now().Add(-24 * time.Hour), Where: fmt.Sprintf("text contains %q", t.Mark)}
		err = store.Read(ctx, q, client.Page{Limit: 2}, func(line []byte) error { found = append(found, string(line)); return nil })
	}
	switch {
	case err != nil:
		t.Hop(client.Hop{Hop: "found", Detail: err.Error()})
	case len(found) == 0:
		t.Hop(client.Hop{Hop: "found", Detail: "the store has it, but a search with this token does not show it; the token may be for another cask"})
	default:
		t.Hop(client.Hop{Hop: "found", Done: true, Detail: "by a search in the store"})
	}
	return err == nil && len(found) == 1
}
