package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
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
)

// roles is who may do what.
var roles = map[Role][]Permission{
	Reader:   {MayRead},
	Helpdesk: {MayRead, MayAsk, MayWaive, MayVouch},
	Author:   {MayRead, MayAsk, MayPublish, MayWaive, MayVouch},
	Admin:    {MayRead, MayAsk, MayPublish, MayDecide, MayReport, MayWaive, MayVouch, MayAdmin},
	Enforcer: {MayDecide},
	Source:   {MayReport, MayVouch},
}

// May reports whether the role allows something.
func (r Role) May(p Permission) bool { return slices.Contains(roles[r], p) }

// Token is a bearer token without its secret.
type Token struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Role      Role   `json:"role"`
	CreatedAt string `json:"created_at"`
	CreatedBy string `json:"created_by"`
	RevokedAt string `json:"revoked_at,omitempty"`
}

// hash is the SHA-256 of a secret. Secrets are 256 random bits, so that a
// plain hash cannot be searched; it is also what they are looked up by, so
// that the time of a lookup says nothing of the secret.
type hash = [sha256.Size]byte

type tokenSet struct {
	all    []store.Token
	active map[hash]*Token
}

func newTokenSet(all []store.Token) *tokenSet {
	t := &tokenSet{all: all, active: map[hash]*Token{}}
	for i := range all {
		if all[i].RevokedAt == 0 {
			t.active[hash(all[i].Hash)] = new(publicToken(all[i]))
		}
	}
	return t
}

// MinSecret is the least length of a token that is brought along, in bytes.
const MinSecret = 20

func newSecret() string {
	var b [32]byte
	rand.Read(b[:]) // never fails: crypto/rand
	return "il_" + base64.RawURLEncoding.EncodeToString(b[:])
}

var idEncoding = base32.NewEncoding("0123456789abcdefghjkmnpqrstvwxyz").WithPadding(base32.NoPadding)

// ids makes ids that rise with time, even within one millisecond, and cannot
// be guessed: 48 bits of milliseconds, 16 of a count, and 36 random ones, in 20
// characters without look-alikes.
type ids struct{ last atomic.Uint64 }

func (s *ids) next(now int64) string {
	var random [5]byte
	rand.Read(random[:])
	at := countedFrom(now)
	for {
		last := s.last.Load()
		at = max(at, last+1)
		if s.last.CompareAndSwap(last, at) {
			break
		}
	}
	return idOf(at, random)
}

// countedFrom is the time and the count of the first id of a millisecond.
func countedFrom(now int64) uint64 { return uint64(now/1000) << 16 }

func idOf(at uint64, random [5]byte) string {
	b := append(binary.BigEndian.AppendUint64(make([]byte, 0, 13), at), random[:]...)
	return idEncoding.EncodeToString(b)[:20]
}

// maxDrift bounds how much earlier than its entry the id of a decision can be
// from, in microseconds.
const maxDrift = int64(time.Hour / time.Microsecond)

// decisionsSince visits the decisions since a moment, oldest first, until visit
// returns an error, which it returns.
func (s *Service) decisionsSince(ctx context.Context, moment int64, visit func(ledger.Entry) error) error {
	return s.store.DecisionsSince(ctx, idOf(countedFrom(max(0, moment-maxDrift)), [5]byte{}), moment, visit)
}

// IsID reports whether a text has the form of an id.
func IsID(text string) bool {
	_, err := idEncoding.DecodeString(text)
	return err == nil && len(text) == 20
}

// ErrNoAdmin says that no administrator's token is left, and how to go on.
var ErrNoAdmin = errors.New("no administrator's token is left; make one with serve --new-admin-token REASON")

// firstTokens makes the first administrator's token at the first start: the one that
// was given, or one that is made up. Later one is made only for a reason, which is
// recorded; it is made up then, and a token that was given is not taken.
func (s *Service) firstTokens(snap *Snapshot, given, reason string) error {
	all := snap.Tokens.all
	switch {
	case reason != "":
		given = ""
	case len(all) > 0:
		if given != "" {
			s.log.Info("the administrator's token that was given is not taken: the records have tokens already")
		}
		if !slices.ContainsFunc(all, func(t store.Token) bool {
			return Role(t.Role) == Admin &&
				t.RevokedAt == 0
		}) {
			return ErrNoAdmin
		}
		return nil
	case given != "" && len(given) < MinSecret:
		return fmt.Errorf("the administrator's token must have at least %d characters", MinSecret)
	}
	if given == "" {
		s.FirstToken = newSecret()
		given = s.FirstToken
	}
	now := s.micros()
	h := sha256.Sum256([]byte(given))
	name := "first-admin"
	if reason != "" {
		name = "new-admin-" + s.ids.next(now)
	}
	t := store.Token{ID: s.ids.next(now), Name: name, Role: string(Admin), Hash: h[:], CreatedAt: now,
		CreatedBy: ledger.Service}
	b := &store.Batch{Entries: []ledger.Entry{event.Entry(now, ledger.Service,
		event.NewToken(t.ID, t.Name, t.Role, reason))}}
	b.PutToken(t)
	if err := s.store.Commit(b); err != nil {
		return err
	}
	snap.Tokens = newTokenSet(append(slices.Clone(all), t))
	return nil
}

// tokensNow are the tokens as a change finds them.
func (c *change) tokensNow() *tokenSet {
	if c.tokens != nil {
		return c.tokens
	}
	return c.base.Tokens
}

func publicToken(t store.Token) Token {
	p := Token{ID: t.ID, Name: t.Name, Role: Role(t.Role), CreatedAt: value.FormatTime(t.CreatedAt),
		CreatedBy: t.CreatedBy}
	if t.RevokedAt != 0 {
		p.RevokedAt = value.FormatTime(t.RevokedAt)
	}
	return p
}

// Authenticate returns the token that a secret belongs to.
// Nobody may change it.
func (s *Service) Authenticate(secret string) (*Token, bool) {
	t := s.Snapshot().Tokens.active[sha256.Sum256([]byte(secret))]
	return t, t != nil
}

// Tokens lists all tokens, the revoked ones too.
func (s *Service) Tokens() []Token {
	out := []Token{}
	for _, t := range s.Snapshot().Tokens.all {
		out = append(out, publicToken(t))
	}
	return out
}

// ErrBadToken says that a token cannot be made or revoked as asked.
var ErrBadToken = errors.New("")

// CreateToken makes a token and returns its secret, which is kept nowhere.
func (s *Service) CreateToken(ctx context.Context, actor, name string, role Role) (Token, string, error) {
	name = strings.TrimSpace(name)
	switch {
	case roles[role] == nil:
		return Token{}, "", fmt.Errorf("%w%q is not a role; there are reader, helpdesk, author, admin, enforcer and source", ErrBadToken, role)
	case name == "" || len(name) > 100:
		return Token{}, "", fmt.Errorf("%wa token needs a name of at most 100 bytes", ErrBadToken)
	}
	if name == ledger.Clock || name == ledger.Service {
		return Token{}, "", fmt.Errorf("%wno token may be called %s: the ledger calls so what nobody did",
			ErrBadToken, name)
	}
	secret := newSecret()
	var made Token
	err := s.do(ctx, func(c *change) error {
		set := c.tokensNow()
		for _, t := range set.all {
			if t.Name == name && t.RevokedAt == 0 {
				return fmt.Errorf("%wthere is a token %s already; revoke it first or take another name",
					ErrBadToken, name)
			}
		}
		h := sha256.Sum256([]byte(secret))
		t := store.Token{ID: s.ids.next(c.now), Name: name, Role: string(role), Hash: h[:], CreatedAt: c.now,
			CreatedBy: actor}
		c.batch.PutToken(t)
		c.record(actor, event.NewToken(t.ID, t.Name, t.Role, ""))
		c.tokens = newTokenSet(append(slices.Clone(set.all), t))
		made = publicToken(t)
		return nil
	})
	return made, secret, err
}

// RevokeToken ends a token, named by its id or name, at once. The last
// administrator's token cannot be revoked.
func (s *Service) RevokeToken(ctx context.Context, actor, id string) (Token, error) {
	var revoked Token
	err := s.do(ctx, func(c *change) error {
		all := slices.Clone(c.tokensNow().all)
		i := slices.IndexFunc(all, func(t store.Token) bool {
			return (t.ID == id || t.Name == id) &&
				t.RevokedAt == 0
		})
		if i < 0 {
			return store.ErrNotFound
		}
		admins := 0
		for _, t := range all {
			if Role(t.Role) == Admin && t.RevokedAt == 0 {
				admins++
			}
		}
		if Role(all[i].Role) == Admin && admins == 1 {
			return fmt.Errorf("%wthis is the last administrator's token; make another before revoking it",
				ErrBadToken)
		}
		all[i].RevokedAt = c.now
		c.batch.PutToken(all[i])
		c.record(actor, event.EndedToken(all[i].ID, all[i].Name, all[i].Role))
		c.tokens = newTokenSet(all)
		revoked = publicToken(all[i])
		return nil
	})
	return revoked, err
}

// SessionLength is how long a console session lasts.
const SessionLength = 12 * time.Hour

// SignIn makes a console session for a token and returns the secret of
// its cookie.
func (s *Service) SignIn(t *Token) (string, error) {
	secret, now := newSecret(), s.micros()
	h := sha256.Sum256([]byte(secret))
	b := &store.Batch{}
	b.PutSession(h[:], t.ID, now, now+SessionLength.Microseconds())
	return secret, s.store.Commit(b)
}

// SignedIn returns the token behind a console session.
func (s *Service) SignedIn(ctx context.Context, secret string) (*Token, bool) {
	h := sha256.Sum256([]byte(secret))
	id, err := s.store.Session(ctx, h[:], s.micros())
	if err != nil {
		return nil, false
	}
	for _, t := range s.Snapshot().Tokens.active {
		if t.ID == id {
			return t, true
		}
	}
	return nil, false
}

// SignOut ends a console session.
func (s *Service) SignOut(secret string) error {
	h := sha256.Sum256([]byte(secret))
	b := &store.Batch{}
	b.DropSession(h[:])
	return s.store.Commit(b)
}
