//go:build linux || windows

package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/client"
	"oakbarrel/core/tail"
)

func (a *app) followedCommand() *cobra.Command {
	var state string
	c := &cobra.Command{
		Use:   "followed [FILE]",
		Short: "Show how far each file is followed, or why it is not",
		Long: `Show, of the files that an agent follows, their size, how far they are read and
passed on, how far behind that is, and why a file is not read. Where no agent
runs, it tells what the last one has written down.`,
		Example: `  oakbarrel followed --state lantern-bay/reef-02/state
  oakbarrel followed --state lantern-bay/reef-02/state /srv/pumps/pumpd.log`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			files, running, err := control.Followed(c.Context(), state)
			if err != nil {
				return couldNot(err)
			}
			if len(args) > 0 {
				if files, err = only(files, args[0], state); err != nil {
					return err
				}
			}
			return a.printFollowed(files, running)
		},
	}
	stateFlag(c, &state)
	c.AddCommand(a.setBackCommand())
	return c
}

// only returns what is known of one file.
func only(files []client.FollowedFile, path, state string) ([]client.FollowedFile, error) {
	full, err := filepath.Abs(path)
	if err != nil {
		return nil, couldNot(err)
	}
	found := slices.DeleteFunc(slices.Clone(files), func(f client.FollowedFile) bool { return f.Path != full })
	if len(found) > 0 {
		return found, nil
	}
	return nil, codedError{exitNo, fmt.Errorf("%s is not followed: no pattern of an intake finds it; they are %s", full, control.Patterns(state))}
}

func (a *app) printFollowed(files []client.FollowedFile, running bool) error {
	if a.json() {
		return a.printJSON(files)
	}
	if !running {
		fmt.Fprintln(a.stderr, "no agent runs with this state folder; this is what the last one has written down")
	}
	if len(files) == 0 {
		fmt.Fprintln(a.stdout, "no file is followed")
		return nil
	}
	rows := [][]string{{"INTAKE", "SIZE", "READ", "BEHIND", "STATE", "FILE"}}
	for _, f := range files {
		behind, state := "", string(f.State)
		late := shortSpan(time.Duration(f.BehindSeconds * float64(time.Second)))
		switch {
		case f.Behind > 0:
			behind = fmt.Sprintf("%d, %s", f.Behind, late)
		case f.BehindSeconds > 0: // of the journal no size is known
			behind = late
		}
		if f.Why != "" {
			state += ": " + f.Why
		}
		if f.Cuts > 0 {
			state += fmt.Sprintf("; cut %s, at most %s unseen", plural(f.Cuts, "time"), shortSpan(time.Duration(f.CutSeconds*float64(time.Second))))
		}
		rows = append(rows, []string{f.Intake, strconv.FormatInt(f.Size, 10), strconv.FormatInt(f.Read, 10), behind, state, f.Path})
	}
	a.table(rows)
	return nil
}

func shortSpan(d time.Duration) string {
	if d < time.Second {
		return d.Round(time.Millisecond).String()
	}
	return d.Round(time.Second).String()
}

func (a *app) setBackCommand() *cobra.Command {
	var state, to string
	var yes bool
	c := &cobra.Command{
		Use:   "set-back FILE",
		Short: "Have a file read again from an earlier place",
		Long: `Have a running agent read a file again, from its beginning or from a number of
bytes. Every outlet gets what is read again a second time, so this tells how
much that is, and does nothing without --yes.`,
		Example: `  oakbarrel followed set-back /srv/pumps/pumpd.log --to beginning --state lantern-bay/reef-02/state
  oakbarrel followed set-back /srv/pumps/pumpd.log --to 4096 --yes --state lantern-bay/reef-02/state`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			offset, err := int64(0), error(nil)
			if !strings.EqualFold(to, "beginning") {
				if offset, err = strconv.ParseInt(to, 10, 64); err != nil || offset < 0 {
					return usageError("--to is a number of bytes from the beginning, or beginning")
				}
			}
			files, err := control.AskFollowed(c.Context(), state)
			if err != nil {
				return couldNot(err)
			}
			found, err := only(files, args[0], state)
			if err != nil {
				return err
			}
			f := found[0]
			if f.State == tail.NotRead {
				return codedError{exitNo, fmt.Errorf("%s is not read: %s", f.Path, f.Why)}
			}
			if !yes {
				return codedError{exitNo, fmt.Errorf("bytes %d to %d of %s would be read again, and every outlet would get them a second time; add --yes to do it", offset, f.Read, f.Path)}
			}
			if err := control.SetBack(c.Context(), state, f.Path, offset); err != nil {
				return couldNot(err)
			}
			if a.json() {
				return a.printJSON(map[string]any{"file": f.Path, "from": offset, "again": max(0, f.Read-offset)})
			}
			fmt.Fprintf(a.stdout, "%s is read again from byte %d: every outlet gets %d bytes a second time\n", f.Path, offset, max(0, f.Read-offset))
			return nil
		},
	}
	stateFlag(c, &state)
	c.Flags().StringVar(&to, "to", "beginning", "from where: a number of bytes, or beginning")
	c.Flags().BoolVar(&yes, "yes", false, "do it")
	return c
}
