package demo

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
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

func serialOf(words string) *big.Int {
	sum := sha256.Sum256([]byte(words))
	return new(big.Int).SetBytes(sum[:8])
}

var (
	rootSpan = [2]time.Time{time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2046, 1, 1, 0, 0, 0, 0, time.UTC)}
	root     = authority("Gullholm Device Root", rootSpan, nil)
	second   = authority("Gullholm Tablet Authority", rootSpan, root)
)

type issuer struct {
	cert *x509.Certificate
	key  ed25519.PrivateKey
}

func authority(name string, span [2]time.Time, parent *issuer) *issuer {
	a := &issuer{&x509.Certificate{SerialNumber: serialOf(name), Subject: pkix.Name{CommonName: name, Organization: []string{"Gullholm Ferries"}}, NotBefore: span[0], NotAfter: span[1],
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign, SubjectKeyId: serialOf(name).Bytes()}, keyOf(name)}
	if parent == nil {
		parent = a
	}
	a.cert = parent.issue(a.cert, a.key)
	return a
}

func (a *issuer) issue(c *x509.Certificate, key ed25519.PrivateKey) *x509.Certificate {
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
	return a.issue(&x509.Certificate{SerialNumber: serialOf("device " + id), Subject: pkix.Name{CommonName: names, Organization: []string{"Gullholm Ferries"}},
		DNSNames: []string{strings.ToLower(names) + ".devices.gullholm.example"}, NotBefore: from, NotAfter: to, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}, keyOf(id))
}

func text(c *x509.Certificate) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}))
}

// Authority returns the files of the demo's issuer: its certificate and its
// revocation list, as PEM.
func Authority() (certificate, list string) {
	crl, err := x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(7), ThisUpdate: rootSpan[0], NextUpdate: rootSpan[1],
		RevokedCertificateEntries: []x509.RevocationListEntry{{SerialNumber: serialOf("device GF-L-1049"), RevocationTime: Moment.Add(-40 * time.Hour), ReasonCode: 1}}}, root.cert, root.key)
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
	{"GF-L-1041", "", root, -60, 200}, {"GF-L-1042", "", root, -100, 230}, {"GF-L-1043", "", root, -20, 300}, {"GF-L-1044", "", root, -40, 296},
	{"GF-L-1046", "", root, -50, 250}, {"GF-L-1047", "", root, -316, 20}, {"GF-L-1048", "", root, -90, 240}, {"GF-L-1049", "", root, -70, 260},
	{"GF-L-1064", "GF-L-1047-S", root, -30, 290}, {"GF-L-1050", "", nil, -900, 7000}, {"GF-L-1052", "", root, -400, -70}, {"GF-L-1055", "", root, -2000, 2000},
	{"GF-T-2101", "", second, -70, 260}, {"GF-T-2102", "", second, -120, 210}, {"GF-T-2107", "", second, -290, 44},
}

// Certificates are the reports of the certificates that devices show, as they
// would be at now, one a line.
func Certificates(now time.Time) string {
	var out strings.Builder
	now = now.UTC().Truncate(time.Second)
	for _, c := range cards {
		names, by := c.names, c.by
		if names == "" {
			names = c.device + "-S"
		}
		from, to := now.Add(time.Duration(c.from)*time.Hour), now.Add(time.Duration(c.to)*time.Hour)
		if by == nil { // it vouches for itself
			by = authority(names, [2]time.Time{from, to}, nil)
		}
		certs := []map[string]string{{"pem": text(by.device(c.device, names, from, to))}}
		if by == second {
			certs = append(certs, map[string]string{"pem": text(second.cert)})
		}
		raw, err := json.Marshal(map[string]any{"source": "mdm", "observed_at": now.Add(-35 * time.Minute).Format(time.RFC3339), "identity": map[string]string{"id": c.device}, "evidence": map[string]any{"certs": certs}})
		if err != nil {
			panic(err) // texts alone
		}
		fmt.Fprintln(&out, string(raw))
	}
	return out.String()
}
