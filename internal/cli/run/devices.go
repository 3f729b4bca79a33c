package run

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"sync"
	"time"

	"ironledger.example/internal/authority"
	"ironledger.example/internal/httpapi"
)

// door is the front for devices alone: over TLS, where they show their certificates.
type door struct {
	listener net.Listener
	handler  http.Handler
	config   *tls.Config
}

// newDoor listens under a certificate, or nil for one that our own authority gives it for some hosts.
func newDoor(listen string, certificate *tls.Config, hosts []string, by *authority.Service,
	o httpapi.Options) (*door, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, err
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12, CipherSuites: suites(), ClientAuth: tls.RequestClientCert}
	if certificate != nil {
		c.GetCertificate = certificate.GetCertificate
	} else {
		c.GetCertificate = (&served{by: by, hosts: hosts}).get
	}
	return &door{l, httpapi.ForDevices(o), c}, nil
}

func (d *door) url() string { return "https://" + d.listener.Addr().String() }

// publicURL is where devices reach it: at the first of some names, and its port.
func (d *door) publicURL(hosts []string) string {
	_, port, err := net.SplitHostPort(d.listener.Addr().String())
	if err != nil || len(hosts) == 0 {
		return d.url()
	}
	if port == "443" {
		return "https://" + hosts[0]
	}
	return "https://" + net.JoinHostPort(hosts[0], port)
}

func (d *door) Serve(ctx context.Context) error {
	return httpapi.Serve(ctx, d.listener, d.handler, d.config)
}

// Ready is at once: the certificate may be for other names than the address.
func (d *door) Ready(context.Context) error { return nil }

// served is the certificate of the door, which our own authority makes and makes anew.
type served struct {
	by    *authority.Service
	hosts []string

	mu   sync.Mutex
	cert *tls.Certificate
	at   time.Time
}

// How long the certificate of the door lives, and how old it is when it is made anew.
const (
	doorLives  = 30 * 24 * time.Hour
	doorRenews = 20 * 24 * time.Hour
)

func (s *served) get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	by, err := s.by.Serves()
	if err != nil {
		return nil, err
	}
	now := s.by.Now()
	if s.cert != nil && now.Sub(s.at) < doorRenews && now.Before(s.cert.Leaf.NotAfter) &&
		s.cert.Leaf.CheckSignatureFrom(by) == nil {
		return s.cert, nil
	}
	cert, err := s.by.ServerCertificate(context.WithoutCancel(hello.Context()), s.hosts, doorLives)
	if err != nil {
		return nil, errors.Join(errors.New("there is no certificate for devices to trust this service by"), err)
	}
	s.cert, s.at = cert, now
	return cert, nil
}
