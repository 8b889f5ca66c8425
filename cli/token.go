package cli

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"slices"

	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

func (a *app) tokenCommand() *cobra.Command {
	return group("token", "Make, list and revoke the tokens with which agents write and people read", `  oakbarrel token new --cask gateway --may write --label tide-gw
  oakbarrel token list`,
		"token new --cask NAME --may read|write|import", a.tokenNewCommand(), a.tokenListCommand(), a.tokenRevokeCommand())
}

var caskName = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)

func (a *app) tokenNewCommand() *cobra.Command {
	var n client.NewToken
	var databaseFile string
	var who admin
	c := &cobra.Command{
		Use:   "new --cask NAME --may read|write|import|admin",
		Short: "Make a token for a cask, and the cask where it is new",
		Long: `Make a token for a cask, and the cask where it is new. The token is printed once
and cannot be shown again; the store keeps only its hash. The cask * stands for
every cask; a token for an admin is for * alone. A token for writing is that of
one agent, the first that brings it; one for importing serves no agent.

It is made in the database that --database-file or OAKBARREL_DATABASE names.
Where neither does, the service of OAKBARREL_URL makes it, asked with the token
of an admin in OAKBARREL_TOKEN, or by an account that is one.`,
		Example: `  oakbarrel token new --cask gateway --may write --label tide-gw --database-file /etc/oakbarrel/database
  oakbarrel token new --cask '*' --may read --account noor --password-file noor.password`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			switch {
			case n.Cask != access.EveryCask && !caskName.MatchString(n.Cask):
				return usageError("--cask cannot be %q; a name has letters, digits and - _ . and at most 64 of them", n.Cask)
			case !slices.Contains(access.Uses, n.May):
				return usageError("--may cannot be %q; write read, write, import or admin", n.May)
			case n.May == access.Admin && n.Cask != access.EveryCask:
				return usageError("an admin is not bound to a cask; write --cask '*'")
			case len(n.Label) > 128:
				return usageError("--label has at most 128 characters")
			}
			var token client.Token
			var err error
			if inDatabase(&who, databaseFile) {
				token, err = tokenFromDatabase(c.Context(), n, databaseFile)
			} else {
				token, err = tokenFromService(c.Context(), n, &who)
			}
			if err != nil {
				return storeError(err)
			}
			if a.json() {
				return a.printJSON(token)
			}
			fmt.Fprintln(a.stdout, token.Token)
			return nil
		},
	}
	c.Flags().StringVar(&n.Cask, "cask", "", "name of the cask, or *")
	c.Flags().StringVar(&n.May, "may", "", "read, write, import or admin")
	c.Flags().StringVar(&n.Label, "label", "", "what it is for")
	who.flagsOrDatabase(c, &databaseFile)
	c.MarkFlagRequired("cask")
	c.MarkFlagRequired("may")
	return c
}

func tokenFromDatabase(ctx context.Context, n client.NewToken, databaseFile string) (t client.Token, err error) {
	db, err := openDatabase(ctx, databaseFile)
	if err != nil {
		return t, err
	}
	token, err := access.NewToken(db, n.Cask, n.May, n.Label)
	return client.Token{Token: token, NewToken: n}, err
}

// tokenFromService asks the service, as an account where one is named.
func tokenFromService(ctx context.Context, n client.NewToken, who *admin) (t client.Token, err error) {
	if who.account == "" && os.Getenv("OAKBARREL_TOKEN") == "" {
		return t, usageError("a token is made in a database or by the service; write --database-file FILE, or --account NAME --password-file FILE, or set OAKBARREL_TOKEN to the token of an admin")
	}
	err = who.ask(ctx, func(service *client.Client) (err error) {
		t, err = service.NewToken(ctx, n)
		return err
	})
	return t, err
}
