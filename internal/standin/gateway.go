package standin

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"ironledger.example/core/statement"
	"ironledger.example/internal/reliance"
)

// Gateway stands in for a relying party at another site: it lets a device in by a statement that is bound to the
// certificate of the connection (RFC 8705, section 3), and asks nobody. It fetches the keys that it checks with at
// its start, and again for a statement that was signed with none of them.
type Gateway struct {
	Name  string // by which statements are for it
	Keys  string // where the service's keys are, a URL
	Least string // the level that it asks for
	Now   func() time.Time

	mu      sync.Mutex
	jwks    []byte
	fetched time.Time
}

// fetchAgain is how long keys are not fetched again.
const fetchAgain = 5 * time.Second

// fetch fetches the keys.
func (g *Gateway) fetch(ctx context.Context) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, g.Keys, nil)
	if err != nil {
		return err
	}
	w, err := (&http.Client{Timeout: fetchAgain}).Do(r)
	if err != nil {
		return err
	}
	defer w.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(w.Body, 1<<20))
	if err != nil || w.StatusCode != http.StatusOK {
		return errors.Join(err, fmt.Errorf("the keys cannot be fetched: %s", w.Status))
	}
	g.jwks = raw
	return nil
}

// verified checks a statement by the keys, of which new ones may have come.
func (g *Gateway) verified(ctx context.Context, token string) (*statement.Claims, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	claims, err := reliance.Verified(token, g.jwks)
	if err == nil || time.Since(g.fetched) < fetchAgain {
		return claims, err
	}
	g.fetched = time.Now()
	if g.fetch(ctx) != nil { // the service may be away: the keys that are there count
		return nil, err
	}
	return reliance.Verified(token, g.jwks)
}

// ServeHTTP lets in or refuses, and says why.
func (g *Gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	refuse := func(why string) {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`) // RFC 6750, section 3
		http.Error(w, "You are not let in: "+why+".", http.StatusUnauthorized)
	}
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		refuse("show the certificate of your device")
		return
	}
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		refuse("bring a statement of how your device stands")
		return
	}
	claims, err := g.verified(r.Context(), token)
	if err == nil {
		err = claims.Check(statement.Expected{Audience: g.Name, Least: g.Least, Now: g.Now(),
			Certificate: statement.Thumbprint(r.TLS.PeerCertificates[0].Raw)})
	}
	if err != nil {
		refuse(err.Error())
		return
	}
	fmt.Fprintf(w, "Welcome, %s. You stand at %s, and may stay until %s.\n", claims.Subject, claims.Standing.Level,
		time.Unix(claims.Expires, 0).UTC().Format("15:04:05 MST"))
}

// Start serves the gateway over TLS on a free port of this machine until the context ends, and returns its URL.
func (g *Gateway) Start(ctx context.Context, listen string) (string, error) {
	if err := g.fetch(ctx); err != nil {
		return "", err
	}
	cert, err := selfSigned()
	if err != nil {
		return "", err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return "", err
	}
	s := &http.Server{Handler: g, ReadHeaderTimeout: 5 * time.Second,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{*cert}, ClientAuth: tls.RequestClientCert,
			MinVersion: tls.VersionTLS12}}
	context.AfterFunc(ctx, func() { _ = s.Close() })
	go func() { _ = s.ServeTLS(l, "", "") }() // it ends with the context
	return "https://" + l.Addr().String(), nil
}

// selfSigned is a certificate of a stand-in for this machine.
func selfSigned() (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "localhost"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 1, 0), DNSNames: []string{"localhost"},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, nil
}
