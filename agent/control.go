package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"oakbarrel/client"
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
	mux.HandleFunc("GET /status", func(w http.ResponseWriter, _ *http.Request) { answer(w, a.status(), nil) })
	mux.HandleFunc("POST /trace", func(w http.ResponseWriter, r *http.Request) { answer(w, a.trace(r.FormValue("mark")), nil) })
	mux.HandleFunc("POST /details", func(w http.ResponseWriter, r *http.Request) {
		span, err := time.ParseDuration(r.FormValue("for"))
		if err != nil {
			answer(w, nil, errors.New("for how long the window is to be open cannot be read"))
			return
		}
		d, err := a.openDetail(r.FormValue("rule"), r.FormValue("to"), span)
		answer(w, d, err)
	})
	mux.HandleFunc("DELETE /details", func(w http.ResponseWriter, r *http.Request) {
		closed, err := a.closeDetail(r.FormValue("rule"))
		answer(w, closed, err)
	})
	mux.HandleFunc("POST /roll", func(w http.ResponseWriter, r *http.Request) {
		rolled, err := a.roll(r.FormValue("outlet"))
		answer(w, rolled, err)
	})
	mux.HandleFunc("GET /followed", func(w http.ResponseWriter, _ *http.Request) { answer(w, a.followed(), nil) })
	mux.HandleFunc("GET /containers", func(w http.ResponseWriter, _ *http.Request) { answer(w, a.containerStatus(), nil) })
	mux.HandleFunc("POST /followed", func(w http.ResponseWriter, r *http.Request) {
		offset, err := strconv.ParseInt(r.FormValue("offset"), 10, 64)
		if err == nil {
			err = a.setBack(r.FormValue("file"), offset)
		}
		answer(w, true, err)
	})
	server := &http.Server{Handler: a.guarded("control", mux), ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(listener)
	return server, nil
}

// guarded answers 500 where a handler fails, and tells it as a fault of a part.
func (a *Agent) guarded(part string, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if a.guard(part, func() { h.ServeHTTP(w, r) }) {
			http.Error(w, "this request has made the agent fail; its log tells where", http.StatusInternalServerError)
		}
	})
}

// answer writes what was asked for, or why it is refused.
func answer(w http.ResponseWriter, what any, err error) {
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		w.WriteHeader(http.StatusConflict)
		what = map[string]string{"why": err.Error()}
	}
	json.NewEncoder(w).Encode(what)
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

// Refused says why an agent does not do what it was asked for.
type Refused struct{ Why string }

func (e *Refused) Error() string { return e.Why }

// AskStatus asks the agent with a state folder for its status.
func AskStatus(ctx context.Context, stateDir string) (s Status, err error) {
	err = ask(ctx, stateDir, "GET", "/status", nil, &s)
	return s, err
}

// OpenDetail lowers the threshold of a rule for a while.
func OpenDetail(ctx context.Context, stateDir, rule, to string, span time.Duration) (d Detail, err error) {
	err = ask(ctx, stateDir, "POST", "/details", url.Values{"rule": {rule}, "to": {to}, "for": {span.String()}}, &d)
	return d, err
}

// CloseDetail closes the window of a rule, and tells whether there was one.
func CloseDetail(ctx context.Context, stateDir, rule string) (closed bool, err error) {
	err = ask(ctx, stateDir, "DELETE", "/details", url.Values{"rule": {rule}}, &closed)
	return closed, err
}

// Roll rolls the sets of an outlet, or of all file outlets where outlet is "".
func Roll(ctx context.Context, stateDir, outlet string) (rolled []client.RolledSet, err error) {
	err = ask(ctx, stateDir, "POST", "/roll", url.Values{"outlet": {outlet}}, &rolled)
	return rolled, err
}

// AskFollowed asks how far files are followed.
func AskFollowed(ctx context.Context, stateDir string) (files []FollowedFile, err error) {
	err = ask(ctx, stateDir, "GET", "/followed", nil, &files)
	return files, err
}

// SetBack has a file read again from an offset.
func SetBack(ctx context.Context, stateDir, file string, offset int64) error {
	var done bool
	return ask(ctx, stateDir, "POST", "/followed", url.Values{"file": {file}, "offset": {strconv.FormatInt(offset, 10)}}, &done)
}

// ask asks the agent with a state folder. A refusal is of type [Refused].
func ask(ctx context.Context, stateDir, method, path string, query url.Values, to any) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	err := inFolder(stateDir, func(dir string) error {
		transport := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "unix", filepath.Join(dir, controlFile))
		}}
		defer transport.CloseIdleConnections()
		request, err := http.NewRequestWithContext(ctx, method, "http://agent"+path+"?"+query.Encode(), nil)
		if err != nil {
			return err
		}
		response, err := (&http.Client{Transport: transport}).Do(request)
		if err != nil {
			return err
		}
		defer response.Body.Close()
		switch response.StatusCode {
		case http.StatusOK:
			return json.NewDecoder(response.Body).Decode(to)
		case http.StatusConflict:
			refused := &Refused{}
			return errors.Join(json.NewDecoder(response.Body).Decode(refused), refused)
		}
		return fmt.Errorf("the agent answers %s", response.Status)
	})
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("the agent with %s does not answer; its own log may tell why", stateDir)
	}
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, unix.ECONNREFUSED) {
		err = fmt.Errorf("%s: %w", stateDir, ErrNoAgent)
	}
	return err
}
