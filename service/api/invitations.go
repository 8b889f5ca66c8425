package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

type inviteInput struct{ Body client.Invite }

type invitationOutput struct{ Body client.Invitation }

// invite makes an invitation, whose code is shown this once.
func (a *API) invite(ctx context.Context, in *inviteInput) (*invitationOutput, error) {
	i := in.Body
	for name, value := range i.Labels {
		if wrong := plan.WrongLabel(name, value); wrong != "" {
			return nil, problem(http.StatusUnprocessableEntity, wrong, "write NAME=VALUE, such as role=gate")
		}
	}
	ends := time.Now().Add(time.Duration(i.Minutes) * time.Minute)
	code, err := access.Invite(a.DB.WithContext(ctx), i, visitor(ctx).Name, ends)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "invite host", fmt.Sprintf("cask %s, %d times, %s", i.Cask, i.Uses, i.Label))
	return &invitationOutput{client.Invitation{Code: code, Ends: ends.UTC(), Fingerprint: a.Fingerprint}}, nil
}

// mostInvitations bounds the list of invitations.
const mostInvitations = 200

type invitationsOutput struct{ Body []client.SentInvitation }

// invitations lists those that were made.
func (a *API) invitations(ctx context.Context, _ *struct{}) (*invitationsOutput, error) {
	all, err := access.Invitations(a.DB.WithContext(ctx), mostInvitations)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &invitationsOutput{all}, nil
}

type acceptInput struct {
	Authorization string `header:"Authorization" doc:"the token that the agent has, where it is known already"`
	Body          client.Accept
}

type acceptedOutput struct{ Body client.Accepted }

// accept gives an agent a token of its own for the code of an invitation.
func (a *API) accept(ctx context.Context, in *acceptInput) (*acceptedOutput, error) {
	token, cask, label, err := access.Accept(a.DB.WithContext(ctx), in.Body.Code, in.Body.AgentID, in.Body.Host, strings.TrimPrefix(in.Authorization, "Bearer "))
	if errors.Is(err, access.ErrInvitation) {
		return nil, problem(http.StatusForbidden, err.Error(), "have another made: oakbarrel hosts invite --cask NAME")
	}
	if err != nil {
		return nil, a.notThisAgent(ctx, err, in.Body.AgentID)
	}
	a.noteFor(ctx, agentName(in.Body.AgentID), "accept invitation", fmt.Sprintf("known as %s, cask %s", label, cask.Name))
	return &acceptedOutput{client.Accepted{Token: token, Cask: cask.Name, Label: label}}, nil
}

type revokedOutput struct{ Body client.Revoked }

// revoke takes away what an agent was given for its invitations.
func (a *API) revoke(ctx context.Context, in *AgentPath) (*revokedOutput, error) {
	n, err := access.Revoke(a.DB.WithContext(ctx), in.Agent)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	if n == 0 {
		var agent model.Agent
		mend := ""
		if a.DB.WithContext(ctx).Select("id").Take(&agent, "id = ?", in.Agent).Error == nil {
			mend = "it writes with a token for a cask, which others may use too"
		}
		return nil, problem(http.StatusNotFound, "the agent has no token of its own", mend)
	}
	a.record(ctx, "revoke host", "agent "+in.Agent)
	return &revokedOutput{client.Revoked{Tokens: n}}, nil
}

type replaceInput struct {
	AgentPath
	Body client.Replace
}

// replace lets an agent come with another token.
func (a *API) replace(ctx context.Context, in *replaceInput) (*struct{}, error) {
	until := time.Now().Add(time.Duration(in.Body.Minutes) * time.Minute)
	err := access.Replace(a.DB.WithContext(ctx), in.Agent, until)
	if errors.Is(err, access.ErrNoIdentity) {
		return nil, problem(http.StatusNotFound, err.Error(), "oakbarrel hosts tells the ids")
	}
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	a.record(ctx, "replace token", "agent "+in.Agent)
	return nil, nil
}
