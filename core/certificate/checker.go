package certificate

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/value"
)

// Binding says which of a device's identities a certificate must name.
type Binding string

// The bindings.
const (
	Unbound    Binding = ""
	BySerial   Binding = "serial"
	ByHardware Binding = "hardware_id"
	ByID       Binding = "id"
)

// Bindings are the words a rulebook may use.
var Bindings = []string{string(BySerial), string(ByHardware), string(ByID)}

// Issuer is an authority whose certificates a rulebook trusts.
type Issuer struct {
	ID           string
	Certificates []*x509.Certificate  // trust anchors, and what stands between them and a device
	CRL          *x509.RevocationList // RFC 5280 section 5; nil: the issuer has none
	Binds        Binding
	MaxLifetime  int64 // microseconds; 0: any
	// Own says that it is our own authority, which knows what it issued to whom and what it took back.
	Own bool
}

// maxIssuerCertificates bounds the certificates of one issuer.
const maxIssuerCertificates = 50

// ReadIssuer reads the certificates of an issuer from PEM.
func ReadIssuer(text string) ([]*x509.Certificate, error) {
	var list []*x509.Certificate
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			return nil, fmt.Errorf("a PEM block of type %s stands where certificates were expected", block.Type)
		}
		if len(list) == maxIssuerCertificates {
			return nil, fmt.Errorf("there are more than %d certificates", maxIssuerCertificates)
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("certificate %d: %w", len(list)+1, err)
		}
		if !c.IsCA {
			return nil, fmt.Errorf("certificate %d (%s) is not that of an authority", len(list)+1, c.Subject)
		}
		list = append(list, c)
	}
	if len(list) == 0 {
		return nil, errors.New("there is no PEM block of type CERTIFICATE")
	}
	return list, nil
}

// ReadCRL reads a revocation list from PEM and checks that one of the issuer's
// certificates signed it.
func ReadCRL(text string, signers []*x509.Certificate) (*x509.RevocationList, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil || block.Type != "X509 CRL" {
		return nil, errors.New("there is no PEM block of type X509 CRL")
	}
	crl, err := x509.ParseRevocationList(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("not a revocation list: %w", err)
	}
	if !slices.ContainsFunc(signers, func(c *x509.Certificate) bool { return crl.CheckSignatureFrom(c) == nil }) {
		return nil, errors.New("the revocation list is not signed by a certificate of this issuer")
	}
	return crl, nil
}

// Device is what certificates are checked against: who the device is. A text
// that is "" is not known.
type Device struct {
	ID, Serial, HardwareID string
	Issued                 []value.Value // by our own authority, as [Issue] and [Revoke] make them
}

// issued is what our own authority knows of a certificate that it issued to the device, nil for nothing.
func (d *Device) issued(cert *x509.Certificate) *value.Value {
	sum := sha256.Sum256(cert.Raw)
	text := hex.EncodeToString(sum[:])
	for i := range d.Issued {
		if d.Issued[i].FieldAt(slotSHA256).Str() == text {
			return &d.Issued[i]
		}
	}
	return nil
}

// Checker checks certificates against the issuers of a rulebook. It is safe
// for concurrent use. Signatures do not depend on time or device, so it
// remembers what it found of each certificate.
type Checker struct {
	issuers []Issuer
	roots   *x509.CertPool
	revoked []map[string]bool // by issuer: the serial numbers on its list
	seen    sync.Map          // shown -> *finding
}

// NewChecker prepares issuers.
func NewChecker(issuers []Issuer) *Checker {
	c := &Checker{issuers: issuers, roots: x509.NewCertPool()}
	for _, is := range issuers {
		for _, cert := range is.Certificates {
			c.roots.AddCert(cert)
		}
		var revoked map[string]bool
		if is.CRL != nil {
			revoked = make(map[string]bool, len(is.CRL.RevokedCertificateEntries))
			for _, e := range is.CRL.RevokedCertificateEntries {
				if e.ReasonCode != 8 { // removeFromCRL, RFC 5280 section 5.3.1
					revoked[string(is.CRL.RawIssuer)+e.SerialNumber.String()] = true
				}
			}
		}
		c.revoked = append(c.revoked, revoked)
	}
	return c
}

// Same reports whether two checkers have the same issuers, so that what one
// has found holds for the other.
func (c *Checker) Same(d *Checker) bool {
	return slices.EqualFunc(c.issuers, d.issuers, func(a, b Issuer) bool {
		crl := func(l *x509.RevocationList) []byte {
			if l == nil {
				return nil
			}
			return l.Raw
		}
		return a.ID == b.ID && a.Binds == b.Binds && a.MaxLifetime == b.MaxLifetime && a.Own == b.Own &&
			bytes.Equal(crl(a.CRL), crl(b.CRL)) &&
			slices.EqualFunc(a.Certificates, b.Certificates, (*x509.Certificate).Equal)
	})
}

// never is the end of what does not end, in microseconds since the Unix epoch.
const never = math.MaxInt64

// finding is what is true of a certificate at any time and for any device.
type finding struct {
	cert   *x509.Certificate
	chains []chain
	why    string // why there is no chain
}

// chain is a way from a certificate to an issuer.
type chain struct {
	issuer   int
	from, to int64 // when every certificate in it is valid, in microseconds
	certs    []*x509.Certificate
}

// Check returns the certificates with trusted, revoked and issuer_id filled
// in for a device at now, and the last moment at which that holds.
func (c *Checker) Check(certs value.Value, d Device, now int64) (value.Value, int64) {
	members := certs.Members()
	out, until := make([]value.Value, len(members)), int64(never)
	list, between := together(members)
	for i, m := range members {
		v := c.judge(c.find(m, list, between), d, now)
		until = min(until, v.until)
		out[i] = m.WithFields(map[int]value.Value{slotTrusted: v.trusted, slotRevoked: v.revoked,
			slotIssuerID: value.OfText(v.issuer), slotWhy: value.OfText(v.why), slotProfile: value.OfText(v.profile)})
	}
	return value.OfList(out), until
}

// Issued reports whether the certificate with a SHA-256 is among those of a
// device, and one of the issuers issued it, at whatever time it is or was valid,
// for this device where the issuer binds it to one.
func (c *Checker) Issued(certs value.Value, d Device, sha256 string) bool {
	members := certs.Members()
	i := slices.IndexFunc(members,
		func(m value.Value) bool { return strings.EqualFold(m.FieldAt(slotSHA256).Str(), sha256) })
	if i < 0 {
		return false
	}
	list, between := together(members)
	f := c.find(members[i], list, between)
	return slices.ContainsFunc(f.chains, func(ch chain) bool {
		owner := d.name(c.issuers[ch.issuer].Binds)
		if c.issuers[ch.issuer].Own && d.issued(f.cert) == nil {
			return false
		}
		return !f.cert.IsCA && (c.issuers[ch.issuer].Binds == Unbound || owner != "" && namesDevice(f.cert, owner))
	})
}

// together names a list of certificates, "" for one alone, and finds the
// authorities in it when they are asked for.
func together(members []value.Value) (list string, between func() []*x509.Certificate) {
	if len(members) > 1 {
		h := sha256.New()
		for _, m := range members {
			h.Write([]byte(m.FieldAt(slotSHA256).Str()))
		}
		list = string(h.Sum(nil))
	}
	return list, sync.OnceValue(func() []*x509.Certificate { return authorities(members) })
}

// shown names a certificate and the list it was shown in.
type shown struct{ cert, list string }

// find looks for chains from a certificate; between are the authorities it was
// shown with, which may stand between it and the issuer.
func (c *Checker) find(m value.Value, list string, between func() []*x509.Certificate) *finding {
	key := shown{m.FieldAt(slotSHA256).Str(), list}
	if f, ok := c.seen.Load(key); ok {
		return f.(*finding)
	}
	f := c.chains(parse(m), between())
	c.seen.Store(key, f)
	return f
}

// authorities are the first certificates of a list that may issue others.
func authorities(members []value.Value) []*x509.Certificate {
	var list []*x509.Certificate
	if len(members) < 2 {
		return nil
	}
	for _, m := range members {
		if cert := parse(m); cert != nil && cert.IsCA && len(list) < maxBetween {
			list = append(list, cert)
		}
	}
	return list
}

// maxBetween bounds the certificates tried between a device's and its issuer's.
const maxBetween = 8

func parse(m value.Value) *x509.Certificate {
	der, err := base64.StdEncoding.DecodeString(m.FieldAt(slotDER).Str())
	if err != nil {
		return nil
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil
	}
	return cert
}

// chains finds the chains from a certificate at any time. A chain is valid in
// one stretch of time, which begins when one of its certificates begins: it is
// enough to look at these moments.
func (c *Checker) chains(cert *x509.Certificate, between []*x509.Certificate) *finding {
	f := &finding{cert: cert, why: "it does not chain to an issuer"}
	if cert == nil {
		f.why = "the certificate itself was not kept"
		return f
	}
	pool := x509.NewCertPool()
	moments := []*x509.Certificate{cert}
	for _, b := range between {
		pool.AddCert(b)
		moments = append(moments, b)
	}
	for _, is := range c.issuers {
		moments = append(moments, is.Certificates...)
	}
	var tried []int64
	for _, m := range moments {
		at := value.Micros(m.NotBefore)
		if slices.Contains(tried, at) || m.NotBefore.Before(cert.NotBefore) || m.NotBefore.After(cert.NotAfter) {
			continue
		}
		tried = append(tried, at)
		found, err := cert.Verify(x509.VerifyOptions{Roots: c.roots, Intermediates: pool,
			CurrentTime: m.NotBefore, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
		if err != nil {
			var bad x509.CertificateInvalidError
			if errors.As(err, &bad) && bad.Reason == x509.IncompatibleUsage {
				f.why = "it is not for client authentication"
			}
			continue
		}
		for _, certs := range found {
			if ch, ok := c.chainOf(certs); ok && !slices.ContainsFunc(f.chains,
				func(o chain) bool { return o.issuer == ch.issuer && o.from == ch.from && o.to == ch.to }) {
				f.chains = append(f.chains, ch)
			}
		}
	}
	return f
}

func (c *Checker) chainOf(certs []*x509.Certificate) (chain, bool) {
	ch := chain{from: math.MinInt64, to: never, certs: certs}
	for _, x := range certs {
		ch.from, ch.to = max(ch.from, value.Micros(x.NotBefore)), min(ch.to, value.Micros(x.NotAfter))
	}
	// The issuer is the one that holds the anchor of the chain.
	anchor := certs[len(certs)-1]
	ch.issuer = slices.IndexFunc(c.issuers,
		func(is Issuer) bool { return slices.ContainsFunc(is.Certificates, anchor.Equal) })
	return ch, ch.issuer >= 0
}

// verdict is what holds of a certificate for a device, until a moment.
type verdict struct {
	trusted, revoked value.Value
	issuer, why      string
	profile          string // "" for a certificate that is not our own authority's
	until            int64
}

// judge weighs the chains of a certificate for a device at now. The chain that
// is best for the device counts; what it lacks is told otherwise.
func (c *Checker) judge(f *finding, d Device, now int64) verdict {
	best := verdict{trusted: value.OfBool(false), revoked: value.OfBool(false), why: f.why, until: never}
	for i, ch := range f.chains {
		v := c.weigh(f.cert, ch, d, now)
		best.until = min(best.until, v.until)
		if i == 0 || v.trusted.IsTrue() && !best.trusted.IsTrue() {
			v.until = best.until
			best = v
		}
	}
	return best
}

// WhyAuthority is why a certificate that issues others is not trusted: it shows
// nothing of the device that passes it along.
const WhyAuthority = "an authority's, not a device's"

func (c *Checker) weigh(cert *x509.Certificate, ch chain, d Device, now int64) verdict {
	is := &c.issuers[ch.issuer]
	v := verdict{trusted: value.OfBool(true), issuer: is.ID, until: never}
	v.revoked, v.until = c.revocation(ch, now)
	unrecorded := false
	if is.Own && !cert.IsCA {
		known := d.issued(cert)
		if unrecorded = known == nil; !unrecorded {
			v.profile, v.revoked = known.FieldAt(slotProfile).Str(), known.FieldAt(slotRevoked)
		}
	}
	no := func(format string, args ...any) { v.trusted, v.why = value.OfBool(false), fmt.Sprintf(format, args...) }
	lifetime := value.Micros(cert.NotAfter) - value.Micros(cert.NotBefore)
	switch {
	case cert.IsCA:
		no(WhyAuthority)
	case now < ch.from:
		v.until = min(v.until, ch.from-1)
		no("not valid before %s", value.FormatTime(ch.from))
	case now > ch.to:
		no("expired on %s", value.FormatTime(ch.to))
	case unrecorded:
		no("our authority issued no such certificate to this device")
	case is.MaxLifetime > 0 && lifetime > is.MaxLifetime:
		no("lives for %s, longer than %s", value.FormatAge(lifetime), value.FormatDuration(is.MaxLifetime))
	default:
		v.until = min(v.until, ch.to)
		switch owner := d.name(is.Binds); {
		case is.Binds == Unbound:
		case owner == "":
			v.trusted, v.why = value.Value{}, fmt.Sprintf("the %s of the device is not known", is.Binds)
		case !namesDevice(cert, owner):
			no("names another device")
		}
	}
	if v.revoked.IsTrue() {
		v.why = cmp.Or(v.why, "revoked")
	}
	return v
}

// revocation says whether a certificate of a chain is revoked at now and until
// when that holds: unknown when the list of its issuer has expired.
func (c *Checker) revocation(ch chain, now int64) (value.Value, int64) {
	is, until := &c.issuers[ch.issuer], int64(never)
	if is.CRL == nil {
		return value.OfBool(false), until
	}
	for _, cert := range ch.certs {
		if c.revoked[ch.issuer][string(cert.RawIssuer)+cert.SerialNumber.String()] {
			return value.OfBool(true), never
		}
	}
	if end := value.Micros(is.CRL.NextUpdate); !is.CRL.NextUpdate.IsZero() {
		if now > end {
			return value.Value{}, until
		}
		until = min(until, end)
	}
	return value.OfBool(false), until
}

func (d Device) name(b Binding) string {
	return map[Binding]string{BySerial: d.Serial, ByHardware: d.HardwareID, ByID: d.ID}[b]
}

// Names reports whether a certificate names a device by one of its identities.
func Names(cert *x509.Certificate, d Device) bool {
	return slices.ContainsFunc([]string{d.ID, d.Serial, d.HardwareID},
		func(n string) bool { return n != "" && namesDevice(cert, n) })
}

// namesDevice reports whether a certificate names a device: in its common
// name, its serial number attribute (RFC 4519, 2.31), a subject alternative
// name, or the first label of a DNS name. Letters compare without their case.
func namesDevice(cert *x509.Certificate, name string) bool {
	names := []string{cert.Subject.CommonName, cert.Subject.SerialNumber}
	names = append(names, cert.EmailAddresses...)
	for _, n := range cert.DNSNames {
		label, _, _ := strings.Cut(n, ".")
		names = append(names, n, label)
	}
	for _, u := range cert.URIs {
		text := u.String()
		names = append(names, text, text[strings.LastIndexAny(text, ":/")+1:])
	}
	return slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) })
}
