//go:build linux || windows

package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
)

// sender sends messages by hand.
type sender struct {
	*app
	to, priority, appName, host, form, file string
	count                                   int
	rate                                    float64
}

func (a *app) sendCommand() *cobra.Command {
	s := &sender{app: a}
	c := &cobra.Command{
		Use:   "send [--to ADDRESS] --priority FACILITY.SEVERITY --app NAME TEXT",
		Short: "Send a message by hand, or many",
		Long: `Send a syslog message by hand, or many, to see whether they arrive.

ADDRESS is udp://HOST:PORT, tcp://HOST:PORT or unix:PATH; by default the local
socket, unix:/dev/log. With --file each line of a file is a message: as it
stands where it begins with <PRI>, else as the text of one. A file named - is
standard input.`,
		Example: `  oakbarrel send --to udp://127.0.0.1:5514 --priority local3.error --app pumpd 'pump P7 stalled'
  oakbarrel send --to unix:lantern-bay/reef-02/log.sock --priority auth.notice --app door-badge --count 100 --rate 20 'badge 7714 accepted'`,
		Args: cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error { return s.run(c.Context(), args) },
	}
	c.Flags().StringVar(&s.to, "to", "unix:/dev/log", "where to")
	c.Flags().StringVar(&s.priority, "priority", "user.notice", "facility and severity")
	c.Flags().StringVar(&s.appName, "app", "oakbarrel", "name of the program that speaks")
	c.Flags().StringVar(&s.host, "host", "", "name of the host that speaks (default: none by a socket of this host, else this machine's)")
	c.Flags().StringVar(&s.form, "form", "rfc5424", "rfc5424 or rfc3164")
	c.Flags().StringVar(&s.file, "file", "", "file of messages, one a line")
	c.Flags().IntVar(&s.count, "count", 1, "how many times to send the text")
	c.Flags().Float64Var(&s.rate, "rate", 0, "messages a second (default: as fast as they go)")
	return c
}

func (s *sender) run(ctx context.Context, args []string) error {
	priority, ok := record.ParsePriority(s.priority)
	switch {
	case !ok:
		return usageError("--priority cannot be %q; write FACILITY.SEVERITY, such as local3.error", s.priority)
	case s.form != "rfc5424" && s.form != "rfc3164":
		return usageError("--form cannot be %q; write rfc5424 or rfc3164", s.form)
	case s.file == "" && len(args) == 0:
		return usageError("there is nothing to send; write the text behind the flags, or --file FILE")
	case s.file != "" && len(args) > 0:
		return usageError("--file and a text do not go together; take one away")
	case s.count < 1 || s.rate < 0:
		return usageError("--count is at least 1, and --rate not negative")
	}
	var lines io.Reader
	if s.file == "-" {
		lines = os.Stdin
	} else if s.file != "" {
		f, err := os.Open(s.file)
		if err != nil {
			return couldNot(err)
		}
		defer f.Close()
		lines = f
	}
	out, err := dial(ctx, s.to)
	if err != nil {
		return err
	}
	if s.host == "" && !out.local {
		s.host, _ = os.Hostname()
	}
	defer out.conn.Close()
	sent, err := s.sendAll(ctx, out, priority, strings.Join(args, " "), lines)
	if err == nil {
		err = out.finish()
	} else if sent > 0 {
		err = fmt.Errorf("%w; %s before went out", explainNetwork(err), plural(sent, "message"))
	}
	if err != nil {
		return couldNot(fmt.Errorf("%s: %w", s.to, explainNetwork(err)))
	}
	if s.json() {
		return s.printJSON(map[string]any{"sent": sent, "to": s.to})
	}
	fmt.Fprintf(s.stdout, "sent %s to %s\n", plural(sent, "message"), s.to)
	return nil
}

// sendAll sends the lines, or the text where there are none, and returns how many.
func (s *sender) sendAll(ctx context.Context, out *connection, priority record.Priority, text string, lines io.Reader) (sent int, err error) {
	start := time.Now()
	send := func(message []byte) error {
		if s.rate > 0 {
			due := start.Add(time.Duration(float64(sent) / s.rate * float64(time.Second)))
			select {
			case <-time.After(time.Until(due)):
			case <-ctx.Done():
			}
		}
		if ctx.Err() != nil {
			return errors.New("interrupted")
		}
		if err := out.send(message); err != nil {
			return err
		}
		sent++
		return nil
	}
	if lines == nil {
		for range s.count {
			if err := send(s.message(priority, []byte(text))); err != nil {
				return sent, err
			}
		}
		return sent, nil
	}
	err = eachLine(lines, func(line []byte) error {
		if !startsWithPriority.Match(line) {
			line = s.message(priority, line)
		}
		return send(line)
	})
	return sent, err
}

var startsWithPriority = regexp.MustCompile(`^<\d{1,3}>`)

func (s *sender) message(priority record.Priority, text []byte) []byte {
	r := record.Record{Time: record.StampOf(time.Now()), Priority: priority, App: []byte(s.appName), ProcID: strconv.AppendInt(nil, int64(os.Getpid()), 10), Text: text}
	if s.host != "" {
		r.Host = []byte(s.host)
	}
	if s.form == "rfc3164" {
		message := wire.AppendRFC3164Line(nil, &r)
		if r.Host == nil { // programs of a host do not name it
			message = bytes.Replace(message, []byte(" - "), []byte(" "), 1)
		}
		return message
	}
	return wire.AppendRFC5424(nil, &r)
}

// connection is where messages go.
type connection struct {
	conn    net.Conn
	stream  bool
	local   bool // by a socket of this host
	buffer  []byte
	flushed time.Time
}

// dial opens udp://HOST:PORT, tcp://HOST:PORT or unix:PATH.
func dial(ctx context.Context, to string) (*connection, error) {
	network, address, ok := strings.Cut(to, ":")
	address = strings.TrimPrefix(address, "//")
	switch {
	case !ok || address == "":
		return nil, usageError("--to cannot be %q; write udp://HOST:PORT, tcp://HOST:PORT or unix:PATH", to)
	case network == "unix":
		network = "unixgram"
	case network != "udp" && network != "tcp":
		return nil, usageError("--to cannot be %q; write udp://HOST:PORT, tcp://HOST:PORT or unix:PATH", to)
	}
	dialer := net.Dialer{Timeout: 10 * time.Second}
	conn, err := dialer.DialContext(ctx, network, address)
	if err != nil {
		var wrong *net.AddrError
		if errors.As(err, &wrong) {
			return nil, usageError("--to cannot be %q; %v", to, err)
		}
		return nil, couldNot(fmt.Errorf("%s: %w", to, explainNetwork(err)))
	}
	return &connection{conn: conn, stream: network == "tcp", local: network == "unixgram"}, nil
}

// explainNetwork says in plain words what the system means.
func explainNetwork(err error) error {
	switch {
	case errors.Is(err, errNobody):
		return errors.New("nobody listens there; is the agent running, and is this an address of its plan? (oakbarrel status tells)")
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("there is no such socket; is the agent running? (oakbarrel status tells where it listens)")
	case errors.Is(err, errLong):
		return errors.New("the message is too long for a datagram; use tcp")
	}
	return err
}

// send sends one message: as a datagram, or counted (RFC 6587) on a stream.
func (c *connection) send(message []byte) error {
	if !c.stream {
		_, err := c.conn.Write(message)
		return err
	}
	c.buffer = strconv.AppendInt(c.buffer, int64(len(message)), 10)
	c.buffer = append(append(c.buffer, ' '), message...)
	if time.Since(c.flushed) < 50*time.Millisecond && len(c.buffer) < 64<<10 {
		return nil
	}
	return c.flush()
}

func (c *connection) flush() error {
	_, err := c.conn.Write(c.buffer)
	c.buffer, c.flushed = c.buffer[:0], time.Now()
	return err
}

// finish learns as far as possible whether the messages were received: the
// reader of a stream closes it when it has read all; a host that nobody
// listens on answers a datagram with an error.
func (c *connection) finish() error {
	if c.stream {
		if err := c.flush(); err != nil {
			return err
		}
		if err := c.conn.(*net.TCPConn).CloseWrite(); err != nil {
			return err
		}
		c.conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		if _, err := io.Copy(io.Discard, c.conn); err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			return err
		}
		return nil
	}
	udp, ok := c.conn.(*net.UDPConn)
	if !ok {
		return nil
	}
	udp.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
	if _, err := udp.Read(make([]byte, 1)); err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
		return err
	}
	return nil
}
