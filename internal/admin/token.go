package admin

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// ErrNoAdmin says that no administrator's token is left, and how to go on.
var ErrNoAdmin = errors.New("no administrator's token is left; make one with serve --new-admin-token REASON")

// FirstTokens makes the first administrator's token at the first start: the one that
// was given, or one that is made up and returned. Later one is made only for a reason,
// which is recorded; it is made up then, and a token that was given is not taken.
func (s *Service) FirstTokens(ctx context.Context, given, reason string) (made string, err error) {
	set := s.Snapshot().Tokens
	switch {
	case reason != "":
		given = ""
	case len(set.All) > 0:
		if given != "" {
			s.Log.Info("the administrator's token that was given is not taken: the records have tokens already")
		}
		if set.Admins() == 0 {
			return "", ErrNoAdmin
		}
		return "", nil
	case given != "" && len(given) < bearer.MinSecret:
		return "", fmt.Errorf("the administrator's token must have at least %d characters", bearer.MinSecret)
	}
	if given == "" {
		made = bearer.NewSecret()
		given = made
	}
	return made, s.Do(ctx, func(c *state.Change) error {
		name := "first-admin"
		if reason != "" {
			name = "new-admin-" + s.IDs.Next(c.Now)
		}
		s.mint(c, ledger.Service, given, name, bearer.Admin, reason)
		return nil
	})
}

// mint makes a token with a secret.
func (s *Service) mint(c *state.Change, actor, secret, name string, role bearer.Role, reason string) bearer.Token {
	h := sha256.Sum256([]byte(secret))
	t := store.Token{ID: s.IDs.Next(c.Now), Name: name, Role: string(role), Hash: h[:], CreatedAt: c.Now,
		CreatedBy: actor}
	c.Batch.PutToken(t)
	c.Record(actor, event.NewToken(t.ID, t.Name, t.Role, reason))
	c.Tokens = c.TokensNow().With(t)
	return bearer.Public(t)
}

// Authenticate returns the token that a secret belongs to.
// Nobody may change it.
func (s *Service) Authenticate(secret string) (*bearer.Token, bool) {
	return s.Snapshot().Tokens.Of(secret)
}

// Tokens lists all tokens, the revoked ones too.
func (s *Service) Tokens() []bearer.Token {
	out := []bearer.Token{}
	for _, t := range s.Snapshot().Tokens.All {
		out = append(out, bearer.Public(t))
	}
	return out
}

// CreateToken makes a token and returns its secret, which is kept nowhere.
func (s *Service) CreateToken(ctx context.Context, actor, name string, role bearer.Role) (bearer.Token,
	string, error) {
	name = strings.TrimSpace(name)
	switch {
	case !role.Known():
		return bearer.Token{}, "", fault.Inputf("/role",
			"%q is not a role; there are reader, helpdesk, author, admin, enforcer and source", role)
	case name == "" || len(name) > 100:
		return bearer.Token{}, "", fault.Input("/name", "a token needs a name of at most 100 bytes")
	case slices.ContainsFunc([]string{ledger.Feed, ledger.Signal, ledger.Device},
		func(kind string) bool { return strings.HasPrefix(name, kind+" ") }):
		return bearer.Token{}, "", fault.Inputf("/name",
			"no token may be called %s …: the ledger calls so what feeds, signals and devices "+
				"brought", name[:strings.IndexByte(name, ' ')])
	case name == ledger.Clock || name == ledger.Service:
		return bearer.Token{}, "", fault.Inputf("/name",
			"no token may be called %s: the ledger calls so what nobody did", name)
	}
	secret := bearer.NewSecret()
	var made bearer.Token
	err := s.Do(ctx, func(c *state.Change) error {
		if c.TokensNow().Named(name) {
			return fault.Inputf("/name",
				"there is a token %s already; revoke it first or take another name", name)
		}
		made = s.mint(c, actor, secret, name, role, "")
		return nil
	})
	return made, secret, err
}

// RevokeToken ends a token, named by its id or name, at once. The last
// administrator's token cannot be revoked.
func (s *Service) RevokeToken(ctx context.Context, actor, id string) (bearer.Token, error) {
	var revoked bearer.Token
	err := s.Do(ctx, func(c *state.Change) error {
		set := c.TokensNow()
		t, there := set.Find(id)
		if !there {
			return store.ErrNotFound
		}
		if bearer.Role(t.Role) == bearer.Admin && set.Admins() == 1 {
			return fault.Input("", "this is the last administrator's token; make another before revoking it")
		}
		t.RevokedAt = c.Now
		c.Batch.PutToken(t)
		c.Record(actor, event.EndedToken(t.ID, t.Name, t.Role))
		c.Tokens, revoked = set.With(t), bearer.Public(t)
		return nil
	})
	return revoked, err
}

// SessionLength is how long a console session lasts.
const SessionLength = 12 * time.Hour

// SignIn makes a console session for a token and returns the secret of
// its cookie.
func (s *Service) SignIn(t *bearer.Token) (string, error) {
	secret, now := bearer.NewSecret(), s.Micros()
	h := sha256.Sum256([]byte(secret))
	b := &store.Batch{}
	b.PutSession(h[:], t.ID, now, now+SessionLength.Microseconds())
	return secret, s.Store.Commit(b)
}

// SignedIn returns the token behind a console session.
func (s *Service) SignedIn(ctx context.Context, secret string) (*bearer.Token, bool) {
	h := sha256.Sum256([]byte(secret))
	id, err := s.Store.Session(ctx, h[:], s.Micros())
	if err != nil {
		return nil, false
	}
	return s.Snapshot().Tokens.Live(func(t *bearer.Token) bool { return t.ID == id })
}

// SignOut ends a console session.
func (s *Service) SignOut(secret string) error {
	h := sha256.Sum256([]byte(secret))
	b := &store.Batch{}
	b.DropSession(h[:])
	return s.Store.Commit(b)
}
