package radius

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"layeh.com/radius"
)

// SecretOverTLS is the shared secret of all who speak over TLS, which guards what is said (RFC 6614, section 2.3).
const SecretOverTLS = "radsec"

// Bounds of connections over TLS.
const (
	maxLinks  = 1000
	linkQuiet = 10 * time.Minute // without a word from the access point
	greetWait = 10 * time.Second
	writeWait = 10 * time.Second
)

// link is a connection of an access point over TLS.
type link struct {
	conn *tls.Conn
	peer Peer

	mu    sync.Mutex
	waits map[byte]chan []byte // for answers to what it was told, by identifier
}

func (l *link) write(raw []byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.conn.SetWriteDeadline(time.Now().Add(writeWait)); err != nil {
		return err
	}
	_, err := l.conn.Write(raw)
	return err
}

// OverTLS is how RADIUS is spoken over TLS (RFC 6614, section 2.3): both sides show a certificate, and the access
// point's is one that somebody entered.
func OverTLS(certificate func(*tls.ClientHelloInfo) (*tls.Certificate, error), suites []uint16) *tls.Config {
	return &tls.Config{GetCertificate: certificate, MinVersion: tls.VersionTLS12, CipherSuites: suites,
		ClientAuth: tls.RequireAnyClientCert}
}

// ServeTLS takes packets over TLS until ctx ends, which closes the listener.
func (s *Server) ServeTLS(ctx context.Context, l net.Listener, c *tls.Config) error {
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	var under sync.WaitGroup
	defer under.Wait()
	places := make(chan struct{}, maxLinks)
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil || errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			s.Log.Warn("accepting RADIUS over TLS", "error", err)
			time.Sleep(10 * time.Millisecond) // as when there are too many files
			continue
		}
		select {
		case places <- struct{}{}:
		default:
			conn.Close()
			continue
		}
		under.Go(func() {
			defer func() { <-places }()
			defer conn.Close()
			s.link(ctx, tls.Server(conn, c))
		})
	}
}

// link speaks with one access point until it goes.
func (s *Server) link(ctx context.Context, conn *tls.Conn) {
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	at, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return
	}
	from := at.Addr().Unmap()
	greeted, cancel := context.WithTimeout(ctx, greetWait)
	err = conn.HandshakeContext(greeted)
	cancel()
	if err != nil {
		s.drop("", from, ErrMalformed)
		return
	}
	cert := conn.ConnectionState().PeerCertificates[0]
	peer, known := s.Handler.PeerShowing(from, fingerprint(cert.Raw))
	if now := s.clock(); !known || now.Before(cert.NotBefore) || now.After(cert.NotAfter) {
		s.drop("", from, ErrUnknown)
		return
	}
	peer.At = from
	k := &link{conn: conn, peer: peer, waits: map[byte]chan []byte{}}
	s.linked(k, true)
	defer s.linked(k, false)
	s.hear(ctx, k, conn.RemoteAddr().String())
}

// linked notes that a link is there, or gone.
func (s *Server) linked(k *link, there bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.links == nil {
		s.links = map[string]*link{}
	}
	key := k.peer.ID + " " + k.peer.At.String()
	switch {
	case there:
		s.links[key] = k
	case s.links[key] == k:
		delete(s.links, key)
	}
}

// hear takes what comes over a link.
func (s *Server) hear(ctx context.Context, k *link, from string) {
	var under sync.WaitGroup
	defer under.Wait()
	in := bufio.NewReaderSize(k.conn, radius.MaxPacketLength)
	for {
		if k.conn.SetReadDeadline(time.Now().Add(linkQuiet)) != nil {
			return
		}
		head, err := in.Peek(4)
		if err != nil {
			return
		}
		n := int(binary.BigEndian.Uint16(head[2:]))
		if n < headLength || n > radius.MaxPacketLength { // nobody knows where the next one begins
			s.drop(k.peer.ID, k.peer.At, ErrMalformed)
			return
		}
		raw := make([]byte, n)
		if _, err := io.ReadFull(in, raw); err != nil {
			return
		}
		switch radius.Code(raw[0]) {
		case radius.CodeCoAACK, radius.CodeCoANAK, radius.CodeDisconnectACK, radius.CodeDisconnectNAK:
			k.mu.Lock()
			waits := k.waits[raw[1]]
			k.mu.Unlock()
			if waits != nil {
				select {
				case waits <- raw:
				default:
				}
			}
			continue
		}
		if _, known := s.Handler.PeerShowing(k.peer.At, k.certificate()); !known { // it was removed meanwhile
			s.drop(k.peer.ID, k.peer.At, ErrUnknown)
			return
		}
		s.take(ctx, &under, k.peer, from, raw, radius.Code(raw[0]) == radius.CodeAccountingRequest, func(answer []byte) {
			if err := k.write(answer); err != nil {
				s.Log.Warn("answering RADIUS over TLS", "to", from, "error", err)
				k.conn.Close()
			}
		})
	}
}

// certificate is the SHA-256 of the one that the access point showed, in hex.
func (l *link) certificate() string {
	return fingerprint(l.conn.ConnectionState().PeerCertificates[0].Raw)
}

// fingerprint is the SHA-256 of a certificate in DER, in hex.
func fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

// Exchange sends a request over the link of an access point and waits for its answer (RFC 8559).
func (s *Server) Exchange(ctx context.Context, peer string, at netip.Addr, raw []byte,
	wait time.Duration) (*radius.Packet, error) {
	s.mu.Lock()
	k := s.links[peer+" "+at.String()]
	s.mu.Unlock()
	if k == nil {
		return nil, errors.New("it is not connected")
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	answer := make(chan []byte, 1)
	id, ok := k.expect(answer)
	if !ok {
		return nil, ErrBusy
	}
	defer k.forget(id)
	secret := []byte(SecretOverTLS)
	p, err := radius.Parse(raw, secret)
	if err != nil {
		return nil, err
	}
	p.Identifier = id
	if raw, err = encode(p); err != nil {
		return nil, err
	}
	if err := k.write(raw); err != nil {
		return nil, err
	}
	select {
	case got := <-answer:
		return Authentic(got, raw, secret)
	case <-ctx.Done():
		return nil, errors.New("it does not answer over its connection")
	}
}

// expect takes an identifier that nobody waits with.
func (l *link) expect(answer chan []byte) (id byte, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range 256 {
		if l.waits[byte(i)] == nil {
			l.waits[byte(i)] = answer
			return byte(i), true
		}
	}
	return 0, false
}

func (l *link) forget(id byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.waits, id)
}
