// Package cli has the commands: each parses its words, calls the part that
// does the work, and prints what comes back. It holds no work of its own.
//
// Its entry is [Main]; docs/commands.md describes the commands.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"oakbarrel/agent/state"
	"oakbarrel/client"
	"oakbarrel/core/record"
)

// The exit codes of all commands.
const (
	exitDone     = 0
	exitNo       = 1 // the answer is no
	exitUsage    = 2 // used wrongly
	exitCouldNot = 3 // no agent, no service, no permission
)

// codedError is an error with the exit code that it leads to. An error
// without text says nothing more: the answer has been printed.
type codedError struct {
	code int
	error
}

func (e codedError) Unwrap() error { return e.error }

func usageError(format string, args ...any) error {
	return codedError{exitUsage, fmt.Errorf(format, args...)}
}

// no is the answer no, where it has been printed.
var no = codedError{exitNo, errors.New("")}

// outputs is the annotation of a command that has other forms of output than text and json.
const outputs = "outputs"

// group makes a command that does nothing but hold others; hint says what to
// write instead of it alone.
func group(use, short, example, hint string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Example: example, Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		return usageError("%s needs to know what to do; write: %s", use, hint)
	}}
	c.AddCommand(commands...)
	return c
}

// app is what all commands share.
type app struct {
	stdout, stderr io.Writer
	output         string
	oneLine        bool // of records that are shown
}

// Root returns the command that all others are part of.
func Root(stdout, stderr io.Writer) *cobra.Command {
	a := &app{stdout: stdout, stderr: stderr}
	root := &cobra.Command{
		Use:           "oakbarrel",
		Short:         "Collects log records on a host: takes them in, routes them by rules, and keeps them in rolled files",
		Version:       "x", // so that there is the flag; the template has the text
		SilenceErrors: true,
		SilenceUsage:  true,
		Example: `  oakbarrel demo --dir lantern-bay
  oakbarrel status --state lantern-bay/tide-gw/state`,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			forms := strings.Fields(cmp.Or(c.Annotations[outputs], "text json"))
			if !slices.Contains(forms, a.output) {
				return usageError("--output cannot be %q; write one of %s", a.output, strings.Join(forms, ", "))
			}
			return nil
		},
		CompletionOptions: cobra.CompletionOptions{DisableDefaultCmd: true},
	}
	root.PersistentFlags().StringVar(&a.output, "output", "text", "text for people, json for programs")
	root.AddCommand(a.commandsHere()...)
	root.AddCommand(a.planCommand(), a.showCommand(), a.verifyCommand(), a.forecastCommand(), a.accountCommand(), a.tokenCommand(), a.readCommand(), a.countCommand(), a.shapesCommand(), a.viewsCommand(), a.casksCommand(), a.caskCommand(), a.storeCommand(), a.shelfCommand(), a.importCommand(), a.auditCommand(), a.hostsCommand(), a.plansCommand(), a.assignCommand(), a.rolloutCommand(), a.alertCommand(), a.noticeCommand(), a.receiverCommand(), a.versionCommand())
	explainArgs(root)
	root.SetVersionTemplate(versionText(client.ThisVersion()))
	root.SetOut(stdout)
	root.SetErr(stderr)
	return root
}

// Main runs the command that args name and returns its exit code.
func Main(args []string, stdout, stderr io.Writer) int {
	root := Root(stdout, stderr)
	root.SetArgs(args)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	if text := err.Error(); text != "" {
		words := strings.Fields(text) // on one line, also where the command parser says it on several
		fmt.Fprintln(stderr, "oakbarrel:", record.Visible(strings.Join(words, " ")))
	}
	return exitCode(err)
}

// explainArgs has the commands below one say how they are written where they are given
// arguments that they do not take.
func explainArgs(parent *cobra.Command) {
	for _, c := range parent.Commands() {
		takes := c.Args
		c.Args = func(c *cobra.Command, args []string) error {
			switch {
			case takes(c, args) == nil:
				return nil
			case c.HasSubCommands():
				var names []string
				for _, sub := range c.Commands() {
					names = append(names, sub.Name())
				}
				return usageError("%s has no command %q; it has %s", c.Name(), args[0], strings.Join(names, ", "))
			case len(args) == 0:
				return usageError("something is missing; write: %s", c.UseLine())
			}
			return usageError("%s cannot be given %q; write: %s", c.Name(), args, c.UseLine())
		}
		explainArgs(c)
	}
}

func exitCode(err error) int {
	var coded codedError
	var path *fs.PathError
	switch {
	case errors.As(err, &coded):
		return coded.code
	case isNoAgent(err), errors.Is(err, state.ErrInUse), errors.Is(err, fs.ErrPermission), errors.As(err, &path):
		return exitCouldNot
	}
	return exitUsage // what is left comes from the reading of words
}

// couldNot marks an error that is not about the words of a command.
func couldNot(err error) error {
	var coded codedError
	if err == nil || errors.As(err, &coded) {
		return err
	}
	return codedError{exitCouldNot, err}
}

// json tells whether the answer is for programs.
func (a *app) json() bool { return a.output == "json" }

// printJSON prints v on one line.
func (a *app) printJSON(v any) error {
	encoder := json.NewEncoder(a.stdout)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}

func stateFlag(c *cobra.Command, dir *string) {
	c.Flags().StringVar(dir, "state", defaultState, "folder in which the agent keeps its own files")
}
