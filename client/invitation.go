package client

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
)

// Ticket is what a host needs to accept an invitation, as one text.
type Ticket struct {
	URL         string `json:"u"`
	Code        string `json:"c"`
	Fingerprint string `json:"f,omitempty"` // of the service's certificate
}

const ticketPrefix = "barrel-"

// String returns the ticket as one word.
func (t Ticket) String() string {
	b, err := json.Marshal(t)
	if err != nil {
		panic(err) // texts always can be written
	}
	return ticketPrefix + base64.RawURLEncoding.EncodeToString(b)
}

// ParseTicket reads what String gave. White space in it, as mail brings it in, does no harm.
func ParseTicket(text string) (t Ticket, err error) {
	text = strings.Join(strings.Fields(text), "")
	rest, ok := strings.CutPrefix(text, ticketPrefix)
	b, err := base64.RawURLEncoding.DecodeString(rest)
	if err == nil {
		err = json.Unmarshal(b, &t)
	}
	if !ok || err != nil || t.URL == "" || t.Code == "" {
		return t, errors.New("this is no invitation, or a part of it is missing; copy the whole of it, from " + ticketPrefix + " on")
	}
	return t, nil
}

// Invite makes an invitation.
func (c *Client) Invite(ctx context.Context, i Invite) (made Invitation, err error) {
	err = c.send(ctx, "POST", "/api/v1/invitations", i, &made)
	return made, err
}

// Accept uses an invitation. The token of the client, where it has one, is the proof
// of an agent that is known already.
func (c *Client) Accept(ctx context.Context, a Accept) (got Accepted, err error) {
	err = c.send(ctx, "POST", "/api/v1/accept", a, &got)
	return got, err
}

// Revoke takes away what an agent was given for its invitations.
func (c *Client) Revoke(ctx context.Context, agentID string) (r Revoked, err error) {
	err = c.send(ctx, "POST", "/api/v1/agents/"+agentID+"/revoke", struct{}{}, &r)
	return r, err
}

// Replace lets an agent come with another token.
func (c *Client) Replace(ctx context.Context, agentID string, r Replace) error {
	return c.send(ctx, "POST", "/api/v1/agents/"+agentID+"/replace", r, nil)
}
