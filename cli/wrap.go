//go:build linux || windows

package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/agent/control"
	"oakbarrel/agent/wrap"
	"oakbarrel/core/lines"
	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// What a wrapped program may leave behind while no agent takes it.
const (
	wrapHold   = 8 << 20 // bytes
	wrapLinger = 5 * time.Second
)

// wrapper runs a program for the command wrap.
type wrapper struct {
	*app
	name, facility, outSeverity, errSeverity, to, join, decode string
	pass                                                       bool
}

func (a *app) wrapCommand() *cobra.Command {
	w := &wrapper{app: a}
	c := &cobra.Command{
		Use:   "wrap --app NAME [flags] -- COMMAND [ARGUMENT...]",
		Short: "Run a program, and collect what it writes to stdout and stderr",
		Long: `Run a program, and send each line that it writes to stdout and stderr to an agent,
as a record of its own; a stack trace is one. Signals go on to the program, and
its exit status is that of this command.

Where no agent is there, up to 8 MiB of records wait for one; what is over is
dropped, counted, and told once one is there. When the program has ended, five
seconds are left for what waits.

--to is the state folder of an agent on this host, the path of its socket, or an
address as for send. A program that cannot be started is a record of severity error.`,
		Example: `  oakbarrel wrap --app feed-planner --facility local4 --to lantern-bay/reef-02/state -- sh -c 'echo fed; echo "no krill" >&2'
  oakbarrel wrap --app ticketd --pass --decode json -- /usr/local/bin/ticketd --port 8080`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return w.run(c.Context(), args) },
	}
	f := c.Flags()
	f.StringVar(&w.name, "app", "", "the program's name in the records")
	f.StringVar(&w.facility, "facility", "user", "the facility of the records")
	f.StringVar(&w.outSeverity, "stdout", "info", "the severity of lines on stdout that name none")
	f.StringVar(&w.errSeverity, "stderr", "error", "likewise, on stderr")
	f.StringVar(&w.to, "to", defaultState, "the state folder of an agent, or an address")
	f.StringVar(&w.join, "join", "indented", "indented, none, or a regular expression for first lines")
	f.StringVar(&w.decode, "decode", "", "json, keyvalue, access, syslog, several with commas, or a regular expression with named groups")
	f.BoolVar(&w.pass, "pass", false, "pass the output on to this command's own stdout and stderr, too")
	f.SetInterspersed(false)
	c.MarkFlagRequired("app")
	return c
}

func (w *wrapper) settings() (s lines.Settings, err error) {
	facility, ok := record.ParseFacility(w.facility)
	if !ok {
		return s, usageError("--facility cannot be %q; known are %s", w.facility, strings.Join(record.Facilities[:], ", "))
	}
	s = lines.Settings{Default: record.MakePriority(facility, record.Info), Streams: true, Largest: 60 << 10, App: []byte(w.name)}
	for _, f := range []struct {
		flag, word string
		to         *record.Severity
	}{{"stdout", w.outSeverity, &s.Stdout}, {"stderr", w.errSeverity, &s.Stderr}} {
		if *f.to, ok = record.ParseSeverity(f.word); !ok {
			return s, usageError("--%s cannot be %q; known are %s", f.flag, f.word, strings.Join(record.Severities[:], ", "))
		}
	}
	if s.Join, err = parseJoin(w.join); err != nil {
		return s, err
	}
	s.Decode, err = parseDecode(w.decode)
	return s, err
}

func (w *wrapper) run(ctx context.Context, command []string) error {
	s, err := w.settings()
	if err != nil {
		return err
	}
	o := wrap.Options{Command: command, Lines: s, Open: w.open, Hold: wrapHold, Linger: wrapLinger}
	if w.pass {
		o.Out, o.Err = w.stdout, w.stderr
	}
	result, err := wrap.Run(context.WithoutCancel(ctx), o)
	if result.Dropped > 0 {
		fmt.Fprintf(w.stderr, "oakbarrel: %s of %s dropped, because no agent took what came in time: %v\n", plural(int(result.Dropped), "record"), w.name, explainNetwork(result.Why))
	}
	if err != nil {
		return couldNot(err)
	}
	if result.Code != 0 {
		return codedError{result.Code, errors.New("")}
	}
	return nil
}

// open opens the way to the agent.
func (w *wrapper) open(ctx context.Context) (wrap.Sender, error) {
	if strings.HasPrefix(w.to, "unix:") || strings.Contains(w.to, "://") {
		return w.dial(ctx, w.to)
	}
	switch st, err := os.Stat(w.to); {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%s: there is neither a socket nor the state folder of an agent", w.to)
	case err == nil && st.Mode().Type() == fs.ModeSocket:
		return w.dial(ctx, "unix:"+w.to)
	}
	addresses, err := control.Addresses(ctx, w.to)
	if err != nil {
		return nil, err
	}
	err = fmt.Errorf("the agent with %s listens on no address", w.to)
	for _, address := range addresses {
		var to wrap.Sender
		if to, err = w.dial(ctx, address); err == nil {
			return to, nil
		}
	}
	return nil, err
}

func (w *wrapper) dial(ctx context.Context, address string) (wrap.Sender, error) {
	c, err := dial(ctx, address)
	if err != nil {
		return nil, err
	}
	s := &wrapSender{connection: c}
	if c.local {
		return s, nil
	}
	name, err := os.Hostname()
	s.host = []byte(name)
	return s, err
}

// wrapSender sends at once, so that a failure is known with its record.
type wrapSender struct {
	*connection
	host []byte // that messages over the wire claim; by a way of this host they need not
}

func (s *wrapSender) Send(message []byte) error {
	s.conn.SetWriteDeadline(time.Now().Add(2 * time.Second))
	if s.host != nil {
		message = wire.ClaimHost(message, s.host)
	}
	if err := s.send(message); err != nil {
		return err
	}
	if s.stream && len(s.buffer) > 0 {
		return s.flush()
	}
	return nil
}

func (s *wrapSender) Close() error { return s.conn.Close() }
