// Package control is how a running agent is spoken to on its own host: over a unix
// socket in its state folder, by HTTP. Who may enter the folder may ask.
//
// [Serve] is the agent's side; what is asked goes to its [Commands], from a
// goroutine for each request. The functions that begin with Ask, and [Roll],
// [SetBack], [OpenDetail] and [CloseDetail], are the side of the commands.
package control

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"

	"oakbarrel/agent/guard"
	"oakbarrel/client"
)

// Commands is what an agent does when it is asked.
type Commands interface {
	Status() client.Status
	Reload()
	Trace(mark string) client.Trace
	OpenDetail(rule, to string, span time.Duration) (client.Detail, error)
	CloseDetail(rule string) (closed bool, err error)
	Pause(what client.Pause, span time.Duration) (client.Pause, error)
	Resume(what client.Pause) (resumed bool, err error)
	Roll(outlet string) ([]client.RolledSet, error)
	Followed() []client.FollowedFile
	Containers() []client.ContainerStatus
	SetBack(file string, offset int64) error
}

// Serve opens the socket of a state folder and does what is asked, until it is
// closed. A request that makes the agent fail is a fault of the part "control".
func Serve(stateDir string, do Commands, g *guard.Guard) (io.Closer, error) {
	listener, err := listen(stateDir)
	if err != nil {
		return nil, err
	}
	server := &http.Server{Handler: g.Handler(func() string { return "control" }, handlerOf(do)), ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(listener)
	return server, nil
}

func handlerOf(do Commands) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /status", func(w http.ResponseWriter, _ *http.Request) { answer(w, do.Status(), nil) })
	mux.HandleFunc("POST /reload", func(w http.ResponseWriter, _ *http.Request) {
		do.Reload()
		answer(w, struct{}{}, nil)
	})
	mux.HandleFunc("POST /trace", func(w http.ResponseWriter, r *http.Request) { answer(w, do.Trace(r.FormValue("mark")), nil) })
	mux.HandleFunc("POST /details", func(w http.ResponseWriter, r *http.Request) {
		span, err := time.ParseDuration(r.FormValue("for"))
		if err != nil {
			answer(w, nil, errors.New("for how long the window is to be open cannot be read"))
			return
		}
		d, err := do.OpenDetail(r.FormValue("rule"), r.FormValue("to"), span)
		answer(w, d, err)
	})
	mux.HandleFunc("DELETE /details", func(w http.ResponseWriter, r *http.Request) {
		closed, err := do.CloseDetail(r.FormValue("rule"))
		answer(w, closed, err)
	})
	mux.HandleFunc("POST /pauses", func(w http.ResponseWriter, r *http.Request) {
		span, err := time.ParseDuration(r.FormValue("for"))
		if err != nil {
			answer(w, nil, errors.New("how long the pause is to last cannot be read"))
			return
		}
		p, err := do.Pause(client.Pause{Outlet: r.FormValue("outlet"), Rule: r.FormValue("rule"), Drop: r.FormValue("drop") == "true"}, span)
		answer(w, p, err)
	})
	mux.HandleFunc("DELETE /pauses", func(w http.ResponseWriter, r *http.Request) {
		resumed, err := do.Resume(client.Pause{Outlet: r.FormValue("outlet"), Rule: r.FormValue("rule")})
		answer(w, resumed, err)
	})
	mux.HandleFunc("POST /roll", func(w http.ResponseWriter, r *http.Request) {
		rolled, err := do.Roll(r.FormValue("outlet"))
		answer(w, rolled, err)
	})
	mux.HandleFunc("GET /followed", func(w http.ResponseWriter, _ *http.Request) { answer(w, do.Followed(), nil) })
	mux.HandleFunc("GET /containers", func(w http.ResponseWriter, _ *http.Request) { answer(w, do.Containers(), nil) })
	mux.HandleFunc("POST /followed", func(w http.ResponseWriter, r *http.Request) {
		offset, err := strconv.ParseInt(r.FormValue("offset"), 10, 64)
		if err == nil {
			err = do.SetBack(r.FormValue("file"), offset)
		}
		answer(w, true, err)
	})
	return mux
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
