package cli

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/core/fingerprint"
)

func (a *app) hostsInviteCommand() *cobra.Command {
	var i client.Invite
	valid := span(time.Hour)
	var who admin
	var labels []string
	c := &cobra.Command{
		Use:   "invite --cask NAME",
		Short: "Make an invitation: one text with which a host gets a token of its own",
		Long: `Make an invitation: one text that holds the service's address, a code that can be
used once, and the fingerprint of its certificate. On the host, "oakbarrel accept"
takes it, and gets a token that only this host's agent can use. With --uses it
serves an image that many hosts start from: each gets a token of its own.

It takes the token of an admin in OAKBARREL_TOKEN, or an account that is one.`,
		Example: `  oakbarrel hosts invite --cask gateway --label tide-gw
  oakbarrel hosts invite --cask gateway --uses 50 --valid 1d --account noor --password-file noor.password`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			switch {
			case !caskName.MatchString(i.Cask):
				return usageError("--cask cannot be %q; a name has letters, digits and - _ . and at most 64 of them", i.Cask)
			case !valid.fits():
				return usageError("--valid goes from 1m to 30d")
			case i.Uses < 1 || i.Uses > 10_000:
				return usageError("--uses goes from 1 to 10000")
			case len(i.Label) > 128:
				return usageError("--label has at most 128 characters")
			}
			i.Minutes = valid.minutes()
			changes, err := labelChanges(append([]string{""}, labels...), nil, nil)
			if err != nil && len(labels) > 0 {
				return err
			}
			i.Labels = changes.Labels
			var made client.Invitation
			err = who.ask(c.Context(), func(service *client.Client) (err error) {
				if made, err = service.Invite(c.Context(), i); err != nil {
					return err
				}
				seen, err := service.Look(c.Context())
				if err == nil && seen.TLS != nil { // as it is seen from here, also through something in between
					made.Fingerprint = fingerprint.Of(seen.TLS.PeerCertificates[0].Raw).String()
				}
				return err
			})
			if err != nil {
				return storeError(err)
			}
			t := client.Ticket{URL: strings.Fields(os.Getenv("OAKBARREL_URL"))[0], Code: made.Code, Fingerprint: made.Fingerprint}
			if a.json() {
				return a.printJSON(map[string]any{"invitation": t.String(), "ends": made.Ends, "cask": i.Cask, "label": i.Label, "uses": i.Uses})
			}
			fmt.Fprintln(a.stdout, t)
			fmt.Fprintf(a.stderr, "It can be used %s, until %s. On the host:\n  oakbarrel accept %s…\n", times(i.Uses), clock(made.Ends), t.String()[:14])
			return nil
		},
	}
	c.Flags().StringVar(&i.Cask, "cask", "", "cask that the host may write to; it is made where it is new")
	c.Flags().StringVar(&i.Label, "label", "", "what the host is known by (default: its own name)")
	c.Flags().StringSliceVar(&labels, "host-label", nil, "NAME=VALUE, a label that the hosts get, by which plans are assigned; may be given several times")
	c.Flags().Var(&valid, "valid", "for how long it can be accepted, such as 90m or 1d")
	c.Flags().IntVar(&i.Uses, "uses", 1, "how many hosts can accept it")
	who.flags(c)
	c.MarkFlagRequired("cask")
	return c
}

func (a *app) hostsRevokeCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "revoke AGENT-ID",
		Short: "Take away the token that a host got for an invitation",
		Long: `Take away the token that a host got for an invitation: the store refuses what it
sends from then on, and the host holds it. "oakbarrel hosts" tells the ids.`,
		Example: `  oakbarrel hosts revoke 0a4c9d1e5b6f70812233445566778899`,
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if !isAgentID.MatchString(args[0]) {
				return usageError("%q is not the id of an agent; oakbarrel hosts tells them", args[0])
			}
			err := who.ask(c.Context(), func(service *client.Client) error {
				_, err := service.Revoke(c.Context(), args[0])
				return err
			})
			switch {
			case err != nil:
				return missingOr(err)
			case a.json():
				return a.printJSON(map[string]any{"agent_id": args[0], "revoked": true})
			}
			fmt.Fprintln(a.stdout, "the store takes nothing from it any more")
			return nil
		},
	}
	who.flags(c)
	return c
}

var isAgentID = regexp.MustCompile(`^[0-9a-f]{32}$`)
