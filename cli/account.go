package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/service/access"
)

func (a *app) accountCommand() *cobra.Command {
	return group("account", "Make, list and change the accounts with which people sign in to the console", `  oakbarrel account add amara --role viewer --password-file amara.password
  oakbarrel account add noor --role admin --password-file noor.password --database-file /etc/oakbarrel/database`,
		"account add NAME --role ROLE --password-file FILE", a.accountAddCommand(), a.accountListCommand(), a.accountSetCommand(), a.accountRemoveCommand())
}

// readPassword returns the password in a file, which must be one that can be used.
func readPassword(file string) (string, error) {
	password, err := readSecret(file)
	if err == nil && (len(password) < access.MinPassword || len(password) > access.MaxPassword) {
		err = usageError("the password in %s has to have %d to %d bytes", file, access.MinPassword, access.MaxPassword)
	}
	return password, err
}

func (a *app) accountAddCommand() *cobra.Command {
	var role, passwordFile, databaseFile string
	c := &cobra.Command{
		Use:   "add NAME --role viewer|operator|admin --password-file FILE",
		Short: "Make an account",
		Long:  `Make an account. The password stands in a file; the store keeps only its hash.`,
		Example: `  oakbarrel account add amara --role viewer --password-file amara.password
  oakbarrel account add noor --role admin --password-file noor.password --database-file /etc/oakbarrel/database`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if !caskName.MatchString(args[0]) {
				return usageError("an account cannot be named %q; a name has letters, digits and - _ . and at most 64 of them", args[0])
			}
			if !slices.Contains(access.Roles, role) {
				return usageError("--role cannot be %q; write one of %s", role, strings.Join(access.Roles, ", "))
			}
			password, err := readPassword(passwordFile)
			if err != nil {
				return err
			}
			db, err := openDatabase(c.Context(), databaseFile)
			if err != nil {
				return err
			}
			if err := access.AddAccount(db, args[0], role, password); errors.Is(err, access.ErrExists) {
				return codedError{exitNo, err}
			} else if err != nil {
				return couldNot(err)
			}
			if a.json() {
				return a.printJSON(map[string]string{"name": args[0], "role": role})
			}
			fmt.Fprintf(a.stdout, "account %s is made, as %s\n", args[0], role)
			return nil
		},
	}
	c.Flags().StringVar(&role, "role", "", "viewer, operator or admin")
	c.Flags().StringVar(&passwordFile, "password-file", "", "file that holds the password")
	databaseFlag(c, &databaseFile)
	c.MarkFlagRequired("role")
	c.MarkFlagRequired("password-file")
	return c
}
