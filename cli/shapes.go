package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

// remarkable is what may be remarkable about a shape.
var remarkable = []string{"new", "risen", "fallen", "ceased"}

// courseParts is how wide the course of a shape is, in characters.
const courseParts = 24

func (a *app) shapesCommand() *cobra.Command {
	var q storeQuery
	var newSince string
	asked := client.ShapesAsked{Parts: courseParts}
	c := &cobra.Command{
		Use:   "shapes",
		Short: "Tell what kinds of messages there are, and which are new",
		Long: `Tell what kinds of messages there are: texts with their numbers and names left out,
how many of each, on how many hosts, since when, and how they are spread over the
span. Beside the span before, which is as long, it is told which are new, have risen
or fallen out of proportion, or have ceased.

A condition takes a shape, or any text of it: shape is "Pump P… stalled".`,
		Example: `  oakbarrel shapes --cask gateway --since 1d --new-since 7d
  oakbarrel shapes --since 2h --only new,risen --where 'severity at least error'`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			for _, what := range asked.Only {
				if !slices.Contains(remarkable, what) {
					return usageError("--only cannot be %q; write some of %s, with commas between them", what, strings.Join(remarkable, ", "))
				}
			}
			if asked.Limit < 1 || asked.Limit > 10_000 {
				return usageError("--limit goes from 1 to 10000")
			}
			now := time.Now()
			if asked.NewSince, err = parseMoment("--new-since", newSince, now); err != nil {
				return err
			}
			store, err := q.ready(c, now)
			if err != nil {
				return err
			}
			if q.Until.IsZero() {
				q.Until = now
			}
			shapes, err := store.Shapes(c.Context(), q.Query, asked)
			if err != nil {
				return storeError(err)
			}
			if a.json() {
				return errors.Join(a.printJSON(shapes), whole(shapes.Missing))
			}
			a.printShapes(shapes)
			return whole(shapes.Missing)
		},
	}
	q.flags(c)
	since := c.Flags().Lookup("since")
	since.DefValue, q.since = "1d", "1d"
	c.Flags().StringVar(&newSince, "new-since", "", "a shape without a record before is new: "+momentHelp+" (default: as --since)")
	c.Flags().StringSliceVar(&asked.Only, "only", nil, "only those that are "+strings.Join(remarkable, ", "))
	c.Flags().IntVar(&asked.Limit, "limit", 100, "how many shapes at most")
	return c
}

func (a *app) printShapes(shapes client.Shapes) {
	rows := [][]string{{"RECORDS", "BEFORE", "", "COURSE", "HOSTS", "SINCE", "WORST", "SHAPE"}}
	for _, s := range shapes.Shapes {
		rows = append(rows, []string{count(s.Records), count(s.Before), s.What, course(s.Course), hostsOf(s), agoOrNever(s.Since), s.Severity, s.Shape})
	}
	a.table(rows)
	if n := shapes.More.Shapes; n > 0 {
		fmt.Fprintf(a.stdout, "and %s of %s more\n", plural(int(shapes.More.Records), "record"), plural(n, "shape"))
	} else if n := shapes.More.Records; n > 0 {
		fmt.Fprintf(a.stdout, "and %s of shapes too many to be told apart\n", plural(int(n), "record"))
	}
	fmt.Fprintf(a.stdout, "%s in all, and %s in the span before\n", plural(int(shapes.Total), "record"), count(shapes.Before))
}

// hostsOf names the host of a shape, or tells how many it has.
func hostsOf(s client.ShapeOf) string {
	if len(s.Hosts) == 1 {
		return s.Hosts[0].Key
	}
	return fmt.Sprint(s.HostCount)
}

// course draws counts as a line of bars.
func course(counts []int64) string {
	bars := []rune(" ▁▂▃▄▅▆▇█")
	most := max(1, slices.Max(append([]int64{0}, counts...)))
	var line strings.Builder
	for _, n := range counts {
		line.WriteRune(bars[(n*int64(len(bars)-1)+most-1)/most]) // some are never none
	}
	return line.String()
}
