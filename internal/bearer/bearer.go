// Package bearer has bearer tokens: whose they are, and what their roles allow.
package bearer

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"slices"

	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// Role is what a token may do.
type Role string

// The roles.
const (
	Reader   Role = "reader"   // see everything
	Helpdesk Role = "helpdesk" // also ask, waive, vouch and settle reports
	Author   Role = "author"   // also publish rulebooks
	Admin    Role = "admin"    // everything
	Enforcer Role = "enforcer" // ask for decisions that count
	Source   Role = "source"   // bring evidence under its own name, and vouch
	Receiver Role = "receiver" // hear of changes of standing, as the rulebook's signals say
)

// Permission is one thing that a role may allow.
type Permission string

// The permissions.
const (
	MayRead    Permission = "read"
	MayAsk     Permission = "ask"
	MayPublish Permission = "publish"
	MayDecide  Permission = "decide"
	MayReport  Permission = "report"
	MayWaive   Permission = "waive"
	MayVouch   Permission = "vouch"
	MayAdmin   Permission = "administer"
	MayReceive Permission = "receive"
)

// Permissions are all of them.
var Permissions = []Permission{MayRead, MayAsk, MayPublish, MayDecide, MayReport, MayWaive, MayVouch, MayAdmin, MayReceive}

// roles is who may do what.
var roles = map[Role][]Permission{
	Reader:   {MayRead},
	Helpdesk: {MayRead, MayAsk, MayWaive, MayVouch},
	Author:   {MayRead, MayAsk, MayPublish, MayWaive, MayVouch},
	Admin:    {MayRead, MayAsk, MayPublish, MayDecide, MayReport, MayWaive, MayVouch, MayAdmin},
	Enforcer: {MayDecide},
	Source:   {MayReport, MayVouch},
	Receiver: {MayReceive},
}

// May reports whether the role allows something.
func (r Role) May(p Permission) bool { return slices.Contains(roles[r], p) }

// Known reports whether there is such a role.
func (r Role) Known() bool { return roles[r] != nil }

// Token is a bearer token without its secret.
type Token struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Role      Role   `json:"role"`
	CreatedAt string `json:"created_at"`
	CreatedBy string `json:"created_by"`
	RevokedAt string `json:"revoked_at,omitempty"`
}

// digest is the SHA-256 of a secret. Secrets are 256 random bits, so that a
// plain hash cannot be searched; it is also what they are looked up by, so
// that the time of a lookup says nothing of the secret.
type digest = [sha256.Size]byte

// Set is all tokens, the revoked ones too. It is immutable.
type Set struct {
	All  []store.Token
	live map[digest]*Token
}

// NewSet is a set of tokens, of which nobody may change any.
func NewSet(all []store.Token) *Set {
	s := &Set{All: all, live: map[digest]*Token{}}
	for i := range all {
		if all[i].RevokedAt == 0 {
			s.live[digest(all[i].Hash)] = new(Public(all[i]))
		}
	}
	return s
}

// With is the set with one more token, or with one of the same id as it is now.
func (s *Set) With(t store.Token) *Set {
	all := slices.Clone(s.All)
	if i := slices.IndexFunc(all, func(x store.Token) bool { return x.ID == t.ID }); i >= 0 {
		all[i] = t
	} else {
		all = append(all, t)
	}
	return NewSet(all)
}

// Of returns the live token that a secret belongs to. Nobody may change it.
func (s *Set) Of(secret string) (*Token, bool) {
	t := s.live[sha256.Sum256([]byte(secret))]
	return t, t != nil
}

// Live returns a live token of which something is true. Nobody may change it.
func (s *Set) Live(is func(*Token) bool) (*Token, bool) {
	for _, t := range s.live {
		if is(t) {
			return t, true
		}
	}
	return nil, false
}

// Named reports whether a live token has a name.
func (s *Set) Named(name string) bool {
	_, is := s.Live(func(t *Token) bool { return t.Name == name })
	return is
}

// Find returns a live token by its id or name.
func (s *Set) Find(id string) (store.Token, bool) {
	i := slices.IndexFunc(s.All, func(t store.Token) bool {
		return t.RevokedAt == 0 &&
			(t.ID == id || t.Name == id)
	})
	if i < 0 {
		return store.Token{}, false
	}
	return s.All[i], true
}

// Admins is how many live tokens are administrators'.
func (s *Set) Admins() (n int) {
	for _, t := range s.live {
		if t.Role == Admin {
			n++
		}
	}
	return n
}

// MinSecret is the least length of a token that is brought along, in bytes.
const MinSecret = 20

// NewSecret makes up a secret of 256 random bits.
func NewSecret() string {
	var b [32]byte
	rand.Read(b[:]) // never fails: crypto/rand
	return "il_" + base64.RawURLEncoding.EncodeToString(b[:])
}

// Public is a token without what its secret is known by.
func Public(t store.Token) Token {
	p := Token{ID: t.ID, Name: t.Name, Role: Role(t.Role), CreatedAt: value.FormatTime(t.CreatedAt),
		CreatedBy: t.CreatedBy}
	if t.RevokedAt != 0 {
		p.RevokedAt = value.FormatTime(t.RevokedAt)
	}
	return p
}
