package cli

import (
	"context"
	"log/slog"
	"os"

	"github.com/spf13/cobra"
	"gorm.io/gorm"

	"oakbarrel/service/model"
)

// databaseVariable is the variable of the environment that may hold the DSN.
const databaseVariable = "OAKBARREL_DATABASE"

// readDSN returns the DSN in a file, or in the environment.
func readDSN(file string) (string, error) {
	if file == "" {
		if dsn := os.Getenv(databaseVariable); dsn != "" {
			return dsn, nil
		}
		return "", usageError("no database is named; write --database-file FILE, or set OAKBARREL_DATABASE")
	}
	return readSecret(file)
}

func databaseFlag(c *cobra.Command, file *string) {
	c.Flags().StringVar(file, "database-file", "", "file that holds the DSN of the database")
}

// inDatabase tells whether something is done in the database itself, and not by
// the service.
func inDatabase(who *admin, databaseFile string) bool {
	return who.account == "" && (databaseFile != "" || os.Getenv(databaseVariable) != "")
}

func openDatabase(ctx context.Context, databaseFile string) (*gorm.DB, error) {
	dsn, err := readDSN(databaseFile)
	if err != nil {
		return nil, err
	}
	db, err := model.Open(dsn, slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, couldNot(err)
	}
	return db.WithContext(ctx), nil
}
