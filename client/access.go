package client

import (
	"context"
	"fmt"
	"net/url"
	"time"
)

// GivenToken is a token that there is, without the token itself.
type GivenToken struct {
	ID      uint64     `json:"id"`
	Cask    string     `json:"cask"` // or *
	May     string     `json:"may" enum:"read,write,import,admin"`
	Label   string     `json:"label"`
	AgentID string     `json:"agent_id"` // of the only agent that may use it; "" for reading, and for writing until the first use
	Host    string     `json:"host"`     // of that agent, as it says
	Created time.Time  `json:"created"`
	Used    *time.Time `json:"used"` // last, give or take a minute
}

// GivenAccount is an account that there is.
type GivenAccount struct {
	Account
	Created  time.Time `json:"created"`
	Sessions int64     `json:"sessions"` // how often it has signed in and not out
}

// SetAccount changes what is not "".
type SetAccount struct {
	Role     string `json:"role,omitempty" enum:"viewer,operator,admin"`
	Password string `json:"password,omitempty" minLength:"8" maxLength:"72"`
}

// SetPassword changes one's own password, and ends one's other sessions.
type SetPassword struct {
	Old string `json:"old" maxLength:"72"`
	New string `json:"new" minLength:"8" maxLength:"72"`
}

// SentInvitation is an invitation that was made, without its code.
type SentInvitation struct {
	Cask    string     `json:"cask"`
	Label   string     `json:"label"`
	By      string     `json:"by"`
	Ends    time.Time  `json:"ends"`
	Uses    int        `json:"uses"`     // how many agents may accept it
	Times   int        `json:"times"`    // it was accepted
	Used    *time.Time `json:"used"`     // last
	AgentID string     `json:"agent_id"` // that used it last
}

// Tokens lists the tokens that there are, the oldest first.
func (c *Client) Tokens(ctx context.Context) (tokens []GivenToken, err error) {
	err = c.json(ctx, "GET", "/api/v1/tokens", nil, nil, nil, &tokens)
	return tokens, err
}

// RevokeToken takes a token away, from the next request on.
func (c *Client) RevokeToken(ctx context.Context, id uint64) error {
	return c.json(ctx, "DELETE", fmt.Sprintf("/api/v1/tokens/%d", id), nil, nil, nil, nil)
}

// Accounts lists the accounts that there are, by name.
func (c *Client) Accounts(ctx context.Context) (accounts []GivenAccount, err error) {
	err = c.json(ctx, "GET", "/api/v1/accounts", nil, nil, nil, &accounts)
	return accounts, err
}

// SetAccount gives an account another role or password. With another password its
// sessions end.
func (c *Client) SetAccount(ctx context.Context, name string, to SetAccount) error {
	return c.send(ctx, "PATCH", "/api/v1/accounts/"+url.PathEscape(name), to, nil)
}

// RemoveAccount removes an account, and ends its sessions.
func (c *Client) RemoveAccount(ctx context.Context, name string) error {
	return c.json(ctx, "DELETE", "/api/v1/accounts/"+url.PathEscape(name), nil, nil, nil, nil)
}

// SetPassword changes the password of who has signed in.
func (c *Client) SetPassword(ctx context.Context, to SetPassword) error {
	return c.send(ctx, "PUT", "/api/v1/session/password", to, nil)
}
