package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/core/plan"
)

func (a *app) caskCommand() *cobra.Command {
	return group("cask", "Tell of a cask of the central store, or set for how long it keeps records", `  oakbarrel cask show gateway
  oakbarrel cask set gateway --keep-days 30 --keep-total 20GiB`,
		"cask show NAME, or cask set NAME --keep-days 30", a.caskShowCommand(), a.caskSetCommand())
}

func (a *app) caskShowCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "show NAME",
		Short:   "Tell of a cask, and of the feeds that flow into it",
		Example: `  oakbarrel cask show gateway`,
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			store, err := storeClient()
			if err != nil {
				return err
			}
			k, err := store.Cask(c.Context(), args[0])
			if err != nil {
				return storeError(err)
			}
			return a.printCask(k)
		},
	}
}

func (a *app) caskSetCommand() *cobra.Command {
	var days, atMost int
	var total, shelf string
	var who admin
	var hold, release bool
	c := &cobra.Command{
		Use:   "set NAME",
		Short: "Set for how long a cask keeps its records",
		Long: `Set for how long a cask keeps its records: by days since they came, by its total
size on disk, or both; what is exceeded first counts, and whole blocks go, the
oldest first. 0 takes a bound away. A cask on hold keeps everything, but for
--days-at-most, which overrides all. What is not named stays as it is.

It takes the token of an admin in OAKBARREL_TOKEN, or an account that is one.`,
		Example: `  oakbarrel cask set gateway --keep-days 30 --keep-total 20GiB
  oakbarrel cask set gateway --release --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var r client.SetRetention
			set := c.Flags().Changed
			if set("keep-days") {
				r.KeepDays = &days
			}
			if set("days-at-most") {
				r.DaysAtMost = &atMost
			}
			if set("keep-total") {
				bytes, ok := plan.ParseSize(total)
				if !ok && total != "0" {
					return usageError("--keep-total cannot be %q; write a size such as 20GiB, or 0 for no bound", total)
				}
				r.KeepTotal = &bytes
			}
			if set("shelf") {
				r.Shelf = &shelf
			}
			if hold || release {
				r.Held = &hold
			}
			switch {
			case !caskName.MatchString(args[0]):
				return usageError("%q cannot be the name of a cask", args[0])
			case r == client.SetRetention{}:
				return usageError("nothing is to be set; write --keep-days, --keep-total, --days-at-most, --hold, --release or --shelf")
			case days < 0 || atMost < 0 || days > 36500 || atMost > 36500:
				return usageError("days go from 0, for no bound, to 36500")
			}
			var k client.CaskAndFeeds
			err := who.ask(c.Context(), func(service *client.Client) (err error) {
				k, err = service.SetCask(c.Context(), args[0], r)
				return err
			})
			if err != nil {
				return storeError(err)
			}
			return a.printCask(k)
		},
	}
	c.Flags().IntVar(&days, "keep-days", 0, "days since a record came; 0 for no bound")
	c.Flags().StringVar(&total, "keep-total", "", "size on disk, such as 20GiB; 0 for no bound")
	c.Flags().IntVar(&atMost, "days-at-most", 0, "days after which records go whatever else is said; 0 for no bound")
	c.Flags().StringVar(&shelf, "shelf", "", "the shelf where its new feeds go; empty for the one with the most room")
	c.Flags().BoolVar(&hold, "hold", false, "keep everything until it is released")
	c.Flags().BoolVar(&release, "release", false, "end the hold")
	who.flags(c)
	c.MarkFlagsMutuallyExclusive("hold", "release")
	return c
}

func (a *app) printCask(k client.CaskAndFeeds) error {
	if a.json() {
		return errors.Join(a.printJSON(k), whole(k.Missing))
	}
	fmt.Fprintf(a.stdout, "%s: %s records, %s; %s a day came over the last week\n", k.Name, count(k.Records), size(k.Bytes), size(k.BytesPerDay))
	fmt.Fprintf(a.stdout, "keeps %s\n", keeps(k.Retention))
	if k.Shelf != "" {
		fmt.Fprintf(a.stdout, "its new feeds go to shelf %s\n", k.Shelf)
	}
	if k.WillReach != nil {
		fmt.Fprintf(a.stdout, "will take %s, as it grows now\n", size(*k.WillReach))
	} else {
		fmt.Fprintln(a.stdout, "grows without bound")
	}
	rows := [][]string{{"HOST", "KNOWN AS", "OUTLET", "LAST NUMBER", "RECORDS", "SHED", "LOST", "REFUSED", "LAST BATCH", "DELAY"}}
	for _, f := range k.Feeds {
		delay := (time.Duration(f.DelaySeconds*1000) * time.Millisecond).Round(100 * time.Millisecond).String()
		outlet, records := f.Outlet, count(f.Records)
		if f.Generation != "" && f.Generation != client.Imported {
			outlet += ", anew"
		}
		if f.Twice > 0 {
			records += fmt.Sprintf(" (%s maybe twice)", count(f.Twice))
		}
		rows = append(rows, []string{f.Host, f.Sender, outlet, count(int64(f.Confirmed)), records, count(f.Shed), count(f.Lost), count(f.Refused), agoOrNever(f.Arrived), delay})
	}
	if len(rows) > 1 {
		fmt.Fprintln(a.stdout, "\nfeeds")
		a.table(rows)
	}
	return whole(k.Missing)
}

// whole is nil where an answer lacks nothing of any shelf.
func whole(missing []string) error {
	if len(missing) == 0 {
		return nil
	}
	return couldNot(&client.MissingShelves{Names: missing})
}

// keeps tells for how long a cask keeps its records.
func keeps(r client.Retention) string {
	text := "everything"
	switch {
	case r.Held:
		text = "everything, as it is on hold"
	case r.KeepDays > 0 && r.KeepTotal > 0:
		text = fmt.Sprintf("%d days, and %s at most", r.KeepDays, size(r.KeepTotal))
	case r.KeepDays > 0:
		text = fmt.Sprintf("%d days", r.KeepDays)
	case r.KeepTotal > 0:
		text = size(r.KeepTotal)
	}
	if r.DaysAtMost > 0 {
		text += fmt.Sprintf(", in no case longer than %d days", r.DaysAtMost)
	}
	return text
}

func (a *app) auditCommand() *cobra.Command {
	var since string
	var who admin
	var limit int
	c := &cobra.Command{
		Use:   "audit",
		Short: "Tell who did or read what at the service, the newest first",
		Example: `  oakbarrel audit --since 2d
  oakbarrel audit --account noor --password-file noor.password --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			begin, err := parseMoment("--since", since, time.Now())
			if err != nil {
				return err
			}
			if limit < 1 || limit > 10000 {
				return usageError("--limit goes from 1 to 10000")
			}
			var acts []client.Act
			err = who.ask(c.Context(), func(service *client.Client) (err error) {
				acts, err = service.Audit(c.Context(), begin, limit)
				return err
			})
			if err != nil {
				return storeError(err)
			}
			if a.json() {
				return a.printJSON(acts)
			}
			rows := [][]string{{"TIME", "BY", "WHAT", "DETAIL"}}
			for _, act := range acts {
				rows = append(rows, []string{clock(act.At), act.By, act.What, act.Detail})
			}
			a.table(rows)
			return nil
		},
	}
	c.Flags().StringVar(&since, "since", "", "a time such as 2026-11-25T10:15:00Z, or how long ago: 15m, 2h, 7d (default: no beginning)")
	c.Flags().IntVar(&limit, "limit", 100, "how many at most")
	who.flags(c)
	return c
}
