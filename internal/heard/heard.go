// Package heard takes partners' security events (RFC 8417), pushed (RFC 8935) or polled (RFC 8936): it
// checks who says them, and makes evidence of them or ends sessions.
package heard

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4/jwt"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	core "ironledger.example/core/heard"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/state"
)

// What is remembered of tokens that were taken.
const (
	rememberFor = core.MaxAge + value.Day // longer than one may be old
	maxHeard    = 500_000                 // of all sources
	forgetEach  = time.Hour
)

// Service takes events into open records.
type Service struct {
	*engine.Engine
	keys *keyrings

	mu        sync.Mutex
	counts    map[string]*Counts // by source
	forgotten time.Time
}

// Counts is what became of the events of a source since the service started.
type Counts struct {
	Taken, Refused int64
	Last           time.Time
	Failure        string // of the last that was refused, when none was taken since
}

// New is a service over open records. Nothing can be taken before [Service.Start].
func New(e *engine.Engine) *Service { return &Service{Engine: e, counts: map[string]*Counts{}} }

// Start lets the keys of partners be fetched.
func (s *Service) Start(p outbound.Policy) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.keys = newKeyrings(p, s.Now)
}

// Counts is what became of the events of a source.
func (s *Service) Counts(source string) Counts {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.counts[source]; c != nil {
		return *c
	}
	return Counts{}
}

// BusyError says that a token can be neither taken nor refused now: it is to be sent again.
type BusyError struct{ Message string }

func (e *BusyError) Error() string { return e.Message }

// Take takes a token, as it was sent; once it returns, what it does is done and on record. source is
// whose it must be, "" for whoever the rulebook hears. The error is a [*core.Error] for a token that is
// refused, or says that it is to be sent again.
func (s *Service) Take(ctx context.Context, token, source string) error {
	h, err := s.take(ctx, token, source)
	if errors.Is(err, core.ErrReplayed) {
		err = nil // whoever sends again is told that it is here
	}
	if h == nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.counts[h.Source]
	if c == nil {
		c = &Counts{}
		s.counts[h.Source] = c
	}
	if err != nil {
		c.Refused++
		c.Failure = err.Error()
		return err
	}
	c.Taken++
	c.Last, c.Failure = s.Now(), ""
	return nil
}

// take does so, and tells of whom the token is.
func (s *Service) take(ctx context.Context, token, source string) (*rulebook.Heard, error) {
	if len(token) > core.MaxToken {
		return nil, core.Refuse(core.InvalidRequest, "the token is larger than %d bytes", core.MaxToken)
	}
	signed, err := jwt.ParseSigned(token, algorithms)
	if err != nil || len(signed.Headers) != 1 {
		return nil, core.Refuse(core.InvalidRequest, "this is not a signed token (RFC 7519) by one of %v", algorithms)
	}
	// Whose it would be is read before it is known to be true, to know by which keys to tell.
	var unproven struct {
		Issuer string `json:"iss"`
	}
	if err := signed.UnsafeClaimsWithoutVerification(&unproven); err != nil {
		return nil, core.Refuse(core.InvalidRequest, "the claims cannot be read")
	}
	snap := s.Snapshot()
	h := snap.Book.Rulebook.HeardFrom(unproven.Issuer)
	if h == nil || source != "" && h.Source != source {
		return nil, core.Refuse(core.InvalidIssuer, "nobody is heard here whose issuer is %.200q", unproven.Issuer)
	}
	s.mu.Lock()
	keys := s.keys
	s.mu.Unlock()
	if keys == nil {
		return nil, &BusyError{"the service is not ready"}
	}
	claims, err := keys.verify(ctx, h.Keys, signed)
	if err != nil {
		return h, err
	}
	now := s.Micros()
	t, err := core.Parse(claims)
	if err == nil {
		err = t.Check(h, now)
	}
	if err != nil {
		return h, err
	}
	if typ, _ := signed.Headers[0].ExtraHeaders["typ"].(string); typ != "secevent+jwt" &&
		typ != "application/secevent+jwt" {
		return h, core.Refuse(core.InvalidRequest, "the typ %.50q is not that of a security event token", typ)
	}
	effects, err := t.Effects(h, snap.Book.Rulebook.Dict, now)
	if err != nil {
		return h, err
	}
	s.forget(now)
	return h, s.Do(context.WithoutCancel(ctx), func(c *state.Change) error { return carryOut(c, h, t, effects) })
}

// once is the id under which a token is remembered.
func once(t *core.Token) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%q%q", t.Issuer, t.ID))
	return hex.EncodeToString(sum[:])[:40]
}

// carryOut does what the events of a token say, as one change with the note that it was taken.
func carryOut(c *state.Change, h *rulebook.Heard, t *core.Token, effects []core.Effect) error {
	id := once(t)
	if state.Get(c, state.HeardKind, id) != nil {
		return core.ErrReplayed
	}
	if c.Base.Heard.Len() >= maxHeard {
		return &BusyError{fmt.Sprintf("%d tokens were taken of late; more are not remembered", maxHeard)}
	}
	// The rulebook may be another than the one that the token was read by.
	if now := c.Base.Book.Rulebook.HeardFrom(t.Issuer); now == nil || now.Source != h.Source {
		return core.Refuse(core.InvalidIssuer, "nobody is heard here whose issuer is %.200q", t.Issuer)
	}
	actor := ledger.Signal + " " + h.Source
	for _, e := range effects {
		if e.Report != nil {
			intake.One(c, actor, e.Report)
		}
		if e.Revoke != nil {
			revoke(c, actor, h, t, &e)
		}
	}
	return state.Put(c, state.HeardKind, id, &kept.Heard{Source: h.Source, At: c.Now})
}

// revoke ends the sessions of whom an event names. Of a device and a person of whom one alone is known, all
// sessions of that one end: rather too many than too few.
func revoke(c *state.Change, actor string, h *rulebook.Heard, t *core.Token, e *core.Effect) {
	device, person := device(c, h, e.Revoke.Device), person(c, e.Revoke.Person)
	if device == "" && person == "" && e.Revoke.Device == "" { // one name, which may be that of either
		device = deviceOf(c, h, e.Revoke.Person)
	}
	if device == "" && person == "" {
		return
	}
	c.Revoked = append(c.Revoked, state.Revocation{Device: device, Person: person,
		By: state.Cause{Kind: event.ByPartner, Actor: actor}})
	c.Record(actor, &event.SignalReceived{Source: h.Source, Issuer: t.Issuer,
		JTI: event.Clipped(t.ID, event.MaxReason), Event: e.Event,
		Device: device, Person: person, Reason: event.Clipped(e.Reason, event.MaxReason)})
}

func device(c *state.Change, h *rulebook.Heard, name string) string {
	if name == "" {
		return ""
	}
	return deviceOf(c, h, name)
}

// deviceOf is the device that a source calls by a name; "" for none that is known.
func deviceOf(c *state.Change, h *rulebook.Heard, name string) string {
	key := evidence.Folded(evidence.ByExternal, h.Source+":"+name)
	switch h.Device {
	case "id":
		key = evidence.Folded(evidence.ByID, name)
	case "serial":
		key = evidence.Folded(evidence.BySerial, name)
	case "hardware_id":
		key = evidence.Folded(evidence.ByHardware, name)
	}
	if id, known := c.Find(key); known {
		return id
	}
	return ""
}

// person is the person of an id or of an address of mail; "" for none that is known.
func person(c *state.Change, name string) string {
	if name == "" {
		return ""
	}
	if p, known := c.Base.People.Get(name); known {
		return p.ID
	}
	list := c.Base.People.List()
	if i := slices.IndexFunc(list, func(p api.Person) bool { return p.Mail == name }); i >= 0 {
		return list[i].ID
	}
	return ""
}

// forget drops what is remembered of tokens that would be too old by now.
func (s *Service) forget(now int64) {
	s.mu.Lock()
	due := s.Now().Sub(s.forgotten) >= forgetEach
	if due {
		s.forgotten = s.Now()
	}
	s.mu.Unlock()
	if !due {
		return
	}
	s.Submit(func(c *state.Change) error {
		for id, x := range state.All(c, state.HeardKind) {
			if x.At < now-rememberFor {
				state.Drop(c, state.HeardKind, id)
			}
		}
		return nil
	})
}

// StatusOf is the status of an answer (RFC 8935, section 2.4) to a token that was not taken.
func StatusOf(err error) int {
	if errors.As(err, new(*core.Error)) {
		return http.StatusBadRequest
	}
	return http.StatusServiceUnavailable
}
