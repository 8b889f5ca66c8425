package cli

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

func (a *app) viewsCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "views",
		Short:   "List the searches that were kept, for the console and for --view",
		Example: `  oakbarrel views`,
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			store, err := storeClient()
			if err != nil {
				return err
			}
			views, err := store.Views(c.Context())
			return a.printViews(views, err)
		},
	}
	c.AddCommand(a.viewsKeepCommand(), a.viewsDropCommand())
	return c
}

func (a *app) viewsKeepCommand() *cobra.Command {
	var v client.View
	c := &cobra.Command{
		Use:   "keep NAME",
		Short: "Keep a search under a name, in the place of the one that had it",
		Long: `Keep a search under a name, in the place of the one that had it. It is one's own:
that of the account, or of the token, with which it was kept. With --shared it is
for all, which takes an operator.`,
		Example: `  oakbarrel views keep 'ticket faults' --cask gateway --since 1d --where 'host is kelp-01 and severity at least error'`,
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			v.Name = args[0]
			if v.Name == "" || len(v.Name) > 64 {
				return usageError("the name of a view has 1 to 64 characters")
			}
			if !isSpan.MatchString(v.Since) {
				return usageError("--since cannot be %q; a view begins so long ago: 15m, 2h, 7d", v.Since)
			}
			q := storeQuery{Query: client.Query{Where: v.Where}}
			if err := q.parse(time.Now()); err != nil {
				return err
			}
			store, err := storeClient()
			if err != nil {
				return err
			}
			views, err := store.KeepView(c.Context(), v)
			return a.printViews(views, err)
		},
	}
	c.Flags().BoolVar(&v.Shared, "shared", false, "for all, and not for oneself alone; it takes an operator")
	c.Flags().StringVar(&v.Cask, "cask", "", "name of the cask (default: every one that may be read)")
	c.Flags().StringVar(&v.Since, "since", "15m", "how long ago: 15m, 2h, 7d")
	c.Flags().StringVar(&v.Where, "where", "", "condition that the records meet")
	return c
}

var isSpan = regexp.MustCompile(`^[0-9]+[smhd]$`)

func (a *app) viewsDropCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "drop NAME",
		Short:   "Drop a search that was kept",
		Example: `  oakbarrel views drop 'ticket faults'`,
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			store, err := storeClient()
			if err != nil {
				return err
			}
			views, err := store.DropView(c.Context(), args[0])
			return a.printViews(views, err)
		},
	}
}

func (a *app) printViews(views []client.View, err error) error {
	if err != nil {
		return storeError(err)
	}
	if a.json() {
		return a.printJSON(views)
	}
	rows := [][]string{{"VIEW", "CASK", "SINCE", "FOR", "KEPT BY", "WHERE"}}
	for _, v := range views {
		cask := v.Cask
		if cask == "" {
			cask = "every one"
		}
		whose := "oneself"
		if v.Shared {
			whose = "all"
		}
		rows = append(rows, []string{v.Name, cask, v.Since, whose, v.By, v.Where})
	}
	a.table(rows)
	return nil
}

// fromView takes what a view says, where the flags do not say other things.
func (q *storeQuery) fromView(ctx context.Context, c *cobra.Command, store *client.Client) error {
	if q.view == "" {
		return nil
	}
	views, err := store.Views(ctx)
	if err != nil {
		return storeError(err)
	}
	i := slices.IndexFunc(views, func(v client.View) bool { return v.Name == q.view })
	if i < 0 {
		return codedError{exitNo, fmt.Errorf("there is no view %q; oakbarrel views lists those that there are", q.view)}
	}
	v := views[i]
	for flag, to := range map[string]struct {
		value *string
		view  string
	}{"cask": {&q.Cask, v.Cask}, "since": {&q.since, v.Since}, "where": {&q.Where, v.Where}} {
		if !c.Flags().Changed(flag) {
			*to.value = to.view
		}
	}
	return q.parse(time.Now())
}
