package access

import (
	"cmp"
	"fmt"
	"slices"

	"oakbarrel/service/model"
)

// What a visitor may do. A token is made for reading, for writing, or for an admin.
const (
	Read    = "read"    // records and what the agents say of themselves
	Write   = "write"   // records, as the one agent that it is bound to
	Import  = "import"  // records of files, as no agent
	Operate = "operate" // give orders to agents
	Admin   = "admin"   // make tokens
)

// Roles are what an account can be: each may do what the ones before it may.
var Roles = []string{"viewer", "operator", Admin}

// Uses are what a token can be for.
var Uses = []string{Read, Write, Import, Admin}

var verbs = map[string]string{Read: "read", Write: "write as an agent", Import: "import files", Operate: "give orders", Admin: "make tokens"}

var rights = map[string][]string{
	"viewer":   {Read},
	"operator": {Read, Operate},
	Admin:      {Read, Operate, Admin},
	Read:       {Read},
	Write:      {Write},
	Import:     {Import},
}

// Visitor is who asks: an account that has signed in, or a token.
type Visitor struct {
	Name  string  // of the account, or the label of the token where it has one
	Role  string  // of the account, "" for a token
	Token string  // what the token may do, "" for an account
	Cask  *uint64 // the only cask, nil for every one
	Agent string  // the only agent that it may be, "" for none yet
	// TokenID tells senders apart, 0 for an account.
	TokenID uint64
}

// OfAccount returns who has signed in.
func OfAccount(a model.Account) Visitor { return Visitor{Name: a.Name, Role: a.Role} }

// OfToken returns who brings a token.
func OfToken(t model.Token) Visitor {
	return Visitor{Name: cmp.Or(t.Label, "a token"), Token: t.May, Cask: t.CaskID, Agent: t.AgentID, TokenID: t.ID}
}

// Owner names the visitor as nobody else is named.
func (v Visitor) Owner() string {
	if v.Token == "" {
		return "account " + v.Name
	}
	return fmt.Sprintf("token %d", v.TokenID)
}

// Refusal says what a visitor may not do, and how to mend it.
type Refusal struct{ What, Mend string }

func (r *Refusal) Error() string { return r.What + "; " + r.Mend }

// Need returns nil where the visitor may do what is asked.
func (v Visitor) Need(what string) *Refusal {
	if slices.Contains(rights[v.Role+v.Token], what) {
		return nil
	}
	if v.Token != "" {
		return &Refusal{fmt.Sprintf("the token may %s, not %s", verbs[v.Token], verbs[what]), MakeToken("NAME", what)}
	}
	if what == Write || what == Import {
		return &Refusal{"an account may not " + verbs[what], MakeToken("NAME", what)}
	}
	least := slices.IndexFunc(Roles, func(role string) bool { return slices.Contains(rights[role], what) })
	return &Refusal{fmt.Sprintf("%s is %s and may not %s", v.Name, v.Role, verbs[what]), "it takes an account that is " + Roles[least]}
}

// MakeToken returns the command that makes a token.
func MakeToken(cask, may string) string {
	if may != Read && may != Write && may != Import {
		cask, may = "'*'", Admin
	}
	return fmt.Sprintf("make one with: oakbarrel token new --cask %s --may %s", cask, may)
}
