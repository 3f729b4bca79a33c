// Package authority is our own certificate authority for devices (RFC 5280): its keys, what it issues, renews,
// refuses and takes back, and how others learn of that (CRL, OCSP).
//
// A key is kept in a file apart from the records, sealed. Whether a device may have a certificate is decided in the
// change that records it: what was signed before, and may not be given any more then, is given to nobody.
package authority

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"sync"
	"time"

	"ironledger.example/core/authority"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/sealed"
	"ironledger.example/internal/state"
)

// Service is the authority of open records.
type Service struct {
	*engine.Engine
	dir string // of the keys
	box *sealed.Box

	mu      sync.Mutex
	signers map[string]*signer // by authority
	base    string             // the URL by which others reach the service, "" while it is not known
	door    Door
	lists   map[string]*list // by authority
	answers map[question]*answer
	names   map[called]*hashes   // what requests call authorities
	told    map[string]time.Time // refusals that were recorded of late
	uses    map[string]*authority.Uses
	trouble string // why there is no authority though the rulebook has one
	stop    context.CancelFunc
	wg      sync.WaitGroup

	keys keyOwners
}

// signer is an authority that can sign.
type signer struct {
	id   string
	cert *x509.Certificate
	key  crypto.Signer
}

// It is looked whether the rulebook asks for an authority that is not there when something was recorded, once in
// ensureEach at most, and else so often.
const (
	ensureEach    = 200 * time.Millisecond
	ensureIdle    = 10 * time.Second
	ensureTrouble = time.Second // after an authority that could not be made
)

// Door is where devices are answered.
type Door struct {
	URL string // "" for nowhere
	Own bool   // whether our own authority certifies it
}

// AtDoor says where devices are answered, for those who invite them.
func (s *Service) AtDoor(d Door) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.door = d
}

// New is a service over open records. Nothing is issued before [Service.Start].
func New(e *engine.Engine, dir string, box *sealed.Box) *Service {
	return &Service{Engine: e, dir: filepath.Join(dir, "authority"), box: box, signers: map[string]*signer{},
		lists: map[string]*list{}, answers: map[question]*answer{}, names: map[called]*hashes{},
		told: map[string]time.Time{},
		uses: map[string]*authority.Uses{}}
}

// Start makes an authority when the rulebook asks for one, now or later. base is the URL by which others reach the
// service.
func (s *Service) Start(base string) {
	s.mu.Lock()
	s.base = base
	var ctx context.Context
	ctx, s.stop = context.WithCancel(context.Background())
	s.mu.Unlock()
	s.keys.load(s.Snapshot().Issued.All())
	s.ensure(ctx)
	s.wg.Go(func() {
		var forgot time.Time
		for seen := int64(0); ; {
			seen = s.awaitChange(ctx, seen)
			select {
			case <-ctx.Done():
				return
			case <-time.After(ensureEach):
			}
			s.ensure(ctx)
			if now := s.Now(); now.Sub(forgot) > time.Hour {
				s.forget(ctx)
				forgot = now
			}
		}
	})
}

// awaitChange waits until readers see a state with more than the first seen entries, and returns how many it has;
// or for as long as the authority may go unlooked at.
func (s *Service) awaitChange(ctx context.Context, seen int64) int64 {
	most := ensureIdle
	if s.Trouble() != "" {
		most = ensureTrouble
	}
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	size := s.Follow(ctx, seen)
	if s.AwaitState(ctx, size) != nil {
		return seen // it is looked again
	}
	return size
}

// Stop ends that.
func (s *Service) Stop() {
	s.mu.Lock()
	stop := s.stop
	s.mu.Unlock()
	if stop != nil {
		stop()
		s.wg.Wait()
	}
}

// ensure makes an authority if the rulebook asks for one and there is none.
func (s *Service) ensure(ctx context.Context) {
	snap := s.Snapshot()
	if snap.Book.Rulebook.Authority == nil || current(snap) != nil || asks(snap) {
		s.troubled("")
		return
	}
	if _, err := s.make(ctx, ledger.Service, "the rulebook has an authority", false); err != nil && ctx.Err() == nil {
		if why := err.Error(); s.troubled(why) {
			s.Log.Error("there is no authority for certificates", "error", why)
		}
	}
}

// troubled keeps why there is no authority, and reports whether that is new.
func (s *Service) troubled(why string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	is := s.trouble != why
	s.trouble = why
	return is
}

// Trouble is why nothing can be issued though the rulebook has an authority; "" when it can.
func (s *Service) Trouble() string {
	s.mu.Lock()
	trouble := s.trouble
	s.mu.Unlock()
	snap := s.Snapshot()
	switch a := current(snap); {
	case snap.Book.Rulebook.Authority == nil || trouble != "":
		return trouble
	case a == nil && asks(snap):
		return "the certificate of the authority is to come from the authority above"
	case a != nil:
		if _, err := s.signer(a); err != nil {
			return err.Error()
		}
	}
	return ""
}

// current is the authority that signs, nil for none.
func current(snap *state.Snapshot) *kept.Authority {
	for _, a := range snap.Authorities.All() {
		if a.State == kept.AuthoritySigns {
			return a
		}
	}
	return nil
}

func asks(snap *state.Snapshot) bool {
	for _, a := range snap.Authorities.All() {
		if a.State == kept.AuthorityAsks {
			return true
		}
	}
	return false
}

func (s *Service) keyFile(id string) string { return filepath.Join(s.dir, id+".key") }

// keep writes the key of an authority into its file.
func (s *Service) keep(id string, key crypto.Signer) error {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	return sealed.WriteNew(s.keyFile(id), s.box.Seal(string(der), "authority "+id))
}

// key reads the key of an authority from its file.
func (s *Service) key(id string) (crypto.Signer, error) {
	path := s.keyFile(id)
	if err := sealed.OwnersAlone(path); err != nil {
		return nil, fmt.Errorf("the key of the authority: %w", err)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the key of the authority: %w", err)
	}
	der, err := s.box.Open(raw, "authority "+id)
	if err != nil {
		return nil, fmt.Errorf("the key of the authority in %s: %w", path, err)
	}
	key, err := x509.ParsePKCS8PrivateKey([]byte(der))
	if err != nil {
		return nil, fmt.Errorf("the key of the authority in %s: %w", path, err)
	}
	return key.(crypto.Signer), nil
}

// signer opens an authority with its key.
func (s *Service) signer(a *kept.Authority) (*signer, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if x := s.signers[a.ID]; x != nil && string(x.cert.Raw) == string(a.Certificate) {
		return x, nil
	}
	cert, err := x509.ParseCertificate(a.Certificate)
	if err != nil {
		return nil, fmt.Errorf("the certificate of the authority is damaged: %w", err)
	}
	key, err := s.key(a.ID)
	if err != nil {
		return nil, err
	}
	if err := authority.Fit(cert, key.Public(), s.Now()); err != nil {
		return nil, fmt.Errorf("the authority %s: %w", a.ID, err)
	}
	x := &signer{a.ID, cert, key}
	s.signers[a.ID] = x
	return x, nil
}

// settings are the authority of the rulebook; the error is for people who want it changed.
func settings(snap *state.Snapshot) (*rulebook.Authority, error) {
	if a := snap.Book.Rulebook.Authority; a != nil {
		return a, nil
	}
	return nil, fault.Input("", "the rulebook has no authority")
}

// make makes a key and a certificate for it that signs itself. With rotate it takes the place of the one there is.
func (s *Service) make(ctx context.Context, actor, reason string, rotate bool) (*kept.Authority, error) {
	set, err := settings(s.Snapshot())
	if err != nil {
		return nil, err
	}
	key, err := set.Key.Make(rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := authority.Serial(rand.Reader)
	if err != nil {
		return nil, err
	}
	t, err := authority.Root(key.Public(), set.Name, set.Title, serial, s.Now(), set.Lifetime)
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	a := &kept.Authority{ID: hex.EncodeToString(t.SubjectKeyId[:8]), State: kept.AuthoritySigns, Certificate: der,
		By: actor}
	return a, s.take(ctx, a, key, rotate, event.AuthorityMade, reason)
}

// errThere says that somebody else made one first.
var errThere = errors.New("there is an authority already")

// take puts an authority in force, with its key kept first: there is never one without its key.
func (s *Service) take(ctx context.Context, a *kept.Authority, key crypto.Signer, rotate bool, change,
	reason string) error {
	if err := s.keep(a.ID, key); err != nil {
		return fmt.Errorf("the key of the authority cannot be kept: %w", err)
	}
	err := s.DoAlone(ctx, func(c *state.Change) error {
		all := state.All(c, state.AuthorityKind)
		was := ""
		for _, x := range all {
			switch {
			case x.ID == a.ID:
				return fault.Input("", "the authority has this key already")
			case x.State == kept.AuthorityAsks && a.State == kept.AuthorityAsks:
				return fault.Input("", "another request waits for its certificate: "+x.ID)
			case x.State == kept.AuthoritySigns && a.State == kept.AuthoritySigns:
				if was = x.ID; !rotate {
					return errThere
				}
			}
		}
		if err := succeed(c, all, a); err != nil {
			return err
		}
		a.At = c.Now
		if err := state.Put(c, state.AuthorityKind, a.ID, a); err != nil {
			return err
		}
		return note(c, a, change, was, reason)
	})
	if err != nil {
		// Nothing was changed, so that the key is nobody's; of other errors that is not known.
		if input := (*fault.InputError)(nil); errors.As(err, &input) || errors.Is(err, errThere) {
			err = errors.Join(err, os.Remove(s.keyFile(a.ID)))
		}
		if errors.Is(err, errThere) && !rotate && change == event.AuthorityMade {
			return nil
		}
	}
	return err
}

// succeed makes the authority that signs the former one. No more than two count at a time.
func succeed(c *state.Change, all map[string]*kept.Authority, next *kept.Authority) error {
	if next.State != kept.AuthoritySigns {
		return nil
	}
	for id, x := range all {
		switch x.State {
		case kept.AuthorityFormer:
			if n, until := live(c, id); n > 0 {
				return fault.Inputf("",
					"the authority before, %s, still has %d certificates that count, the last until %s; "+
						"revoke them or wait", id, n, value.FormatTime(until))
			}
			state.Drop(c, state.AuthorityKind, id)
		case kept.AuthoritySigns:
			former := *x
			former.State = kept.AuthorityFormer
			if err := state.Put(c, state.AuthorityKind, id, &former); err != nil {
				return err
			}
		}
	}
	return nil
}

// live is how many certificates of an authority count, and until when.
func live(c *state.Change, id string) (n int, until int64) {
	for _, x := range state.All(c, state.CertificateKind) {
		if x.Authority == id && x.RevokedAt == 0 && x.NotAfter >= c.Now {
			n, until = n+1, max(until, x.NotAfter)
		}
	}
	return n, until
}

// note records what became of an authority, and makes the fleet know it.
func note(c *state.Change, a *kept.Authority, change, former, reason string) error {
	e := &event.AuthorityChanged{Authority: a.ID, Change: change, Former: former, Reason: reason}
	if len(a.Certificate) > 0 {
		cert, err := x509.ParseCertificate(a.Certificate)
		if err != nil {
			return err
		}
		e.Subject, e.SHA256 = cert.Subject.String(), state.Fingerprint(cert)
		e.Until = value.FormatTime(value.Micros(cert.NotAfter))
	}
	c.Record(a.By, e)
	if change == event.AuthorityAsked {
		return nil
	}
	return c.Reanchor(state.Cause{Kind: event.ByRulebook, Actor: a.By})
}

// forget drops what ended long ago.
func (s *Service) forget(ctx context.Context) {
	const after = 30 * value.Day
	err := s.Do(ctx, func(c *state.Change) error {
		for serial, x := range state.All(c, state.CertificateKind) {
			if x.NotAfter+after < c.Now {
				state.Drop(c, state.CertificateKind, serial)
			}
		}
		s.keys.load(maps.All(state.All(c, state.CertificateKind)))
		for device, x := range state.All(c, state.InviteKind) {
			if x.Until+value.Day < c.Now {
				state.Drop(c, state.InviteKind, device)
			}
		}
		return nil
	})
	if err != nil && ctx.Err() == nil {
		s.Log.Error("what ended is not forgotten", "error", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for k, at := range s.told {
		if s.Now().Sub(at) > tellAgain {
			delete(s.told, k)
		}
	}
}
