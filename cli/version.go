package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Tell which version this is",
		Long:  `Tell which version this is, of which commit, and with which Go it was built, and when.`,
		Example: `  oakbarrel version
  oakbarrel version --output json`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			v := client.ThisVersion()
			if a.json() {
				return a.printJSON(v)
			}
			fmt.Fprint(a.stdout, versionText(v))
			return nil
		},
	}
}

func versionText(v client.Version) string {
	text := "oakbarrel " + v.Version
	if v.Commit != "" {
		text += ", commit " + v.Commit
	}
	text += ", " + v.Go
	if v.Built != "" {
		text += ", built " + v.Built
	}
	return text + "\n"
}
