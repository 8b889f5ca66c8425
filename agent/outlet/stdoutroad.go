package outlet

import (
	"context"
	"os"

	"oakbarrel/client"
	"oakbarrel/core/format"
	"oakbarrel/core/record"
	"oakbarrel/core/spool"
)

// stdoutRoad leads to the agent's own standard output, as lines: to the engine of a
// container, or to a terminal. A reader that does not read holds it up; what comes then
// waits in the spool.
type stdoutRoad struct {
	plainRoad
	to     *os.File
	format *format.Format
	host   func() string
	lines  []byte
	wrote  chan error // of a write that is under way, nil for none
}

func newStdoutRoad(f *format.Format, host func() string) *stdoutRoad {
	return &stdoutRoad{to: os.Stdout, format: f, host: host}
}

func (s *stdoutRoad) begin(_ context.Context, here uint64) (uint64, error) { return here, nil }
func (s *stdoutRoad) close()                                               {}
func (s *stdoutRoad) depth() int                                           { return 1 }
func (s *stdoutRoad) reset()                                               { s.lines = nil } // a write may hold the old ones still

func (s *stdoutRoad) add(_ uint64, r *record.Record) {
	r.Agent = []byte(s.host()) // it is not kept in the spool
	s.lines = s.format.AppendLine(s.lines, r)
}

func (s *stdoutRoad) pack(b spool.Batch, refused bool) delivery {
	lines := s.lines
	return func(ctx context.Context) (uint64, error) {
		if refused || len(lines) == 0 {
			return b.Last, nil
		}
		return b.Last, s.write(ctx, lines)
	}
}

// write writes lines, and waits for that no longer than ctx lasts: then they are written
// again by the next run, as it cannot be known how far they came.
func (s *stdoutRoad) write(ctx context.Context, lines []byte) error {
	if s.wrote == nil {
		s.wrote = make(chan error, 1)
		go func(done chan<- error) {
			_, err := s.to.Write(lines)
			done <- err
		}(s.wrote)
	}
	select {
	case err := <-s.wrote:
		s.wrote = nil
		if err != nil {
			return &client.RetryLater{Err: err}
		}
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
