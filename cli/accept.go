//go:build linux || windows

package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/agent/credential"
	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/disk"
)

func (a *app) acceptCommand() *cobra.Command {
	var stateDir, tokenFile, planFile string
	var served bool
	c := &cobra.Command{
		Use:   "accept INVITATION",
		Short: "Accept an invitation on a host: get a token of its own for the store",
		Long: `Accept an invitation, which "oakbarrel hosts invite" makes, on a host: the service
is recognised by the certificate that the invitation names, and gives this host's
agent a token that no other can use. It is written into a file, and what the plan
needs is printed. A token that the file holds already is the proof that it is the
same agent, and goes. A - in the place of the invitation reads it from stdin.

With --served the host takes its plan from the service from then on: its own plan is
written anew, the one before stays beside it, and a running agent reads it at once.`,
		Example: `  oakbarrel accept barrel-eyJ1IjoiaHR0cHM6Ly9… --served
  oakbarrel accept - --token-file /etc/oakbarrel/token < invitation`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			text := args[0]
			if text == "-" {
				var err error
				if text, err = readSecret("/dev/stdin"); err != nil {
					return err
				}
			}
			t, err := client.ParseTicket(text)
			if err != nil {
				return usageError("%v", err)
			}
			tokenFile, err := filepath.Abs(tokenFile) // as the plan will name it
			if err != nil {
				return couldNot(err)
			}
			id, err := state.Identity(stateDir)
			if err != nil {
				return couldNot(err)
			}
			service, err := client.New(client.Options{URLs: []string{t.URL}, TLS: client.TLS{Fingerprint: t.Fingerprint}, Token: tokenAsProof(tokenFile)})
			if err != nil {
				return couldNot(err)
			}
			host, _ := os.Hostname()
			got, err := service.Accept(c.Context(), client.Accept{Code: t.Code, AgentID: id, Host: host})
			if err != nil {
				return couldNot(err)
			}
			if err := keepToken(tokenFile, got.Token); err != nil {
				return couldNot(fmt.Errorf("the invitation is used up, but the token cannot be written: %w; have another invitation made", err))
			}
			if err := giveToAgent(stateDir, tokenFile); err != nil {
				return couldNot(err)
			}
			if served {
				if err := a.takeServed(c.Context(), serviceOf(t, tokenFile), planFile, stateDir); err != nil || !a.json() {
					return err
				}
			}
			return a.printAccepted(t, got, id, tokenFile)
		},
	}
	stateFlag(c, &stateDir)
	c.Flags().BoolVar(&served, "served", false, "take the plan from the service from now on")
	c.Flags().StringVar(&planFile, "plan", defaultPlan, "file of the plan that --served writes")
	c.Flags().StringVar(&tokenFile, "token-file", defaultToken, "file that the token is written into")
	return c
}

// tokenAsProof returns the token that an agent has already, where it has one: with it
// the service knows that it is the same one that asks for another.
func tokenAsProof(file string) func() (string, error) {
	token, err := credential.Token(file)
	if err != nil {
		return nil
	}
	return func() (string, error) { return token, nil }
}

func keepToken(file, token string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return disk.WriteFile(disk.OS, file, []byte(token+"\n"), 0o600)
}

func (a *app) printAccepted(t client.Ticket, got client.Accepted, id, tokenFile string) error {
	if a.json() {
		return a.printJSON(map[string]any{"url": t.URL, "fingerprint": t.Fingerprint, "cask": got.Cask, "label": got.Label, "agent_id": id, "token_file": tokenFile})
	}
	fmt.Fprintf(a.stderr, "The store knows this host as %s. Its token is in %s. The plan needs:\n", got.Label, tokenFile)
	fmt.Fprintf(a.stdout, "service: {%s}\noutlets:\n  centre: {store: {cask: %s}}\n", serviceOf(t, tokenFile), got.Cask)
	return nil
}

// serviceOf returns what a plan says of the service that has sent an invitation.
func serviceOf(t client.Ticket, tokenFile string) string {
	service := fmt.Sprintf("url: %q, token_file: %s", t.URL, tokenFile)
	if t.Fingerprint != "" {
		service += fmt.Sprintf(", fingerprint: %q", t.Fingerprint)
	}
	return service
}

// takeServed has a host take its plan from the service.
func (a *app) takeServed(ctx context.Context, service, planFile, stateDir string) error {
	text := "# Written by: oakbarrel accept --served. What this host does comes from the service.\noakbarrel: 1\nplan: served\nservice: {" + service + "}\n"
	before := planFile + ".before"
	if old, err := os.ReadFile(planFile); err == nil {
		if err := disk.WriteFile(disk.OS, before, old, 0o644); err != nil {
			return couldNot(err)
		}
		fmt.Fprintf(a.stderr, "The plan before is in %s.\n", before)
	}
	if err := disk.WriteFile(disk.OS, planFile, []byte(text), 0o644); err != nil {
		return couldNot(err)
	}
	if err := control.Reload(ctx, stateDir); err != nil {
		fmt.Fprintf(a.stderr, "This host takes its plan from the service once its agent runs.\n")
		return nil
	}
	fmt.Fprintf(a.stderr, "This host takes its plan from the service; oakbarrel doctor tells what comes of it.\n")
	return nil
}
