package radius

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"sync"
	"time"
)

// Proved is what a device proved in a conversation.
type Proved struct {
	Certificate *x509.Certificate // of which it has the key; whether it is trusted, nobody has looked
	Identity    string            // as the device says it, which nobody proved
	Station     string            // its hardware address, as the access point says
}

// Keys are the two halves of the key for the link that the conversation gives (RFC 5216, section 2.3).
type Keys struct{ Receive, Send []byte }

// flights carries the messages of one side of TLS, a flight at a time.
type flights struct {
	in     chan []byte
	wants  chan struct{} // the side has said what it had to say
	closed chan struct{}
	once   sync.Once

	mu   sync.Mutex
	out  bytes.Buffer
	rest []byte // of what came, that was not read yet
}

func newFlights() *flights {
	return &flights{in: make(chan []byte), wants: make(chan struct{}), closed: make(chan struct{})}
}

// Read implements [net.Conn]: it waits for the next flight.
func (f *flights) Read(b []byte) (int, error) {
	for len(f.rest) == 0 {
		select {
		case f.wants <- struct{}{}:
		case <-f.closed:
			return 0, io.EOF
		}
		select {
		case f.rest = <-f.in:
		case <-f.closed:
			return 0, io.EOF
		}
	}
	n := copy(b, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}

// Write implements [net.Conn]: what is written goes out with the flight.
func (f *flights) Write(b []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.out.Write(b)
}

// said takes what was written.
func (f *flights) said() []byte {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := bytes.Clone(f.out.Bytes())
	f.out.Reset()
	return out
}

// Close implements [net.Conn].
func (f *flights) Close() error {
	f.once.Do(func() { close(f.closed) })
	return nil
}

// The rest of [net.Conn], of which a flight has none.
func (*flights) LocalAddr() net.Addr              { return nowhere{} }
func (*flights) RemoteAddr() net.Addr             { return nowhere{} }
func (*flights) SetDeadline(time.Time) error      { return nil }
func (*flights) SetReadDeadline(time.Time) error  { return nil }
func (*flights) SetWriteDeadline(time.Time) error { return nil }

type nowhere struct{}

func (nowhere) Network() string { return "eap" }
func (nowhere) String() string  { return "eap" }

// handshake is the server's side of TLS in a conversation.
type handshake struct {
	*flights
	conn *tls.Conn
	done chan error
	keys Keys
}

func newHandshake(c *tls.Config) *handshake {
	h := &handshake{flights: newFlights(), done: make(chan error, 1)}
	h.conn = tls.Server(h.flights, c)
	go func() { h.done <- h.run() }()
	<-h.wants // the hello of the client
	return h
}

// keyLabel is that under which keys are exported, by the version of TLS (RFC 5216, section 2.3; RFC 9190, section 2.3).
func keyLabel(version uint16) (label string, context []byte) {
	if version == tls.VersionTLS13 {
		return "EXPORTER_EAP_TLS_Key_Material", []byte{13}
	}
	return "client EAP encryption", nil
}

func (h *handshake) run() error {
	if err := h.conn.Handshake(); err != nil {
		return err
	}
	state := h.conn.ConnectionState()
	if len(state.PeerCertificates) == 0 || state.DidResume {
		return errors.New("the device showed no certificate")
	}
	label, context := keyLabel(state.Version)
	material, err := state.ExportKeyingMaterial(label, context, 128)
	if err != nil {
		return err
	}
	h.keys = Keys{Receive: material[:32], Send: material[32:64]}
	return nil
}

// step hands a flight of the device over, and returns what is said to it. done is true when the handshake is over, with
// the error that ended it.
func (h *handshake) step(ctx context.Context, message []byte) (out []byte, done bool, err error) {
	select {
	case h.in <- message:
	case err = <-h.done:
		return h.said(), true, err
	case <-ctx.Done():
		return nil, true, ctx.Err()
	}
	select {
	case <-h.wants:
		return h.said(), false, nil
	case err = <-h.done:
		return h.said(), true, err
	case <-ctx.Done():
		return nil, true, ctx.Err()
	}
}

// commit says after a handshake that it leads to an admission (RFC 9190, section 2.1.1): one byte of data, which TLS 1.2
// has not.
func (h *handshake) commit() ([]byte, error) {
	if h.conn.ConnectionState().Version != tls.VersionTLS13 {
		return nil, nil
	}
	_, err := h.conn.Write([]byte{0})
	return h.said(), err
}

// certificate is the one whose key the device has.
func (h *handshake) certificate() *x509.Certificate {
	return h.conn.ConnectionState().PeerCertificates[0]
}

// Secured is how TLS is spoken within EAP: with a certificate from both sides, and nothing that is resumed, since a
// device that was let in once is asked anew.
func Secured(certificate func(*tls.ClientHelloInfo) (*tls.Certificate, error), suites []uint16) *tls.Config {
	return &tls.Config{GetCertificate: certificate, MinVersion: tls.VersionTLS12, CipherSuites: suites,
		ClientAuth: tls.RequireAnyClientCert, SessionTicketsDisabled: true}
}
