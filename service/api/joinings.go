package api

import (
	"context"
	"errors"
	"net/http"

	"oakbarrel/client"
	"oakbarrel/service/access"
)

type joinInput struct {
	AgentPath
	Body client.Join
}

// join gives an agent a token of its own that brings the one of another agent, as a
// copy of that one's folder does, once it is let in.
func (a *API) join(ctx context.Context, in *joinInput) (*acceptedOutput, error) {
	v := visitor(ctx)
	if v.Agent == "" || v.Agent == in.Agent {
		return nil, problem(http.StatusConflict, "the token is that of this agent", "")
	}
	token, cask, label, err := access.Join(a.DB.WithContext(ctx), v.TokenID, in.Agent, in.Body.Host)
	if errors.Is(err, access.ErrWaits) {
		return nil, problem(http.StatusForbidden, err.Error(), "let it in with: oakbarrel hosts adopt "+in.Agent)
	}
	if err != nil {
		return nil, a.notThisAgent(ctx, err, in.Agent)
	}
	a.noteFor(ctx, agentName(in.Agent), "join", "with the token of agent "+v.Agent)
	return &acceptedOutput{client.Accepted{Token: token, Cask: cask, Label: label}}, nil
}

type joiningsOutput struct{ Body []client.Joining }

// joinings lists the agents that wait to be let in.
func (a *API) joinings(ctx context.Context, _ *struct{}) (*joiningsOutput, error) {
	waiting, err := access.Joinings(a.DB.WithContext(ctx))
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &joiningsOutput{waiting}, nil
}

// adopt lets an agent in that waits.
func (a *API) adopt(ctx context.Context, in *AgentPath) (*struct{}, error) {
	switch err := access.Adopt(a.DB.WithContext(ctx), in.Agent); {
	case errors.Is(err, access.ErrNotWaiting):
		return nil, problem(http.StatusNotFound, err.Error(), "oakbarrel hosts adopt lists those that do")
	case err != nil:
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "adopt host", "agent "+in.Agent)
	return nil, nil
}
