package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

func (a *app) tokenListCommand() *cobra.Command {
	var databaseFile string
	var who admin
	c := &cobra.Command{
		Use:   "list",
		Short: "List the tokens: what each may do, whose it is, and when it was used last",
		Long: `List the tokens that there are, from the database or by the service as "token new"
finds them. The tokens themselves are not kept and cannot be shown. When one was
used last is known to a minute.`,
		Example: `  oakbarrel token list --database-file /etc/oakbarrel/database
  oakbarrel token list --account noor --password-file noor.password`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			tokens, err := listTokens(c.Context(), &who, databaseFile)
			if err != nil {
				return storeError(err)
			}
			if a.json() {
				return a.printJSON(tokens)
			}
			if len(tokens) == 0 {
				fmt.Fprintln(a.stdout, "there is no token yet; make one: oakbarrel token new --cask NAME --may write")
				return nil
			}
			rows := [][]string{{"ID", "MAY", "CASK", "LABEL", "ONLY FOR", "MADE", "LAST USED"}}
			for _, t := range tokens {
				rows = append(rows, []string{strconv.FormatUint(t.ID, 10), t.May, t.Cask, t.Label, onlyFor(t), t.Created.Local().Format(time.DateOnly), agoOrNever(t.Used)})
			}
			a.table(rows)
			return nil
		},
	}
	who.flagsOrDatabase(c, &databaseFile)
	return c
}

// onlyFor names the agent that a token is for.
func onlyFor(t client.GivenToken) string {
	switch {
	case t.AgentID != "":
	case t.May == access.Write:
		return "the first agent that brings it"
	default:
		return "any program"
	}
	return cmp.Or(t.Host, "agent") + " " + t.AgentID[:min(8, len(t.AgentID))]
}

func listTokens(ctx context.Context, who *admin, databaseFile string) (tokens []client.GivenToken, err error) {
	if !inDatabase(who, databaseFile) {
		err = who.ask(ctx, func(service *client.Client) (err error) {
			tokens, err = service.Tokens(ctx)
			return err
		})
		return tokens, err
	}
	db, err := openDatabase(ctx, databaseFile)
	if err != nil {
		return nil, err
	}
	return access.Tokens(db)
}

func (a *app) tokenRevokeCommand() *cobra.Command {
	var databaseFile string
	var who admin
	c := &cobra.Command{
		Use:   "revoke ID",
		Short: "Take a token away, from the next request on",
		Long: `Take a token away. Whoever brings it is refused from the next request on, by every
service before the database. An agent holds what it has until it gets another one.`,
		Example: `  oakbarrel token revoke 12 --database-file /etc/oakbarrel/database
  oakbarrel token revoke 12 --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseUint(args[0], 10, 64)
			if err != nil {
				return usageError("the id of a token is a number, not %q; oakbarrel token list tells it", args[0])
			}
			err = revokeToken(c.Context(), id, &who, databaseFile)
			if errors.Is(err, access.ErrUnknown) {
				return codedError{exitNo, fmt.Errorf("there is no token %d; oakbarrel token list tells those that there are", id)}
			}
			if err != nil {
				return missingOr(err)
			}
			if a.json() {
				return a.printJSON(map[string]uint64{"revoked": id})
			}
			fmt.Fprintf(a.stdout, "token %d is revoked\n", id)
			return nil
		},
	}
	who.flagsOrDatabase(c, &databaseFile)
	return c
}

func revokeToken(ctx context.Context, id uint64, who *admin, databaseFile string) error {
	if !inDatabase(who, databaseFile) {
		return who.ask(ctx, func(service *client.Client) error { return service.RevokeToken(ctx, id) })
	}
	db, err := openDatabase(ctx, databaseFile)
	if err != nil {
		return err
	}
	return access.RevokeToken(db, id)
}
