package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent"
	"oakbarrel/client"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

// tracer sends one marked record and looks where it goes.
type tracer struct {
	*app
	state string
	wait  time.Duration
	send  sender

	mark  string
	start time.Time
	hops  []hop
}

// hop is a station that the record has come to, or where it has stopped.
type hop struct {
	Hop    string  `json:"hop"` // sent, taken in, rules, written, spooled, confirmed, found
	Outlet string  `json:"outlet,omitempty"`
	Ms     float64 `json:"ms"` // since it was sent
	Done   bool    `json:"done"`
	Detail string  `json:"detail"` // where it is, or why it stopped
}

func (a *app) traceCommand() *cobra.Command {
	t := &tracer{app: a, send: sender{app: a, form: "rfc5424"}}
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
	s, err := agent.AskStatus(ctx, t.state)
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
	t.mark = "trace-" + hex.EncodeToString(random)
	if _, err := agent.AskTrace(ctx, t.state, t.mark); err != nil {
		return couldNot(err)
	}
	out, err := dial(ctx, t.send.to)
	if err != nil {
		return err
	}
	t.start = time.Now()
	err = errors.Join(out.send(t.send.message(p, []byte("a traced record, "+t.mark))), out.finish())
	out.conn.Close()
	if err != nil {
		return couldNot(fmt.Errorf("%s: %w", t.send.to, explainNetwork(err)))
	}
	t.hop(hop{Hop: "sent", Done: true, Detail: "to " + t.send.to + ", as " + p.String()})
	arrived, err := t.watch(ctx)
	if err != nil {
		return couldNot(err)
	}
	if t.json() {
		err = t.printJSON(map[string]any{"mark": t.mark, "arrived": arrived, "hops": t.hops})
	}
	if err == nil && !arrived {
		err = no
	}
	return err
}

// traceable returns the first address to which a record can be sent.
func traceable(s agent.Status) string {
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

// hop notes a hop, and prints it at once for people.
func (t *tracer) hop(h hop) {
	h.Ms = float64(time.Since(t.start).Microseconds()) / 1000
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

// watch tells each hop as it comes about, and whether all did.
func (t *tracer) watch(ctx context.Context) (arrived bool, err error) {
	told := map[string]bool{}
	once := func(key string, done bool, h hop) {
		if done && !told[key] {
			told[key] = true
			h.Done = true
			t.hop(h)
		}
	}
	var now agent.Trace
	for deadline := time.Now().Add(t.wait); ; time.Sleep(10 * time.Millisecond) {
		if now, err = agent.AskTrace(ctx, t.state, t.mark); err != nil {
			return false, err
		}
		once("taken in", now.TakenIn != nil, hop{Hop: "taken in", Detail: "by intake " + now.Intake})
		if now.TakenIn != nil {
			once("rules", true, hop{Hop: "rules", Detail: rulesOfTrace(now)})
		}
		left := 0
		for _, o := range now.Outlets {
			if o.Kind == "store" {
				once("spooled "+o.Name, o.Spooled, hop{Hop: "spooled", Outlet: o.Name, Detail: "for " + o.Path})
				once("done "+o.Name, o.Done, hop{Hop: "confirmed", Outlet: o.Name, Detail: "by the store, in " + o.Path})
			} else {
				if key := "done " + o.Name; o.Done && !told[key] {
					once(key, true, hop{Hop: "written", Outlet: o.Name, Detail: t.place(o.Path)})
				}
			}
			if !o.Done {
				left++
			}
		}
		if now.TakenIn != nil && left == 0 || time.Now().After(deadline) || ctx.Err() != nil {
			break
		}
	}
	return t.conclude(ctx, now), nil
}

func rulesOfTrace(t agent.Trace) string {
	var parts []string
	for _, r := range t.Rules {
		part := r.Name
		if len(r.Changes) > 0 {
			part += " (" + strings.Join(r.Changes, "; ") + ")"
		}
		parts = append(parts, part)
	}
	text := "no rule matches, so otherwise acts"
	if len(parts) > 0 {
		text = "matched " + strings.Join(parts, ", ")
	}
	if t.Dropped != "" {
		text += "; dropped by " + t.Dropped
	}
	var names []string
	for _, o := range t.Outlets {
		names = append(names, o.Name)
	}
	if len(names) == 0 {
		return text + "; goes nowhere"
	}
	return text + "; goes to " + strings.Join(names, ", ")
}

// conclude tells where the record has stopped, or looks for it in the store.
func (t *tracer) conclude(ctx context.Context, now agent.Trace) (arrived bool) {
	if now.TakenIn == nil {
		t.hop(hop{Hop: "taken in", Detail: "the agent has not seen it; a datagram may be lost, or the plan does not allow this sender (oakbarrel status tells how many were turned away)"})
		return false
	}
	arrived = len(now.Outlets) > 0
	stored := false
	for _, o := range now.Outlets {
		stored = stored || o.Kind == "store" && o.Done
		if o.Done {
			continue
		}
		arrived = false
		why := o.Trouble
		if why == "" {
			why = "it waits; a batch may not be full yet, or the store is slow"
		}
		name := "written"
		if o.Kind == "store" {
			name = "confirmed"
		}
		t.hop(hop{Hop: name, Outlet: o.Name, Detail: why})
	}
	if !stored {
		return arrived
	}
	if os.Getenv("OAKBARREL_URL") == "" || os.Getenv("OAKBARREL_TOKEN") == "" {
		if !t.json() {
			fmt.Fprintln(t.stdout, "              (set OAKBARREL_URL and OAKBARREL_TOKEN, and it is looked for in the store)")
		}
		return arrived
	}
	return t.search(ctx) && arrived
}

// search looks for the record in the store.
func (t *tracer) search(ctx context.Context) bool {
	store, err := storeClient()
	var found []string
	if err == nil {
		q := client.Query{Since: time.Now().Add(-24 * time.Hour), Where: fmt.Sprintf("text contains %q", t.mark)}
		err = store.Read(ctx, q, client.Page{Limit: 2}, func(line []byte) error { found = append(found, string(line)); return nil })
	}
	switch {
	case err != nil:
		t.hop(hop{Hop: "found", Detail: err.Error()})
	case len(found) == 0:
		t.hop(hop{Hop: "found", Detail: "the store has it, but a search with this token does not show it; the token may be for another cask"})
	default:
		t.hop(hop{Hop: "found", Done: true, Detail: "by a search in the store"})
	}
	return err == nil && len(found) == 1
}

// place returns the file and the offset of the record in a rolled set.
func (t *tracer) place(path string) string {
	set, err := roll.NewReader(path, false)
	if err != nil {
		return path
	}
	defer set.Close()
	for i := set.Files() - 1; i >= max(0, set.Files()-2); i-- {
		offset, found := int64(0), int64(-1)
		set.Lines(i, func(line []byte) error {
			if bytes.Contains(line, []byte(t.mark)) {
				found = offset
			}
			offset += int64(len(line)) + 1
			return nil
		})
		if found >= 0 {
			return fmt.Sprintf("%s, offset %d", set.Path(i), found)
		}
	}
	return path + "; the format of its lines does not show the text"
}
