package service_test

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"golang.org/x/crypto/ocsp"

	"ironledger.example/api"
	"ironledger.example/core/access"
	core "ironledger.example/core/authority"
	"ironledger.example/core/certificate"
	"ironledger.example/core/directory"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/audit"
	issuer "ironledger.example/internal/authority"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/service"
	"ironledger.example/internal/state"
)

const grants = `rulebook: grants
break_glass: [master]
freshness: {default: 24h}
authority:
  name: gullholm.example
  title: Gullholm devices
  profiles:
    - {id: crew, applies: form == laptop, lifetime: 7d, renew_from: 2d, least: limited, holds: 2}
    - {id: any, lifetime: 1d, least: unproven, keys: [p256]}
resources: [{id: payroll}]
baselines: [{id: laptop, rules: [{id: disk, check: storage.encrypted, cap: barred, unknown: limited}]}]
gates:
  - {id: payroll, who: {everyone: true}, what: {resources: [payroll]}, need: request.certificate and level >= limited, valid_for: 8h}
`

// issuing is a service whose authority is there, and a device d1 that may have certificates.
func issuing(t *testing.T, dir string) *service.Service {
	t.Helper()
	s := open(t, dir)
	if s.Snapshot().Book.Info.Version == 0 {
		publish(t, s, grants)
		staff(t, s)
		report(t, s, "d1", `"form":"laptop","storage.encrypted":true,"serial":"GF-1"`)
	}
	s.Authority.Start("http://127.0.0.1:1")
	if why := s.Authority.Trouble(); why != "" {
		t.Fatal(why)
	}
	return s
}

func invite(t *testing.T, s *service.Service, device, serial string) string {
	t.Helper()
	in, err := s.Authority.Invite(ctx, "admin", device, serial, "", 0)
	if err != nil {
		t.Fatal(err)
	}
	return in.Code
}

func csr(t *testing.T, key crypto.Signer, name string) []byte {
	t.Helper()
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: name}}, key)
	if err != nil {
		t.Fatal(err)
	}
	return der
}

func made(t *testing.T) crypto.Signer {
	t.Helper()
	key, err := core.P256.Make(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// enrolled gives d1 a certificate by a code.
func enrolled(t *testing.T, s *service.Service) *x509.Certificate {
	t.Helper()
	g, err := s.Authority.Enrol(ctx, issuer.Asking{Name: "d1", Code: invite(t, s, "d1", ""), Request: csr(t, made(t),
		"d1")})
	if err != nil {
		t.Fatal(err)
	}
	return g.Certificate
}

// from asks for payroll over a connection that proved a certificate.
func from(t *testing.T, s *service.Service, c *x509.Certificate) (string, bool) {
	t.Helper()
	e := &access.Evaluation{Subject: access.Entity{Type: "user", ID: "maren"}, Action: access.Action{Name: "open"},
		Resource: access.Entity{Type: "r", ID: "payroll"}, Context: &access.Context{Device: s.Decisions.Certified(c)}}
	id, refused, err := s.Decisions.Permit("edge", e)
	if err != nil {
		t.Fatal(err)
	}
	return id, refused == nil
}

func entries(t *testing.T, s *service.Service, kind ledger.Kind) []api.Entry {
	t.Helper()
	lines, err := s.Audit.LedgerLines(ctx, audit.Query{Kind: string(kind), Limit: 500})
	if err != nil {
		t.Fatal(err)
	}
	return lines
}

// refusedAs fails unless an error is of a kind and says a text.
func refusedAs[T error](t *testing.T, what string, err error, says string) {
	t.Helper()
	var as T
	if !errors.As(err, &as) || !strings.Contains(err.Error(), says) {
		t.Errorf("%s: %T %v, want %T that says %q", what, err, err, as, says)
	}
}

// A certificate identifies its device from the moment it is issued until it is revoked, over restarts too; then
// sessions that rest on it end.
func TestACertificateCountsUntilItIsRevoked(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := issuing(t, dir)
		c := enrolled(t, s)
		first, ok := from(t, s, c)
		if !ok {
			t.Fatal("a certificate that was just issued is refused")
		}
		shut(t, s)
		time.Sleep(2 * 24 * time.Hour) // nobody says anything of the device, whose evidence is stale
		s = issuing(t, dir)
		defer func() { shut(t, s) }()
		report(t, s, "d1", `"storage.encrypted":true`)
		if _, ok := from(t, s, c); !ok {
			t.Error("after days in which nobody showed the certificate it is refused")
		}
		id, _ := from(t, s, c)
		out, err := s.Authority.Revoke(ctx, "desk", "0"+strings.ToUpper(c.SerialNumber.Text(16)), "", "keyCompromise",
			"stolen")
		if err != nil || len(out) != 1 {
			t.Fatal(out, err)
		}
		if _, ok := from(t, s, c); ok {
			t.Error("a revoked certificate is let in")
		}
		synctest.Wait()
		if why := ended(t, s, id); why != event.ByStanding {
			t.Errorf("the session of before ended by %q", why)
		}
		if first == id {
			t.Error("the allow of days ago is the same")
		}
		if _, err := s.Authority.Revoke(ctx, "desk", c.SerialNumber.Text(16), "", "keyCompromise",
			"again"); err == nil {
			t.Error("it is revoked twice")
		}
		shut(t, s)
		s = issuing(t, dir)
		if _, ok := from(t, s, c); ok {
			t.Error("after a restart a revoked certificate is let in")
		}
		// Shown by a source as evidence it is no more trusted.
		block := strings.ReplaceAll(string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})),
			"\n", `\n`)
		report(t, s, "d1", `"certs":[{"pem":"`+block+`"}]`)
		if _, ok := from(t, s, c); ok {
			t.Error("shown by a source, a revoked certificate is let in")
		}
		// The past is computed again as it was.
		re, err := s.Decisions.ReproduceDecision(ctx, first)
		if err != nil || !re.Same {
			t.Errorf("the first decision computed again: %+v, %v", re, err)
		}
	})
}

// Nobody but the service itself says what was issued.
func TestNobodyElseSaysWhatWasIssued(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	c := enrolled(t, s)
	report(t, s, "d2", `"form":"laptop","storage.encrypted":true`)
	der := value.JSON(c.Raw)
	got := report(t, s, "d2", fmt.Sprintf(`"certs.issued":[{"der":%s}]`, der))
	if len(got.Refused) != 1 || !strings.Contains(got.Refused[0].Message, "only the service itself") {
		t.Errorf("a report of what was issued: %+v", got)
	}
	// Another device that shows it is not let in by it, nor keeps its own device out.
	report(t, s, "d2", fmt.Sprintf(`"certs":[{"der":%s}]`, der))
	if snap := s.Snapshot(); snap.Fleet.Get("d2").Distrusts(c, s.Micros()) == "" {
		t.Error("the certificate of d1 identifies d2")
	}
	if _, ok := from(t, s, c); !ok {
		t.Error("a device that shows the certificate of another keeps that one out")
	}
	// The source is nobody's.
	in, err := s.Intake.Ingest(ctx, "agent", "",
		strings.NewReader(`{"source":"authority","identity":{"id":"d3"},"evidence":{"form":"laptop"}}`), "json")
	if err != nil || in.Rejected != 1 {
		t.Errorf("a report as the authority: %+v, %v", in, err)
	}
	// A certificate that the key of the authority signed and that is on no record: as of a copied key, or of records
	// that were brought back from before.
	forged := forge(t, s)
	if _, ok := from(t, s, forged); ok {
		t.Error("a certificate that was never issued is let in")
	}
	report(t, s, "d1", fmt.Sprintf(`"certs":[{"der":%s}]`, value.JSON(forged.Raw)))
	if _, ok := from(t, s, forged); ok {
		t.Error("a certificate that was never issued, and that a source shows, is let in")
	}
	if _, err := s.Authority.Enrol(ctx, issuer.Asking{By: forged, Request: csr(t, made(t), "d1")}); err == nil {
		t.Error("a certificate that was never issued is renewed")
	}
}

// forge makes a certificate for d1 with the key of the authority, beside it.
func forge(t *testing.T, s *service.Service) *x509.Certificate {
	t.Helper()
	key := made(t)
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	serial, _ := core.Serial(rand.Reader)
	root, err := core.Root(key.Public(), "gullholm.example", "Brought", serial, s.Now(), 365*value.Day)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificate(rand.Reader, root, root, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	ca, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Authority.Import(ctx, "admin", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY",
		Bytes: keyDER})),
		issuer.PEM([]*x509.Certificate{ca}), "from elsewhere"); err != nil {
		t.Fatal(err)
	}
	own := made(t)
	device, err := core.Device(own.Public(), "gullholm.example", certificate.Device{ID: "d1"}, serial, s.Now(),
		value.Day, ca, core.Places{})
	if err != nil {
		t.Fatal(err)
	}
	if der, err = x509.CreateCertificate(rand.Reader, device, ca, own.Public(), key); err != nil {
		t.Fatal(err)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestWhoIsGivenACertificate(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := issuing(t, t.TempDir())
		defer shut(t, s)
		key := made(t)
		code := invite(t, s, "d1", "")
		try := func(a issuer.Asking) error {
			_, err := s.Authority.Enrol(ctx, a)
			return err
		}
		own := csr(t, key, "d1")
		refusedAs[*issuer.UnknownError](t, "nobody", try(issuer.Asking{Request: own}), "say the device")
		refusedAs[*issuer.UnknownError](t, "no code was made", try(issuer.Asking{Name: "d9", Code: code,
			Request: own}),
			"no such code")
		refusedAs[*issuer.RefusedError](t, "another's name", try(issuer.Asking{Name: "d1", Code: code, Request: csr(t,
			key, "d2")}), `names "d2"`)
		refusedAs[*issuer.RefusedError](t, "no such profile", try(issuer.Asking{Name: "d1", Code: code,
			Label:   "captain",
			Request: own}), "no profile captain")
		refusedAs[*issuer.RefusedError](t, "no request", try(issuer.Asking{Name: "d1", Code: code,
			Request: []byte("x")}),
			"not a certificate request")
		// A barred device gets none, and is told why.
		report(t, s, "d1", `"storage.encrypted":false`)
		refusedAs[*issuer.RefusedError](t, "a barred device", try(issuer.Asking{Name: "d1", Code: code,
			Request: own}),
			"stands at barred")
		report(t, s, "d1", `"storage.encrypted":true`)
		if n := len(entries(t, s, ledger.CertificateRefused)); n != 4 {
			t.Errorf("%d refusals are on record", n)
		}
		for range 20 {
			_ = try(issuer.Asking{Name: "d1", Code: code, Request: csr(t, key, "d2")})
		}
		if n := len(entries(t, s, ledger.CertificateRefused)); n != 4 {
			t.Errorf("the same again fills the ledger: %d", n)
		}
		// As people type it.
		if err := try(issuer.Asking{Name: "d1", Code: strings.ToLower(strings.ReplaceAll(code, "-", " ")),
			Request: own}); err != nil {
			t.Error(err)
		}
		// The answer was lost: the same key gets the same certificate, another key none.
		a, err := s.Authority.Enrol(ctx, issuer.Asking{Name: "d1", Code: code, Request: own})
		if err != nil {
			t.Fatal(err)
		}
		refusedAs[*issuer.UnknownError](t, "a used code", try(issuer.Asking{Name: "d1", Code: code, Request: csr(t,
			made(t), "d1")}), "used already")
		if n := len(entries(t, s, ledger.CertificateIssued)); n != 1 || s.Snapshot().Issued.Len() != 1 {
			t.Errorf("%d certificates were issued", n)
		}
		// The key of another device.
		report(t, s, "d2", `"form":"laptop","storage.encrypted":true`)
		refusedAs[*issuer.RefusedError](t, "a borrowed key", try(issuer.Asking{Name: "d2", Code: invite(t, s,
			"d2", ""),
			Request: csr(t, key, "d2")}), "another device")
		// No more than it may hold; the one that is renewed does not count.
		if err := try(issuer.Asking{Name: "d1", Code: invite(t, s, "d1", ""), Request: csr(t, made(t),
			"d1")}); err != nil {
			t.Error(err)
		}
		refusedAs[*issuer.RefusedError](t, "too many", try(issuer.Asking{Name: "d1", Code: invite(t, s, "d1", ""),
			Request: csr(t, made(t), "d1")}), "may hold 2")
		if err := try(issuer.Asking{By: a.Certificate, Request: csr(t, made(t), "d1")}); err != nil {
			t.Error(err)
		}
		refusedAs[*issuer.RefusedError](t, "too many by renewal", try(issuer.Asking{By: a.Certificate, Request: csr(t,
			made(t), "d1")}), "may hold 2")
		// A code ends, and is void after some wrong ones; whoever has the right one is not told which.
		code = invite(t, s, "d2", "")
		time.Sleep(time.Hour + time.Second)
		refusedAs[*issuer.UnknownError](t, "a code of an hour ago", try(issuer.Asking{Name: "d2", Code: code,
			Request: csr(t, made(t), "d2")}), "counts no more")
		code = invite(t, s, "d2", "")
		for range 5 {
			refusedAs[*issuer.UnknownError](t, "a wrong code", try(issuer.Asking{Name: "d2",
				Code:    "00000-00000-00000-00000",
				Request: own}), "no such code")
		}
		refusedAs[*issuer.UnknownError](t, "after five wrong ones", try(issuer.Asking{Name: "d2", Code: code,
			Request: csr(t, made(t), "d2")}), "counts no more")
		lines := entries(t, s, ledger.DeviceInvited)
		if e, err := event.Read(&ledger.Entry{Kind: lines[0].Kind, Body: lines[0].Body,
			About: lines[0].About}); err != nil || !strings.Contains(e.Gist(), "void") {
			t.Errorf("that is recorded as %+v", e)
		}
		// An ended certificate, and one of a device that is retired.
		time.Sleep(8 * 24 * time.Hour)
		refusedAs[*issuer.UnknownError](t, "an ended certificate", try(issuer.Asking{By: a.Certificate,
			Request: csr(t,
				made(t), "d1")}), "expired")
	})
}

// A device of which nothing was heard comes with its code; one that waits for a person is told to wait.
func TestANewcomer(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	if _, err := s.Authority.Invite(ctx, "admin", "n1", "", "", 0); err == nil || !strings.Contains(err.Error(),
		"give its serial") {
		t.Errorf("a code for nothing: %v", err)
	}
	if _, err := s.Authority.Invite(ctx, "admin", "n1", "gf-1", "", 0); err == nil || !strings.Contains(err.Error(),
		"that of d1") {
		t.Errorf("a code with the serial of another: %v", err)
	}
	code := invite(t, s, "n1", "GF-77")
	if s.Snapshot().Fleet.Get("n1") != nil {
		t.Error("it is known before it came")
	}
	_, err := s.Authority.Enrol(ctx, issuer.Asking{Name: "n1", Code: code, Label: "crew", Request: csr(t, made(t),
		"n1")})
	refusedAs[*issuer.RefusedError](t, "a profile of which it is not known whether it applies", err, "is not known")
	if s.Snapshot().Fleet.Get("n1") != nil {
		t.Error("it is known though it was given nothing")
	}
	g, err := s.Authority.Enrol(ctx, issuer.Asking{Name: "n1", Code: code, Label: "any", Request: csr(t, made(t),
		"n1")})
	if err != nil {
		t.Fatal(err)
	}
	if id, ok := s.Snapshot().Fleet.Find(evidence.Key{Kind: evidence.BySerial, Text: "gf-77"}); !ok || id != "n1" ||
		!strings.EqualFold(g.Certificate.Subject.SerialNumber, "GF-77") {
		t.Errorf("it is known as %q, and certified as %v", id, g.Certificate.Subject)
	}
	if _, ok := from(t, s, g.Certificate); !ok {
		t.Error("it is not let in")
	}
	// Retiring takes all back.
	if _, err := s.Admin.Retire(ctx, "admin", []string{"n1"}, "lost"); err != nil {
		t.Fatal(err)
	}
	if x := s.Snapshot().Issued.Get(g.Certificate.SerialNumber.Text(16)); x.RevokedAt == 0 || x.Why != "lost" {
		t.Errorf("of a retired device: %+v", x)
	}
	_, err = s.Authority.Enrol(ctx, issuer.Asking{By: g.Certificate, Request: csr(t, made(t), "n1")})
	refusedAs[*issuer.UnknownError](t, "a retired device", err, "revoked")
	if _, err := s.Authority.Invite(ctx, "admin", "n1", "", "", 0); err == nil || !strings.Contains(err.Error(),
		"retired") {
		t.Errorf("a code for a retired device: %v", err)
	}
}

// Many who use one code at once get one certificate between them.
func TestOneCodeOfManyAtOnce(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	code := invite(t, s, "d1", "")
	var wg sync.WaitGroup
	got := make([]error, 16)
	for i := range got {
		request := csr(t, made(t), "d1")
		wg.Go(func() { _, got[i] = s.Authority.Enrol(ctx, issuer.Asking{Name: "d1", Code: code, Request: request}) })
	}
	wg.Wait()
	given := 0
	for _, err := range got {
		if err == nil {
			given++
		}
	}
	if given != 1 || s.Snapshot().Issued.Len() != 1 ||
		len(evidenceValue(s.Snapshot().Fleet.Get("d1").Record, "certs.issued").Value.Members()) != 1 {
		t.Errorf("%d were given a certificate, %d are on record: %v", given, s.Snapshot().Issued.Len(), got)
	}
}

// Of two authorities both count, of three none: what the first issued must have ended.
func TestAuthoritiesFollowOneAnother(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := issuing(t, dir)
		defer func() { shut(t, s) }()
		old := enrolled(t, s)
		if _, err := s.Authority.Rotate(ctx, "admin", "yearly"); err != nil {
			t.Fatal(err)
		}
		if n := len(s.Authority.Trusted()); n != 2 {
			t.Errorf("%d authorities count", n)
		}
		if _, ok := from(t, s, old); !ok {
			t.Error("what the authority before issued counts no more")
		}
		next, err := s.Authority.Enrol(ctx, issuer.Asking{By: old, Request: csr(t, made(t), "d1")})
		if err != nil || next.Certificate.CheckSignatureFrom(next.Chain[0]) != nil ||
			old.CheckSignatureFrom(next.Chain[0]) == nil {
			t.Fatal("it is not renewed by the new authority", err)
		}
		if _, ok := from(t, s, next.Certificate); !ok {
			t.Error("what the new authority issued is refused")
		}
		if _, err := s.Authority.Rotate(ctx, "admin", "again"); err == nil || !strings.Contains(err.Error(),
			"still has 1 certificates") {
			t.Errorf("a third: %v", err)
		}
		keys, _ := filepath.Glob(filepath.Join(dir, "authority", "*.key"))
		if len(keys) != 2 {
			t.Errorf("keys are %v", keys)
		}
		time.Sleep(7*24*time.Hour - time.Minute)
		if next, err = s.Authority.Enrol(ctx, issuer.Asking{By: next.Certificate, Request: csr(t, made(t),
			"d1")}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Hour)
		if _, err := s.Authority.Rotate(ctx, "admin", "yearly"); err != nil {
			t.Error(err)
		}
		shut(t, s)
		s = issuing(t, dir)
		report(t, s, "d1", `"storage.encrypted":true`)
		if _, ok := from(t, s, next.Certificate); !ok {
			t.Error("after a restart what the authority before issued is refused")
		}
		// Without the section nothing of it counts, and with it again all does.
		force := func(text string) {
			if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: []rulebook.File{{Name: "r.yaml",
				Text: text}},
				AcceptImpact: "a trial"}); err != nil {
				t.Fatal(err)
			}
		}
		force(grants[:strings.Index(grants, "authority:")] + grants[strings.Index(grants, "resources:"):])
		if _, ok := from(t, s, next.Certificate); ok {
			t.Error("without an authority its certificates are let in")
		}
		if _, err := s.Authority.Enrol(ctx, issuer.Asking{By: next.Certificate, Request: csr(t, made(t),
			"d1")}); err == nil {
			t.Error("without an authority something is issued")
		}
		force(grants)
		if _, ok := from(t, s, next.Certificate); !ok {
			t.Error("with the authority again its certificates are refused")
		}
	})
}

// A key that is lost, another's or open to all: nothing is issued, the reason is said, and what was issued counts.
func TestTheKeyOfTheAuthority(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := issuing(t, dir)
	c := enrolled(t, s)
	shut(t, s)
	keys, err := filepath.Glob(filepath.Join(dir, "authority", "*.key"))
	if err != nil || len(keys) != 1 {
		t.Fatal(keys, err)
	}
	whole, err := os.ReadFile(keys[0])
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(whole), "PRIVATE") || len(whole) > 400 {
		t.Error("the key lies open")
	}
	other := issuing(t, t.TempDir())
	defer shut(t, other)
	for name, c2 := range map[string]struct {
		spoil func() error
		want  string
	}{
		"lost":        {func() error { return os.Remove(keys[0]) }, "no such file"},
		"open to all": {func() error { return os.Chmod(keys[0], 0o644) }, "others may read"},
		"altered": {func() error { return os.WriteFile(keys[0], append([]byte{1}, whole[1:]...), 0o600) },
			"another key, or altered"},
		"of no use": {func() error { return os.WriteFile(keys[0], nil, 0o600) }, "another key, or altered"},
	} {
		if err := c2.spoil(); err != nil {
			t.Fatal(err)
		}
		s := open(t, dir)
		s.Authority.Start("")
		if why := s.Authority.Trouble(); !strings.Contains(why, c2.want) {
			t.Errorf("%s: the trouble is %q", name, why)
		}
		if _, err := s.Authority.Enrol(ctx, issuer.Asking{Name: "d1", Code: invite(t, s, "d1", ""), Request: csr(t,
			made(t), "d1")}); err == nil {
			t.Errorf("%s: something is issued", name)
		}
		if n := len(s.Authority.Show()); n != 1 {
			t.Errorf("%s: there are %d authorities: another was made in silence", name, n)
		}
		if _, ok := from(t, s, c); !ok {
			t.Errorf("%s: what was issued counts no more", name)
		}
		shut(t, s)
		if err := errors.Join(os.RemoveAll(keys[0]), os.WriteFile(keys[0], whole, 0o600), os.Chmod(keys[0],
			0o600)); err != nil {
			t.Fatal(err)
		}
	}
}

// An authority under another: the request that it makes, the certificate that comes, and certificates that do not
// fit.
func TestAnAuthorityUnderAnother(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	first := enrolled(t, s)
	rootKey := made(t)
	serial, _ := core.Serial(rand.Reader)
	template, err := core.Root(rootKey.Public(), "gullholm.example", "Root", serial, s.Now(), 365*value.Day)
	if err != nil {
		t.Fatal(err)
	}
	template.MaxPathLenZero, template.MaxPathLen = false, 1
	der, err := x509.CreateCertificate(rand.Reader, template, template, rootKey.Public(), rootKey)
	if err != nil {
		t.Fatal(err)
	}
	root, _ := x509.ParseCertificate(der)
	asked, err := s.Authority.Ask(ctx, "admin", "under our root")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Authority.Ask(ctx, "admin", "twice"); err == nil || !strings.Contains(err.Error(),
		"waits for its certificate") {
		t.Errorf("a second request: %v", err)
	}
	r, err := x509.ParseCertificateRequest(asked.Request)
	if err != nil || r.CheckSignature() != nil {
		t.Fatal(err)
	}
	issue := func(change func(*x509.Certificate), public any) string {
		c, _ := core.Root(r.PublicKey, "gullholm.example", "Under", serial, s.Now(), 90*value.Day)
		c.Subject = r.Subject
		change(c)
		der, err := x509.CreateCertificate(rand.Reader, c, root, public, rootKey)
		if err != nil {
			t.Fatal(err)
		}
		cert, _ := x509.ParseCertificate(der)
		return issuer.PEM([]*x509.Certificate{cert, root})
	}
	for want, text := range map[string]string{
		"for another key": issue(func(*x509.Certificate) {}, made(t).Public()),
		"not that of an authority": issue(func(c *x509.Certificate) { c.IsCA, c.MaxPathLenZero = false, false },
			r.PublicKey),
		"not for signing certificates": issue(func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageDigitalSignature },
			r.PublicKey),
		"no PEM block":                "nonsense",
		"did not sign the one before": "",
	} {
		if want == "did not sign the one before" {
			text = issuer.PEM(append([]*x509.Certificate{parsed(t, issue(func(*x509.Certificate) {}, r.PublicKey))},
				s.Authority.Trusted()...))
		}
		if _, err := s.Authority.Install(ctx, "admin", text, "wrong"); err == nil || !strings.Contains(err.Error(),
			want) {
			t.Errorf("%s: %v", want, err)
		}
	}
	if a := s.Authority.Show(); a[0].State != kept.AuthoritySigns || a[0].Root != true {
		t.Errorf("meanwhile signs %+v", a[0])
	}
	if _, err := s.Authority.Install(ctx, "admin", issue(func(*x509.Certificate) {}, r.PublicKey),
		"came"); err != nil {
		t.Fatal(err)
	}
	g, err := s.Authority.Enrol(ctx, issuer.Asking{By: first, Request: csr(t, made(t), "d1")})
	if err != nil || len(g.Chain) != 2 {
		t.Fatal(err)
	}
	if _, ok := from(t, s, g.Certificate); !ok {
		t.Error("under a root it is refused")
	}
	if _, ok := from(t, s, first); !ok {
		t.Error("what the authority before issued is refused")
	}
	// A former one that is dropped takes what it issued along.
	if err := s.Authority.Drop(ctx, "admin", a1(t, s, kept.AuthorityFormer), "copied"); err != nil {
		t.Fatal(err)
	}
	if _, ok := from(t, s, first); ok {
		t.Error("of an authority that was dropped something counts")
	}
	if err := s.Authority.Drop(ctx, "admin", a1(t, s, kept.AuthoritySigns), "x"); err == nil {
		t.Error("the one that signs is dropped")
	}
}

func a1(t *testing.T, s *service.Service, state string) string {
	t.Helper()
	for _, a := range s.Authority.Show() {
		if a.State == state {
			return a.ID
		}
	}
	t.Fatalf("no authority %s", state)
	return ""
}

func parsed(t *testing.T, text string) *x509.Certificate {
	t.Helper()
	block, _ := pem.Decode([]byte(text))
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// What others are told of a certificate follows what we know of it, at once.
func TestWhatOthersAreTold(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	c := enrolled(t, s)
	ca := s.Authority.Trusted()[0]
	question, err := ocsp.CreateRequest(c, ca, nil)
	if err != nil {
		t.Fatal(err)
	}
	all := func() bool { return true }
	says := func(raw []byte) int {
		r, err := ocsp.ParseResponse(raw, ca)
		if err != nil {
			t.Fatal(err)
		}
		return r.Status
	}
	listed := func() *x509.RevocationList {
		raw, err := s.Authority.CRL(a1(t, s, kept.AuthoritySigns))
		if err != nil {
			t.Fatal(err)
		}
		l, err := x509.ParseRevocationList(raw)
		if err != nil || l.CheckSignatureFrom(ca) != nil {
			t.Fatal(err)
		}
		return l
	}
	before := listed()
	if says(s.Authority.OCSP(question, all)) != ocsp.Good || len(before.RevokedCertificateEntries) != 0 {
		t.Error("a certificate that counts is not said to be good")
	}
	if _, err := s.Admin.Retire(ctx, "admin", []string{"d1"}, "lost at sea"); err != nil {
		t.Fatal(err)
	}
	after := listed()
	if says(s.Authority.OCSP(question, all)) != ocsp.Revoked || len(after.RevokedCertificateEntries) != 1 ||
		after.Number.Cmp(before.Number) <= 0 {
		t.Error("of a retired device the certificate is said to be good")
	}
	if again := listed(); again.Number.Cmp(after.Number) != 0 {
		t.Error("a list that says the same has another number")
	}
	// One that we never issued is not known; no end of such questions is signed.
	unknown := *c
	unknown.SerialNumber, _ = core.Serial(rand.Reader)
	if question, err = ocsp.CreateRequest(&unknown, ca, nil); err != nil {
		t.Fatal(err)
	}
	if says(s.Authority.OCSP(question, all)) != ocsp.Unknown {
		t.Error("a certificate that was never issued is known")
	}
	if _, err := ocsp.ParseResponse(s.Authority.OCSP(question, func() bool { return false }), ca); err == nil ||
		!strings.Contains(err.Error(), "try later") {
		t.Errorf("one question too many: %v", err)
	}
	if _, err := ocsp.ParseResponse(s.Authority.OCSP([]byte{1, 2}, all), ca); err == nil ||
		!strings.Contains(err.Error(), "malformed") {
		t.Errorf("nonsense: %v", err)
	}
	other := issuing(t, t.TempDir())
	defer shut(t, other)
	if _, err := ocsp.ParseResponse(other.Authority.OCSP(question, all), ca); err == nil ||
		!strings.Contains(err.Error(), "unauthorized") {
		t.Errorf("asked of another authority: %v", err)
	}
}

// A gate asks for a certificate of a profile, and for a young one; its answer holds no longer than that.
func TestAGateAsksForACertificate(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := issuing(t, t.TempDir())
		defer shut(t, s)
		c := enrolled(t, s)
		for need, want := range map[string]bool{
			`request.certificate.profile == "crew"`: true,
			`request.certificate.profile == "any"`:  false,
			`age(request.certificate.at) < 1h`:      true,
			`age(request.certificate.at) < 5m`:      false,
			// it begins ten minutes before
			`any c in certs (c.trusted and c.profile == "crew")`:                          true,
			`not (request.certificate.profile == "crew")`:                                 false,
			`request.certificate.profile == "crew" and age(request.certificate.at) < 40m`: true,
		} {
			text := strings.Replace(grants, "request.certificate and level >= limited", "'"+need+"'", 1)
			if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: []rulebook.File{{Name: "r.yaml",
				Text: text}},
				AcceptImpact: "a trial"}); err != nil {
				t.Fatal(need, err)
			}
			if _, ok := from(t, s, c); ok != want {
				t.Errorf("%s is answered %t", need, ok)
			}
		}
		text := strings.Replace(grants, "request.certificate and level >= limited",
			"age(request.certificate.at) < 40m",
			1)
		if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: text}},
			AcceptImpact: "a trial"}); err != nil {
			t.Fatal(err)
		}
		id, ok := from(t, s, c)
		if !ok {
			t.Fatal("a young certificate is refused")
		}
		time.Sleep(31 * time.Minute)
		if again, ok := from(t, s, c); ok || again == id {
			t.Error("an allow outlives the age that it was given for")
		}
		if e := question("maren", "d1"); true { // without a certificate nothing of it is known
			if _, refused, err := s.Decisions.Permit("edge", e); err != nil || refused == nil {
				t.Error("without a certificate a gate for a young one lets in", err)
			}
		}
	})
}

// Over its certificate a device speaks of itself and of nobody else, whatever it calls itself.
func TestADeviceReportsOfItself(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	c := enrolled(t, s)
	report(t, s, "d2", `"form":"laptop","storage.encrypted":true,"serial":"GF-2"`)
	own := func(text string) (*api.ReportResult, error) { return s.Intake.Own(ctx, c, []byte(text)) }
	for name, c := range map[string]struct{ report, want string }{
		"no name":         {`{"evidence":{"storage.encrypted":true}}`, ""},
		"its own id":      {`{"identity":{"id":"d1"},"evidence":{"storage.encrypted":true}}`, ""},
		"its own serial":  {`{"identity":{"serial":"gf-1"},"evidence":{"storage.encrypted":true}}`, ""},
		"another's id":    {`{"identity":{"id":"d2"},"evidence":{"storage.encrypted":false}}`, "reports as d2"},
		"an id of nobody": {`{"identity":{"id":"d9"},"evidence":{"storage.encrypted":false}}`, "reports as d9"},
		"another's serial": {`{"identity":{"serial":"GF-2"},"evidence":{"storage.encrypted":false}}`,
			"which is that of d2"},
		"in another's name": {`{"source":"mdm","evidence":{"storage.encrypted":false}}`, "may only report as agent"},
		"as the authority": {`{"source":"authority","evidence":{"storage.encrypted":false}}`,
			"may only report as agent"},
		"nonsense":             {`{`, "not valid JSON"},
		"what we issued":       {`{"evidence":{"certs.issued":[],"storage.encrypted":true}}`, ""},
		"a word for its trust": {`{"vouch":true,"evidence":{"storage.encrypted":true}}`, ""},
	} {
		got, err := own(c.report)
		if err != nil || !strings.Contains(got.Error, c.want) || (got.Error == "") != (c.want == "") ||
			got.Error == "" &&
				got.Device != "d1" {
			t.Errorf("%s: %+v, %v; want %q", name, got, err, c.want)
		}
	}
	snap := s.Snapshot()
	if d := snap.Fleet.Get("d1"); len(evidence.IssuedIn(d.Record)) != 1 ||
		d.View.Get(snap.Book.Rulebook.Dict.Slot("vouched"), s.Micros()).IsTrue() {
		t.Error("a device said what we issued, or that it is genuine")
	}
	if snap.Fleet.Len() != 2 || level(s, "d2") != "strong" {
		t.Error("a report of a device changed another")
	}
	if n := len(entries(t, s, ledger.EvidenceRefused)); n < 3 {
		t.Errorf("%d refusals are on record", n)
	}
	if _, err := s.Authority.Revoke(ctx, "desk", "", "d1", "keyCompromise", "stolen"); err != nil {
		t.Fatal(err)
	}
	_, err := own(`{"evidence":{"storage.encrypted":false}}`)
	refusedAs[*intake.UnprovenError](t, "a revoked certificate", err, "revoked")
	if level(s, "d1") != "strong" {
		t.Error("what a revoked certificate says counts")
	}
}

// What a device says of itself is proved, until another says it; and it is told how it stands.
func TestWhatADeviceSaysIsProved(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := issuing(t, dir)
	publish(t, s, strings.NewReplacer("check: storage.encrypted", "title: Disk, check: storage.encrypted and "+
		"proved(storage.encrypted), remedy: {sv: {title: Kryptera disken, steps: Be oss om hjälp.}}",
		"freshness: {default: 24h}",
		"freshness: {default: 24h, storage: 15m}\nattributes: {custom.dock: {type: text}}",
		"least: limited", "least: barred").Replace(grants))
	if level(s, "d1") != "barred" {
		t.Fatalf("a device of which another says that it is encrypted stands at %s", level(s, "d1"))
	}
	cert := enrolled(t, s)
	own := func(text string) *api.OwnReport {
		t.Helper()
		got, err := s.Intake.Own(ctx, cert, []byte(text))
		if err != nil || got.Error != "" {
			t.Fatalf("%+v, %v", got, err)
		}
		return s.View.Own(got.Device, cert, got.Refused, "sv")
	}
	told := own(`{"evidence":{"storage.encrypted":false},"checks":{"dock":{"failed":"took longer than 10s"}}}`)
	if len(told.Checks) != 1 || told.Checks[0].Title != "Kryptera disken" || told.Checks[0].Verdict != "fail" ||
		!told.Checks[0].Mend || told.Level != "barred" || told.ReportEvery != "5m" {
		t.Errorf("a device is told %+v", told)
	}
	if len(told.Refused) != 1 || told.Refused[0].Attribute != "check dock" ||
		told.Refused[0].Message != "the site check gave nothing: took longer than 10s" {
		t.Errorf("of a site check that failed it is told %+v", told.Refused)
	}
	renew := value.FormatTime(value.Micros(cert.NotAfter) - 2*value.Day)
	if c := told.Certificate; c.Profile != "crew" || c.RenewAt != renew {
		t.Errorf("of its certificate it is told %+v; to renew from %s", c, renew)
	}
	before := len(entries(t, s, ledger.EvidenceRefused))
	told = own(`{"evidence":{"storage.encrypted":true,"custom.dok":"n"},"checks":{"dock":{"gave":["custom.dok"]}}}`)
	if told.Level != "strong" || len(told.Refused) != 1 || !strings.HasPrefix(told.Refused[0].Message,
		"the site check dock gave it: there is no such attribute") {
		t.Errorf("a device that proves what it says is told %+v", told)
	}
	own(`{"evidence":{"storage.encrypted":true,"custom.dok":"n"},"checks":{"dock":{"gave":["custom.dok"]}}}`)
	if n := len(entries(t, s, ledger.EvidenceRefused)); n != before+1 {
		t.Errorf("the same refusal twice made %d entries", n-before)
	}
	for text, want := range map[string]string{
		`{"evidence":{},"checks":[]}`:                          "checks is a list",
		`{"evidence":{},"checks":{"../x":{}}}`:                 "is no name of a site check",
		`{"evidence":{},"checks":{"x":{"gave":"a"}}}`:          "checks.x.gave is not a list",
		`{"evidence":{},"checks":{"x":{"fails":"a"}}}`:         "checks.x.fails",
		`{"evidence":{},"checks":{"x":true}}`:                  "checks.x is",
		`{"evidence":{},"checks":{"x":{"failed":["longer"]}}}`: "checks.x.failed",
	} {
		if got, err := s.Intake.Own(ctx, cert, []byte(text)); err != nil || !strings.Contains(got.Error, want) {
			t.Errorf("%s: %+v, %v; %q was expected", text, got, err, want)
		}
	}
	page := func() (out []string) {
		for _, r := range s.View.Device("d1").Readings {
			if r.Proved {
				out = append(out, r.Attribute+" by "+r.Source)
			}
		}
		return out
	}
	if got := page(); !slices.Equal(got, []string{"storage.encrypted by agent"}) {
		t.Errorf("proved are %v", got)
	}
	shut(t, s)
	s = open(t, dir) // what was proved is, after a restart too
	if level(s, "d1") != "strong" || len(page()) != 1 {
		t.Errorf("after a restart it stands at %s, proved are %v", level(s, "d1"), page())
	}
	// A token that speaks as the agent proves nothing.
	if _, err := s.Intake.Ingest(ctx, "token", "", strings.NewReader(
		`{"source":"agent","identity":{"id":"d1"},"evidence":{"storage.encrypted":true}}`),
		evidence.NDJSON); err != nil {
		t.Fatal(err)
	}
	if level(s, "d1") != "barred" || len(page()) != 0 {
		t.Errorf("after the word of a token it stands at %s, proved are %v", level(s, "d1"), page())
	}
	shut(t, s)
}

// An agent that was stopped while it asked asks again while its first question is still being answered.
func TestARenewalIsAskedTwiceAtOnce(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	first := enrolled(t, s)
	for range 20 {
		request := csr(t, made(t), "d1")
		var wg sync.WaitGroup
		var got [6]*issuer.Granted
		for i := range got {
			wg.Go(func() {
				var err error
				if got[i], err = s.Authority.Enrol(ctx, issuer.Asking{By: first, Request: request}); err != nil {
					t.Error(err)
				}
			})
		}
		if wg.Wait(); t.Failed() {
			return
		}
		for _, g := range got[1:] {
			if !g.Certificate.Equal(got[0].Certificate) {
				t.Fatal("one key was given two certificates")
			}
		}
		first = got[0].Certificate
	}
}

// A renewal of which the answer was lost is answered with the same certificate.
func TestARenewalIsAskedTwice(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	first := enrolled(t, s)
	request := csr(t, made(t), "d1")
	var got []string
	for range 3 {
		g, err := s.Authority.Enrol(ctx, issuer.Asking{By: first, Request: request})
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, state.Fingerprint(g.Certificate))
	}
	if len(slices.Compact(got)) != 1 || len(entries(t, s, ledger.CertificateIssued)) != 2 {
		t.Errorf("three times the same request got %v", got)
	}
	if _, err := s.Authority.Enrol(ctx, issuer.Asking{By: first, Request: csr(t, made(t), "d1")}); err != nil {
		t.Errorf("another request is given another: %v", err)
	}
	if _, err := s.Authority.Revoke(ctx, "admin", "", "d1", "superseded", "a trial"); err != nil {
		t.Fatal(err)
	}
	// Who renews one after another holds one, within reason.
	last, n := enrolled(t, s), 0
	var err error
	for ; n < 100 && err == nil; n++ {
		var g *issuer.Granted
		if g, err = s.Authority.Enrol(ctx, issuer.Asking{By: last, Request: csr(t, made(t), "d1")}); err == nil {
			last = g.Certificate
		}
	}
	refusedAs[*issuer.RefusedError](t, "the next renewal of many", err, "and none of them has ended")
	if n < 40 {
		t.Errorf("%d renewals are too many", n)
	}
}

// A newcomer gets what fits one of which nothing is known, and what fits better once it has shown itself; a code for
// one profile gets no other.
func TestWhichProfileADeviceGets(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	profile := func(g *issuer.Granted) string {
		return s.Snapshot().Issued.Get(g.Certificate.SerialNumber.Text(16)).Profile
	}
	first, err := s.Authority.Enrol(ctx, issuer.Asking{Name: "n1", Code: invite(t, s, "n1", "GF-77"),
		Request: csr(t, made(t), "n1")})
	if err != nil || profile(first) != "any" {
		t.Fatalf("a newcomer: %v, %v", first, err)
	}
	own := func(text string) *api.OwnReport {
		t.Helper()
		got, err := s.Intake.Own(ctx, first.Certificate, []byte(text))
		if err != nil || got.Error != "" {
			t.Fatalf("%+v, %v", got, err)
		}
		return s.View.Own("n1", first.Certificate, nil, "")
	}
	later := own(`{"evidence":{"storage.encrypted":true}}`).Certificate.RenewAt
	if at, err := time.Parse(time.RFC3339, later); err != nil || at.Before(s.Now().Add(time.Hour)) {
		t.Errorf("with nothing better it renews at %s", later)
	}
	now := own(`{"evidence":{"form":"laptop"}}`)
	if at, err := time.Parse(time.RFC3339, now.Certificate.RenewAt); err != nil || at.After(s.Now()) {
		t.Errorf("with something better it renews at %s", now.Certificate.RenewAt)
	}
	next, err := s.Authority.Enrol(ctx, issuer.Asking{By: first.Certificate, Request: csr(t, made(t), "n1")})
	if err != nil || profile(next) != "crew" {
		t.Fatalf("renewed: %v", err)
	}
	in, err := s.Authority.Invite(ctx, "admin", "d1", "", "any", 0)
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Authority.Enrol(ctx, issuer.Asking{Name: "d1", Code: in.Code, Label: "crew", Request: csr(t,
		made(t), "d1")})
	refusedAs[*issuer.RefusedError](t, "a code for another profile", err,
		"the code is for a certificate of the profile any")
	g, err := s.Authority.Enrol(ctx, issuer.Asking{Name: "d1", Code: in.Code, Request: csr(t, made(t), "d1")})
	if err != nil || profile(g) != "any" {
		t.Fatalf("a code for one profile: %v", err)
	}
	if g, err = s.Authority.Enrol(ctx, issuer.Asking{By: g.Certificate, Request: csr(t, made(t),
		"d1")}); err != nil || profile(g) != "any" {
		t.Errorf("what was asked for by name is renewed as %s, %v", profile(g), err)
	}
}

// One code is for so many of the roster, each by its serial and once; nobody else comes by it.
func TestACodeForTheRoster(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	if _, err := s.Admin.ImportRoster(ctx, "admin", []directory.Hardware{{Serial: "GF-R1"}, {Serial: "GF-R2"},
		{Serial: "GF-R3"}, {Serial: "d1"}, {Serial: "GF-1"}}, admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
	in, err := s.Authority.InviteRoster(ctx, "admin", "any", 3, 0)
	if err != nil {
		t.Fatal(err)
	}
	enrol := func(serial, code string, request []byte) (*issuer.Granted, error) {
		return s.Authority.Enrol(ctx, issuer.Asking{Name: serial, Code: code, Request: request})
	}
	first := csr(t, made(t), "GF-R1")
	g, err := enrol("gf-r1", in.Code, first)
	if err != nil || g.Certificate.Subject.CommonName != "GF-R1" || g.Certificate.Subject.SerialNumber != "GF-R1" {
		t.Fatalf("%v, %v", g, err)
	}
	if again, err := enrol("GF-R1", in.Code, first); err != nil || !again.Certificate.Equal(g.Certificate) {
		t.Errorf("the same again: %v", err)
	}
	_, err = enrol("GF-R1", in.Code, csr(t, made(t), "GF-R1"))
	refusedAs[*issuer.UnknownError](t, "another key", err, "used already")
	_, err = enrol("GF-R9", in.Code, csr(t, made(t), "GF-R9"))
	refusedAs[*issuer.UnknownError](t, "off the roster", err, "no such code")
	_, err = enrol("GF-R2", invite(t, s, "d1", ""), csr(t, made(t), "GF-R2"))
	refusedAs[*issuer.UnknownError](t, "another's code", err, "no such code")
	_, err = enrol("GF-R2", in.Code, csr(t, made(t), "GF-R3"))
	refusedAs[*issuer.RefusedError](t, "another's name", err, "names")
	// A serial that is the id of another device is not that device.
	_, err = enrol("d1", in.Code, csr(t, made(t), "d1"))
	if err == nil {
		t.Error("a serial was taken for the id of another device")
	}
	// One that is known already, by its serial.
	if g, err = enrol("GF-1", in.Code, csr(t, made(t), "GF-1")); err != nil ||
		g.Certificate.Subject.CommonName != "d1" {
		t.Errorf("a known one: %v, %v", g, err)
	}
	if _, err = enrol("GF-R3", in.Code, csr(t, made(t), "GF-R3")); err != nil {
		t.Errorf("the third: %v", err)
	}
	_, err = enrol("GF-R2", in.Code, csr(t, made(t), "GF-R2"))
	refusedAs[*issuer.UnknownError](t, "the fourth of three", err, "no such code")
	// Many at once are no more than there are places.
	if in, err = s.Authority.InviteRoster(ctx, "admin", "any", 1, 0); err != nil {
		t.Fatal(err)
	}
	var got atomic.Int32
	var wg sync.WaitGroup
	for i := range 8 {
		serial := fmt.Sprintf("GF-R%d", 2)
		request := csr(t, made(t), serial)
		wg.Go(func() {
			if _, err := enrol(serial, in.Code, request); err == nil {
				got.Add(1)
			}
			_ = i
		})
	}
	wg.Wait()
	if got.Load() != 1 {
		t.Errorf("%d got certificates by a code for one", got.Load())
	}
	for _, c := range []struct {
		devices int
		profile string
		want    string
	}{{0, "", "1 to 10000"}, {10_001, "", "1 to 10000"}, {1, "captain", "no profile"}} {
		if _, err := s.Authority.InviteRoster(ctx, "admin", c.profile, c.devices, 0); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v", c, err)
		}
	}
}
