package authority

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"ironledger.example/core/certificate"
	"ironledger.example/core/value"
)

var laptop = certificate.Device{ID: "GF-L-1", Serial: "GF88213", HardwareID: "hw-7"}

func key(t testing.TB, k Key) crypto.Signer {
	t.Helper()
	s, err := k.Make(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func request(t testing.TB, r x509.CertificateRequest, by crypto.Signer) []byte {
	t.Helper()
	der, err := x509.CreateCertificateRequest(rand.Reader, &r, by)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func link(text string) *url.URL {
	u, _ := url.Parse(text)
	return u
}

func TestWhatARequestMaySay(t *testing.T) {
	own := key(t, P256)
	extension := func(id asn1.ObjectIdentifier, v any) x509.CertificateRequest {
		der, err := asn1.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		return x509.CertificateRequest{ExtraExtensions: []pkix.Extension{{Id: id, Value: der}}}
	}
	many := x509.CertificateRequest{}
	for range 3000 {
		many.DNSNames = append(many.DNSNames, "GF-L-1")
	}
	for name, c := range map[string]struct {
		r    x509.CertificateRequest
		want string
	}{
		"nothing": {x509.CertificateRequest{}, ""},
		"its id": {x509.CertificateRequest{Subject: pkix.Name{CommonName: "gf-l-1", SerialNumber: "GF88213"}},
			""},
		"its uri": {x509.CertificateRequest{URIs: []*url.URL{link("https://gullholm.example/devices/GF-L-1")}},
			""},
		"client use":     {extension(extendedUsage, []asn1.ObjectIdentifier{clientAuth}), ""},
		"another device": {x509.CertificateRequest{Subject: pkix.Name{CommonName: "GF-L-2"}}, `names "GF-L-2"`},
		"another serial": {x509.CertificateRequest{Subject: pkix.Name{SerialNumber: "X"}}, `names "X"`},
		"another host": {x509.CertificateRequest{DNSNames: []string{"GF-L-1.evil.example"}},
			"which is not the device"},
		"a part of a name": {x509.CertificateRequest{DNSNames: []string{"GF-L"}}, "which is not the device"},
		"mail":             {x509.CertificateRequest{EmailAddresses: []string{"ada@gullholm.example"}}, "ada@"},
		"an address":       {x509.CertificateRequest{IPAddresses: []net.IP{net.IPv4(10, 0, 0, 1)}}, "10.0.0.1"},
		"another's uri": {x509.CertificateRequest{URIs: []*url.URL{link("https://evil.example/devices/GF-L-1")}},
			"evil"},
		"to be an authority": {extension(basicConstraints, struct{ CA bool }{true}), "to be an authority"},
		"to be a server": {extension(extendedUsage, []asn1.ObjectIdentifier{clientAuth, {1, 3, 6, 1, 5, 5, 7, 3, 1}}),
			"another use"},
	} {
		r, err := ReadRequest(request(t, c.r, own))
		if err == nil {
			err = Check(r, []Key{P256}, "gullholm.example", laptop)
		}
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	if _, err := ReadRequest(request(t, many, own)); err == nil || !strings.Contains(err.Error(), "larger than") {
		t.Errorf("thousands of names: %v", err)
	}
	few := x509.CertificateRequest{DNSNames: strings.Split(strings.Repeat("GF-L-1,", 17)+"GF-L-1", ",")}
	r, err := ReadRequest(request(t, few, own))
	if err != nil {
		t.Fatal(err)
	}
	if err := Check(r, []Key{P256}, "gullholm.example", laptop); err == nil ||
		!strings.Contains(err.Error(), "18 names") {
		t.Errorf("many names: %v", err)
	}
	if err := Check(r, []Key{P384, Ed25519}, "gullholm.example", laptop); err == nil ||
		!strings.Contains(err.Error(), "p384, ed25519") {
		t.Errorf("a kind that is not allowed: %v", err)
	}
	long := certificate.Device{ID: strings.Repeat("d", 65)}
	if err := Check(r, []Key{P256}, "gullholm.example", long); err == nil ||
		!strings.Contains(err.Error(), "longer than the 64") {
		t.Errorf("a long id: %v", err)
	}
}

func TestKeysThatAreNotTaken(t *testing.T) {
	short, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	p521, err := ecdsa.GenerateKey(elliptic.P521(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range []crypto.Signer{short, p521} {
		if _, err := ReadRequest(request(t, x509.CertificateRequest{}, k)); err == nil ||
			!strings.Contains(err.Error(), "expected p256, p384, ed25519") {
			t.Errorf("%T: %v", k, err)
		}
	}
	// A request whose key is not that of whoever signed it.
	der := request(t, x509.CertificateRequest{Subject: pkix.Name{CommonName: "GF-L-1"}}, key(t, P256))
	theirs := request(t, x509.CertificateRequest{Subject: pkix.Name{CommonName: "GF-L-1"}}, key(t, P256))
	a, _ := x509.ParseCertificateRequest(der)
	b, _ := x509.ParseCertificateRequest(theirs)
	borrowed := bytes.Replace(der, a.RawSubjectPublicKeyInfo, b.RawSubjectPublicKeyInfo, 1)
	if _, err := ReadRequest(borrowed); err == nil || !strings.Contains(err.Error(), "not signed by the key") {
		t.Errorf("a borrowed key: %v", err)
	}
	if _, err := ReadRequest([]byte("-----BEGIN")); err == nil {
		t.Error("PEM is read as DER")
	}
}

// lint finds what RFC 5280 forbids or asks for, as far as it concerns these certificates.
func lint(c *x509.Certificate, by *x509.Certificate) (wrong []string) {
	must := func(ok bool, format string, args ...any) {
		if !ok {
			wrong = append(wrong, fmt.Sprintf(format, args...))
		}
	}
	must(c.Version == 3, "version %d", c.Version)
	must(c.SerialNumber.Sign() > 0 && len(c.SerialNumber.Bytes()) <= 20, "serial %v (4.1.2.2)", c.SerialNumber)
	must(
		c.NotBefore.Nanosecond() == 0 && c.NotAfter.Nanosecond() == 0 && c.NotAfter.After(c.NotBefore),
		"validity (4.1.2.5)",
	)
	must(!c.NotAfter.After(by.NotAfter), "it outlives its issuer")
	must(bytes.Equal(c.RawIssuer, by.RawSubject), "issuer (4.1.2.4)")
	must(
		len(c.Subject.CommonName) > 0 && len(c.Subject.CommonName) <= 64,
		"common name of %d",
		len(c.Subject.CommonName),
	)
	must(len(c.SubjectKeyId) == 20, "identifier of its key (4.2.1.2)")
	must(c == by || bytes.Equal(c.AuthorityKeyId, by.SubjectKeyId), "identifier of the issuer's key (4.2.1.1)")
	must(c.BasicConstraintsValid, "basic constraints")
	for _, x := range c.Extensions {
		switch {
		case x.Id.Equal(basicConstraints), x.Id.Equal(asn1.ObjectIdentifier{2, 5, 29, 15}):
			must(x.Critical, "%v is not critical", x.Id)
		case x.Id.Equal(asn1.ObjectIdentifier{2, 5, 29, 14}), x.Id.Equal(asn1.ObjectIdentifier{2, 5, 29, 35}):
			must(!x.Critical, "%v is critical", x.Id)
		}
	}
	if c.IsCA {
		must(
			c.KeyUsage&x509.KeyUsageCertSign != 0 && c.MaxPathLenZero,
			"an authority that cannot sign, or that makes others",
		)
		return wrong
	}
	must(
		c.KeyUsage == x509.KeyUsageDigitalSignature && len(c.ExtKeyUsage) == 1 && len(c.UnknownExtKeyUsage) == 0,
		"its uses",
	)
	must(len(c.URIs)+len(c.DNSNames)+len(c.IPAddresses) > 0, "it has no alternative name")
	return wrong
}

func TestWhatIsIssued(t *testing.T) {
	now := time.Date(2026, 11, 20, 8, 0, 0, 123456789, time.UTC)
	for _, kind := range []Key{P256, P384, Ed25519} {
		k := key(t, kind)
		serial, err := Serial(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		root, err := Root(k.Public(), "gullholm.example", "Gullholm devices", serial, now, 60*value.Day)
		if err != nil {
			t.Fatal(err)
		}
		ca := sign(t, root, root, k.Public(), k)
		if wrong := lint(ca, ca); len(wrong) > 0 {
			t.Errorf("%s: the authority: %v", kind, wrong)
		}
		if err := Fit(ca, k.Public(), now); err != nil {
			t.Error(err)
		}
		if err := Fit(ca, key(t, kind).Public(), now); err == nil || !strings.Contains(err.Error(), "another key") {
			t.Errorf("another's key fits: %v", err)
		}
		if err := Fit(ca, k.Public(), now.AddDate(0, 3, 0)); err == nil || !strings.Contains(err.Error(), "ended") {
			t.Errorf("one that ended fits: %v", err)
		}
		own := key(t, P256)
		places := Places{
			CRL:    "http://a.example/x.crl",
			OCSP:   "http://a.example/ocsp",
			Issuer: "http://a.example/x.cer",
		}
		device, err := Device(own.Public(), "gullholm.example", laptop, serial, now, 7*value.Day, ca, places)
		if err != nil {
			t.Fatal(err)
		}
		c := sign(t, device, ca, own.Public(), k)
		if wrong := lint(c, ca); len(wrong) > 0 {
			t.Errorf("%s: the device's: %v", kind, wrong)
		}
		pool := x509.NewCertPool()
		pool.AddCert(ca)
		if _, err := c.Verify(x509.VerifyOptions{Roots: pool, CurrentTime: now,
			KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}); err != nil {
			t.Error(err)
		}
		if _, err := c.Verify(x509.VerifyOptions{Roots: pool, CurrentTime: now,
			KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}); err == nil {
			t.Error("a device's certificate is good for a server")
		}
		if !certificate.Names(c, certificate.Device{ID: laptop.ID}) || certificate.Names(c,
			certificate.Device{ID: "GF-L-2"}) ||
			c.Subject.SerialNumber != laptop.Serial ||
			!c.NotBefore.Before(now) ||
			c.NotAfter.Sub(now) > 7*24*time.Hour {
			t.Errorf("it says %v from %s to %s", c.Subject, c.NotBefore, c.NotAfter)
		}
		// No longer than the authority, and none of one that ended.
		if late, err := Device(own.Public(), "g.example", laptop, serial, now.AddDate(0, 0, 58), 7*value.Day, ca,
			Places{}); err != nil ||
			!late.NotAfter.Equal(ca.NotAfter) {
			t.Errorf("at the end of the authority: %v", err)
		}
		if _, err := Device(own.Public(), "g.example", laptop, serial, now.AddDate(0, 3, 0), value.Day, ca,
			Places{}); err == nil {
			t.Error("an authority that ended issues")
		}
		server, err := Server(
			own.Public(),
			[]string{"posture.gullholm.example", "127.0.0.1", "::1"},
			serial,
			now,
			value.Day,
			ca,
		)
		if err != nil {
			t.Fatal(err)
		}
		s := sign(t, server, ca, own.Public(), k)
		if wrong := lint(s, ca); len(wrong) > 0 || s.VerifyHostname("127.0.0.1") != nil ||
			s.VerifyHostname("posture.gullholm.example") != nil ||
			s.VerifyHostname("evil.example") == nil {
			t.Errorf("%s: the server's: %v, for %v %v", kind, wrong, s.DNSNames, s.IPAddresses)
		}
	}
}

func sign(t *testing.T, template, by *x509.Certificate, public any, key crypto.Signer) *x509.Certificate {
	t.Helper()
	der, err := x509.CreateCertificate(rand.Reader, template, by, public, key)
	if err != nil {
		t.Fatal(err)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// FuzzRequest: what is not refused names the device and nothing else.
func FuzzRequest(f *testing.F) {
	own := key(f, P256)
	for _, r := range []x509.CertificateRequest{{}, {Subject: pkix.Name{CommonName: "GF-L-1"}},
		{DNSNames: []string{"a", "b"}},
		{ExtraExtensions: []pkix.Extension{{Id: basicConstraints, Value: []byte{0x30, 3, 1, 1, 255}}}}} {
		f.Add(request(f, r, own))
	}
	f.Fuzz(func(t *testing.T, der []byte) {
		if n, err := Nonce(der); err != nil && n != nil {
			t.Errorf("a nonce that is none is %x", n)
		}
		r, err := ReadRequest(der)
		if err == nil {
			BoundTo(r)
		}
		if err != nil || Check(r, []Key{P256, P384, Ed25519}, "gullholm.example", laptop) != nil {
			return
		}
		for _, n := range append(append([]string{r.Subject.CommonName, r.Subject.SerialNumber}, r.DNSNames...),
			r.EmailAddresses...) {
			if n != "" && !strings.EqualFold(n, laptop.ID) && !strings.EqualFold(n, laptop.Serial) &&
				!strings.EqualFold(n, laptop.HardwareID) {
				t.Errorf("a request for %q is granted", n)
			}
		}
	})
}
