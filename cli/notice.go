package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/client"
	"oakbarrel/core/record"
)

func (a *app) noticeCommand() *cobra.Command {
	return group("notice", "See what alerts have told, and say who is on it", `  oakbarrel notice list
  oakbarrel notice take 12`,
		"notice list, show ID, take ID, leave ID, mute ID --for 2h, done ID --why TEXT, or reopen ID",
		a.noticeListCommand(), a.noticeShowCommand(),
		a.noticeSteerCommand("take", "Say that one is on it"),
		a.noticeSteerCommand("leave", "Say that nobody is on it"),
		a.noticeMuteCommand(), a.noticeDoneCommand(),
		a.noticeSteerCommand("reopen", "Open a notice again that is done"))
}

func (a *app) noticeListCommand() *cobra.Command {
	var who admin
	var states string
	var limit int
	c := &cobra.Command{
		Use:   "list",
		Short: "List what alerts have told and nobody has closed, the newest first",
		Example: `  oakbarrel notice list
  oakbarrel notice list --state told,seen,done --output json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if limit < 1 || limit > 1000 {
				return usageError("--limit goes from 1 to 1000")
			}
			for _, s := range strings.Split(states, ",") {
				if s != client.NoticeTold && s != client.NoticeSeen && s != client.NoticeDone {
					return usageError("--state cannot be %q; write some of told, seen, done, with commas between them", s)
				}
			}
			all := []client.Notice{}
			err := who.asked(c.Context(), func(service *client.Client) (err error) {
				all, err = service.Notices(c.Context(), states, limit)
				return err
			})
			switch {
			case err != nil || a.json():
				return orPrint(a, err, all)
			case len(all) == 0:
				fmt.Fprintln(a.stdout, "nothing is open")
				return nil
			}
			rows := [][]string{{"ID", "STATE", "BY", "SINCE", "NOW", "WHAT"}}
			for _, n := range all {
				rows = append(rows, []string{fmt.Sprint(n.ID), n.State, orNone(n.By), ago(n.Since), noticeNow(n), n.Title})
			}
			a.table(rows)
			return nil
		},
	}
	c.Flags().StringVar(&states, "state", "told,seen", "some of told, seen and done, with commas between them")
	c.Flags().IntVar(&limit, "limit", 100, "how many at most")
	who.flags(c)
	return c
}

// noticeNow tells whether what a notice is about lasts.
func noticeNow(n client.Notice) string {
	switch {
	case n.State == client.NoticeDone:
		return n.Why
	case n.Muted != nil:
		return "muted until " + clock(*n.Muted)
	case n.Holds:
		return "it is so"
	}
	return "over since " + ago(n.Until)
}

func noticeID(text string) (uint64, error) {
	id, err := strconv.ParseUint(text, 10, 64)
	if err != nil || id == 0 {
		return 0, usageError("%q is not the number of a notice; oakbarrel notice list tells them", text)
	}
	return id, nil
}

func (a *app) noticeShowCommand() *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   "show ID",
		Short: "Tell of a notice, the records that it is about, and how it was sent",
		Example: `  oakbarrel notice show 12
  oakbarrel notice show 12 --output json`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := noticeID(args[0])
			if err != nil {
				return err
			}
			return who.asked(c.Context(), func(service *client.Client) error {
				n, err := service.Notice(c.Context(), id)
				if err != nil || a.json() {
					return orPrint(a, err, n)
				}
				a.printNotice(n)
				return nil
			})
		},
	}
	who.flags(c)
	return c
}

func (a *app) printNotice(n client.Notice) {
	on := "nobody is on it"
	if n.By != "" {
		on = n.By + " is on it"
	}
	if n.State == client.NoticeDone {
		on = n.By + " has closed it: " + n.Why
	}
	fmt.Fprintf(a.stdout, "notice %d of alert %s: %s\n%s; since %s; told %s, %s\n", n.ID, n.Alert, on, noticeNow(n), clock(n.Since), plural(n.Told, "time"), agoOrNever(n.ToldAt))
	if n.Note != "" {
		fmt.Fprintf(a.stdout, "%s\n", n.Note)
	}
	for _, w := range n.About {
		now := "over since " + ago(w.Until)
		if w.Holds {
			now = "it is so"
		}
		fmt.Fprintf(a.stdout, "\n  %s\n    since %s, %s%s\n", w.Line, clock(w.Since), now, timesOf(w.Times))
		command := fmt.Sprintf("oakbarrel read --since %s --until %s", w.Since.UTC().Format(time.RFC3339), w.Until.Add(time.Minute).UTC().Format(time.RFC3339))
		if n.Cask != "" {
			command += " --cask " + n.Cask
		}
		if w.Where != "" {
			command += " --where " + inShell(record.Visible(w.Where))
		}
		fmt.Fprintf(a.stdout, "    %s\n", command)
	}
	if more := n.Of - len(n.About); more > 0 {
		fmt.Fprintf(a.stdout, "\n  and %d more\n", more)
	}
	if len(n.Sent) > 0 {
		fmt.Fprintln(a.stdout)
	}
	for _, s := range n.Sent {
		how := "sent " + agoOrNever(s.Done)
		if s.GivenUp {
			how = "given up: " + s.Trouble
		} else if s.Done == nil {
			how = "not sent yet: " + orNone(s.Trouble)
		}
		fmt.Fprintf(a.stdout, "  to %s: %s\n", s.Receiver, how)
	}
}

func timesOf(n int) string {
	if n < 2 {
		return ""
	}
	return fmt.Sprintf(", %d times", n)
}

// inShell quotes a text for a shell.
func inShell(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

func (a *app) noticeSteerCommand(word, short string) *cobra.Command {
	var who admin
	c := &cobra.Command{
		Use:   word + " ID",
		Short: short,
		Example: fmt.Sprintf(`  oakbarrel notice %[1]s 12
  oakbarrel notice %[1]s 12 --account noor --password-file noor.password`, word),
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.steerNotice(c, &who, args[0], client.SteerNotice{Do: word})
		},
	}
	who.flags(c)
	return c
}

func (a *app) noticeMuteCommand() *cobra.Command {
	var who admin
	var wait time.Duration
	c := &cobra.Command{
		Use:   "mute ID",
		Short: "Have nobody told of a notice for a while",
		Example: `  oakbarrel notice mute 12 --for 2h
  oakbarrel notice mute 12 --for 0s`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if wait < 0 || wait > 30*24*time.Hour || wait > 0 && wait < time.Minute {
				return usageError("--for goes from 1m to 720h; 0s takes it back")
			}
			return a.steerNotice(c, &who, args[0], client.SteerNotice{Do: "mute", Minutes: int(wait.Minutes())})
		},
	}
	c.Flags().DurationVar(&wait, "for", time.Hour, "for how long")
	who.flags(c)
	return c
}

func (a *app) noticeDoneCommand() *cobra.Command {
	var who admin
	var why string
	c := &cobra.Command{
		Use:   "done ID",
		Short: "Close a notice; it is told again only if it comes back",
		Example: `  oakbarrel notice done 12 --why 'the fuse was changed'
  oakbarrel notice done 12 --why 'planned work' --account noor --password-file noor.password`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.steerNotice(c, &who, args[0], client.SteerNotice{Do: "done", Why: why})
		},
	}
	c.Flags().StringVar(&why, "why", "", "what it was, in a line")
	c.MarkFlagRequired("why")
	who.flags(c)
	return c
}

func (a *app) steerNotice(c *cobra.Command, who *admin, text string, s client.SteerNotice) error {
	id, err := noticeID(text)
	if err != nil {
		return err
	}
	return who.asked(c.Context(), func(service *client.Client) error {
		n, err := service.SteerNotice(c.Context(), id, s)
		if err != nil || a.json() {
			return orPrint(a, err, n)
		}
		a.say("notice %d is %s: %s", n.ID, n.State, n.Title)
		if n.Muted != nil {
			a.say("nobody is told of it until %s", clock(*n.Muted))
		}
		return nil
	})
}
