// Package bearer has bearer tokens: whose they are, and what their roles allow.
package bearer

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"maps"
	"math"
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
var Permissions = []Permission{MayRead, MayAsk, MayPublish, MayDecide, MayReport, MayWaive, MayVouch,
	MayAdmin, MayReceive}

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
	EndsAt    string `json:"ends_at,omitempty"`

	ends int64 // in microseconds since the Unix epoch; 0: never by itself
}

// Ended reports whether a token has ended by itself at now.
func (t *Token) Ended(now int64) bool { return t.ends != 0 && now >= t.ends }

// digest is the SHA-256 of a secret. Secrets are 256 random bits, so that a
// plain hash cannot be searched; it is also what they are looked up by, so
// that the time of a lookup says nothing of the secret.
type digest = [sha256.Size]byte

// Set is all tokens, the revoked ones too. It is immutable.
type Set struct {
	All  []store.Token
	ends map[string]int64 // by id, of those that end by themselves
	live map[digest]*Token
}

// NewSet is a set of tokens, and of the moments at which some end by themselves, by id, in microseconds since the Unix
// epoch. Nobody may change either.
func NewSet(all []store.Token, ends map[string]int64) *Set {
	s := &Set{All: all, ends: ends, live: map[digest]*Token{}}
	for i := range all {
		if all[i].RevokedAt == 0 {
			s.live[digest(all[i].Hash)] = new(s.Public(all[i]))
		}
	}
	return s
}

// Ends is when a token ends by itself, 0 for never.
func (s *Set) Ends(id string) int64 { return s.ends[id] }

// Ending is the set with a token that ends by itself at a moment.
func (s *Set) Ending(id string, at int64) *Set {
	ends := maps.Clone(s.ends)
	if ends == nil {
		ends = map[string]int64{}
	}
	ends[id] = at
	return NewSet(s.All, ends)
}

// With is the set with one more token, or with one of the same id as it is now.
func (s *Set) With(t store.Token) *Set {
	all := slices.Clone(s.All)
	if i := slices.IndexFunc(all, func(x store.Token) bool { return x.ID == t.ID }); i >= 0 {
		all[i] = t
	} else {
		all = append(all, t)
	}
	return NewSet(all, s.ends)
}

// Of returns the token that a secret belongs to, if it is live at now. Nobody may change it.
func (s *Set) Of(secret string, now int64) (*Token, bool) {
	t := s.live[sha256.Sum256([]byte(secret))]
	return t, t != nil && !t.Ended(now)
}

// Live returns a token that is live at now and of which something is true. Nobody may change it.
func (s *Set) Live(now int64, is func(*Token) bool) (*Token, bool) {
	for _, t := range s.live {
		if !t.Ended(now) && is(t) {
			return t, true
		}
	}
	return nil, false
}

// Named reports whether a token that is live at now has a name.
func (s *Set) Named(name string, now int64) bool {
	_, is := s.Live(now, func(t *Token) bool { return t.Name == name })
	return is
}

// Find returns a token by its id or name, if it is live at now: of several with a name the one that ends last.
func (s *Set) Find(id string, now int64) (found store.Token, ok bool) {
	last := int64(-1)
	for _, t := range s.All {
		ends := s.ends[t.ID]
		if ends == 0 {
			ends = math.MaxInt64
		}
		if t.RevokedAt == 0 && ends > now && (t.ID == id || t.Name == id) && ends > last {
			found, ok, last = t, true, ends
		}
	}
	return found, ok
}

// Admins is how many tokens that are live at now are administrators'.
func (s *Set) Admins(now int64) (n int) {
	for _, t := range s.live {
		if t.Role == Admin && !t.Ended(now) {
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
func (s *Set) Public(t store.Token) Token {
	p := Token{ID: t.ID, Name: t.Name, Role: Role(t.Role), CreatedAt: value.FormatTime(t.CreatedAt),
		CreatedBy: t.CreatedBy}
	if t.RevokedAt != 0 {
		p.RevokedAt = value.FormatTime(t.RevokedAt)
	}
	if p.ends = s.ends[t.ID]; p.ends != 0 {
		p.EndsAt = value.FormatTime(p.ends)
	}
	return p
}
