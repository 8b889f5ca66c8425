package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

// admin is as whom the service is asked for what only an admin may: an account,
// or the token of the environment.
type admin struct{ account, passwordFile string }

func (w *admin) flags(c *cobra.Command) {
	c.Flags().StringVar(&w.account, "account", "", "account with which to ask the service")
	c.Flags().StringVar(&w.passwordFile, "password-file", "", "file that holds its password")
	c.MarkFlagsRequiredTogether("account", "password-file")
}

// flagsOrDatabase has a command ask the service, or the database itself.
func (w *admin) flagsOrDatabase(c *cobra.Command, databaseFile *string) {
	databaseFlag(c, databaseFile)
	w.flags(c)
	c.MarkFlagsMutuallyExclusive("database-file", "account")
}

// ask does something with the service.
func (w *admin) ask(ctx context.Context, do func(*client.Client) error) error {
	if w.account == "" {
		service, err := storeClient()
		if err != nil {
			return err
		}
		return do(service)
	}
	password, err := readSecret(w.passwordFile)
	if err != nil {
		return err
	}
	service, err := serviceClient(nil)
	if err != nil {
		return err
	}
	if _, err := service.SignIn(ctx, w.account, password); err != nil {
		return err
	}
	defer service.SignOut(ctx)
	return do(service)
}

// readSecret returns what stands in a file, without the white space around it.
func readSecret(file string) (string, error) {
	var b []byte
	var err error
	if file == "/dev/stdin" { // on systems that have no such file, too
		b, err = io.ReadAll(os.Stdin)
	} else {
		b, err = os.ReadFile(file)
	}
	if err != nil {
		return "", couldNot(err)
	}
	secret := strings.TrimSpace(string(b))
	if secret == "" {
		return "", couldNot(errors.New(file + " is empty"))
	}
	return secret, nil
}
