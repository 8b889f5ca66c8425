package cli

import (
	"errors"
	"fmt"
	"log/slog"

	"github.com/spf13/cobra"
	"gorm.io/gorm"

	"oakbarrel/core/plan"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

func (a *app) shelfCommand() *cobra.Command {
	return group("shelf", "Look after the databases that the central store is spread over", `  oakbarrel shelf list --database-file /etc/oakbarrel/database
  oakbarrel shelf add north --shelf-file north.dsn --size 2TiB --database-file /etc/oakbarrel/database`,
		"shelf list, or shelf add NAME --shelf-file FILE", a.shelfAddCommand(), a.shelfListCommand(), a.shelfDrainCommand(), a.shelfCheckCommand(), a.shelfSetCommand(), a.shelfRemoveCommand())
}

// onShelves makes a command that is run on the first shelf of a store.
func (a *app) onShelves(c *cobra.Command, run func(c *cobra.Command, first *gorm.DB, name string) error) *cobra.Command {
	var databaseFile string
	databaseFlag(c, &databaseFile)
	c.RunE = func(c *cobra.Command, args []string) error {
		name := ""
		if len(args) > 0 {
			if name = args[0]; !shelf.IsName(name) {
				return usageError("%q cannot be the name of a shelf: small letters, digits and hyphens, 32 at most", name)
			}
		}
		first, err := openDatabase(c.Context(), databaseFile)
		if err != nil {
			return err
		}
		return run(c, first, name)
	}
	return c
}

// shelfError tells what to do where a shelf is not there.
func shelfError(err error) error {
	if errors.Is(err, shelf.ErrNone) {
		return couldNot(fmt.Errorf("%w; oakbarrel shelf list tells which there are", err))
	}
	if err != nil {
		return couldNot(err)
	}
	return nil
}

func parseShelfSize(text string) (int64, error) {
	size, ok := plan.ParseSize(text)
	if !ok || size <= 0 {
		return 0, usageError("--size cannot be %q; write a size such as 2TiB", text)
	}
	return size, nil
}

func (a *app) shelfAddCommand() *cobra.Command {
	var file, sizeText string
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add a database, or a cluster, that feeds may live on",
		Long: `Add a database, or a cluster, that feeds may live on. It must be empty; its DSN, or
those of a cluster's nodes a line each, stands in --shelf-file, and is kept in the
first database, so that all services find it. They do within seconds. A new feed
goes to the shelf with the most room, or to the one that its cask names.

All services must be of this version before the first shelf is added.`,
		Example: `  oakbarrel shelf add north --shelf-file north.dsn --database-file /etc/oakbarrel/database
  oakbarrel shelf add cellar --shelf-file cellar.dsn --size 4TiB --database-file /etc/oakbarrel/database`,
		Args: cobra.ExactArgs(1),
	}
	c.Flags().StringVar(&file, "shelf-file", "", "file that holds the DSN of the new shelf")
	c.Flags().StringVar(&sizeText, "size", "1TiB", "how much it is meant to hold")
	c.MarkFlagRequired("shelf-file")
	return a.onShelves(c, func(c *cobra.Command, first *gorm.DB, name string) error {
		bytes, err := parseShelfSize(sizeText)
		if err != nil {
			return err
		}
		dsn, err := readSecret(file)
		if err != nil {
			return err
		}
		row, err := shelf.Add(first, name, dsn, bytes)
		if err != nil {
			return couldNot(err)
		}
		if a.json() {
			return a.printJSON(shelf.Told{Name: row.Name, State: "in use", Size: row.Size, Faults: []string{}})
		}
		fmt.Fprintf(a.stdout, "shelf %s takes feeds, and is meant to hold %s\n", row.Name, size(row.Size))
		return nil
	})
}

func (a *app) shelfListCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "list",
		Short: "Tell of the shelves: whether they answer, and what they hold",
		Example: `  oakbarrel shelf list --database-file /etc/oakbarrel/database
  oakbarrel shelf list --output json --database-file /etc/oakbarrel/database`,
		Args: cobra.NoArgs,
	}
	return a.onShelves(c, func(c *cobra.Command, first *gorm.DB, _ string) error {
		shelves, err := shelf.Open(c.Context(), first, slog.New(slog.DiscardHandler))
		if err != nil {
			return couldNot(err)
		}
		all, err := shelves.List(c.Context())
		if err != nil {
			return couldNot(err)
		}
		return a.printShelves(all)
	})
}

func (a *app) printShelves(all []shelf.Told) error {
	if a.json() {
		return a.printJSON(all)
	}
	rows := [][]string{{"SHELF", "STATE", "FEEDS", "HOLDS", "OF"}}
	for _, t := range all {
		holds := size(t.Bytes)
		if t.State == "away" {
			holds = "?"
		}
		rows = append(rows, []string{t.Name, t.State, count(t.Feeds), holds, size(t.Size)})
	}
	a.table(rows)
	for _, t := range all {
		if t.Why != "" {
			fmt.Fprintf(a.stdout, "\n%s is away: %s\n", t.Name, t.Why)
		}
	}
	return nil
}

func (a *app) shelfCheckCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "check",
		Short: "Tell whether each shelf answers, is set up well, and has the feeds that are to live on it",
		Long: `Tell whether each shelf answers, is set up well, and has the feeds that are to live
on it. The exit code is 1 where there is a fault, and 3 where a shelf is away. What
is kept itself is looked through by: oakbarrel store check.`,
		Example: `  oakbarrel shelf check --database-file /etc/oakbarrel/database
  oakbarrel shelf check --output json --database-file /etc/oakbarrel/database`,
		Args: cobra.NoArgs,
	}
	return a.onShelves(c, func(c *cobra.Command, first *gorm.DB, _ string) error {
		shelves, err := shelf.Open(c.Context(), first, slog.New(slog.DiscardHandler))
		if err != nil {
			return couldNot(err)
		}
		all, err := shelves.Check(c.Context())
		if err != nil {
			return couldNot(err)
		}
		if a.json() {
			err = a.printJSON(all)
		}
		away, faults := false, false
		for _, t := range all {
			away, faults = away || t.State == "away", faults || len(t.Faults) > 0
			if !a.json() {
				a.printShelfCheck(t)
			}
		}
		switch {
		case err != nil:
			return err
		case away:
			return couldNot(errors.New("a shelf is away"))
		case faults:
			return no
		}
		return nil
	})
}

func (a *app) printShelfCheck(t shelf.Told) {
	switch {
	case t.State == "away":
		fmt.Fprintf(a.stdout, "%s: away: %s\n", t.Name, t.Why)
	case len(t.Faults) == 0:
		fmt.Fprintf(a.stdout, "%s: in order, %s feeds, %s\n", t.Name, count(t.Feeds), size(t.Bytes))
	}
	for _, f := range t.Faults {
		fmt.Fprintf(a.stdout, "%s: %s\n", t.Name, f)
	}
}

func (a *app) shelfDrainCommand() *cobra.Command {
	var stop bool
	c := &cobra.Command{
		Use:   "drain NAME",
		Short: "Have a shelf give its feeds to others, while they are written to and read",
		Long: `Have a shelf give its feeds to others, one after the other, while they are written to
and read; a service does it. Each record can be read exactly once all the while.
oakbarrel shelf list tells how many are left. With --stop it takes feeds again, and
keeps what has not moved.`,
		Example: `  oakbarrel shelf drain north --database-file /etc/oakbarrel/database
  oakbarrel shelf drain north --stop --database-file /etc/oakbarrel/database`,
		Args: cobra.ExactArgs(1),
	}
	c.Flags().BoolVar(&stop, "stop", false, "end it, and let it take feeds again")
	return a.onShelves(c, func(c *cobra.Command, first *gorm.DB, name string) error {
		if err := shelf.Drain(first, name, !stop); err != nil {
			return shelfError(err)
		}
		return a.printShelfChange(first, name)
	})
}

func (a *app) shelfSetCommand() *cobra.Command {
	var sizeText, file string
	c := &cobra.Command{
		Use:   "set NAME",
		Short: "Set how much a shelf is meant to hold, or how its database is reached",
		Example: `  oakbarrel shelf set first --size 500GiB --database-file /etc/oakbarrel/database
  oakbarrel shelf set north --shelf-file north.dsn --database-file /etc/oakbarrel/database`,
		Args: cobra.ExactArgs(1),
	}
	c.Flags().StringVar(&sizeText, "size", "", "how much it is meant to hold, such as 2TiB")
	c.Flags().StringVar(&file, "shelf-file", "", "file that holds another DSN of the same database: its password or its server has changed")
	c.MarkFlagsOneRequired("size", "shelf-file")
	return a.onShelves(c, func(c *cobra.Command, first *gorm.DB, name string) error {
		if file != "" {
			dsn, err := readSecret(file)
			if err != nil {
				return err
			}
			if err := shelf.Redirect(first, name, dsn); err != nil {
				return shelfError(err)
			}
		}
		if sizeText != "" {
			bytes, err := parseShelfSize(sizeText)
			if err != nil {
				return err
			}
			if err := shelf.Resize(first, name, bytes); err != nil {
				return shelfError(err)
			}
		}
		return a.printShelfChange(first, name)
	})
}

func (a *app) shelfRemoveCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "remove NAME",
		Short: "Forget a shelf that was drained",
		Example: `  oakbarrel shelf remove north --database-file /etc/oakbarrel/database
  oakbarrel shelf remove north --output json --database-file /etc/oakbarrel/database`,
		Args: cobra.ExactArgs(1),
	}
	return a.onShelves(c, func(c *cobra.Command, first *gorm.DB, name string) error {
		if err := shelf.Remove(first, name); err != nil {
			return shelfError(err)
		}
		if a.json() {
			return a.printJSON(map[string]string{"removed": name})
		}
		fmt.Fprintf(a.stdout, "shelf %s is forgotten; its database can go\n", name)
		return nil
	})
}

// printShelfChange tells what a shelf is to do now.
func (a *app) printShelfChange(first *gorm.DB, name string) error {
	var row model.Shelf
	if err := first.Where("name = ?", name).Take(&row).Error; err != nil {
		return couldNot(err)
	}
	if a.json() {
		return a.printJSON(map[string]any{"name": row.Name, "drains": row.Drains, "size": row.Size})
	}
	does := "takes feeds"
	if row.Drains {
		does = "gives its feeds to others"
	}
	fmt.Fprintf(a.stdout, "shelf %s %s, and is meant to hold %s\n", row.Name, does, size(row.Size))
	return nil
}
