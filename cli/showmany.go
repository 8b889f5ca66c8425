package cli

import (
	"context"
	"errors"
	"iter"
	"slices"
	"sync"
	"time"

	"oakbarrel/core/plan"
	"oakbarrel/core/roll"
)

// timed is a line and the time of its record.
type timed struct {
	at   time.Time
	line string
}

// showMany reads the files of an outlet whose path has places as one set: those of days one
// after the other, others in the order of their records' times.
func (s *shower) showMany(ctx context.Context, o plan.Outlet) error {
	files := o.LiveFiles()
	if len(files) == 0 {
		return manyFiles(o)
	}
	slices.Sort(files)
	s.followed = map[string]*roll.Reader{}
	defer func() {
		for _, set := range s.followed {
			set.Close()
		}
	}()
	var err error
	switch {
	case s.last > 0:
		err = s.lastOfMany(files)
	case o.Path.OnlyDate() || !o.Format.Holds("time"):
		err = s.inTurn(files)
	default:
		err = s.merged(files)
	}
	if err == nil && s.follow {
		err = errors.Join(s.out.Flush(), s.followMany(ctx, o))
	}
	return err
}

// inTurn shows one file after the other.
func (s *shower) inTurn(files []string) error {
	for _, file := range files {
		if err := s.withSet(file, s.showFrom); err != nil {
			return err
		}
	}
	return nil
}

func (s *shower) withSet(file string, use func(*roll.Reader) error) error {
	set, err := s.open(file)
	if err != nil {
		return err
	}
	if s.follow && s.outlet.Path != nil {
		s.followed[file] = set
		return use(set)
	}
	defer set.Close()
	return use(set)
}

// lastOfMany shows the last lines of all files together.
func (s *shower) lastOfMany(files []string) error {
	var all []timed
	for _, file := range files {
		err := s.withSet(file, func(set *roll.Reader) error {
			tail, err := s.tail(set, s.last)
			for _, line := range tail {
				all = append(all, timed{s.timeOf([]byte(line)), line})
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	slices.SortStableFunc(all, func(a, b timed) int { return a.at.Compare(b.at) })
	for _, t := range all[max(0, len(all)-s.last):] {
		if err := s.print([]byte(t.line)); err != nil {
			return err
		}
	}
	return nil
}

func (s *shower) timeOf(line []byte) time.Time {
	s.read(line)
	return s.record.Time.Time()
}

// merged shows the lines of all files by their times. A line that is older than the one
// before it in its file stands where that one does.
func (s *shower) merged(files []string) error {
	type source struct {
		head timed
		next func() (timed, error, bool)
	}
	var sources []*source
	advance := func(c *source) (more bool, err error) {
		before := c.head.at
		c.head, err, more = c.next()
		if c.head.at.Before(before) {
			c.head.at = before
		}
		return more, err
	}
	for _, file := range files {
		next, stop := iter.Pull2(s.wanted(file))
		defer stop()
		c := &source{next: next}
		if more, err := advance(c); err != nil {
			return err
		} else if more {
			sources = append(sources, c)
		}
	}
	for len(sources) > 0 {
		first := slices.MinFunc(sources, func(a, b *source) int { return a.head.at.Compare(b.head.at) })
		if err := s.print([]byte(first.head.line)); err != nil {
			return err
		}
		more, err := advance(first)
		if err != nil {
			return err
		}
		if !more {
			sources = slices.DeleteFunc(sources, func(c *source) bool { return c == first })
		}
	}
	return nil
}

var errEnough = errors.New("no more lines are wanted")

// wanted gives the lines of a file that are wanted, with their times.
func (s *shower) wanted(file string) iter.Seq2[timed, error] {
	return func(yield func(timed, error) bool) {
		err := s.withSet(file, func(set *roll.Reader) error {
			for i := range set.Files() {
				err := s.lines(set, i, func(line []byte) error {
					if s.meets(line) && !yield(timed{s.timeOf(line), string(line)}, nil) {
						return errEnough
					}
					return nil
				})
				if err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			yield(timed{}, err)
		}
	}
}

// lookForFiles is how often it is looked whether an outlet has more files.
const lookForFiles = time.Second

// followMany goes on with what is written into any of the files, also into new ones.
func (s *shower) followMany(ctx context.Context, o plan.Outlet) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var writing sync.Mutex
	var following sync.WaitGroup
	defer following.Wait()
	s.format = s.now
	show := func(line []byte) error {
		writing.Lock()
		defer writing.Unlock()
		return errors.Join(s.show(line), s.out.Flush())
	}
	follow := func(set *roll.Reader, begin int) {
		following.Go(func() {
			var err error
			for ; begin < set.Files() && err == nil; begin++ {
				err = set.Lines(begin, show)
			}
			if err == nil {
				err = set.Follow(ctx, show)
			}
			if err != nil {
				cancel(err)
			}
		})
	}
	for _, set := range s.followed {
		follow(set, set.Files())
	}
	for {
		select {
		case <-ctx.Done():
			if cause := context.Cause(ctx); !errors.Is(cause, context.Canceled) {
				return cause
			}
			return nil
		case <-time.After(lookForFiles):
		}
		for _, file := range o.LiveFiles() {
			if s.followed[file] != nil {
				continue
			}
			if set, err := roll.NewReader(file, true); err == nil { // else it is gone again
				s.followed[file] = set
				follow(set, 0)
			}
		}
	}
}
