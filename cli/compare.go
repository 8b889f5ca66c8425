package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/core/format"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

// comparer judges a sample by two plans.
type comparer struct {
	*app
	sample string
	store  storeQuery
	limit  int
}

func (a *app) compareCommand() *cobra.Command {
	x := &comparer{app: a}
	c := &cobra.Command{
		Use:   "compare OLD NEW (--sample FILE | --cask NAME)",
		Short: "See what another plan would do with recorded traffic",
		Long: `Judge recorded traffic by two plans: what goes somewhere else, what is kept no
longer, what is kept only now, by rule and outlet, with examples, and what each
outlet would write in a day.

The sample is a file of syslog messages or JSON records, one a line, or the live
file of a rolled set, which is read with its pieces; or what a cask of the store
holds. Exit code 1 says that something is kept no longer.`,
		Example: `  oakbarrel plan compare lantern-bay/tide-gw/plan.yaml new.yaml --sample lantern-bay/tide-gw/logs/all.log
  oakbarrel plan compare old.yaml new.yaml --cask gateway --since 1h`,
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			if byFile, byCask := x.sample != "", c.Flags().Changed("cask"); byFile == byCask {
				return usageError("compare needs recorded traffic; write: --sample FILE, or --cask NAME --since 1h")
			}
			return x.run(c.Context(), args[0], args[1])
		},
	}
	c.Flags().StringVar(&x.sample, "sample", "", "file of messages, or the live file of a rolled set")
	x.store.flags(c)
	c.Flags().IntVar(&x.limit, "limit", 100_000, "how many records of a cask at most, the newest")
	return c
}

func (x *comparer) run(ctx context.Context, oldFile, newFile string) error {
	before, err := x.loadPlan(oldFile)
	if err != nil {
		return err
	}
	after, err := x.loadPlan(newFile)
	if err != nil {
		return err
	}
	c := plan.Compare(before, after)
	if x.sample != "" {
		err = x.addSample(c, before)
	} else {
		err = x.addCask(ctx, c)
	}
	if err != nil {
		return err
	}
	if c.Records == 0 {
		return couldNot(errors.New("the sample holds no record"))
	}
	c.Finish()
	if x.json() {
		err = x.printJSON(c.Report())
	} else {
		x.print(c)
	}
	if err == nil && c.Lost > 0 {
		err = no
	}
	return err
}

// addSample adds the lines of a file or of a rolled set; the old plan may tell their format.
func (x *comparer) addSample(c *plan.Comparison, p *plan.Plan) error {
	var lines *format.Format
	if absolute, err := filepath.Abs(x.sample); err == nil {
		for _, o := range p.Outlets {
			if o.File.Path == absolute {
				lines = o.Format
			}
		}
	}
	set, err := roll.NewReader(x.sample, false)
	if err != nil {
		return couldNot(err)
	}
	defer set.Close()
	asked := c.Asks()
	var r record.Record
	for i := range set.Files() {
		err := set.Lines(i, func(line []byte) error {
			as := lines
			if r.Reset(); as == nil || as.Read(&r, line) != nil {
				as = format.Guess(&r, line)
			}
			if lacks := as.Lacks(asked); lacks != nil {
				return fmt.Errorf("the lines of %s are %s, which does not hold %s, and the plans ask for it: it holds %s; take a sample of json or syslog, or --cask", x.sample, as, strings.Join(lacks, ", "), as.Held())
			}
			c.Add(&r)
			return nil
		})
		if err != nil {
			return couldNot(err)
		}
	}
	return nil
}

func (x *comparer) addCask(ctx context.Context, c *plan.Comparison) error {
	if err := x.store.parse(time.Now()); err != nil {
		return err
	}
	store, err := storeClient()
	if err != nil {
		return err
	}
	return storeError(store.Read(ctx, x.store.Query, client.Page{Limit: x.limit}, func(line []byte) error {
		var r record.Record
		err := r.ParseJSON(line)
		if err == nil {
			c.Add(&r)
		}
		return err
	}))
}

func (x *comparer) print(c *plan.Comparison) {
	fmt.Fprintf(x.stdout, "%s of %s, from %s to %s\n\n", plural(c.Records, "record"), brief(c.Last.Sub(c.First)), clock(c.First), clock(c.Last))
	x.table([][]string{
		{"", "RECORDS"}, {"as before", count(int64(c.Same))}, {"somewhere else", count(int64(c.Moved))}, {"kept no longer", count(int64(c.Lost))}, {"kept only now", count(int64(c.New))},
	})
	rows := [][]string{{"OUTLET", "BEFORE", "AFTER", "A DAY BEFORE", "A DAY AFTER"}}
	for _, o := range c.Outlets {
		row := []string{o.Name, count(o.Records[0]), count(o.Records[1])}
		for side := range 2 {
			perDay, ok := c.ADay(o.Bytes[side])
			switch {
			case o.Missing[side]:
				row = append(row, "not in the plan")
			case !ok:
				row = append(row, "the sample is too short")
			default:
				row = append(row, size(perDay))
			}
		}
		rows = append(rows, row)
	}
	fmt.Fprintln(x.stdout)
	x.table(rows)
	const most = 12
	for i, w := range c.Changes {
		if i == most {
			fmt.Fprintf(x.stdout, "\n  and %s more; --output json has them all\n", plural(len(c.Changes)-most, "change"))
			return
		}
		fmt.Fprintf(x.stdout, "\n  %s: from %s to %s\n", plural(w.Records, "record"), ways(w.From[0], "nowhere"), ways(w.To[0], "nowhere"))
		fmt.Fprintf(x.stdout, "    rules before: %s; after: %s\n", ways(w.From[1], "otherwise"), ways(w.To[1], "otherwise"))
		for _, e := range w.Examples {
			var r record.Record
			if r.ParseJSON([]byte(e)) == nil {
				fmt.Fprintf(x.stdout, "    %s\n", recordText(&r, false))
			}
		}
	}
}

func ways(names []string, without string) string {
	if len(names) == 0 {
		return without
	}
	return strings.Join(names, ", ")
}

// brief writes a span for people.
func brief(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}
