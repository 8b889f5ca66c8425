package cli

import (
	"fmt"
	"log/slog"
	"os"
	"strings"

	"github.com/mattn/go-isatty"
	"github.com/spf13/cobra"

	"oakbarrel/service/check"
	"oakbarrel/service/shelf"
)

func (a *app) storeCommand() *cobra.Command {
	return group("store", "Look after the database of the central store", `  oakbarrel store check --database-file /etc/oakbarrel/database`,
		"store check", a.storeCheckCommand())
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
