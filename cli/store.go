package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"

	"github.com/mattn/go-isatty"
	"github.com/spf13/cobra"
	"gorm.io/gorm"

	"oakbarrel/service/check"
	"oakbarrel/service/model"
	"oakbarrel/service/shelf"
)

func (a *app) storeCommand() *cobra.Command {
	return group("store", "Look after the database of the central store", `  oakbarrel store check --database-file /etc/oakbarrel/database
  oakbarrel store compact --database-file /etc/oakbarrel/database`,
		"store check, or store compact", a.storeCheckCommand(), a.storeCompactCommand())
}

func (a *app) storeCompactCommand() *cobra.Command {
	var databaseFile string
	c := &cobra.Command{
		Use:   "compact",
		Short: "Give the room that removed records have left back to the file system",
		Long: `Give the room that removed records have left back to the file system, table by
table and shelf by shelf, while the store works. What is removed leaves room that
later records use; this is for when they will not need it. The disk of a database
must have room for a copy of what is left of its largest table meanwhile.`,
		Example: `  oakbarrel store compact --database-file /etc/oakbarrel/database
  oakbarrel store compact --output json --database-file /etc/oakbarrel/database`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			dsn, err := readDSN(databaseFile)
			if err != nil {
				return err
			}
			first, err := model.OpenPatiently(dsn, slog.New(slog.DiscardHandler))
			if err != nil {
				return couldNot(err)
			}
			var rows []model.Shelf
			if err := first.WithContext(c.Context()).Order("id").Find(&rows).Error; err != nil {
				return couldNot(err)
			}
			all := []shelf.Compacted{}
			var failed error
			for _, row := range rows {
				done, err := a.compactShelf(c.Context(), first, row)
				if all = append(all, done...); err != nil {
					failed = errors.Join(failed, fmt.Errorf("shelf %s: %w", row.Name, err))
				}
			}
			return couldNot(errors.Join(failed, a.printCompacted(all)))
		},
	}
	databaseFlag(c, &databaseFile)
	return c
}

func (a *app) compactShelf(ctx context.Context, db *gorm.DB, row model.Shelf) ([]shelf.Compacted, error) {
	if row.ID != model.FirstShelf {
		var err error
		if db, err = model.OpenPatiently(row.DSN, slog.New(slog.DiscardHandler)); err != nil {
			return nil, err
		}
		defer func() {
			pool, _ := db.DB()
			pool.Close()
		}()
	}
	return shelf.Compact(ctx, row.Name, db, func(table string, bytes int64) {
		fmt.Fprintf(a.stderr, "shelf %s: compacts %s, %s\n", row.Name, table, size(bytes))
	})
}

func (a *app) printCompacted(all []shelf.Compacted) error {
	if a.json() {
		return a.printJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintln(a.stdout, "nothing is to be gained: little of any table is free")
		return nil
	}
	rows := [][]string{{"SHELF", "TABLE", "BEFORE", "AFTER", "GIVEN BACK"}}
	for _, c := range all {
		rows = append(rows, []string{c.Shelf, c.Table, size(c.Before), size(c.After), size(max(0, c.Before-c.After))})
	}
	a.table(rows)
	return nil
}

func (a *app) storeCheckCommand() *cobra.Command {
	var databaseFile string
	c := &cobra.Command{
		Use:   "check",
		Short: "Read every block of the store, and tell what is damaged or missing",
		Long: `Read every block of the store, and tell what is damaged or missing: blocks whose
checksum is another than that of what came, or that cannot be read; feeds with a
gap; counts that are not those of the records. The exit code is 1 where there is
a fault. Nothing is changed, and the service may run meanwhile.`,
		Example: `  oakbarrel store check --database-file /etc/oakbarrel/database`,
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			db, err := openDatabase(c.Context(), databaseFile)
			if err != nil {
				return err
			}
			shelves, err := shelf.Open(c.Context(), db, slog.New(slog.DiscardHandler))
			if err != nil {
				return couldNot(err)
			}
			report, err := check.Store(c.Context(), shelves, a.progress("block"))
			if err != nil {
				return couldNot(fmt.Errorf("the store cannot be looked through: %w", err))
			}
			if a.json() {
				err = a.printJSON(report)
			} else {
				a.printReport(report)
			}
			switch {
			case err == nil && len(report.Missing) > 0:
				err = couldNot(fmt.Errorf("not looked at, as they are away: %s", strings.Join(report.Missing, ", ")))
			case err == nil && len(report.Faults) > 0:
				err = no
			}
			return err
		},
	}
	databaseFlag(c, &databaseFile)
	return c
}

func (a *app) printReport(r check.Report) {
	for _, f := range r.Faults {
		where := "cask " + f.Cask
		if f.Shelf != "" {
			where = "shelf " + f.Shelf + ", " + where
		}
		if f.Block > 0 {
			where += fmt.Sprintf(", block %d", f.Block)
		}
		fmt.Fprintf(a.stdout, "%s: %s\n", where, f.What)
	}
	fmt.Fprintf(a.stdout, "%s blocks of %s feeds with %s records, %s: ", count(r.Blocks), count(int64(r.Feeds)), count(r.Records), size(r.Bytes))
	if n := len(r.Faults); n > 0 {
		fmt.Fprintf(a.stdout, "%d faults\n", n)
	} else {
		fmt.Fprintln(a.stdout, "in order")
	}
}

// progress returns what tells on a terminal how far long work has come, nil
// where stderr is none.
func (a *app) progress(unit string) func(done, all int64) {
	file, ok := a.stderr.(*os.File)
	if !ok || !isatty.IsTerminal(file.Fd()) {
		return nil
	}
	return func(done, all int64) {
		fmt.Fprintf(file, "\r\x1b[K%s %s of %s", unit, count(done), count(all))
		if done >= all {
			fmt.Fprint(file, "\r\x1b[K")
		}
	}
}
