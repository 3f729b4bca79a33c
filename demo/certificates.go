package demo

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"strings"
	"time"
)

// The authority of the demo is a stand-in that protects nothing: its keys come
// from words that everybody can read here, so that it makes the same
// certificates each time.
func keyOf(words string) ed25519.PrivateKey {
	seed := sha256.Sum256([]byte("Gullholm Ferries, a demo: " + words))
	return ed25519.NewKeyFromSeed(seed[:])
}

// deviceKey is the key of a device, on a curve that browsers can use for it.
func deviceKey(id string) *ecdsa.PrivateKey {
	for n := 0; ; n++ { // nearly every 256 bits are a key
		seed := sha256.Sum256(fmt.Appendf(nil, "Gullholm Ferries, a demo: device %s %d", id, n))
		if key, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), seed[:]); err == nil {
			return key
		}
	}
}

// Key is the private key of a device's certificate, as PEM.
func Key(device string) string { return keyText(deviceKey(device)) }

func keyText(key any) string {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		panic(err) // a key that was just made
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// Server returns a certificate for a server on loopback, and its key, as PEM.
func Server(now time.Time) (certificate, key string) {
	k := deviceKey("proxy on loopback")
	c := root.issue(&x509.Certificate{SerialNumber: serialOf("proxy"),
		Subject:  pkix.Name{CommonName: "localhost", Organization: []string{"Gullholm Ferries"}},
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(90 * 24 * time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, k)
	return text(c), keyText(k)
}

func serialOf(words string) *big.Int {
	sum := sha256.Sum256([]byte(words))
	return new(big.Int).SetBytes(sum[:8])
}

var (
	rootSpan = [2]time.Time{time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC),
		time.Date(2046, 1, 1, 0, 0, 0, 0, time.UTC)}
	root   = authority("Gullholm Device Root", rootSpan, nil)
	second = authority("Gullholm Tablet Authority", rootSpan, root)
)

type issuer struct {
	cert *x509.Certificate
	key  ed25519.PrivateKey
}

func authority(name string, span [2]time.Time, parent *issuer) *issuer {
	a := &issuer{&x509.Certificate{SerialNumber: serialOf(name),
		Subject: pkix.Name{CommonName: name, Organization: []string{"Gullholm Ferries"}}, NotBefore: span[0],
		NotAfter: span[1],
		IsCA:     true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		SubjectKeyId: serialOf(name).Bytes()}, keyOf(name)}
	if parent == nil {
		parent = a
	}
	a.cert = parent.issue(a.cert, a.key)
	return a
}

func (a *issuer) issue(c *x509.Certificate, key crypto.Signer) *x509.Certificate {
	der, err := x509.CreateCertificate(rand.Reader, c, a.cert, key.Public(), a.key)
	if err == nil {
		c, err = x509.ParseCertificate(der)
	}
	if err != nil {
		panic(err) // everything in it is written in this file
	}
	return c
}

func (a *issuer) device(id, names string, from, to time.Time) *x509.Certificate {
	return a.issue(&x509.Certificate{SerialNumber: serialOf("device " + id),
		Subject:  pkix.Name{CommonName: names, Organization: []string{"Gullholm Ferries"}},
		DNSNames: []string{strings.ToLower(names) + ".devices.gullholm.example"}, NotBefore: from,
		NotAfter: to, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}, deviceKey(id))
}

func text(c *x509.Certificate) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}))
}

// Authority returns the files of the demo's issuer: its certificate and its
// revocation list, as PEM.
func Authority() (certificate, list string) {
	crl, err := x509.CreateRevocationList(rand.Reader,
		&x509.RevocationList{Number: big.NewInt(7), ThisUpdate: rootSpan[0], NextUpdate: rootSpan[1],
			RevokedCertificateEntries: []x509.RevocationListEntry{{SerialNumber: serialOf("device GF-L-1049"),
				RevocationTime: Moment.Add(-40 * time.Hour), ReasonCode: 1}}}, root.cert, root.key)
	if err != nil {
		panic(err) // everything in it is written in this file
	}
	return text(root.cert), string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: crl}))
}

// shows is what one device shows of certificates: whom it names ("" for the
// device itself), and from when to when it lives, in hours around now.
type shows struct {
	device, names string
	by            *issuer
	from, to      int
}

var cards = []shows{
	{"GF-L-1041", "", root, -60, 200}, {"GF-L-1042", "", root, -100, 230}, {"GF-L-1043", "", root, -20, 300},
	{"GF-L-1044", "", root, -40, 296},
	{"GF-L-1046", "", root, -50, 250}, {"GF-L-1047", "", root, -316, 20}, {"GF-L-1048", "", root, -90, 240},
	{"GF-L-1049", "", root, -70, 260},
	{"GF-L-1064", "GF-L-1047-S", root, -30, 290}, {"GF-L-1050", "", nil, -900, 7000},
	{"GF-L-1052", "", root, -400, -70}, {"GF-L-1055", "", root, -2000, 2000},
	{"GF-T-2101", "", second, -70, 260}, {"GF-T-2102", "", second, -120, 210}, {"GF-T-2107", "", second, -290, 44},
}

// renewal is how long before a device's certificate the one before it was issued.
const renewal = 10 * 24 * time.Hour

// certificates are the reports of the certificates that devices show at now, one a
// line, as they were gathered at a moment: of a device whose certificate had not been
// issued yet, the one before it.
func certificates(at, now time.Time) string {
	var out strings.Builder
	at, now = at.UTC().Truncate(time.Second), now.UTC().Truncate(time.Second)
	for _, c := range cards {
		issued := now
		for at.Before(issued.Add(time.Duration(c.from) * time.Hour)) {
			issued = issued.Add(-renewal)
		}
		leaf := c.certificate(issued)
		certs := []map[string]string{{"pem": text(leaf)}}
		if c.by == second {
			certs = append(certs, map[string]string{"pem": text(second.cert)})
		}
		raw, err := json.Marshal(map[string]any{"source": "mdm",
			"observed_at": at.Add(-35 * time.Minute).Format(time.RFC3339),
			"identity":    map[string]string{"id": c.device}, "evidence": map[string]any{"certs": certs}})
		if err != nil {
			panic(err) // texts alone
		}
		fmt.Fprintln(&out, string(raw))
	}
	return out.String()
}

// certificate makes what a device shows at now, which has whole seconds.
func (c *shows) certificate(now time.Time) *x509.Certificate {
	names, by := c.names, c.by
	if names == "" {
		names = c.device + "-S"
	}
	from, to := now.Add(time.Duration(c.from)*time.Hour), now.Add(time.Duration(c.to)*time.Hour)
	if by == nil { // it vouches for itself
		by = authority(names, [2]time.Time{from, to}, nil)
	}
	return by.device(c.device, names, from, to)
}

// NewCard is a certificate of the demo's authority for hardware that is not in
// service yet, by its serial, as PEM; its key is [Key] of the same serial.
func NewCard(serial string, now time.Time) string {
	return text(root.device(serial, serial, now.Add(-time.Hour), now.Add(13*24*time.Hour)))
}

// Card is the certificate of a device in what Certificates tells at now, as PEM;
// "" for a device that shows none.
func Card(device string, now time.Time) string {
	for _, c := range cards {
		if c.device == device {
			return text(c.certificate(now.UTC().Truncate(time.Second)))
		}
	}
	return ""
}
