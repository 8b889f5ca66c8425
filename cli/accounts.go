package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/service/access"
)

func (a *app) accountListCommand() *cobra.Command {
	var databaseFile string
	c := &cobra.Command{
		Use:   "list",
		Short: "List the accounts with their roles",
		Example: `  oakbarrel account list
  oakbarrel account list --output json --database-file /etc/oakbarrel/database`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			db, err := openDatabase(c.Context(), databaseFile)
			if err != nil {
				return err
			}
			accounts, err := access.Accounts(db)
			if err != nil {
				return couldNot(err)
			}
			rows := [][]string{{"NAME", "ROLE", "MADE", "SIGNED IN"}}
			for _, g := range accounts {
				rows = append(rows, []string{g.Name, g.Role, g.Created.Local().Format(time.DateOnly), fmt.Sprint(g.Sessions)})
			}
			switch {
			case a.json():
				return a.printJSON(accounts)
			case len(accounts) == 0:
				fmt.Fprintln(a.stdout, "there is no account yet; make one: oakbarrel account add NAME --role admin --password-file FILE")
			default:
				a.table(rows)
			}
			return nil
		},
	}
	databaseFlag(c, &databaseFile)
	return c
}

func (a *app) accountSetCommand() *cobra.Command {
	var role, passwordFile, databaseFile string
	c := &cobra.Command{
		Use:   "set NAME [--role viewer|operator|admin] [--password-file FILE]",
		Short: "Give an account another role or password",
		Long: `Give an account another role, which holds from its next request on, or another
password, with which all of its sign-ins end.`,
		Example: `  oakbarrel account set amara --role operator
  oakbarrel account set amara --password-file amara.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if role == "" && passwordFile == "" {
				return usageError("there is nothing to change; write --role, --password-file, or both")
			}
			if role != "" && !slices.Contains(access.Roles, role) {
				return usageError("--role cannot be %q; write one of %s", role, strings.Join(access.Roles, ", "))
			}
			password := ""
			if passwordFile != "" {
				var err error
				if password, err = readPassword(passwordFile); err != nil {
					return err
				}
			}
			db, err := openDatabase(c.Context(), databaseFile)
			if err != nil {
				return err
			}
			if err := access.SetAccount(db, args[0], role, password, ""); err != nil {
				return accountError(args[0], err)
			}
			return a.printAccount(args[0], "changed")
		},
	}
	c.Flags().StringVar(&role, "role", "", "viewer, operator or admin")
	c.Flags().StringVar(&passwordFile, "password-file", "", "file that holds the new password")
	databaseFlag(c, &databaseFile)
	return c
}

func (a *app) accountRemoveCommand() *cobra.Command {
	var databaseFile string
	c := &cobra.Command{
		Use:   "remove NAME",
		Short: "Remove an account, and end its sign-ins",
		Example: `  oakbarrel account remove amara
  oakbarrel account remove amara --database-file /etc/oakbarrel/database`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			db, err := openDatabase(c.Context(), databaseFile)
			if err != nil {
				return err
			}
			if err := access.RemoveAccount(db, args[0]); err != nil {
				return accountError(args[0], err)
			}
			return a.printAccount(args[0], "removed")
		},
	}
	databaseFlag(c, &databaseFile)
	return c
}

func accountError(name string, err error) error {
	if errors.Is(err, access.ErrNoAccount) || errors.Is(err, access.ErrLastAdmin) {
		return codedError{exitNo, fmt.Errorf("account %s: %w", name, err)}
	}
	return couldNot(err)
}

func (a *app) printAccount(name, done string) error {
	if a.json() {
		return a.printJSON(map[string]string{"name": name, "done": done})
	}
	fmt.Fprintf(a.stdout, "account %s is %s\n", name, done)
	return nil
}
