package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
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
	outlet    plan.Outlet             // that was named; its Path is nil for one file
	followed  map[string]*roll.Reader // of many files: what was shown of them, and goes on
	condition *condition.Condition
	from, to  time.Time      // zero for no bound
	format    *format.Format // of the file that is read, nil where neither plan nor tally tell it
	now       *format.Format // of the live file
	record    record.Record
	line      []byte
	out       *bufio.Writer
	asked     []string // what --where, --since and --until ask of a record
	unread    int      // lines that do not have the format of the set
	unclear   int      // lines of which cannot be told whether they are wanted
}

func (a *app) showCommand() *cobra.Command {
	s := &shower{app: a}
	c := &cobra.Command{
		Use:   "show PATH|OUTLET",
		Short: "Read a rolled set as one: its pieces and the live file, in order",
		Long: `Read a rolled set as one: its pieces, compressed or not, and the live file, in
the order in which they were written. Name the path of the live file, or the
outlet of an agent whose state folder --state names; the agent need not run. The
days of a dated path, and all files of a path with other places, are one set.

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
	c.Flags().StringVar(&s.since, "since", "", "show only records from then on: "+momentHelp)
	c.Flags().StringVar(&s.until, "until", "", "show only records before then, likewise")
	c.Flags().IntVar(&s.last, "last", 0, "show only the last so many lines")
	a.oneLineFlag(c)
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
		s.condition, s.asked = c, c.Asks()
	}
	if s.since != "" || s.until != "" {
		s.asked = append(s.asked, "time")
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
	s.out = bufio.NewWriterSize(s.stdout, 64<<10)
	if s.outlet.Path != nil {
		err = s.showMany(ctx, s.outlet)
	} else {
		err = s.withSet(s.path, func(set *roll.Reader) error { return s.showOne(ctx, set) })
	}
	err = errors.Join(err, s.out.Flush())
	if s.unclear > 0 && err == nil {
		err = fmt.Errorf("%s not in the form that the plan or the tally tells, and no record that can be read: whether they are wanted cannot be told", plural(s.unclear, "line"))
	} else if s.unread > 0 {
		fmt.Fprintf(s.stderr, "oakbarrel: %s not in the format that the plan or the tally tells; they were read as plain text\n", plural(s.unread, "line"))
	}
	return couldNot(err)
}

// open opens a rolled set.
func (s *shower) open(path string) (*roll.Reader, error) {
	set, err := roll.NewReader(path, s.follow)
	if err == nil && s.condition != nil {
		if hint := s.condition.Hint(); hint != nil {
			set.Hint = hint.In
		}
	}
	return set, err
}

// showOne shows a set, and goes on with it where that is asked for.
func (s *shower) showOne(ctx context.Context, set *roll.Reader) error {
	err := s.showFrom(set)
	if err != nil || !s.follow {
		return err
	}
	s.format = s.now
	if err := s.out.Flush(); err != nil {
		return err
	}
	return set.Follow(ctx, func(line []byte) error {
		return errors.Join(s.show(line), s.out.Flush())
	})
}

// find turns the name of an outlet into a path, and learns the format of its lines.
func (s *shower) find(name string) error {
	p, _, err := plan.Load(state.PlanCopy(s.state))
	if p != nil {
		if o, ok := p.Outlet(name); ok {
			s.path, s.now = o.File.Path, o.Format
			s.outlet = o
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

// manyFiles says that none of an outlet's many files is there.
func manyFiles(o plan.Outlet) error {
	return fmt.Errorf("outlet %s writes to many files, and none is there yet: %s", o.Name, o.Path)
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
	if s.format != nil {
		if lacks := s.format.Lacks(s.asked); lacks != nil {
			return fmt.Errorf("the lines are written as %s, which does not hold %s: it holds %s; write it into the format of the outlet, or ask for what is there", s.format, strings.Join(lacks, ", "), s.format.Held())
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
	tail, err := s.tail(set, s.last)
	if err != nil {
		return err
	}
	for _, line := range tail {
		if err := s.print([]byte(line)); err != nil {
			return err
		}
	}
	return nil
}

// tail returns the last lines of a set that are wanted.
func (s *shower) tail(set *roll.Reader, wanted int) (lines []string, err error) {
	var tails [][]string // of the newest file first
	for i := set.Files() - 1; i >= 0 && wanted > 0; i-- {
		tail, err := roll.Tail(func(each func([]byte) error) error { return s.lines(set, i, each) }, wanted, s.meets)
		if err != nil {
			return nil, err
		}
		tails = append(tails, tail)
		wanted -= len(tail)
	}
	slices.Reverse(tails)
	return slices.Concat(tails...), nil
}

func (s *shower) meets(line []byte) bool {
	if s.condition == nil && s.from.IsZero() && s.to.IsZero() {
		return true
	}
	if s.read(line).Lacks(s.asked) != nil {
		s.unclear++
		return false
	}
	at := s.record.Time.Time()
	if !s.from.IsZero() && at.Before(s.from) || !s.to.IsZero() && !at.Before(s.to) {
		return false
	}
	return s.condition == nil || s.condition.Match(&s.record)
}

// read makes a record of a line, as far as that can be done, and tells as what it was read.
func (s *shower) read(line []byte) *format.Format {
	if s.format == nil {
		return format.Guess(&s.record, line)
	}
	if s.format.Read(&s.record, line) != nil { // most likely of an earlier plan
		s.unread++
		return format.Guess(&s.record, line)
	}
	return s.format
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
		s.line = s.read(line).AppendJSON(s.line, &s.record)
	} else {
		s.line = record.AppendVisible(s.line, line)
		if s.severalLines() && len(line) > 0 && line[0] != '{' {
			for _, mark := range []struct{ written, shown string }{{`\n\t`, "\n" + indent + indent}, {`\n`, "\n" + indent}} { // as forms write the end of a line
				s.line = bytes.ReplaceAll(s.line, []byte(mark.written), []byte(mark.shown))
			}
		}
	}
	_, err := s.out.Write(append(s.line, '\n'))
	return err
}
