package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// An agent is spoken to over a unix socket in its state folder, by HTTP. Who
// may enter the folder may ask.

// serveControl opens the socket.
func (a *Agent) serveControl() (io.Closer, error) {
	if err := os.Remove(filepath.Join(a.state.dir, controlFile)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	var listener net.Listener
	err := inFolder(a.state.dir, func(dir string) (err error) {
		listener, err = net.Listen("unix", filepath.Join(dir, controlFile))
		return err
	})
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /status", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(a.status())
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(listener)
	return server, nil
}

// inFolder calls f with a short name for dir: the path of a socket may have
// 107 bytes only, and a folder may stand deeper.
func inFolder(dir string, f func(dir string) error) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return f(fmt.Sprintf("/proc/self/fd/%d", d.Fd()))
}

// ErrNoAgent says that no agent runs with a state folder.
var ErrNoAgent = errors.New("no agent runs with this state folder")

// AskStatus asks the agent with a state folder for its status.
func AskStatus(ctx context.Context, stateDir string) (s Status, err error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	err = inFolder(stateDir, func(dir string) error {
		transport := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "unix", filepath.Join(dir, controlFile))
		}}
		defer transport.CloseIdleConnections()
		request, err := http.NewRequestWithContext(ctx, "GET", "http://agent/status", nil)
		if err != nil {
			return err
		}
		response, err := (&http.Client{Transport: transport}).Do(request)
		if err != nil {
			return err
		}
		defer response.Body.Close()
		if response.StatusCode != http.StatusOK {
			return fmt.Errorf("the agent answers %s", response.Status)
		}
		return json.NewDecoder(response.Body).Decode(&s)
	})
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("the agent with %s does not answer; its own log may tell why", stateDir)
	}
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, unix.ECONNREFUSED) {
		err = fmt.Errorf("%s: %w", stateDir, ErrNoAgent)
	}
	return s, err
}
