// Package authority decides what our own certificate authority grants: which keys it takes, whether a request
// (PKCS #10, RFC 2986) is one that a device may be given a certificate for, and what that certificate says
// (RFC 5280). It signs nothing and keeps nothing.
package authority

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/big"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"ironledger.example/core/certificate"
	"ironledger.example/core/value"
)

// Key is a kind of key.
type Key string

// The kinds of keys that are taken (RFC 5480, RFC 8410).
const (
	P256    Key = "p256"
	P384    Key = "p384"
	Ed25519 Key = "ed25519"
)

// Keys are the words a rulebook may use.
var Keys = []string{string(P256), string(P384), string(Ed25519)}

// Make makes a key of a kind.
func (k Key) Make(random io.Reader) (crypto.Signer, error) {
	switch k {
	case P384:
		return ecdsa.GenerateKey(elliptic.P384(), random)
	case Ed25519:
		_, key, err := ed25519.GenerateKey(random)
		return key, err
	}
	return ecdsa.GenerateKey(elliptic.P256(), random)
}

// KeyOf is the kind of a public key; the error says what it is instead.
func KeyOf(public any) (Key, error) {
	switch k := public.(type) {
	case ed25519.PublicKey:
		return Ed25519, nil
	case *ecdsa.PublicKey:
		switch k.Curve {
		case elliptic.P256():
			return P256, nil
		case elliptic.P384():
			return P384, nil
		}
		return "", fmt.Errorf("an ECDSA key on %s", k.Curve.Params().Name)
	}
	return "", fmt.Errorf("a key of another kind (%T)", public)
}

// Fingerprint tells public keys apart: the SHA-256 of a SubjectPublicKeyInfo, in DER.
func Fingerprint(spki []byte) string { return fmt.Sprintf("%x", sha256.Sum256(spki)) }

// identifier is a key identifier: the leftmost 160 bits of the SHA-256 of the key's bits (RFC 7093, section 2,
// method 1).
func identifier(spki []byte) []byte {
	var info struct {
		Algorithm pkix.AlgorithmIdentifier
		Key       asn1.BitString
	}
	if _, err := asn1.Unmarshal(spki, &info); err != nil {
		return nil
	}
	sum := sha256.Sum256(info.Key.RightAlign())
	return sum[:20]
}

// Serial is a number for a certificate: positive, of 16 octets, and nobody's guess (RFC 5280, section 4.1.2.2).
func Serial(random io.Reader) (*big.Int, error) {
	b := make([]byte, 16)
	if _, err := io.ReadFull(random, b); err != nil {
		return nil, err
	}
	b[0] = b[0]&0x7f | 0x40
	return new(big.Int).SetBytes(b), nil
}

// The bounds of a request.
const (
	MaxRequest = 16 << 10 // bytes of DER
	maxNames   = 16
)

// MaxID is the longest id of a device that a certificate can name (RFC 5280, ub-common-name).
const MaxID = 64

// ReadRequest reads a request and proves that whoever made it has the key.
func ReadRequest(der []byte) (*x509.CertificateRequest, error) {
	if len(der) > MaxRequest {
		return nil, fmt.Errorf("the request is larger than %d bytes", MaxRequest)
	}
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return nil, fmt.Errorf("this is not a certificate request in DER (RFC 2986): %w", err)
	}
	if _, err := KeyOf(r.PublicKey); err != nil { // before its signature: one of a huge key takes long
		return nil, fmt.Errorf("the request is for %w; expected %s", err, strings.Join(Keys, ", "))
	}
	if err := r.CheckSignature(); err != nil {
		return nil, errors.New("the request is not signed by the key that it is for")
	}
	return r, nil
}

var (
	basicConstraints = asn1.ObjectIdentifier{2, 5, 29, 19}
	extendedUsage    = asn1.ObjectIdentifier{2, 5, 29, 37}
	clientAuth       = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 2}
)

// Check says why a request cannot be granted to a device: it is for a key of a kind that is not allowed, names
// something else than the device, or asks for more than a device's certificate.
func Check(r *x509.CertificateRequest, keys []Key, name string, d certificate.Device) error {
	if k, _ := KeyOf(r.PublicKey); !slices.Contains(keys, k) {
		return fmt.Errorf("the request is for a key of the kind %s; the profile allows %s", k, join(keys))
	}
	if len(d.ID) > MaxID {
		return fmt.Errorf("the id of the device is longer than the %d characters that a certificate can name", MaxID)
	}
	var names []string
	for _, n := range []string{r.Subject.CommonName, r.Subject.SerialNumber} {
		if n != "" {
			names = append(names, n)
		}
	}
	names = append(append(names, r.DNSNames...), r.EmailAddresses...)
	for _, ip := range r.IPAddresses {
		names = append(names, ip.String())
	}
	for _, u := range r.URIs {
		names = append(names, u.String())
	}
	if len(names) > maxNames {
		return fmt.Errorf("the request has %d names; a device has few", len(names))
	}
	for _, n := range names {
		if !slices.ContainsFunc([]string{d.ID, d.Serial, d.HardwareID, URI(name, d.ID).String()},
			func(own string) bool { return own != "" && strings.EqualFold(own, n) }) {
			return fmt.Errorf("the request names %.100q, which is not the device %s", n, d.ID)
		}
	}
	for _, x := range r.Extensions {
		switch {
		case x.Id.Equal(basicConstraints):
			var is struct {
				CA bool `asn1:"optional"`
			}
			if _, err := asn1.Unmarshal(x.Value, &is); err != nil || is.CA {
				return errors.New("the request asks to be an authority")
			}
		case x.Id.Equal(extendedUsage):
			var uses []asn1.ObjectIdentifier
			if _, err := asn1.Unmarshal(x.Value, &uses); err != nil ||
				slices.ContainsFunc(uses, func(u asn1.ObjectIdentifier) bool { return !u.Equal(clientAuth) }) {
				return errors.New("the request asks for another use than to identify a client")
			}
		}
	}
	return nil
}

func join(keys []Key) string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = string(k)
	}
	return strings.Join(out, ", ")
}

// URI names a device in a certificate, under the name of the authority.
func URI(name, device string) *url.URL {
	return &url.URL{Scheme: "https", Host: name, Path: "/devices/" + device}
}

// Grace is how long before it is issued a certificate begins: clocks differ.
const Grace = 10 * time.Minute

// Places are where a certificate says that its standing is found; "" is left out.
type Places struct{ CRL, OCSP, Issuer string }

func (p Places) into(t *x509.Certificate) {
	if p.CRL != "" {
		t.CRLDistributionPoints = []string{p.CRL}
	}
	if p.OCSP != "" {
		t.OCSPServer = []string{p.OCSP}
	}
	if p.Issuer != "" {
		t.IssuingCertificateURL = []string{p.Issuer}
	}
}

// Device is the certificate of a device for a public key, to be signed by the authority: from a moment for a
// lifetime in microseconds, but no longer than the authority's own.
func Device(public any, name string, d certificate.Device, serial *big.Int, now time.Time, lifetime int64,
	by *x509.Certificate,
	at Places) (*x509.Certificate, error) {
	t, err := leaf(public, serial, now, lifetime, by)
	if err != nil {
		return nil, err
	}
	t.Subject = pkix.Name{CommonName: d.ID}
	if len(d.Serial) <= MaxID {
		t.Subject.SerialNumber = d.Serial
	}
	t.URIs = []*url.URL{URI(name, d.ID)}
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	at.into(t)
	return t, nil
}

// Server is the certificate of the service's own listener under some hosts.
func Server(public any, hosts []string, serial *big.Int, now time.Time, lifetime int64,
	by *x509.Certificate) (*x509.Certificate,
	error) {
	t, err := leaf(public, serial, now, lifetime, by)
	if err != nil {
		return nil, err
	}
	t.Subject = pkix.Name{CommonName: hosts[0]}
	if len(hosts[0]) > MaxID {
		t.Subject = pkix.Name{CommonName: "Iron Ledger"}
	}
	split(t, hosts)
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	return t, nil
}

// split tells names of hosts and addresses apart.
func split(t *x509.Certificate, hosts []string) {
	for _, h := range hosts {
		if ip, err := netip.ParseAddr(h); err == nil {
			t.IPAddresses = append(t.IPAddresses, ip.AsSlice())
		} else {
			t.DNSNames = append(t.DNSNames, h)
		}
	}
}

func leaf(public any, serial *big.Int, now time.Time, lifetime int64, by *x509.Certificate) (*x509.Certificate,
	error) {
	spki, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial, NotBefore: now.Add(-Grace).UTC().Truncate(time.Second),
		NotAfter: now.Add(time.Duration(lifetime) * time.Microsecond).UTC().Truncate(time.Second),
		KeyUsage: x509.KeyUsageDigitalSignature, BasicConstraintsValid: true, SubjectKeyId: identifier(spki)}
	if t.NotBefore.Before(by.NotBefore) {
		t.NotBefore = by.NotBefore
	}
	if t.NotAfter.After(by.NotAfter) {
		t.NotAfter = by.NotAfter
	}
	if !t.NotAfter.After(now) {
		return nil, fmt.Errorf("the authority's own certificate ended on "+
			"%s", value.FormatTime(value.Micros(by.NotAfter)))
	}
	return t, nil
}

// Root is the certificate of an authority that signs itself, for a lifetime in microseconds.
func Root(public any, name, title string, serial *big.Int, now time.Time, lifetime int64) (*x509.Certificate,
	error) {
	spki, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return nil, err
	}
	return &x509.Certificate{SerialNumber: serial, Subject: Subject(name, title, serial),
		NotBefore:             now.Add(-Grace).UTC().Truncate(time.Second),
		NotAfter:              now.Add(time.Duration(lifetime) * time.Microsecond).UTC().Truncate(time.Second),
		KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageCRLSign | x509.KeyUsageDigitalSignature,
		BasicConstraintsValid: true, IsCA: true,
		MaxPathLenZero: true, SubjectKeyId: identifier(spki)}, nil
}

// Subject is what an authority is called. Two of one name have different ones.
func Subject(name, title string, serial *big.Int) pkix.Name {
	common := title + " " + strings.ToUpper(serial.Text(16)[:6])
	return pkix.Name{CommonName: common, Organization: []string{name}}
}

// Fit says why a certificate cannot be that of the authority with a public key at now.
func Fit(c *x509.Certificate, public any, now time.Time) error {
	type comparable interface{ Equal(crypto.PublicKey) bool }
	own, ok := c.PublicKey.(comparable)
	switch {
	case !ok || !own.Equal(public):
		return errors.New("the certificate is for another key")
	case !c.IsCA || !c.BasicConstraintsValid:
		return errors.New("the certificate is not that of an authority")
	case c.KeyUsage&x509.KeyUsageCertSign == 0 || c.KeyUsage&x509.KeyUsageCRLSign == 0:
		return errors.New("the certificate is not for signing certificates and revocation lists")
	case len(c.SubjectKeyId) == 0:
		return errors.New("the certificate has no identifier of its key (RFC 5280, section 4.2.1.2)")
	case now.After(c.NotAfter):
		return fmt.Errorf("the certificate ended on %s", value.FormatTime(value.Micros(c.NotAfter)))
	case now.Before(c.NotBefore):
		return fmt.Errorf("the certificate is not valid before %s", value.FormatTime(value.Micros(c.NotBefore)))
	}
	if _, err := KeyOf(public); err != nil {
		return fmt.Errorf("the certificate is for %w; expected %s", err, strings.Join(Keys, ", "))
	}
	return nil
}

// Codes are the reasons to revoke a certificate of a device (RFC 5280, section 5.3.1).
var Codes = map[string]int{"unspecified": 0, "keyCompromise": 1, "affiliationChanged": 3, "superseded": 4,
	"cessationOfOperation": 5, "privilegeWithdrawn": 9}

// CodeNames are the words for them, sorted.
func CodeNames() []string { return slices.Sorted(maps.Keys(Codes)) }
