package admin

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
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
		if set.Admins(s.Micros()) == 0 {
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
		_, err := s.mint(c, ledger.Service, given, minting{name: name, role: bearer.Admin, reason: reason})
		return err
	})
}

// minting is a token to be made.
type minting struct {
	name   string
	role   bearer.Role
	reason string
	until  int64  // when it ends by itself, 0 for never
	before string // the token in whose place it comes, "" for none
}

// mint makes a token with a secret.
func (s *Service) mint(c *state.Change, actor, secret string, m minting) (bearer.Token, error) {
	h := sha256.Sum256([]byte(secret))
	t := store.Token{ID: s.IDs.Next(c.Now), Name: m.name, Role: string(m.role), Hash: h[:], CreatedAt: c.Now,
		CreatedBy: actor}
	c.Batch.PutToken(t)
	until := ""
	if m.until != 0 {
		until = value.FormatTime(m.until)
	}
	c.Record(actor, event.NewToken(t.ID, t.Name, t.Role, m.reason).Ending(until, m.before))
	c.Tokens = c.TokensNow().With(t)
	if m.until != 0 {
		if err := bound(c, t.ID, m.until); err != nil {
			return bearer.Token{}, err
		}
	}
	return c.Tokens.Public(t), nil
}

// bound makes a token end by itself at a moment.
func bound(c *state.Change, id string, at int64) error {
	c.Tokens = c.TokensNow().Ending(id, at)
	return state.Put(c, state.TokenTermKind, id, &kept.TokenTerm{ID: id, EndsAt: at})
}

// Authenticate returns the token that a secret belongs to, and notes that it was used.
// Nobody may change it.
func (s *Service) Authenticate(secret string) (*bearer.Token, bool) {
	now := s.Micros()
	t, ok := s.Snapshot().Tokens.Of(secret, now)
	if ok {
		s.uses.note(t.ID, now)
	}
	return t, ok
}

// Tokens lists all tokens, those that are no longer live too.
func (s *Service) Tokens() []api.Token {
	out := []api.Token{}
	snap := s.Snapshot()
	for _, t := range snap.Tokens.All {
		out = append(out, s.ShowToken(snap.Tokens.Public(t)))
	}
	return out
}

// ShowToken is a token as people see it.
func (s *Service) ShowToken(t bearer.Token) api.Token {
	out := api.Token{ID: t.ID, Name: t.Name, Role: string(t.Role), CreatedAt: t.CreatedAt, CreatedBy: t.CreatedBy,
		RevokedAt: t.RevokedAt, EndsAt: t.EndsAt, State: "live"}
	switch {
	case t.RevokedAt != "":
		out.State = "revoked"
	case t.Ended(s.Micros()):
		out.State = "ended"
	}
	if at := max(s.uses.of(t.ID), s.Snapshot().TokenUses()[t.ID]); at != 0 {
		out.UsedAt = value.FormatTime(at)
	}
	return out
}

// longestToken is how long a token may live that ends by itself, ten years.
const longestToken = 10 * 366 * value.Day

// tokenEnd reads how long a token lives, as 90d; "" for one that does not end by itself.
func tokenEnd(text, pointer string, now int64) (int64, error) {
	if text == "" {
		return 0, nil
	}
	d, err := value.ParseDuration(text)
	if err != nil {
		return 0, fault.Input(pointer, err.Error())
	}
	if d.Num() <= 0 || d.Num() > longestToken {
		return 0, fault.Input(pointer, "a token lives for some time, ten years at most")
	}
	return now + d.Num(), nil
}

// CreateToken makes a token, which ends by itself after a time (as 90d; "" for never), and returns its secret, which is
// kept nowhere.
func (s *Service) CreateToken(ctx context.Context, actor, name string, role bearer.Role, lives string) (bearer.Token,
	string, error) {
	name = strings.TrimSpace(name)
	switch {
	case !role.Known():
		return bearer.Token{}, "", fault.Inputf("/role",
			"%q is not a role; there are reader, helpdesk, author, admin, enforcer, source and receiver", role)
	case name == "" || len(name) > 100:
		return bearer.Token{}, "", fault.Input("/name", "a token needs a name of at most 100 bytes")
	case slices.ContainsFunc([]string{ledger.Feed, ledger.Signal, ledger.Device, ledger.AccessPoint},
		func(kind string) bool { return strings.HasPrefix(name, kind+" ") }):
		return bearer.Token{}, "", fault.Inputf("/name", "no token may be called %s …: the ledger calls so what "+
			"feeds, signals and devices brought", name[:strings.IndexByte(name, ' ')])
	case name == ledger.Clock || name == ledger.Service:
		return bearer.Token{}, "", fault.Inputf("/name",
			"no token may be called %s: the ledger calls so what nobody did", name)
	}
	secret := bearer.NewSecret()
	var made bearer.Token
	err := s.Do(ctx, func(c *state.Change) error {
		until, err := tokenEnd(lives, "/for", c.Now)
		if err != nil {
			return err
		}
		if c.TokensNow().Named(name, c.Now) {
			return fault.Inputf("/name",
				"there is a token %s already; revoke or rotate it, or take another name", name)
		}
		made, err = s.mint(c, actor, secret, minting{name: name, role: role, until: until})
		return err
	})
	return made, secret, err
}

// RotateToken makes a token in the place of one, named by its id or name: of its name and role, with another secret,
// which is returned. The old one lives on for a time (as 1d; "" for not at all), the new one for another (as 90d; "" for
// never ending by itself).
func (s *Service) RotateToken(ctx context.Context, actor, id string, d api.TokenRotation) (bearer.Token,
	string, error) {
	secret := bearer.NewSecret()
	var made bearer.Token
	err := s.Do(ctx, func(c *state.Change) error {
		until, err := tokenEnd(d.For, "/for", c.Now)
		if err != nil {
			return err
		}
		overlap, err := tokenEnd(d.Overlap, "/overlap", c.Now)
		if err != nil {
			return err
		}
		old, there := c.TokensNow().Find(id, c.Now)
		if !there {
			return store.ErrNotFound
		}
		if ends := c.TokensNow().Ends(old.ID); ends != 0 && overlap > ends {
			overlap = ends // it never lives longer than it would have
		}
		if made, err = s.mint(c, actor, secret, minting{name: old.Name, role: bearer.Role(old.Role), until: until,
			before: old.ID}); err != nil {
			return err
		}
		if overlap == 0 {
			s.revoke(c, actor, old)
			return nil
		}
		c.Record(actor, event.BoundedToken(old.ID, old.Name, old.Role, value.FormatTime(overlap), "rotated"))
		return bound(c, old.ID, overlap)
	})
	return made, secret, err
}

// revoke ends a token at once.
func (s *Service) revoke(c *state.Change, actor string, t store.Token) bearer.Token {
	t.RevokedAt = c.Now
	c.Batch.PutToken(t)
	c.Record(actor, event.EndedToken(t.ID, t.Name, t.Role))
	c.Tokens = c.TokensNow().With(t)
	return c.Tokens.Public(t)
}

// RevokeToken ends a token, named by its id or name, at once. The last
// administrator's token cannot be revoked.
func (s *Service) RevokeToken(ctx context.Context, actor, id string) (bearer.Token, error) {
	var revoked bearer.Token
	err := s.Do(ctx, func(c *state.Change) error {
		set := c.TokensNow()
		t, there := set.Find(id, c.Now)
		if !there {
			return store.ErrNotFound
		}
		if bearer.Role(t.Role) == bearer.Admin && set.Admins(c.Now) == 1 {
			return fault.Input("", "this is the last administrator's token; make another before revoking it")
		}
		revoked = s.revoke(c, actor, t)
		return nil
	})
	return revoked, err
}

// uses are when tokens were last used, of those since the start.
type uses struct {
	mu   sync.Mutex
	at   map[string]int64
	kept int64 // when they were kept last
}

// keepUses is how often they are kept: a crash may cost as much.
const keepUses = 10 * value.Minute

func (u *uses) note(id string, now int64) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.at == nil {
		u.at = map[string]int64{}
	}
	u.at[id] = now
}

func (u *uses) of(id string) int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.at[id]
}

// due are the uses to be kept at now: none unless some time has passed, or it is the end.
func (u *uses) due(now int64, end bool) map[string]int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.at) == 0 || !end && now-u.kept < keepUses/2 {
		return nil
	}
	u.kept = now
	return maps.Clone(u.at)
}

// KeepingUses keeps when tokens were last used, again and again until the records are closed.
func (s *Service) KeepingUses() {
	s.Regularly(time.Duration(keepUses)*time.Microsecond, "when tokens were last used is not kept",
		func(ctx context.Context) error { return s.KeepUses(ctx, false) })
}

// KeepUses keeps when tokens were last used, if some time has passed since it did, or at the end.
func (s *Service) KeepUses(ctx context.Context, end bool) error {
	due := s.uses.due(s.Micros(), end)
	if due == nil {
		return nil
	}
	return s.Do(ctx, func(c *state.Change) error {
		all := kept.TokenUses{}
		for _, t := range c.TokensNow().All {
			if at := max(c.Base.TokenUses()[t.ID], due[t.ID]); at != 0 {
				all[t.ID] = at
			}
		}
		if maps.Equal(all, c.Base.TokenUses()) {
			return nil
		}
		return c.PutTokenUses(all)
	})
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
	return s.live(id)
}

// SignOut ends a console session.
func (s *Service) SignOut(secret string) error {
	h := sha256.Sum256([]byte(secret))
	b := &store.Batch{}
	b.DropSession(h[:])
	return s.Store.Commit(b)
}

// live is a token that is live, by its id, and notes that it was used.
func (s *Service) live(id string) (*bearer.Token, bool) {
	now := s.Micros()
	t, ok := s.Snapshot().Tokens.Live(now, func(t *bearer.Token) bool { return t.ID == id })
	if ok {
		s.uses.note(id, now)
	}
	return t, ok
}
