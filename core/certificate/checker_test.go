package certificate

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironledger.example/core/value"
)

// noon is the moment at which most of these tests look.
var noon = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

const day = 24 * time.Hour

// ca is an authority of a test.
type ca struct {
	cert *x509.Certificate
	key  crypto.Signer
}

var serials int64

// sign makes a certificate; change may be nil.
func sign(t *testing.T, by *ca, name string, from, to time.Time, authority bool,
	change func(*x509.Certificate)) *ca {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	serials++
	c := &x509.Certificate{SerialNumber: big.NewInt(serials), Subject: pkix.Name{CommonName: name},
		NotBefore: from, NotAfter: to, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	if authority {
		c.IsCA, c.BasicConstraintsValid, c.KeyUsage, c.ExtKeyUsage = true, true,
			x509.KeyUsageCertSign|x509.KeyUsageCRLSign, nil
	}
	if change != nil {
		change(c)
	}
	out := &ca{c, key}
	if by == nil {
		by = out
	}
	der, err := x509.CreateCertificate(rand.Reader, c, by.cert, key.Public(), by.key)
	if err == nil {
		out.cert, err = x509.ParseCertificate(der)
	}
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func (a *ca) pem() string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.cert.Raw}))
}

func (a *ca) crl(t *testing.T, until time.Time, revoked ...*ca) *x509.RevocationList {
	t.Helper()
	list := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: noon.Add(-30 * day), NextUpdate: until}
	for _, r := range revoked {
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: r.cert.SerialNumber, RevocationTime: noon.Add(-2 * time.Hour)})
	}
	der, err := x509.CreateRevocationList(rand.Reader, list, a.cert, a.key)
	if err != nil {
		t.Fatal(err)
	}
	crl, err := ReadCRL(string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der})),
		[]*x509.Certificate{a.cert})
	if err != nil {
		t.Fatal(err)
	}
	return crl
}

// shownBy is the reading of a device that shows certificates.
func shownBy(t *testing.T, list ...*ca) value.Value {
	t.Helper()
	var out []value.Value
	for _, c := range list {
		raw, err := json.Marshal(map[string]string{"pem": c.pem()})
		if err != nil {
			t.Fatal(err)
		}
		v, err := Decode(raw)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, v)
	}
	return value.OfList(out)
}

func TestWhichCertificatesAreTrusted(t *testing.T) {
	root := sign(t, nil, "Root", noon.Add(-900*day), noon.Add(900*day), true, nil)
	middle := sign(t, root, "Middle", noon.Add(-90*day), noon.Add(3*day), true, nil)
	stranger := sign(t, nil, "Stranger", noon.Add(-90*day), noon.Add(90*day), true, nil)
	from, to := noon.Add(-5*day), noon.Add(5*day)
	leaf := func(by *ca, change func(*x509.Certificate)) *ca { return sign(t, by, "GF-1", from, to, false, change) }
	good, gone := leaf(root, nil), leaf(root, nil)
	self := sign(t, nil, "GF-1", from, to, false, nil)
	listed := Issuer{ID: "ca", Certificates: []*x509.Certificate{root.cert},
		CRL: root.crl(t, noon.Add(2*day), gone), Binds: BySerial, MaxLifetime: (20 * day).Microseconds()}
	device := Device{ID: "d1", Serial: "gf-1", HardwareID: "hw"}
	cases := []struct {
		name             string
		issuers          []Issuer
		device           Device
		shows            []*ca
		at               time.Time
		trusted, revoked string
		issuer, why      string
		until            time.Time // zero: never
	}{
		{"a good one, until its revocation list ends", []Issuer{listed}, device, []*ca{good}, noon, "true",
			"false", "ca", "", noon.Add(2 * day)},
		{"the list has ended: whether it is revoked is not known", []Issuer{listed}, device, []*ca{good},
			noon.Add(3 * day), "true", "unknown", "ca", "", to},
		{"a revoked one", []Issuer{listed}, device, []*ca{gone}, noon, "true", "true", "ca", "revoked", to},
		{"not yet valid", []Issuer{listed}, device, []*ca{good}, from.Add(-time.Hour), "false", "false", "ca",
			"not valid before", from.Add(-time.Microsecond)},
		{"expired", []Issuer{listed}, device, []*ca{good}, to.Add(time.Second), "false", "unknown", "ca",
			"expired on", time.Time{}},
		{"it names another device", []Issuer{listed}, Device{ID: "d2", Serial: "GF-2"}, []*ca{good}, noon,
			"false", "false", "ca", "names another device", noon.Add(2 * day)},
		{"whose device it is is not known", []Issuer{listed}, Device{ID: "d2"}, []*ca{good}, noon, "unknown",
			"false", "ca", "the serial of the device is not known", noon.Add(2 * day)},
		{"through one between, which ends sooner",
			[]Issuer{{ID: "ca", Certificates: []*x509.Certificate{root.cert}}}, device,
			[]*ca{leaf(middle, nil), middle}, noon, "true", "false", "ca", "", noon.Add(3 * day)},
		{"the one between is not shown", []Issuer{listed}, device, []*ca{leaf(middle, nil)}, noon, "false",
			"false", "", "does not chain", time.Time{}},
		{"of a stranger", []Issuer{listed}, device, []*ca{leaf(stranger, nil), stranger}, noon, "false",
			"false", "", "does not chain", time.Time{}},
		{"signed by itself", []Issuer{listed}, device, []*ca{self}, noon, "false", "false", "",
			"does not chain", time.Time{}},
		{"for servers, not for clients", []Issuer{listed}, device,
			[]*ca{leaf(root, func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} })}, noon, "false", "false", "", "not for client authentication", time.Time{}},
		{"it lives too long", []Issuer{listed}, device,
			[]*ca{leaf(root, func(c *x509.Certificate) { c.NotAfter = noon.Add(16 * day) })}, noon, "false",
			"false", "ca", "longer than 20d", noon.Add(2 * day)},
		{"an authority shows nothing of the device", []Issuer{listed}, device, []*ca{root}, noon, "false",
			"false", "ca", WhyAuthority, noon.Add(2 * day)},
		{"named by a URI", []Issuer{listed}, device,
			[]*ca{sign(t, root, "tablet", from, to, false,
				func(c *x509.Certificate) { c.URIs = []*url.URL{{Scheme: "urn", Opaque: "serial:GF-1"}} })},
			noon, "true", "false", "ca", "", noon.Add(2 * day)},
		{"bound to the hardware, named by DNS",
			[]Issuer{{ID: "hw", Certificates: []*x509.Certificate{root.cert}, Binds: ByHardware}}, device,
			[]*ca{sign(t, root, "x", from, to, false,
				func(c *x509.Certificate) { c.DNSNames = []string{"HW.devices.example"} })}, noon, "true",
			"false", "hw", "", to},
		{"no issuers at all", nil, device, []*ca{good}, noon, "false", "false", "", "does not chain", time.Time{}},
		{"of the second of two issuers",
			[]Issuer{listed, {ID: "other", Certificates: []*x509.Certificate{stranger.cert}}}, device,
			[]*ca{leaf(stranger, nil)}, noon, "true", "false", "other", "", to},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			checker := NewChecker(c.issuers)
			now := value.Micros(c.at)
			got, until := checker.Check(shownBy(t, c.shows...), c.device, now)
			first := got.Members()[0]
			for name, want := range map[string]string{"trusted": c.trusted, "revoked": c.revoked,
				"issuer_id": c.issuer} {
				if have := field(t, first, name).String(); have != want {
					t.Errorf("%s is %s, want %s", name, have, want)
				}
			}
			if why := Why(first); !strings.Contains(why, c.why) || c.why == "" && why != "" {
				t.Errorf("the reason is %q, want %q", why, c.why)
			}
			if len(c.shows) == 1 || c.name == "through one between, which ends sooner" {
				want := int64(never)
				if !c.until.IsZero() {
					want = value.Micros(c.until)
				}
				if until != want {
					t.Errorf("it holds until %s, want %s", value.FormatTime(until), value.FormatTime(want))
				}
			}
			// What holds until a moment holds up to it, and not a moment longer.
			if until < never {
				at, _ := checker.Check(shownBy(t, c.shows...), c.device, until)
				after, _ := checker.Check(shownBy(t, c.shows...), c.device, until+1)
				if !at.Equal(got) {
					t.Errorf("at its last moment it is %s, was %s", at, got)
				}
				if after.Equal(got) && len(c.shows) == 1 && c.name != "it lives too long" &&
					c.name != "it names another device" && c.name != "a revoked one" &&
					!strings.HasPrefix(c.name, "an authority") {
					t.Errorf("after its last moment it is the same: %s", after)
				}
			}
		})
	}
}

func TestCheckersAreTheSameByTheirIssuers(t *testing.T) {
	a, b := sign(t, nil, "A", noon, noon.Add(day), true, nil), sign(t, nil, "B", noon, noon.Add(day), true, nil)
	one := Issuer{ID: "a", Certificates: []*x509.Certificate{a.cert}}
	crl, bound := one, one
	crl.CRL, bound.Binds = a.crl(t, noon.Add(day)), BySerial
	other := one
	other.Certificates = []*x509.Certificate{b.cert}
	if !NewChecker([]Issuer{one}).Same(NewChecker([]Issuer{one})) {
		t.Error("the same issuers make two checkers")
	}
	for _, x := range []Issuer{crl, bound, other} {
		if NewChecker([]Issuer{one}).Same(NewChecker([]Issuer{x})) {
			t.Errorf("%+v is taken for the same", x.ID)
		}
	}
}

// openssl tells whether openssl verify accepts a certificate at a moment.
func openssl(t *testing.T, dir string, leaf *ca, between []*ca, root *ca, at time.Time,
	crl *x509.RevocationList) bool {
	t.Helper()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	chain := ""
	for _, b := range between {
		chain += b.pem()
	}
	args := []string{"verify", "-attime", fmt.Sprint(at.Unix()), "-purpose", "sslclient", "-CAfile",
		write("root.pem", root.pem())}
	if chain != "" {
		args = append(args, "-untrusted", write("chain.pem", chain))
	}
	if crl != nil {
		args = append(args, "-crl_check", "-CRLfile",
			write("list.pem", string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: crl.Raw}))))
	}
	out, err := exec.Command("openssl", append(args, write("leaf.pem", leaf.pem()))...).CombinedOutput()
	if len(out) == 0 {
		t.Fatalf("openssl says nothing (%v); is it installed? Debian: apt-get install openssl", err)
	}
	return err == nil
}

// openssl verify must come to the same answers: chain, purpose, time and
// revocation, over many certificates.
func TestOpenSSLAgrees(t *testing.T) {
	root := sign(t, nil, "Root", noon.Add(-400*day), noon.Add(400*day), true, nil)
	middle := sign(t, root, "Middle", noon.Add(-60*day), noon.Add(8*day), true, nil)
	ended := sign(t, root, "Ended", noon.Add(-60*day), noon.Add(-day), true, nil)
	stranger := sign(t, nil, "Stranger", noon.Add(-60*day), noon.Add(60*day), true, nil)
	gone := sign(t, root, "gone", noon.Add(-5*day), noon.Add(5*day), false, nil)
	weak := sign(t, root, "not an authority", noon.Add(-5*day), noon.Add(5*day), false, nil)
	crl := root.crl(t, noon.Add(30*day), gone)
	server := func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} }
	both := func(c *x509.Certificate) {
		c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}
	}
	any := func(c *x509.Certificate) { c.ExtKeyUsage = nil }
	leaf := func(by *ca, change func(*x509.Certificate)) *ca {
		return sign(t, by, "leaf", noon.Add(-3*day), noon.Add(10*day), false, change)
	}
	cases := []struct {
		name    string
		leaf    *ca
		between []*ca
	}{
		{"of the root", leaf(root, nil), nil}, {"through one between", leaf(middle, nil), []*ca{middle}},
		{"without the one between", leaf(middle, nil), nil},
		{"through one that ended", leaf(ended, nil), []*ca{ended}},
		{"of a stranger", leaf(stranger, nil), []*ca{stranger}},
		{"by itself", sign(t, nil, "self", noon.Add(-day), noon.Add(day), false, nil), nil},
		{"for servers", leaf(root, server), nil}, {"for both", leaf(root, both), nil},
		{"for any use", leaf(root, any), nil},
		{"revoked", gone, nil}, {"issued by a device", leaf(weak, nil), []*ca{weak}},
	}
	agreed := map[bool]int{}
	for _, c := range cases {
		for _, at := range []time.Duration{-4 * day, -2 * day, 0, 7 * day, 9 * day, 11 * day} {
			when := noon.Add(at)
			// Authorities between need no list of their own here.
			list := crl
			if len(c.between) > 0 {
				list = nil
			}
			checker := NewChecker([]Issuer{{ID: "ca", Certificates: []*x509.Certificate{root.cert}, CRL: list}})
			got, _ := checker.Check(shownBy(t, append([]*ca{c.leaf}, c.between...)...), Device{},
				value.Micros(when))
			first := got.Members()[0]
			ours := field(t, first, "trusted").IsTrue() && !field(t, first, "revoked").IsTrue()
			theirs := openssl(t, t.TempDir(), c.leaf, c.between, root, when, list)
			if ours != theirs {
				t.Errorf("%s at %s: trusted is %v (%s), openssl says %v", c.name, when.Format(time.DateOnly),
					ours, Why(first), theirs)
			}
			agreed[ours]++
		}
	}
	if agreed[true] < 10 || agreed[false] < 20 {
		t.Errorf("the cases are too much alike: %v", agreed)
	}
}

func TestHostileListsAreBounded(t *testing.T) {
	// Two authorities that sign each other, and a long list of them.
	a := sign(t, nil, "A", noon.Add(-day), noon.Add(day), true, nil)
	b := sign(t, a, "B", noon.Add(-day), noon.Add(day), true, nil)
	loop := &ca{key: a.key}
	loop.cert = sign(t, b, "A", noon.Add(-day), noon.Add(day), true, nil).cert
	leaf := sign(t, b, "leaf", noon.Add(-day), noon.Add(day), false, nil)
	list := []*ca{leaf}
	for range 60 {
		list = append(list, loop, b, a)
	}
	root := sign(t, nil, "Root", noon.Add(-day), noon.Add(day), true, nil)
	got, _ := NewChecker([]Issuer{{ID: "ca",
		Certificates: []*x509.Certificate{root.cert}}}).Check(shownBy(t, list...), Device{}, value.Micros(noon))
	if len(got.Members()) != len(list) || field(t, got.Members()[0], "trusted").IsTrue() {
		t.Errorf("%d certificates, trusted %s", len(got.Members()), field(t, got.Members()[0], "trusted"))
	}
	// A key too small for anybody, which x509 refuses to use.
	t.Setenv("GODEBUG", "rsa1024min=0")
	small, err := rsa.GenerateKey(rand.Reader, 512)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificate(rand.Reader, leaf.cert, root.cert, small.Public(), root.key)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	shownBy(t, &ca{cert: cert})
}

func TestIssuersThatAreRefused(t *testing.T) {
	root := sign(t, nil, "Root", noon.Add(-day), noon.Add(day), true, nil)
	leaf := sign(t, root, "leaf", noon.Add(-day), noon.Add(day), false, nil)
	other := sign(t, nil, "Other", noon.Add(-day), noon.Add(day), true, nil)
	list := string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: other.crl(t, noon).Raw}))
	for text, want := range map[string]string{
		"": "no PEM block", "hello": "no PEM block", leaf.pem(): "not that of an authority",
		list: "of type X509 CRL stands where certificates were expected",
		"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n": "certificate 1:",
		strings.Repeat(root.pem(), 51):                                   "more than 50",
	} {
		if _, err := ReadIssuer(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40q gives %v, want %q", text, err, want)
		}
	}
	for text, want := range map[string]string{"": "no PEM block", root.pem(): "no PEM block of type X509 CRL",
		list: "not signed by", "-----BEGIN X509 CRL-----\nAAAA\n-----END X509 CRL-----\n": "not a revocation list"} {
		if _, err := ReadCRL(text, []*x509.Certificate{root.cert}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%.40q gives %v, want %q", text, err, want)
		}
	}
}
