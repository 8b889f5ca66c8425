package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/client"
)

func (a *app) receiverCommand() *cobra.Command {
	return group("receiver", "Say where notices of alerts go", `  oakbarrel receiver set duty --webhook-file duty.url
  oakbarrel receiver try duty`,
		"receiver list, set NAME, try NAME, or remove NAME",
		a.receiverListCommand(), a.receiverSetCommand(), a.receiverTryCommand(), a.receiverRemoveCommand())
}

func (a *app) receiverListCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "list",
		Short: "List the receivers of notices",
		Example: `  oakbarrel receiver list
  oakbarrel receiver list --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all := []client.Receiver{}
			err := who.asked(c.Context(), func(service *client.Client) (err error) {
				all, err = service.Receivers(c.Context())
				return err
			})
			switch {
			case err != nil || a.json():
				return orPrint(a, err, all)
			case len(all) == 0:
				fmt.Fprintln(a.stdout, "there are no receivers yet; make one with: oakbarrel receiver set NAME --webhook-file FILE")
				return nil
			}
			rows := [][]string{{"RECEIVER", "GETS", "OF ALERTS", "BY", "TROUBLE"}}
			for _, r := range all {
				rows = append(rows, []string{r.Name, r.To, orNone(strings.Join(r.Alerts, ", ")), r.By, orNone(r.Trouble)})
			}
			a.table(rows)
			return nil
		},
	}
	who.flags(c)
	return c
}

func (a *app) receiverSetCommand() *cobra.Command {
	var who admin
	var p client.PutReceiver
	var webhook, push, token, password, body string
	c := &cobra.Command{
		Use:   "set NAME",
		Short: "Make a receiver of notices, or put another in its place",
		Long: `Make a receiver: a webhook, a push topic (RFC 8030), or mail. Addresses of webhooks and
topics, tokens and passwords are secrets; they stand in files, and are not told again.

The body of a webhook may have the places {title}, {text}, {alert}, {note} and {link};
without one it is JSON with all of them.`,
		Example: `  oakbarrel receiver set duty --webhook-file duty.url --body-file duty.json
  oakbarrel receiver set noor --mail-server mail.lantern.example:587 --from oak@lantern.example --to noor@lantern.example --user oak --mail-password-file mail.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) (err error) {
			p.Kind = "mail"
			for _, file := range []struct {
				kind, path string
				to         *string
			}{{"webhook", webhook, &p.Address}, {"push", push, &p.Address}, {"", token, &p.Token}, {"", password, &p.Password}} {
				if file.path == "" {
					continue
				}
				if *file.to, err = readSecret(file.path); err != nil {
					return err
				}
				if file.kind != "" {
					p.Kind = file.kind
				}
			}
			if body != "" {
				text, err := os.ReadFile(body)
				if err != nil {
					return couldNot(err)
				}
				p.Body = strings.TrimSpace(string(text))
			}
			err = who.asked(c.Context(), func(service *client.Client) error { return service.PutReceiver(c.Context(), args[0], p) })
			if err == nil {
				a.say("receiver %s is set; see whether it gets what it is told: oakbarrel receiver try %s", args[0], args[0])
			}
			return err
		},
	}
	f := c.Flags()
	f.StringVar(&webhook, "webhook-file", "", "file that holds the address of a webhook")
	f.StringVar(&push, "push-file", "", "file that holds the address of a push topic")
	f.StringVar(&token, "bearer-file", "", "file that holds a token for either")
	f.StringVar(&body, "body-file", "", "file with the body that a webhook gets")
	f.StringVar(&p.Server, "mail-server", "", "HOST:PORT of a mail server")
	f.StringVar(&p.From, "from", "", "address of mail that letters are from")
	f.StringSliceVar(&p.To, "to", nil, "addresses of mail that they go to")
	f.StringVar(&p.User, "user", "", "name to sign in with at the mail server")
	f.StringVar(&password, "mail-password-file", "", "file that holds the password for it")
	c.MarkFlagsMutuallyExclusive("webhook-file", "push-file", "mail-server")
	c.MarkFlagsOneRequired("webhook-file", "push-file", "mail-server")
	who.flags(c)
	return c
}

func (a *app) receiverTryCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "try NAME",
		Short: "Send a receiver a notice that says it is a test",
		Example: `  oakbarrel receiver try duty
  oakbarrel receiver try duty --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			err := who.asked(c.Context(), func(service *client.Client) error { return service.TryReceiver(c.Context(), args[0]) })
			if err == nil {
				a.say("%s has taken it", args[0])
			}
			return err
		},
	}
	who.flags(c)
	return c
}

func (a *app) receiverRemoveCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "remove NAME",
		Short: "Remove a receiver that no alert names",
		Example: `  oakbarrel receiver remove duty
  oakbarrel receiver remove duty --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			err := who.asked(c.Context(), func(service *client.Client) error { return service.RemoveReceiver(c.Context(), args[0]) })
			if err == nil {
				a.say("receiver %s is removed", args[0])
			}
			return err
		},
	}
	who.flags(c)
	return c
}
