package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/state"
	"oakbarrel/core/condition"
	"oakbarrel/core/format"
	"oakbarrel/core/plan"
	"oakbarrel/core/record"
	"oakbarrel/core/roll"
)

// shower reads a rolled set as one.
type shower struct {
	*app
	state, where string
	since, until string
	last         int
	follow       bool

	path      string
	condition *condition.Condition
	from, to  time.Time      // zero for no bound
	format    *format.Format // of the file that is read, nil where neither plan nor tally tell it
	now       *format.Format // of the live file
	record    record.Record
	line      []byte
	out       *bufio.Writer
	unread    int // lines that do not have the format of the set
}

func (a *app) showCommand() *cobra.Command {
	s := &shower{app: a}
	c := &cobra.Command{
		Use:   "show PATH|OUTLET",
		Short: "Read a rolled set as one: its pieces and the live file, in order",
		Long: `Read a rolled set as one: its pieces, compressed or not, and the live file, in
the order in which they were written. Name the path of the live file, or the
outlet of an agent whose state folder --state names; the agent need not run.

--where judges each line by a condition, --since and --until by the time of its
record. The tally tells in which format each piece was written, the plan that of
the live file; without them a line is taken as JSON or as syslog, if it is either.`,
		Example: `  oakbarrel show everything --state lantern-bay/tide-gw/state --last 20
  oakbarrel show pumps --state lantern-bay/reef-02/state --where 'severity at least warning and "stall"' --follow`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return s.run(c.Context(), args[0]) },
	}
	stateFlag(c, &s.state)
	c.Flags().StringVar(&s.where, "where", "", "show only what meets this condition")
	c.Flags().StringVar(&s.since, "since", "", "show only records from then on: a time such as 2026-11-25T10:15:00Z, or how long ago: 15m, 2h, 7d")
	c.Flags().StringVar(&s.until, "until", "", "show only records before then, likewise")
	c.Flags().IntVar(&s.last, "last", 0, "show only the last so many lines")
	c.Flags().BoolVar(&s.follow, "follow", false, "go on with new lines as they are written")
	return c
}

func (s *shower) run(ctx context.Context, name string) error {
	if s.last < 0 {
		return usageError("--last is not negative")
	}
	if s.where != "" {
		c, err := condition.Parse(s.where, nil)
		if err != nil {
			return whereError(s.where, err)
		}
		s.condition = c
	}
	var err error
	if s.from, err = parseMoment("--since", s.since, time.Now()); err != nil {
		return err
	}
	if s.to, err = parseMoment("--until", s.until, time.Now()); err != nil {
		return err
	}
	if err := s.find(name); err != nil {
		return err
	}
	set, err := roll.NewReader(s.path, s.follow)
	if err != nil {
		return couldNot(err)
	}
	defer set.Close()
	if s.condition != nil {
		if hint := s.condition.Hint(); hint != nil {
			set.Hint = hint.In
		}
	}
	s.out = bufio.NewWriterSize(s.stdout, 64<<10)
	err = s.showFrom(set)
	if err == nil {
		err = s.out.Flush()
	}
	if err == nil && s.follow {
		s.format = s.now
		err = set.Follow(ctx, func(line []byte) error {
			return errors.Join(s.show(line), s.out.Flush())
		})
	}
	if s.unread > 0 {
		fmt.Fprintf(s.stderr, "oakbarrel: %s not in the format that the plan or the tally tells; they were read as plain text\n", plural(s.unread, "line"))
	}
	return couldNot(err)
}

// find turns the name of an outlet into a path, and learns the format of its lines.
func (s *shower) find(name string) error {
	p, _, err := plan.Load(state.PlanCopy(s.state))
	if p != nil {
		if o, ok := p.Outlet(name); ok {
			s.path, s.now = o.File.Path, o.Format
			if o.Path != nil {
				return couldNot(manyFiles(o))
			}
			return nil
		}
	}
	path, absErr := filepath.Abs(name)
	if absErr != nil {
		return couldNot(absErr)
	}
	if p != nil {
		for _, o := range p.Outlets {
			if o.File.Path == path || o.Path != nil && o.Path.Matches(path) {
				s.now = o.Format
			}
		}
	}
	pieces, _ := roll.Pieces(path)
	if _, statErr := os.Stat(path); statErr == nil || len(pieces) > 0 || strings.Contains(name, "/") {
		s.path = path
		return nil
	}
	switch {
	case errors.Is(err, fs.ErrPermission):
		return couldNot(err)
	case p == nil:
		return couldNot(fmt.Errorf("there is no file %s, and no agent has left a plan in %s; name a path, or the agent's folder with --state", name, s.state))
	}
	var names []string
	for _, o := range p.Outlets {
		names = append(names, o.Name)
	}
	return couldNot(fmt.Errorf("there is no file %s and no outlet of that name; the outlets are %s", name, strings.Join(names, ", ")))
}

// manyFiles says that an outlet is no single set, and names those that it is.
func manyFiles(o plan.Outlet) error {
	found := o.LiveFiles()
	if len(found) == 0 {
		return fmt.Errorf("outlet %s writes to many files, and none is there yet: %s", o.Name, o.Path)
	}
	more := ""
	if len(found) > 10 {
		found, more = found[:10], ", and more"
	}
	return fmt.Errorf("outlet %s writes to many files; name one of %s%s", o.Name, strings.Join(found, ", "), more)
}

// lines calls each with the lines of a file, and learns before which format they have.
func (s *shower) lines(set *roll.Reader, file int, each func([]byte) error) error {
	if at := set.Rolled(file); !at.IsZero() && !s.from.IsZero() && at.Before(s.from.Add(-clockSlack)) {
		return nil
	}
	s.format = s.now
	if closed := set.Closed(file); closed != nil {
		if f, err := format.Parse(closed.Format); err == nil {
			s.format = f
		}
	}
	return set.Lines(file, each)
}

// clockSlack is how far the clock of a sender may go before ours, when pieces
// are passed over by the time at which they were rolled.
const clockSlack = 24 * time.Hour

// showFrom shows what is there: all of it, or the last lines.
func (s *shower) showFrom(set *roll.Reader) error {
	if s.last == 0 {
		for i := range set.Files() {
			if err := s.lines(set, i, s.show); err != nil {
				return err
			}
		}
		return nil
	}
	var tails [][]string // of the newest file first
	wanted := s.last
	for i := set.Files() - 1; i >= 0 && wanted > 0; i-- {
		tail, err := roll.Tail(func(each func([]byte) error) error { return s.lines(set, i, each) }, wanted, s.meets)
		if err != nil {
			return err
		}
		tails = append(tails, tail)
		wanted -= len(tail)
	}
	for i := len(tails) - 1; i >= 0; i-- {
		for _, line := range tails[i] {
			if err := s.print([]byte(line)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *shower) meets(line []byte) bool {
	if s.condition == nil && s.from.IsZero() && s.to.IsZero() {
		return true
	}
	s.read(line)
	at := s.record.Time.Time()
	if !s.from.IsZero() && at.Before(s.from) || !s.to.IsZero() && !at.Before(s.to) {
		return false
	}
	return s.condition == nil || s.condition.Match(&s.record)
}

// read makes a record of a line, as far as that can be done.
func (s *shower) read(line []byte) {
	if s.format == nil {
		format.Guess(&s.record, line)
		return
	}
	if s.format.Read(&s.record, line) != nil { // most likely of an earlier plan
		s.unread++
		format.Guess(&s.record, line)
	}
}

func (s *shower) show(line []byte) error {
	if !s.meets(line) {
		return nil
	}
	return s.print(line)
}

func (s *shower) print(line []byte) error {
	s.line = s.line[:0]
	if s.json() {
		s.read(line)
		s.line = s.record.AppendJSON(s.line)
	} else {
		s.line = record.AppendVisible(s.line, line)
	}
	_, err := s.out.Write(append(s.line, '\n'))
	return err
}
