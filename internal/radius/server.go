package radius

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
)

// Peer is an access point or a switch that asks.
type Peer struct {
	ID     string
	Secret []byte
	At     netip.Addr // it sends from
}

// Request is an authentic packet of a peer.
type Request struct {
	*radius.Packet
	Peer Peer
}

// Handler decides what becomes of requests. Its methods are called by many at once.
type Handler interface {
	// Peer is who sends from an address.
	Peer(from netip.Addr) (Peer, bool)
	// PeerShowing is who sends from an address and shows a certificate, by its SHA-256 in hex.
	PeerShowing(from netip.Addr, sha256 string) (Peer, bool)
	// Access answers an Access-Request; nil for silence.
	Access(ctx context.Context, r *Request) *radius.Packet
	// Account takes an Accounting-Request; false for silence, so that it is sent again.
	Account(ctx context.Context, r *Request) bool
}

// Bounds of what goes on at once.
const (
	maxAtOnce     = 512
	maxOfPeer     = 128
	rememberFor   = 30 * time.Second // answers, for whom they did not reach (RFC 5080, section 2.2.2)
	maxRemembered = 100_000
	maxStrangers  = 100 // whose addresses are kept
)

// Server takes packets and answers them. Its zero value with a Handler is ready.
type Server struct {
	Handler Handler
	Log     *slog.Logger

	mu        sync.Mutex
	atOnce    int
	of        map[string]int // by peer
	answers   map[packetKey]*answer
	order     []packetKey // oldest first
	dropped   map[Drop]int64
	strangers map[netip.Addr]int64
	links     map[string]*link // RadSec, by peer
	now       func() time.Time // nil: time.Now
}

// packetKey is what makes two packets the same.
type packetKey struct {
	from          string
	code          radius.Code
	identifier    byte
	authenticator [16]byte
}

// answer is what a packet was answered; raw is nil while nobody knows.
type answer struct {
	raw []byte
	at  time.Time
}

// Drop is why packets of a peer, "" for one that is not known, were dropped.
type Drop struct {
	Peer string
	Why  string
}

// Dropped tells how many packets were dropped since the start, by whom and why, and from which unknown addresses some
// came.
func (s *Server) Dropped() (map[Drop]int64, map[netip.Addr]int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.dropped), maps.Clone(s.strangers)
}

func (s *Server) drop(peer string, from netip.Addr, why error) {
	for _, known := range []error{ErrUnknown, ErrMalformed, ErrForged, ErrUnsigned, ErrUnwanted, ErrBusy} {
		if errors.Is(why, known) {
			why = known
		}
	}
	s.mu.Lock()
	if s.dropped == nil {
		s.dropped, s.strangers = map[Drop]int64{}, map[netip.Addr]int64{}
	}
	s.dropped[Drop{peer, why.Error()}]++
	if _, seen := s.strangers[from]; errors.Is(why, ErrUnknown) && (seen || len(s.strangers) < maxStrangers) {
		s.strangers[from]++
	}
	s.mu.Unlock()
	s.Log.Debug("a packet of RADIUS is dropped", "from", from, "peer", peer, "why", why)
}

// clock is the moment.
func (s *Server) clock() time.Time {
	if s.now != nil {
		return s.now()
	}
	return time.Now()
}

// Serve takes packets until the connection is closed. accounting says which of the two kinds is taken there.
func (s *Server) Serve(ctx context.Context, conn net.PacketConn, accounting bool) error {
	buffer := make([]byte, radius.MaxPacketLength)
	var under sync.WaitGroup
	defer under.Wait()
	for {
		n, from, err := conn.ReadFrom(buffer)
		if ctx.Err() != nil || errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			s.Log.Warn("reading RADIUS", "error", err)
			continue // as when an access point answers that nobody listens there
		}
		udp, is := from.(*net.UDPAddr)
		if !is {
			continue
		}
		at := udp.AddrPort().Addr().Unmap()
		peer, known := s.Handler.Peer(at)
		if !known {
			s.drop("", at, ErrUnknown)
			continue
		}
		peer.At = at
		raw := slices.Clone(buffer[:n])
		s.take(ctx, &under, peer, from.String(), raw, accounting, func(answer []byte) {
			if _, err := conn.WriteTo(answer, from); err != nil {
				s.Log.Warn("answering RADIUS", "to", from, "error", err)
			}
		})
	}
}

// take answers a packet, at once when it was answered before.
func (s *Server) take(ctx context.Context, under *sync.WaitGroup, peer Peer, from string, raw []byte, accounting bool,
	send func([]byte)) {
	p, err := read(raw, peer.Secret, false)
	if err == nil && (p.Code == radius.CodeAccountingRequest) != accounting && p.Code != radius.CodeStatusServer {
		err = ErrUnwanted
	}
	if err != nil {
		s.drop(peer.ID, peer.At, err)
		return
	}
	key := packetKey{from, p.Code, p.Identifier, p.Authenticator}
	known, again, err := s.begin(key, peer.ID)
	switch {
	case err != nil:
		s.drop(peer.ID, peer.At, err)
		return
	case again:
		if known != nil {
			send(known)
		}
		return
	}
	under.Go(func() {
		answer := s.answer(ctx, &Request{p, peer}, accounting)
		s.end(key, peer.ID, answer)
		if answer != nil {
			send(answer)
		}
	})
}

// begin notes that a packet is being answered; again says that it was seen before, with its answer if there is one.
func (s *Server) begin(key packetKey, peer string) (known []byte, again bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.clock()
	if a := s.answers[key]; a != nil && now.Sub(a.at) < rememberFor {
		return a.raw, true, nil
	}
	for len(s.order) > 0 {
		a := s.answers[s.order[0]]
		if a != nil && now.Sub(a.at) < rememberFor && len(s.order) < maxRemembered {
			break
		}
		delete(s.answers, s.order[0])
		s.order = s.order[1:]
	}
	if s.atOnce >= maxAtOnce || s.of[peer] >= maxOfPeer {
		return nil, false, ErrBusy
	}
	if s.answers == nil {
		s.answers, s.of = map[packetKey]*answer{}, map[string]int{}
	}
	s.atOnce++
	s.of[peer]++
	s.answers[key], s.order = &answer{at: now}, append(s.order, key)
	return nil, false, nil
}

// end keeps the answer to a packet; one that got none may be sent again.
func (s *Server) end(key packetKey, peer string, raw []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.atOnce--
	if s.of[peer]--; s.of[peer] == 0 {
		delete(s.of, peer)
	}
	if a := s.answers[key]; a != nil {
		if raw == nil {
			delete(s.answers, key)
			return
		}
		a.raw, a.at = raw, s.clock()
	}
}

// answer makes the answer to a request; nil for silence.
func (s *Server) answer(ctx context.Context, r *Request, accounting bool) []byte {
	var out *radius.Packet
	switch {
	case r.Code == radius.CodeStatusServer && accounting: // RFC 5997, section 4.2
		out = r.Response(radius.CodeAccountingResponse)
	case r.Code == radius.CodeStatusServer:
		out = r.Response(radius.CodeAccessAccept)
	case accounting:
		if !s.Handler.Account(ctx, r) {
			return nil
		}
		out = r.Response(radius.CodeAccountingResponse)
	default:
		if out = s.Handler.Access(ctx, r); out == nil {
			return nil
		}
	}
	for _, a := range r.Attributes { // in their order (RFC 2865, section 5.33)
		if a.Type == rfc2865.ProxyState_Type {
			out.Attributes = append(out.Attributes, a)
		}
	}
	write := encode
	if r.Code == radius.CodeAccountingRequest { // which has none (RFC 2869, section 5.19), nor anything to hide
		write = (*radius.Packet).Encode
	}
	raw, err := write(out)
	if err != nil {
		s.Log.Error("an answer of RADIUS cannot be written", "peer", r.Peer.ID, "error", err)
		return nil
	}
	return raw
}
