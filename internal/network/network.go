// Package network says who may join a network, and knows who is on which: it puts what access points ask over RADIUS to
// the gates, tells them what is granted, and tells them again when that changes.
package network

import (
	"context"
	"crypto/tls"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/radius"
	"ironledger.example/internal/sealed"
)

// Action is what a device asks for that joins a network.
const Action = "join"

// Service lets devices into networks, over open records.
type Service struct {
	*engine.Engine
	box       *sealed.Box
	decisions *decision.Service
	server    radius.Server
	eap       radius.Conversations

	mu      sync.Mutex
	secrets map[string]opened // by access point
	faults  map[Fault]int64
	timing  Timing
	doors   []string                // where packets are taken
	work    chan string             // ids of stays that are to be looked at
	queued  map[string]bool         // of them, those that wait
	busy    map[string]bool         // that are looked at; true when again
	telling map[netip.Addr]int      // how many at an access point are
	waiting map[netip.Addr][]string // of them, those that wait for a place there
	away    map[netip.Addr]bool     // access points that did not answer last
	ctx     context.Context
	stop    context.CancelFunc
	wg      sync.WaitGroup
	aside   chan struct{} // places for what is told beside stays
}

// opened is a secret in the clear, and as it is kept.
type opened struct{ kept, secret string }

// Fault is something that an access point did that does not fit.
type Fault struct {
	AccessPoint string
	Why         string
}

// Timing is how access points are told of changes.
type Timing struct {
	Wait  time.Duration // for an answer
	Tries int           // before it counts as one that cannot be told
	Again time.Duration // after how long it is tried again; longer each time
	Look  time.Duration // how often stays are looked at, beside when something changes
}

// DefaultTiming is the usual (RFC 5080, section 2.2.1, has the first wait at two seconds; what a threat ends has less).
var DefaultTiming = Timing{Wait: time.Second, Tries: 3, Again: 5 * time.Second, Look: 5 * time.Second}

// New is a service over open records. Nobody is told of anything before [Service.Start].
func New(e *engine.Engine, box *sealed.Box, d *decision.Service) *Service {
	s := &Service{Engine: e, box: box, decisions: d, secrets: map[string]opened{}, faults: map[Fault]int64{},
		work: make(chan string, maxStays), queued: map[string]bool{}, busy: map[string]bool{}, telling: map[netip.Addr]int{},
		waiting: map[netip.Addr][]string{}, away: map[netip.Addr]bool{}, timing: DefaultTiming, aside: make(chan struct{}, tellers)}
	s.server = radius.Server{Handler: s, Log: e.Log}
	s.eap = radius.Conversations{Decide: s.proved, Refused: s.refused, Now: e.Now}
	d.Watched(s)
	return s
}

// Options are what the door is started with.
type Options struct {
	TLS    func() *tls.Config // within EAP
	Timing Timing             // the zero one for [DefaultTiming]
}

// Start begins to tell access points what changes.
func (s *Service) Start(o Options) {
	if o.Timing != (Timing{}) {
		s.timing = o.Timing
	}
	s.eap.TLS = o.TLS
	s.mu.Lock()
	s.ctx, s.stop = context.WithCancel(context.Background())
	s.mu.Unlock()
	s.bringBack()
	for range tellers {
		s.wg.Go(s.working)
	}
	s.wg.Go(s.looking)
}

// Stop ends telling; what is not told yet is told after the next start.
func (s *Service) Stop() {
	s.mu.Lock()
	if s.stop != nil {
		s.stop()
	}
	s.mu.Unlock()
	s.wg.Wait()
}

// Serve takes packets over UDP until ctx ends, which closes the connection.
func (s *Service) Serve(ctx context.Context, conn net.PacketConn, accounting bool) error {
	return s.server.Serve(ctx, conn, accounting)
}

// ServeTLS takes packets over TLS (RFC 6614) until ctx ends, which closes the listener.
func (s *Service) ServeTLS(ctx context.Context, l net.Listener, c *tls.Config) error {
	return s.server.ServeTLS(ctx, l, c)
}

// actor is an access point in the ledger.
func actor(accessPoint string) string { return ledger.AccessPoint + " " + accessPoint }

// maxFaults bounds how many are told apart.
const maxFaults = 1000

// fault counts something that does not fit.
func (s *Service) fault(accessPoint, why string) {
	s.mu.Lock()
	f, level := Fault{accessPoint, why}, slog.LevelDebug // what it does again and again is said once
	_, seen := s.faults[f]
	if !seen && len(s.faults) < maxFaults {
		level = slog.LevelWarn
	}
	if seen || len(s.faults) < maxFaults {
		s.faults[f]++
	}
	s.mu.Unlock()
	s.Log.Log(context.Background(), level, "an access point", "access_point", accessPoint, "why", why)
}

// refused is told of conversations that end with nothing decided.
func (s *Service) refused(r *radius.Request, why string) { s.fault(r.Peer.ID, why) }

// accessPointAt is the one that sends from an address: of several the one with the narrowest range.
func (s *Service) accessPointAt(from netip.Addr) (one *kept.AccessPoint) {
	for _, a := range s.Snapshot().AccessPoints.All() {
		if a.Range.Contains(from) && (one == nil || a.Range.Bits() > one.Range.Bits()) {
			one = a
		}
	}
	return one
}

// Peer implements [radius.Handler].
func (s *Service) Peer(from netip.Addr) (radius.Peer, bool) {
	a := s.accessPointAt(from)
	if a == nil || len(a.Secret) == 0 {
		return radius.Peer{}, false
	}
	secret, err := s.secretOf(a)
	if err != nil {
		s.fault(a.ID, err.Error())
		return radius.Peer{}, false
	}
	return radius.Peer{ID: a.ID, Secret: []byte(secret)}, true
}

// PeerShowing implements [radius.Handler].
func (s *Service) PeerShowing(from netip.Addr, sha256 string) (radius.Peer, bool) {
	for _, a := range s.Snapshot().AccessPoints.All() {
		if a.Certificate != "" && a.Certificate == sha256 && a.Range.Contains(from) {
			return radius.Peer{ID: a.ID, Secret: []byte(radius.SecretOverTLS)}, true
		}
	}
	return radius.Peer{}, false
}

// secretUse is what the secret of an access point is sealed for.
func secretUse(id string) string { return "access point " + id }

// secretOf opens the secret of an access point, once for all its packets.
func (s *Service) secretOf(a *kept.AccessPoint) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, is := s.secrets[a.ID]; is && o.kept == string(a.Secret) {
		return o.secret, nil
	}
	secret, err := s.box.Open(a.Secret, secretUse(a.ID))
	if err == nil {
		s.secrets[a.ID] = opened{string(a.Secret), secret}
	}
	return secret, err
}
