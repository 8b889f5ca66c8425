package cli

import (
	"fmt"
	"regexp"

	"github.com/spf13/cobra"

	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

func (a *app) tokenCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "token",
		Short: "Make the tokens with which agents write and people read",
		Example: `  oakbarrel token new --cask gateway --may write --label tide-gw
  oakbarrel token new --cask gateway --may read`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return usageError("token needs to know what to do; write: token new --cask NAME --may read|write")
		},
	}
	c.AddCommand(a.tokenNewCommand())
	return c
}

var caskName = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)

func (a *app) tokenNewCommand() *cobra.Command {
	var cask, may, label, databaseFile string
	c := &cobra.Command{
		Use:   "new --cask NAME --may read|write",
		Short: "Make a token for a cask, and the cask where it is new",
		Long: `Make a token for a cask, and the cask where it is new. The token is printed once
and cannot be shown again; the store keeps only its hash. The cask * stands for
every cask.`,
		Example: `  oakbarrel token new --cask gateway --may write --label tide-gw
  oakbarrel token new --cask '*' --may read --database-file /etc/oakbarrel/database`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			switch {
			case cask != access.EveryCask && !caskName.MatchString(cask):
				return usageError("--cask cannot be %q; a name has letters, digits and - _ . and at most 64 of them", cask)
			case may != access.Read && may != access.Write:
				return usageError("--may cannot be %q; write read or write", may)
			case len(label) > 128:
				return usageError("--label has at most 128 characters")
			}
			dsn, err := readDSN(databaseFile)
			if err != nil {
				return err
			}
			db, err := model.Open(dsn)
			if err != nil {
				return couldNot(err)
			}
			token, err := access.NewToken(db.WithContext(c.Context()), cask, may, label)
			if err != nil {
				return couldNot(err)
			}
			if a.json() {
				return a.printJSON(map[string]string{"token": token, "cask": cask, "may": may, "label": label})
			}
			fmt.Fprintln(a.stdout, token)
			return nil
		},
	}
	c.Flags().StringVar(&cask, "cask", "", "name of the cask, or *")
	c.Flags().StringVar(&may, "may", "", "read or write")
	c.Flags().StringVar(&label, "label", "", "what it is for")
	c.Flags().StringVar(&databaseFile, "database-file", "", "file that holds the DSN of the database")
	c.MarkFlagRequired("cask")
	c.MarkFlagRequired("may")
	return c
}
