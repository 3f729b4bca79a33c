package service_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/service"
	"ironledger.example/internal/view"
)

// authority is that of a test that issues for devices.
type authority struct {
	t    *testing.T
	cert *x509.Certificate
	key  ed25519.PrivateKey
	next int64
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	a := &authority{t: t, key: key, next: 2}
	a.cert = &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "House"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(9000 * time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	a.cert = a.issue(a.cert, key)
	return a
}

func (a *authority) issue(c *x509.Certificate, key ed25519.PrivateKey) *x509.Certificate {
	a.t.Helper()
	der, err := x509.CreateCertificate(rand.Reader, c, a.cert, key.Public(), a.key)
	if err == nil {
		c, err = x509.ParseCertificate(der)
	}
	if err != nil {
		a.t.Fatal(err)
	}
	return c
}

func block(kind string, raw []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: raw}))
}

// device makes a certificate for a device, as JSON of a report.
func (a *authority) device(name string, from, to time.Duration) (*x509.Certificate, string) {
	a.t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		a.t.Fatal(err)
	}
	c := a.issue(&x509.Certificate{SerialNumber: big.NewInt(a.next), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(from), NotAfter: time.Now().Add(to),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}, key)
	a.next++
	raw, err := json.Marshal([]map[string]string{{"pem": block("CERTIFICATE", c.Raw)}})
	if err != nil {
		a.t.Fatal(err)
	}
	return c, string(raw)
}

// files are a rulebook that trusts the authority, with a revocation list.
func (a *authority) files(until time.Duration, revoked ...*x509.Certificate) []rulebook.File {
	a.t.Helper()
	list := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: time.Now().Add(-time.Minute),
		NextUpdate: time.Now().Add(until)}
	for _, c := range revoked {
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: c.SerialNumber, RevocationTime: time.Now().Add(-time.Minute)})
	}
	crl, err := x509.CreateRevocationList(rand.Reader, list, a.cert, a.key)
	if err != nil {
		a.t.Fatal(err)
	}
	return []rulebook.File{{Name: "ca.pem", Text: block("CERTIFICATE", a.cert.Raw)},
		{Name: "ca.crl", Text: block("X509 CRL", crl)}, {Name: "r.yaml", Text: `rulebook: trust
freshness: {default: 9000h}
issuers: [{id: house, file: ca.pem, crl: ca.crl, binds: id}]
baselines:
  - id: b
    rules:
      - {id: cert, check: any c in certs (c.trusted and not c.revoked), cap: limited, unknown: sound}
      - {id: soon, check: any c in certs (until(c.not_after) > 1h), cap: unproven, unknown: sound}
`}}
}

// Each moment of a certificate's life moves the level at that second, with no
// event to bring it about.
func TestCertificatesMoveLevelsAtTheirMoment(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		a := newAuthority(t)
		_, shows := a.device("d1", time.Hour, 10*time.Hour)
		if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: a.files(5 * time.Hour)}); err != nil {
			t.Fatal(err)
		}
		report(t, s, "d1", `"certs":`+shows)
		at := time.Duration(0)
		for _, step := range []struct {
			at    time.Duration
			level string
			what  string
		}{
			{0, "limited", "before it is valid"},
			{time.Hour - time.Second, "limited", "a second before it is valid"},
			{time.Hour, "strong", "valid"},
			{5 * time.Hour, "strong", "at the end of the revocation list"},
			{5*time.Hour + time.Second, "sound", "after the end of the list: whether it is revoked is not known"},
			{9*time.Hour - time.Second, "sound", "a second before its last hour"},
			{9 * time.Hour, "unproven", "in its last hour"},
			{10*time.Hour + time.Second, "unproven", "expired"},
		} {
			time.Sleep(step.at - at)
			at = step.at
			synctest.Wait()
			if got := level(s, "d1"); got != step.level {
				t.Errorf("%s it stands at %s, want %s", step.what, got, step.level)
			}
		}
		d := s.View.Device("d1")
		if len(d.Certificates) != 1 || d.Certificates[0].State != view.CertificateUntrusted ||
			!strings.Contains(d.Certificates[0].Why, "expired") {
			t.Errorf("its certificates are %+v", d.Certificates)
		}
		// A republished list takes effect within the publication.
		c, shows := a.device("d1", -time.Hour, 100*time.Hour)
		if got := report(t, s, "d1", `"certs":`+shows); got.Level != "sound" {
			t.Errorf("with a new certificate and the old list it stands at %s", got.Level)
		}
		for _, step := range []struct {
			revoked []*x509.Certificate
			level   string
		}{{nil, "strong"}, {[]*x509.Certificate{c}, "limited"}, {nil, "strong"}} {
			if _, _, err := s.Admin.Publish(ctx, "author",
				api.Draft{Files: a.files(50*time.Hour, step.revoked...)}); err != nil {
				t.Fatal(err)
			}
			if got := level(s, "d1"); got != step.level {
				t.Errorf("with %d revoked it stands at %s, want %s", len(step.revoked), got, step.level)
			}
		}
	})
}

func TestThousandsOfCertificatesEndInTheSameSecond(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		a := newAuthority(t)
		if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: a.files(500 * time.Hour)}); err != nil {
			t.Fatal(err)
		}
		n := service.Rounds(2000)
		var lines []string
		for i := range n {
			_, shows := a.device(fmt.Sprintf("d%d", i), -time.Hour, 3*time.Hour)
			lines = append(lines, fmt.Sprintf(`{"source":"agent","identity":{"id":"d%d"},"evidence":{"certs":%s}}`, i, shows))
		}
		take(t, s, "", lines...)
		count := func(want string) (found int) {
			synctest.Wait()
			for i := range n {
				if level(s, fmt.Sprintf("d%d", i)) == want {
					found++
				}
			}
			return found
		}
		if got := count("strong"); got != n {
			t.Fatalf("%d of %d are strong", got, n)
		}
		time.Sleep(2*time.Hour - time.Second)
		if got := count("strong"); got != n {
			t.Errorf("a second before their last hour %d are strong", got)
		}
		time.Sleep(time.Second)
		if got := count("unproven"); got != n {
			t.Errorf("in their last hour %d are unproven", got)
		}
	})
}

func TestALowerLimitHoldsForWaiversThatLive(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		publish(t, s, house)
		report(t, s, "d1", strings.Replace(good, "true", "false", 1))
		waive(t, s, "laptop/disk", "20h")
		publish(t, s, house+"waivers: {max: 30m}\n")
		if list, err := s.View.Waivers(view.ExceptionQuery{Within: "1h"}); err != nil || len(list) != 1 {
			t.Errorf("within an hour end %+v (%v)", list, err)
		}
		if level(s, "d1") != "strong" {
			t.Errorf("it stands at %s", level(s, "d1"))
		}
		time.Sleep(30 * time.Minute)
		synctest.Wait()
		if level(s, "d1") != "limited" {
			t.Errorf("past the new limit it stands at %s", level(s, "d1"))
		}
	})
}

// What the shadow baselines would do, told beforehand, is what enforcing them does.
func TestShadowForetellsEnforcing(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	tried := strings.Replace(house, "gates:",
		"  - id: tried\n    mode: shadow\n    applies: form == laptop\n    rules: [{id: wall, check: firewall.on, cap: limited, unknown: sound}]\ngates:", 1)
	publish(t, s, tried)
	report(t, s, "d1", good)
	report(t, s, "d2", good+`,"firewall.on":false`)
	report(t, s, "d3", good+`,"firewall.on":true`)
	shift, err := s.Admin.Shadow(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if shift.Falls != 2 || shift.Rises != 0 || shift.Moves[0].Rules[0] != "tried/wall" {
		t.Fatalf("the shadow says %+v", shift)
	}
	if moved := publish(t, s, strings.Replace(tried, "mode: shadow", "mode: enforce", 1)); moved != 2 {
		t.Errorf("enforcing moves %d", moved)
	}
	for _, m := range shift.Moves {
		if level(s, m.Device) != m.To {
			t.Errorf("%s stands at %s, the shadow said %s", m.Device, level(s, m.Device), m.To)
		}
	}
}
