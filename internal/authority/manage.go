package authority

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironledger.example/core/authority"
	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// Shown is an authority as people see it.
type Shown struct {
	kept.Authority
	Subject, SHA256     string
	NotBefore, NotAfter int64
	Key                 authority.Key
	Live, Revoked       int  // certificates of devices
	Root                bool // it signs itself
}

// Show lists the authorities that there are, the one that signs first.
func (s *Service) Show() (out []Shown) {
	snap, now := s.Snapshot(), s.Micros()
	for _, a := range snap.Authorities.List() {
		x := Shown{Authority: a}
		if cert, err := x509.ParseCertificate(a.Certificate); err == nil {
			x.Subject, x.SHA256, x.Root = cert.Subject.String(), state.Fingerprint(cert), bytes.Equal(cert.RawSubject,
				cert.RawIssuer)
			x.NotBefore, x.NotAfter = value.Micros(cert.NotBefore), value.Micros(cert.NotAfter)
			x.Key, _ = authority.KeyOf(cert.PublicKey)
		}
		for _, c := range snap.Issued.All() {
			switch {
			case c.Authority != a.ID:
			case c.RevokedAt != 0:
				x.Revoked++
			case c.NotAfter >= now:
				x.Live++
			}
		}
		out = append(out, x)
	}
	order := []string{kept.AuthoritySigns, kept.AuthorityAsks, kept.AuthorityFormer}
	slices.SortStableFunc(out, func(a, b Shown) int {
		return slices.Index(order, a.State) - slices.Index(order,
			b.State)
	})
	return out
}

// Trusted are the certificates of all authorities whose certificates count, with those above them (RFC 7030,
// 4.1.2).
func (s *Service) Trusted() (out []*x509.Certificate) {
	snap := s.Snapshot()
	for _, x := range s.Show() {
		for _, c := range chain(snap.Authorities.Get(x.ID)) {
			if !slices.ContainsFunc(out, c.Equal) {
				out = append(out, c)
			}
		}
	}
	return out
}

// Certificate is the certificate of an authority, in DER.
func (s *Service) Certificate(id string) ([]byte, error) {
	if a := s.Snapshot().Authorities.Get(id); a != nil && len(a.Certificate) > 0 {
		return a.Certificate, nil
	}
	return nil, fault.NotFound("authority", id)
}

// PEM writes certificates.
func PEM(certs []*x509.Certificate) string {
	var b strings.Builder
	for _, c := range certs {
		_ = pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}) // into memory
	}
	return b.String()
}

// Rotate makes another authority, which signs from now on: what the one before issued counts until it ends.
func (s *Service) Rotate(ctx context.Context, actor, reason string) (*kept.Authority, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	return s.make(ctx, actor, reason, true)
}

// Import puts a key and its certificate, with those above it, both in PEM, in the place of the authority there is.
func (s *Service) Import(ctx context.Context, actor, keyText, certText, reason string) (*kept.Authority, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	if _, err := settings(s.Snapshot()); err != nil {
		return nil, err
	}
	key, err := readKey(keyText)
	if err != nil {
		return nil, fault.Input("/key", err.Error())
	}
	certs, err := readChain(certText, key, s.Now())
	if err != nil {
		return nil, fault.Input("/certificate", err.Error())
	}
	a := &kept.Authority{ID: hex.EncodeToString(certs[0].SubjectKeyId[:min(8, len(certs[0].SubjectKeyId))]),
		State:       kept.AuthoritySigns,
		Certificate: certs[0].Raw, Above: raw(certs[1:]), By: actor}
	return a, s.take(ctx, a, key, true, event.AuthorityImported, reason)
}

// Ask makes a key whose certificate is to come from an authority above, and a request for it (RFC 2986), in PEM.
func (s *Service) Ask(ctx context.Context, actor, reason string) (*kept.Authority, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
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
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: authority.Subject(set.Name, set.Title, serial)},
		key)
	if err != nil {
		return nil, err
	}
	a := &kept.Authority{ID: serial.Text(16)[:16], State: kept.AuthorityAsks, Request: der, By: actor}
	return a, s.take(ctx, a, key, false, event.AuthorityAsked, reason)
}

// Install gives the authority that asked the certificate that came, with those above it, in PEM: it signs from now
// on.
func (s *Service) Install(ctx context.Context, actor, certText, reason string) (*kept.Authority, error) {
	if err := fault.CheckReason(&reason); err != nil {
		return nil, err
	}
	var asked *kept.Authority
	for _, a := range s.Snapshot().Authorities.All() {
		if a.State == kept.AuthorityAsks {
			asked = a
		}
	}
	if asked == nil {
		return nil, fault.Input("", "no authority waits for a certificate; make a request first")
	}
	key, err := s.key(asked.ID)
	if err != nil {
		return nil, err
	}
	certs, err := readChain(certText, key, s.Now())
	if err != nil {
		return nil, fault.Input("/certificate", err.Error())
	}
	next := *asked
	next.State, next.Certificate, next.Above, next.Request, next.By = kept.AuthoritySigns, certs[0].Raw,
		raw(certs[1:]), nil, actor
	err = s.DoAlone(ctx, func(c *state.Change) error {
		if x := state.Get(c, state.AuthorityKind, asked.ID); x == nil || x.State != kept.AuthorityAsks {
			return fault.Input("", "the authority waits no longer")
		}
		was := ""
		for id, x := range state.All(c, state.AuthorityKind) {
			if x.State == kept.AuthoritySigns {
				was = id
			}
		}
		if err := succeed(c, state.All(c, state.AuthorityKind), &next); err != nil {
			return err
		}
		if err := state.Put(c, state.AuthorityKind, next.ID, &next); err != nil {
			return err
		}
		return note(c, &next, event.AuthorityInstalled, was, reason)
	})
	return &next, err
}

// Drop gives up an authority that waits for its certificate, or a former one with all that it issued.
func (s *Service) Drop(ctx context.Context, actor, id, reason string) error {
	if err := fault.CheckReason(&reason); err != nil {
		return err
	}
	return s.DoAlone(ctx, func(c *state.Change) error {
		a := state.Get(c, state.AuthorityKind, id)
		switch {
		case a == nil:
			return fault.NotFound("authority", id)
		case a.State == kept.AuthoritySigns:
			return fault.Input("", "the authority signs; make another in its place first")
		}
		state.Drop(c, state.AuthorityKind, id)
		gone := *a
		gone.By = actor
		return note(c, &gone, event.AuthorityDropped, "", reason)
	})
}

func raw(certs []*x509.Certificate) (out [][]byte) {
	for _, c := range certs {
		out = append(out, c.Raw)
	}
	return out
}

// readKey reads a private key in PEM: PKCS #8, or SEC 1.
func readKey(text string) (crypto.Signer, error) {
	block, rest := pem.Decode([]byte(text))
	for block != nil && block.Type == "EC PARAMETERS" {
		block, rest = pem.Decode(rest)
	}
	if block == nil {
		return nil, errors.New("there is no private key in PEM")
	}
	var key any
	var err error
	switch block.Type {
	case "PRIVATE KEY":
		key, err = x509.ParsePKCS8PrivateKey(block.Bytes)
	case "EC PRIVATE KEY":
		key, err = x509.ParseECPrivateKey(block.Bytes)
	default:
		return nil, fmt.Errorf("a PEM block of type %s stands where a private key without a password was expected",
			block.Type)
	}
	if err != nil {
		return nil, errors.New("the private key cannot be read")
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, errors.New("the key is none that signs")
	}
	if _, err := authority.KeyOf(signer.Public()); err != nil {
		return nil, fmt.Errorf("the key is %w; expected %s", err, strings.Join(authority.Keys, ", "))
	}
	return signer, nil
}

// readChain reads the certificate of an authority with those above it, each signed by the next.
func readChain(text string, key crypto.Signer, now time.Time) ([]*x509.Certificate, error) {
	var out []*x509.Certificate
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" || len(out) == 10 {
			return nil, fmt.Errorf("a PEM block of type %s stands where up to 10 certificates were expected",
				block.Type)
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("certificate %d: %w", len(out)+1, err)
		}
		if len(out) > 0 {
			if err := out[len(out)-1].CheckSignatureFrom(c); err != nil {
				return nil, fmt.Errorf("certificate %d did not sign the one before: %w", len(out)+1, err)
			}
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, errors.New("there is no PEM block of type CERTIFICATE")
	}
	return out, authority.Fit(out[0], key.Public(), now)
}

// serves is the authority that certifies the service itself: after a rotation the one before, for as long as a device
// may trust that alone. Devices ask by whom to trust the service when they renew, at the latest.
func (s *Service) serves() (*kept.Authority, *signer, error) {
	snap := s.Snapshot()
	now := current(snap)
	if now == nil {
		return nil, nil, errors.New("there is no authority that signs yet")
	}
	longest := int64(0)
	if set := snap.Book.Rulebook.Authority; set != nil {
		for i := range set.Profiles {
			longest = max(longest, set.Profiles[i].Lifetime)
		}
	}
	for _, a := range snap.Authorities.All() {
		if a.State != kept.AuthorityFormer || s.Micros() > now.At+longest {
			continue
		}
		if by, err := s.signer(a); err == nil {
			return a, by, nil
		}
	}
	by, err := s.signer(now)
	return now, by, err
}

// Serves is the certificate of the authority that certifies the service itself.
func (s *Service) Serves() (*x509.Certificate, error) {
	_, by, err := s.serves()
	if err != nil {
		return nil, err
	}
	return by.cert, nil
}

// ServerCertificate makes a certificate under which the service itself is reached at some hosts, with a key that is
// kept nowhere.
func (s *Service) ServerCertificate(ctx context.Context, hosts []string, lifetime time.Duration) (*tls.Certificate,
	error) {
	above, by, err := s.serves()
	if err != nil {
		return nil, err
	}
	key, err := authority.P256.Make(rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := authority.Serial(rand.Reader)
	if err != nil {
		return nil, err
	}
	t, err := authority.Server(key.Public(), hosts, serial, s.Now(), lifetime.Microseconds(), by.cert)
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificate(rand.Reader, t, by.cert, key.Public(), by.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	err = s.Do(ctx, func(c *state.Change) error {
		c.Record(ledger.Service, &event.AuthorityChanged{Authority: by.id, Change: event.AuthorityServes,
			Subject: strings.Join(hosts, ", "),
			SHA256:  state.Fingerprint(leaf), Until: value.FormatTime(value.Micros(leaf.NotAfter))})
		return nil
	})
	out := &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}
	for _, c := range chain(above) {
		if !bytes.Equal(c.RawSubject, c.RawIssuer) { // whoever trusts a root has it
			out.Certificate = append(out.Certificate, c.Raw)
		}
	}
	return out, err
}
