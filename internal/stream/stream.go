// Package stream tells receivers of changes of standing as they happen: a transmitter of
// the OpenID Shared Signals Framework 1.0 (SSF), which sends events (RFC 8935) or has them
// fetched (RFC 8936).
//
// A stream is a place in the ledger: all that its receiver is told of the entries up to
// there has been acknowledged. What comes after is made of the entries again after a
// restart, so that nothing is skipped, whatever went down; an event may come twice, and
// has the same jti then.
package stream

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"ironledger.example/core/event"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/signal"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/news"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/sealed"
	"ironledger.example/internal/state"
	"ironledger.example/internal/view"
)

// Options are what the transmitter is started with.
type Options struct {
	Issuer string // the base URL by which others reach the service
	Policy outbound.Policy
	// Retry is how long after a failure an event is sent again first; 0 for a second.
	Retry time.Duration
}

// Service is the streams of open records.
type Service struct {
	*engine.Engine
	keys *keys
	box  *sealed.Box

	verified verifications
	news     *news.News
	// changing is held while a sender takes the place of another.
	changing sync.Mutex

	mu      sync.Mutex
	options Options
	client  *http.Client
	senders map[string]*sender // by stream; nil before Start
	stop    context.CancelFunc
	ctx     context.Context
	wg      sync.WaitGroup
}

// New is a service over open records in a folder. Nothing is told before [Service.Start].
func New(e *engine.Engine, n *news.News, dir string, box *sealed.Box) (*Service, error) {
	k, err := openKeys(filepath.Join(dir, "signals.keys"), e.Now())
	if err != nil {
		return nil, err
	}
	return &Service{Engine: e, news: n, keys: k, box: box}, nil
}

// flushEach is how often the places of streams are kept. What was acknowledged since is
// told again after a crash.
const flushEach = time.Second

// Start begins to tell receivers.
func (s *Service) Start(o Options) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o.Retry = cmp.Or(o.Retry, firstRetry)
	s.options, s.client, s.senders = o, o.Policy.Client(pushTimeout), map[string]*sender{}
	s.ctx, s.stop = context.WithCancel(context.Background())
	for _, st := range s.Snapshot().Streams.List() {
		s.launch(&st, 0)
	}
	s.wg.Go(func() {
		tick := time.NewTicker(flushEach)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
			case <-s.ctx.Done():
				return
			}
			if err := s.flush(s.ctx); err != nil && s.ctx.Err() == nil {
				s.Log.Warn("the places of streams are not kept", "error", err)
			}
		}
	})
}

// Stop ends telling, and keeps how far each stream has come.
func (s *Service) Stop(ctx context.Context) error {
	s.mu.Lock()
	if s.stop == nil {
		s.mu.Unlock()
		return nil
	}
	s.stop() // under the lock: nobody launches behind it
	s.mu.Unlock()
	s.wg.Wait()
	return s.flush(ctx)
}

// Issuer is who signs events.
func (s *Service) Issuer() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.options.Issuer
}

// Keys are those that events are checked with (RFC 7517).
func (s *Service) Keys() jose.JSONWebKeySet { return s.keys.public() }

// RotateKey has events signed with another key, as soon as receivers can know it.
func (s *Service) RotateKey(ctx context.Context, actor, reason string) error {
	if err := fault.CheckReason(&reason); err != nil {
		return err
	}
	if err := s.Do(ctx, func(c *state.Change) error {
		c.Record(actor, &event.StreamChanged{Stream: "all", Change: event.StreamKey, Reason: reason})
		return nil
	}); err != nil {
		return err
	}
	return s.keys.rotate(s.Now())
}

// launch begins to tell a stream, from the place that is kept or a later one that it has
// come to. The caller holds the lock.
func (s *Service) launch(st *kept.Stream, place int64) {
	ctx, cancel := context.WithCancel(s.ctx)
	x := newSender(s, st, max(place, s.Snapshot().StreamPlace(st)), cancel)
	s.senders[st.ID] = x
	s.wg.Go(func() { x.run(ctx) })
}

// sender is the one of a stream, nil when the stream is not told.
func (s *Service) sender(id string) *sender {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.senders[id]
}

// relaunch begins to tell a stream anew after it was changed, from where it is. Nothing
// can keep it from that but the end of the service: a stream must not fall silent because
// whoever changed it has left.
func (s *Service) relaunch(id string) {
	s.changing.Lock()
	defer s.changing.Unlock()
	s.mu.Lock()
	old, started := s.senders[id], s.senders != nil
	delete(s.senders, id)
	s.mu.Unlock()
	place := int64(0)
	if old != nil {
		old.end()
		place = old.place()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if st := s.Snapshot().Streams.Get(id); started && s.ctx.Err() == nil && st != nil {
		s.launch(st, place)
		if old != nil {
			s.senders[id].inherit(old)
		}
	}
}

// put carries out a change of a stream, and begins to tell it anew. It goes on when the
// caller leaves: what is on its way to the disk is told as it will be.
func (s *Service) put(ctx context.Context, id string, apply func(*state.Change) error) error {
	if err := s.Do(context.WithoutCancel(ctx), apply); err != nil {
		return err
	}
	s.relaunch(id)
	return nil
}

// flush keeps the places of streams that moved on.
func (s *Service) flush(ctx context.Context) error {
	moved := map[string]int64{}
	snap := s.Snapshot()
	s.mu.Lock()
	for id, x := range s.senders {
		if st := snap.Streams.Get(id); st != nil && x.place() > snap.StreamPlace(st) {
			moved[id] = x.place()
		}
	}
	s.mu.Unlock()
	return s.keep(ctx, moved)
}

// keep writes how far streams have come.
func (s *Service) keep(ctx context.Context, places map[string]int64) error {
	if len(places) == 0 {
		return nil
	}
	return s.Do(ctx, func(c *state.Change) error {
		for id, seq := range places {
			if state.Get(c, state.StreamKind, id) == nil {
				continue
			}
			if had := state.Get(c, state.StreamPlaceKind, id); had != nil && had.Seq >= seq {
				continue
			}
			if err := state.Put(c, state.StreamPlaceKind, id, &kept.StreamPlace{Seq: seq}); err != nil {
				return err
			}
		}
		return nil
	})
}

// given is what the receiver of a stream is given now; an error when the rulebook in
// force gives it nothing.
func (s *Service) given(snap *state.Snapshot, st *kept.Stream) (*signal.Given, error) {
	rb := snap.Book.Rulebook
	r := rb.Signals.Receiver(st.Receiver)
	if r == nil {
		return nil, fmt.Errorf("the rulebook in force names no receiver %s in its signals", st.Receiver)
	}
	if form := cmp.Or(st.Form, rulebook.SetForm); form != r.Form {
		return nil, fmt.Errorf("the stream was made to tell by %s, and the rulebook in force has %s told by %s; "+
			"remove it and create another", form, st.Receiver, r.Form)
	}
	if st.CreatedBy == st.Receiver {
		if _, live := snap.Tokens.Live(s.Micros(), func(t *bearer.Token) bool {
			return t.Name == st.Receiver && t.Role == bearer.Receiver
		}); !live {
			return nil, fmt.Errorf("the token of %s, with which it made the stream, was revoked or has ended", st.Receiver)
		}
	}
	now := s.Micros()
	return &signal.Given{Rulebook: rb, Receiver: r.ID, Events: delivered(st, r), Device: r.Device, Person: r.Person,
		CompliantFrom: r.CompliantFrom, Issuer: s.Issuer(), Directory: view.Directory{Snapshot: snap, Now: now},
		When:  r.When,
		Reach: r.Form == rulebook.CloudForm, Now: now}, nil
}

// delivered are the short names of the events that a stream is told: what its receiver
// asked for and may have.
func delivered(st *kept.Stream, r *rulebook.Receiver) []string {
	out := []string{}
	for _, name := range r.Events {
		if st.Requested == nil || slices.Contains(st.Requested, signal.TypeOf(name)) {
			out = append(out, name)
		}
	}
	return out
}

// errPaused is why a stream that is not enabled tells nothing.
var errPaused = errors.New("the stream is not enabled")

// Sign signs a payload of a type with the key whose turn it is, as a compact JWS (RFC 7515).
func (s *Service) Sign(typ string, payload []byte) (string, error) {
	signer, err := s.keys.signer(typ, s.Now())
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(payload)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}
