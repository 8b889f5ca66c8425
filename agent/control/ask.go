package control

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"time"

	"oakbarrel/agent/intake"
	"oakbarrel/client"
)

// ErrNoAgent says that no agent runs with a state folder.
var ErrNoAgent = errors.New("no agent runs with this state folder")

// Refused says why an agent does not do what it was asked for.
type Refused struct{ Why string }

func (e *Refused) Error() string { return e.Why }

// AskStatus asks the agent with a state folder for its status.
func AskStatus(ctx context.Context, stateDir string) (s client.Status, err error) {
	err = ask(ctx, stateDir, "GET", "/status", nil, &s)
	return s, err
}

// Reload has the agent with a state folder read its plan again. What comes of it stands in its
// status.
func Reload(ctx context.Context, stateDir string) error {
	return ask(ctx, stateDir, "POST", "/reload", nil, new(struct{}))
}

// OpenDetail lowers the threshold of a rule for a while.
func OpenDetail(ctx context.Context, stateDir, rule, to string, span time.Duration) (d client.Detail, err error) {
	err = ask(ctx, stateDir, "POST", "/details", url.Values{"rule": {rule}, "to": {to}, "for": {span.String()}}, &d)
	return d, err
}

// CloseDetail closes the window of a rule, and tells whether there was one.
func CloseDetail(ctx context.Context, stateDir, rule string) (closed bool, err error) {
	err = ask(ctx, stateDir, "DELETE", "/details", url.Values{"rule": {rule}}, &closed)
	return closed, err
}

// Pause switches an outlet or a rule off for a while.
func Pause(ctx context.Context, stateDir string, what client.Pause, span time.Duration) (p client.Pause, err error) {
	err = ask(ctx, stateDir, "POST", "/pauses", url.Values{"outlet": {what.Outlet}, "rule": {what.Rule}, "drop": {strconv.FormatBool(what.Drop)}, "for": {span.String()}}, &p)
	return p, err
}

// Resume ends a pause before its time, and tells whether there was one.
func Resume(ctx context.Context, stateDir string, what client.Pause) (resumed bool, err error) {
	err = ask(ctx, stateDir, "DELETE", "/pauses", url.Values{"outlet": {what.Outlet}, "rule": {what.Rule}}, &resumed)
	return resumed, err
}

// Roll rolls the sets of an outlet, or of all file outlets where outlet is "".
func Roll(ctx context.Context, stateDir, outlet string) (rolled []client.RolledSet, err error) {
	err = ask(ctx, stateDir, "POST", "/roll", url.Values{"outlet": {outlet}}, &rolled)
	return rolled, err
}

// AskFollowed asks how far files are followed.
func AskFollowed(ctx context.Context, stateDir string) (files []client.FollowedFile, err error) {
	err = ask(ctx, stateDir, "GET", "/followed", nil, &files)
	return files, err
}

// SetBack has a file read again from an offset.
func SetBack(ctx context.Context, stateDir, file string, offset int64) error {
	var done bool
	return ask(ctx, stateDir, "POST", "/followed", url.Values{"file": {file}, "offset": {strconv.FormatInt(offset, 10)}}, &done)
}

// AskContainers asks the agent with a state folder how its containers are.
func AskContainers(ctx context.Context, stateDir string) (list []client.ContainerStatus, err error) {
	err = ask(ctx, stateDir, "GET", "/containers", nil, &list)
	return list, err
}

// AskTrace asks the agent with a state folder how far the record with a mark
// has come. The first time that a mark is asked for, the agent begins to watch
// for it.
func AskTrace(ctx context.Context, stateDir, mark string) (t client.Trace, err error) {
	err = ask(ctx, stateDir, "POST", "/trace", url.Values{"mark": {mark}}, &t)
	return t, err
}

// Followed tells how far the files of an agent are followed: a running one is
// asked, else what it has written down is read.
func Followed(ctx context.Context, stateDir string) (files []client.FollowedFile, running bool, err error) {
	files, err = AskFollowed(ctx, stateDir)
	if !errors.Is(err, ErrNoAgent) {
		return files, true, err
	}
	if _, err := os.Stat(stateDir); err != nil {
		return nil, false, err
	}
	files, err = intake.Followed(stateDir)
	return files, false, err
}

// ask asks the agent with a state folder. A refusal is of type [Refused].
func ask(ctx context.Context, stateDir, method, path string, query url.Values, to any) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	err := askOnce(ctx, stateDir, method, path, query, to)
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("the agent with %s does not answer; its own log may tell why", stateDir)
	}
	if isNobody(err) {
		err = fmt.Errorf("%s: %w", stateDir, ErrNoAgent)
	}
	return err
}

func askOnce(ctx context.Context, stateDir, method, path string, query url.Values, to any) error {
	transport := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx, stateDir) }}
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
}
