package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/state"
	"oakbarrel/core/forecast"
)

func (a *app) forecastCommand() *cobra.Command {
	var stateDir string
	c := &cobra.Command{
		Use:   "forecast",
		Short: "See how files will grow, and when a disk is full",
		Long: `See how the rolled files of an agent grow: what each takes a day, measured by
what it has written in the last days, how far back it reaches and will reach, the
most that keep lets it take, and when each disk is full. The agent need not run.
Exit code 1 says that what keep allows does not fit a disk.`,
		Example: `  oakbarrel forecast --state lantern-bay/reef-02/state
  oakbarrel forecast --state lantern-bay/tide-gw/state --output json`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if _, err := os.Stat(state.PlanCopy(stateDir)); errors.Is(err, fs.ErrNotExist) {
				return couldNot(fmt.Errorf("no agent has left a plan in %s; name the agent's folder with --state", stateDir))
			}
			p, err := a.loadPlan(state.PlanCopy(stateDir))
			if err != nil {
				return err
			}
			report := forecast.Of(p.Sources(), time.Now())
			if a.json() {
				err = a.printJSON(report)
			} else {
				a.printForecast(report)
			}
			for _, d := range report.Disks {
				if err == nil && !d.Fits {
					err = no
				}
			}
			return err
		},
	}
	stateFlag(c, &stateDir)
	return c
}

func (a *app) printForecast(r forecast.Report) {
	rows := [][]string{{"NAME", "A DAY", "NOW", "PIECES", "BACK TO", "WILL REACH", "AT MOST"}}
	for _, s := range r.Sets {
		oldest, reach, most := "-", "no bound", "no bound"
		if s.Oldest != nil {
			oldest = s.Oldest.Local().Format("2006-01-02 15:04")
		}
		if s.WillReach != nil {
			reach = days(*s.WillReach)
		} else if s.Bytes == 0 {
			reach = "-"
		}
		if s.Ceiling != nil {
			most = size(*s.Ceiling)
		}
		rows = append(rows, []string{s.Name, size(int64(s.BytesPerDay)), size(s.Bytes), count(int64(s.Pieces)), oldest, reach, most})
	}
	a.table(rows)
	for _, d := range r.Disks {
		full := "it does not come to be full within ten years"
		if d.Full != nil {
			full = "full on " + d.Full.Local().Format("2006-01-02") + ", in " + days(d.Full.Sub(r.At).Hours()/24)
		}
		fmt.Fprintf(a.stdout, "\ndisk of %s: %s of %s free, %s of it stay free; these files grow by %s a day: %s\n", d.Folder, size(d.Free), size(d.Size), size(d.Floor), size(int64(d.BytesPerDay)), full)
		var unbounded []string
		for _, s := range r.Sets {
			if s.Disk == d.Folder && s.Ceiling == nil {
				unbounded = append(unbounded, s.Name)
			}
		}
		switch {
		case !d.Fits:
			fmt.Fprintf(a.stdout, "  keep allows %s, which does not fit; lower keep, or make room\n", size(*d.Ceiling))
		case d.Ceiling != nil:
			fmt.Fprintf(a.stdout, "  keep allows %s at most\n", size(*d.Ceiling))
		default:
			fmt.Fprintf(a.stdout, "  nothing bounds %s\n", strings.Join(unbounded, ", "))
		}
	}
}

// days writes a number of days, or hours where that says more.
func days(n float64) string {
	switch {
	case n < 2:
		return fmt.Sprintf("%.0f hours", n*24)
	case n < 20:
		return fmt.Sprintf("%.1f days", n)
	}
	return count(int64(n)) + " days"
}
