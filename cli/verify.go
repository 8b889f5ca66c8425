package cli

import (
	"fmt"
	"path/filepath"
	"regexp"

	"github.com/spf13/cobra"

	"oakbarrel/core/roll"
)

func (a *app) verifyCommand() *cobra.Command {
	s := &shower{app: a}
	var expect string
	c := &cobra.Command{
		Use:   "verify PATH|OUTLET",
		Short: "Check the pieces of a rolled set against its tally",
		Long: `Check the pieces of a rolled set against its tally: exit code 1, and the first
piece that was changed, removed, added or moved, is named. Name the path of the
live file, or the outlet of an agent whose state folder --state names.

The tally is a chain of hashes, so that a line of it cannot be changed alone. That
it was cut short or written anew shows against a hash that is kept elsewhere:
--expect, or the service, to which the agent tells it. The live file is not checked.`,
		Example: `  oakbarrel verify pumps --state lantern-bay/reef-02/state
  oakbarrel verify lantern-bay/tide-gw/logs/all.log --expect 5f0c…`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if expect != "" && !regexp.MustCompile(`^[0-9a-f]{64}$`).MatchString(expect) {
				return usageError("--expect cannot be %q; write the 64 hexadecimal digits that verify or status has told", expect)
			}
			if err := s.find(args[0]); err != nil {
				return err
			}
			v, err := roll.Verify(c.Context(), s.path, expect)
			if err != nil {
				return couldNot(err)
			}
			if err := a.printVerdict(v); err != nil {
				return err
			}
			if !v.OK {
				return no
			}
			return nil
		},
	}
	stateFlag(c, &s.state)
	c.Flags().StringVar(&expect, "expect", "", "the hash of a line that the tally must have")
	return c
}

func (a *app) printVerdict(v roll.Verdict) error {
	if a.json() {
		return a.printJSON(v)
	}
	if !v.OK {
		subject := v.Path
		if v.Piece != "" {
			subject = filepath.Join(filepath.Dir(v.Path), v.Piece)
		}
		fmt.Fprintf(a.stdout, "%s: %s\n", subject, v.Why)
		return nil
	}
	fmt.Fprintf(a.stdout, "%s: %s with %s as the tally has them\n", v.Path, plural(v.Pieces, "piece"), plural(int(v.Records), "record"))
	if v.Removed > 0 {
		fmt.Fprintf(a.stdout, "  %s removed, as keep says\n", plural(v.Removed, "piece"))
	}
	if v.Late > 0 {
		fmt.Fprintf(a.stdout, "  %s tallied late, at a start: a kill or another program came between\n", plural(v.Late, "piece"))
	}
	if v.Hash != "" {
		fmt.Fprintf(a.stdout, "  the tally has %s; the hash of the last is\n  %s\n", plural(v.Lines, "line"), v.Hash)
	}
	return nil
}
