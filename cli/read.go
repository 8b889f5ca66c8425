package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/core/condition"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// storeQuery is the flags that choose records.
type storeQuery struct {
	client.Query
	since, until, view string
}

func (q *storeQuery) flags(c *cobra.Command) {
	c.Flags().StringVar(&q.Cask, "cask", "", "name of the cask (default: every one that the token may read)")
	c.Flags().StringVar(&q.since, "since", "15m", "from when on: "+momentHelp)
	c.Flags().StringVar(&q.until, "until", "", "likewise (default: no end)")
	c.Flags().StringVar(&q.Where, "where", "", "condition that the records meet")
	c.Flags().StringVar(&q.view, "view", "", "a search that was kept; other flags override what it says")
}

func (q *storeQuery) parse(now time.Time) (err error) {
	if q.Since, err = parseMoment("--since", q.since, now); err != nil {
		return err
	}
	if q.Until, err = parseMoment("--until", q.until, now); err != nil {
		return err
	}
	if q.Where != "" {
		if _, err := condition.Parse(q.Where, nil); err != nil {
			return whereError(q.Where, err)
		}
	}
	return nil
}

// ready reads the flags, and those of a view, and returns the store that is asked.
func (q *storeQuery) ready(c *cobra.Command, now time.Time) (*client.Client, error) {
	if err := q.parse(now); err != nil {
		return nil, err
	}
	store, err := storeClient()
	if err != nil {
		return nil, err
	}
	return store, q.fromView(c.Context(), c, store)
}

// whereError tells where in a condition on the command line something is wrong.
func whereError(where string, err error) error {
	problem := err.(*condition.Error)
	return usageError("--where, column %d: %s; %s", len([]rune(where[:problem.Offset]))+1, problem.What, problem.Mend)
}

// everything is a limit that no store reaches.
const everything = 1_000_000_000_000

func (a *app) readCommand() *cobra.Command {
	var q storeQuery
	var page client.Page
	var follow bool
	var around int
	c := &cobra.Command{
		Use:   "read",
		Short: "Read records in the central store",
		Long: `Read records in the central store, the newest first. The service is named by
OAKBARREL_URL and OAKBARREL_TOKEN; OAKBARREL_CA_FILE may name certificates to
trust, OAKBARREL_FINGERPRINT the only one.`,
		Example: `  oakbarrel read --cask gateway --since 2h --where 'severity at least error'
  oakbarrel read --where 'app is pumpd and "stall"' --follow`,
		Args:        cobra.NoArgs,
		Annotations: map[string]string{outputs: "text json rfc5424"},
		RunE: func(c *cobra.Command, _ []string) error {
			if page.Limit < 0 {
				return usageError("--limit is at least 1, or 0 for all")
			}
			if around < 0 || around > 1000 {
				return usageError("--context goes from 0 to 1000")
			}
			if page.Limit == 0 {
				page.Limit = everything
			}
			store, err := q.ready(c, time.Now())
			if err != nil {
				return err
			}
			out := bufio.NewWriterSize(a.stdout, 64<<10)
			each := func(line []byte) error { return a.printRecord(out, line) }
			if around > 0 {
				err = a.readInContext(c.Context(), store, q.Query, page, around, out)
				return storeError(errors.Join(err, out.Flush()))
			}
			if !follow {
				err = a.readAll(c.Context(), store, q.Query, page, each)
				return storeError(errors.Join(err, out.Flush()))
			}
			return storeError(store.Follow(c.Context(), q.Query, func(line []byte) error { return errors.Join(each(line), out.Flush()) }))
		},
	}
	q.flags(c)
	c.Flags().IntVar(&page.Limit, "limit", 1000, "how many at most; 0 for all")
	c.Flags().BoolVar(&page.OldestFirst, "oldest-first", false, "begin with the oldest")
	c.Flags().IntVar(&around, "context", 0, "show as many records of the same agent before and after each, too")
	a.oneLineFlag(c)
	c.Flags().BoolVar(&follow, "follow", false, "wait for new records and show them as they come")
	c.MarkFlagsMutuallyExclusive("context", "follow")
	return c
}

// readAll reads what meets the query. On a terminal it tells how far a long search is.
func (a *app) readAll(ctx context.Context, store *client.Client, q client.Query, page client.Page, each func(line []byte) error) error {
	progress := a.progress("block")
	if progress == nil {
		return store.Read(ctx, q, page, each)
	}
	shown := false
	page.Progress = func(searched, of int) {
		shown = true
		progress(int64(searched), int64(of))
	}
	clear := func() {
		if shown {
			fmt.Fprint(a.stderr, "\r\x1b[K")
		}
		shown = false
	}
	defer clear()
	return store.ReadPlaced(ctx, q, page, func(p client.Placed) error {
		clear()
		return each(p.Record)
	})
}

// readInContext prints records with what came before and after by the same agent.
// For people the record itself is marked.
func (a *app) readInContext(ctx context.Context, store *client.Client, q client.Query, page client.Page, each int, out *bufio.Writer) error {
	first := true
	mark := func(text string) {
		if !a.json() {
			out.WriteString(text)
		}
	}
	return store.ReadPlaced(ctx, q, page, func(p client.Placed) error {
		var r record.Record
		if err := r.ParseJSON(p.Record); err != nil {
			return fmt.Errorf("the service sends what is no record: %w", err)
		}
		of := client.NeighboursOf{Cask: q.Cask, Agent: string(r.Agent), Place: p.Place, Each: each}
		if r.Agent == nil {
			of.Host = string(r.Host)
		}
		n, err := store.Neighbours(ctx, of)
		if err != nil {
			return err
		}
		if !first {
			mark("\n")
		}
		first = false
		for _, part := range []struct {
			sign    string
			records []client.Placed
		}{{"  ", n.Before}, {"> ", []client.Placed{p}}, {"  ", n.After}} {
			for _, placed := range part.records {
				mark(part.sign)
				if err := a.printRecord(out, placed.Record); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// storeError gives what the service says its exit code.
func storeError(err error) error {
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == 400 {
		return codedError{exitUsage, err}
	}
	return couldNot(err)
}

// missingOr is storeError for a command about one thing: where there is none, the answer is no.
func missingOr(err error) error {
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusNotFound {
		return codedError{exitNo, err}
	}
	return storeError(err)
}

// printRecord prints a record that came as JSON.
func (a *app) printRecord(out *bufio.Writer, line []byte) error {
	if a.json() {
		_, err := out.Write(append(line, '\n'))
		return err
	}
	var r record.Record
	if err := r.ParseJSON(line); err != nil {
		return fmt.Errorf("the service sends what is no record: %w", err)
	}
	var text []byte
	if a.output == "rfc5424" {
		text = wire.AppendRFC5424Line(nil, &r)
	} else {
		text = recordText(&r, a.severalLines())
	}
	_, err := out.Write(append(text, '\n'))
	return err
}

// severalLines tells whether a text of several lines is shown on as many.
func (a *app) severalLines() bool { return !a.oneLine && !a.json() && isTerminal(a.stdout) }

// oneLineFlag keeps each record on one line, also at a terminal.
func (a *app) oneLineFlag(c *cobra.Command) {
	c.Flags().BoolVar(&a.oneLine, "one-line", false, "keep each record on one line; else a text of several stands on as many, at a terminal")
}

// indent stands before the lines of a text behind the first, and in the place of a tab
// with which such a line begins.
const indent = "    "

// timeWidth is the length of a time with all its microseconds, in characters.
const timeWidth = len("2026-11-25T10:15:00.000000Z")

// recordText writes a record for people: time, severity, host, app, text, and its fields.
func recordText(r *record.Record, severalLines bool) []byte {
	text := r.Time.Append(nil, 6)
	if severalLines { // to stand in columns
		text = fmt.Appendf(text, "%*s", max(0, timeWidth-len(text)), "")
	}
	text = fmt.Appendf(text, " %-9s ", r.Severity())
	text = record.AppendVisible(text, orDash(r.Host))
	text = record.AppendVisible(append(text, ' '), orDash(r.App))
	if r.ProcID != nil {
		text = append(record.AppendVisible(append(text, '['), r.ProcID), ']')
	} else if r.Peer != nil && r.Peer.PID > 0 { // the message claims none, and the kernel knows
		text = fmt.Appendf(text, "[peer %d]", r.Peer.PID)
	}
	text = append(text, ": "...)
	gap := " "
	if severalLines && bytes.IndexByte(r.Text, '\n') >= 0 {
		text, gap = appendLines(text, r.Text), "\n"+indent
	} else {
		text = record.AppendVisible(text, r.Text)
	}
	if r.HasFields() {
		text = r.Fields().Root().AppendJSON(append(text, gap...))
	}
	return text
}

// appendLines writes a text on as many lines as it has.
func appendLines(dst, text []byte) []byte {
	for i, line := range bytes.Split(text, []byte{'\n'}) {
		if i > 0 {
			dst = append(append(dst, '\n'), indent...)
		}
		for ; len(line) > 0 && line[0] == '\t'; line = line[1:] {
			dst = append(dst, indent...)
		}
		dst = record.AppendVisible(dst, bytes.TrimSuffix(line, []byte{'\r'}))
	}
	return dst
}

func orDash(v []byte) []byte {
	if v == nil {
		return []byte("-")
	}
	return v
}

// countedBy is what records may be counted by, beside a field.
var countedBy = []string{"severity", "minute", "host", "agent", "app", "unit", "msgid", "facility", "intake"}

func (a *app) countCommand() *cobra.Command {
	var q storeQuery
	var by string
	var top int
	c := &cobra.Command{
		Use:   "count",
		Short: "Count records in the central store",
		Long: `Count records in the central store by their severity or minute, or by the values
of a property or a field: the most frequent first.`,
		Example: `  oakbarrel count --cask gateway --since 7d --by severity
  oakbarrel count --since 2h --where 'severity at least error' --by app --top 10`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			kind, field := by, ""
			if path, ok := strings.CutPrefix(by, "field "); ok {
				kind, field = "field", strings.TrimSpace(path)
			} else if !slices.Contains(countedBy, by) {
				return usageError("--by cannot be %q; write one of %s, or 'field PATH'", by, strings.Join(countedBy, ", "))
			}
			if top < 1 || top > 10_000 {
				return usageError("--top goes from 1 to 10000")
			}
			store, err := q.ready(c, time.Now())
			if err != nil {
				return err
			}
			counts, err := store.Count(c.Context(), q.Query, kind, field, top)
			if err != nil {
				return storeError(err)
			}
			if a.json() {
				return errors.Join(a.printJSON(counts), whole(counts.Missing))
			}
			rows := [][]string{{by, "records"}}
			for _, n := range counts.By {
				rows = append(rows, []string{n.Key, count(n.Count)})
			}
			if counts.Others > 0 {
				rows = append(rows, []string{"others", count(counts.Others)})
			}
			a.table(append(rows, []string{"total", count(counts.Total)}))
			return whole(counts.Missing)
		},
	}
	q.flags(c)
	c.Flags().StringVar(&by, "by", "severity", strings.Join(countedBy, ", ")+", or 'field PATH'")
	c.Flags().IntVar(&top, "top", 20, "how many values at most")
	return c
}

func (a *app) casksCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "casks",
		Short: "List the casks of the central store",
		Example: `  oakbarrel casks
  oakbarrel casks --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			store, err := storeClient()
			if err != nil {
				return err
			}
			casks, err := store.Casks(c.Context())
			if err != nil {
				return storeError(err)
			}
			var missing []string
			if len(casks) > 0 {
				missing = casks[0].Missing // of all of them together
			}
			if a.json() {
				return errors.Join(a.printJSON(casks), whole(missing))
			}
			rows := [][]string{{"CASK", "RECORDS", "SIZE", "A DAY", "KEEPS", "FIRST", "LAST"}}
			for _, k := range casks {
				rows = append(rows, []string{k.Name, count(k.Records), size(k.Bytes), size(k.BytesPerDay), keeps(k.Retention), clockOrNever(k.First), clockOrNever(k.Last)})
			}
			a.table(rows)
			return whole(missing)
		},
	}
}

func clockOrNever(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return clock(*t)
}

func (a *app) hostsCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "hosts",
		Short: "List the hosts that the service has heard",
		Example: `  oakbarrel hosts
  oakbarrel hosts --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			store, err := storeClient()
			if err != nil {
				return err
			}
			hosts, err := store.Hosts(c.Context())
			if err != nil {
				return storeError(err)
			}
			if a.json() {
				return a.printJSON(hosts)
			}
			rows := [][]string{{"HOST", "AGENT", "LAST HEARD", "HELD", "PLAN"}}
			for _, h := range hosts {
				rows = append(rows, []string{h.Name, h.AgentID, ago(h.LastHeard), count(h.Held), h.PlanHash[:min(12, len(h.PlanHash))]})
			}
			a.table(rows)
			return nil
		},
	}
	c.AddCommand(a.hostsAdoptCommand(), a.hostsInviteCommand(), a.hostsLabelCommand(), a.hostsReplaceCommand(), a.hostsRevokeCommand(), a.hostsShowCommand())
	return c
}
