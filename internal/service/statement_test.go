package service_test

import (
	"crypto/x509"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/core/event"
	"ironledger.example/core/ledger"
	"ironledger.example/core/statement"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/reliance"
	"ironledger.example/internal/service"
	stating "ironledger.example/internal/statement"
)

// states asks for a statement in the name of a device, and checks it as a relying party does.
func states(t *testing.T, s *service.Service, cert *x509.Certificate) *statement.Claims {
	t.Helper()
	m, err := s.Statement.Make(ctx, stating.Asking{Audience: "gate", By: cert})
	if err != nil {
		t.Fatal(err)
	}
	jwks, err := json.Marshal(s.Streams.Keys())
	if err != nil {
		t.Fatal(err)
	}
	c, err := reliance.Verified(m.Token, jwks)
	if err == nil {
		err = c.Check(statement.Expected{Audience: "gate", Now: s.Now(), Certificate: statement.Thumbprint(cert.Raw)})
	}
	if err != nil {
		t.Fatal(err)
	}
	for i, spoilt := range []string{m.Token + "A", "e30." + m.Token[strings.Index(m.Token, ".")+1:],
		strings.ToLower(m.Token), ""} {
		if _, err := reliance.Verified(spoilt, jwks); err == nil {
			t.Errorf("spoilt token %d counts", i)
		}
	}
	event, err := s.Streams.Sign("secevent+jwt", []byte(`{"aud":"gate"}`))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := reliance.Verified(event, jwks); err == nil || !strings.Contains(err.Error(),
		"no statement: its type is secevent+jwt") {
		t.Errorf("an event passes for a statement: %v", err)
	}
	return c
}

func revoked(t *testing.T, s *service.Service) (out []*event.StatementRevoked) {
	t.Helper()
	for _, e := range entries(t, s, ledger.StatementRevoked) {
		var x event.StatementRevoked
		if err := json.Unmarshal(e.Body, &x); err != nil {
			t.Fatal(err)
		}
		out = append(out, &x)
	}
	return out
}

// A statement says how the device stands and no more, ends before that may change, and what it says falsely is told.
func TestStatements(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		seen := func() { // by who follows the ledger, at most fifty times a second
			time.Sleep(time.Second)
			synctest.Wait()
		}
		dir := t.TempDir()
		s := issuing(t, dir)
		publish(t, s, strings.NewReplacer("freshness: {default: 24h}", "freshness: {default: 24h, storage: 10m}",
			"holds: 2}", "holds: 2, statement: 1h}").Replace(grants))
		s.Statement.Start("test")
		cert := enrolled(t, s)
		report(t, s, "d1", `"storage.encrypted":true`)
		c := states(t, s, cert)
		if c.Subject != "d1" || c.Standing.Level != "strong" ||
			c.Submods["device"].Status != statement.Affirming || c.Verifier.Build != "test" {
			t.Errorf("it says %+v", c)
		}
		if left := time.Unix(c.Expires, 0).Sub(s.Now()); left > 10*time.Minute || left < 9*time.Minute {
			t.Errorf("it ends in %s, and what it rests on goes stale in 10m", left)
		}
		if n := len(entries(t, s, ledger.StatementMade)); n != 1 {
			t.Errorf("%d are on record", n)
		}
		// A rise revokes nothing, a fall does.
		report(t, s, "d1", `"storage.encrypted":true,"name":"tern"`)
		seen()
		if got := revoked(t, s); got != nil {
			t.Errorf("revoked are %+v", got)
		}
		report(t, s, "d1", `"storage.encrypted":false`)
		seen()
		got := revoked(t, s)
		if len(got) != 1 || got[0].Statement != c.ID || got[0].Level != "barred" {
			t.Fatalf("revoked are %+v", got)
		}
		if low := states(t, s, cert); low.Standing.Level != "barred" ||
			low.Submods["device"].Status != statement.Contraindicated ||
			!slices.Equal(low.Standing.Binding, []string{"laptop/disk"}) {
			t.Errorf("of a barred device it says %+v", low)
		}
		report(t, s, "d1", `"storage.encrypted":true`)
		last := states(t, s, cert)
		// What happens while the service is away is seen when it is back.
		shut(t, s)
		time.Sleep(11 * time.Minute)
		s = issuing(t, dir)
		report(t, s, "d1", `"storage.encrypted":true`)
		long := states(t, s, cert)
		if _, err := s.Authority.Revoke(ctx, "admin", "", "d1", "keyCompromise", "stolen"); err != nil {
			t.Fatal(err)
		}
		s.Statement.Start("test")
		seen()
		ids := []string{}
		for _, x := range revoked(t, s) {
			ids = append(ids, x.Statement)
		}
		if !slices.Contains(ids, long.ID) || slices.Contains(ids, last.ID) {
			t.Errorf("revoked are %v; %s was expected, and not %s, which has ended", ids, long.ID, last.ID)
		}
		_, err := s.Statement.Make(ctx, stating.Asking{Audience: "gate", By: cert})
		refusedAs[*intake.UnprovenError](t, "a revoked certificate", err, "revoked")
		shut(t, s)
	})
}

// Somebody else asks about a device that they may ask about; of one that is not ours nothing is stated.
func TestStatementsForOthers(t *testing.T) {
	t.Parallel()
	s := issuing(t, t.TempDir())
	defer shut(t, s)
	ask := func(a stating.Asking) (*stating.Made, error) { a.Actor = "gateway"; return s.Statement.Make(ctx, a) }
	m, err := ask(stating.Asking{Audience: "gate", Device: "d1"})
	if err != nil || m.Claims.Confirm != nil {
		t.Fatalf("without a certificate: %+v, %v", m, err)
	}
	cert := enrolled(t, s)
	if m, err = ask(stating.Asking{Audience: "gate", Device: "GF-1", Nonce: "12345678"}); err != nil ||
		m.Claims.Subject != "d1" ||
		m.Claims.Nonce != "12345678" || m.Claims.Confirm == nil ||
		m.Claims.Confirm.Certificate != statement.Thumbprint(cert.Raw) {
		t.Errorf("with one: %+v, %v", m, err)
	}
	_, err = ask(stating.Asking{Audience: "", Device: "d1"})
	refusedAs[*fault.InputError](t, "for nobody", err, "for whom")
	if _, err = ask(stating.Asking{Audience: "gate", Device: "d9"}); err == nil {
		t.Error("a device that there is not is stated")
	}
	for i := range 60 {
		if _, err = ask(stating.Asking{Audience: "gate", Device: "d1"}); err != nil {
			if i < 40 {
				t.Errorf("%d: %v", i, err)
			}
			break
		}
	}
	refusedAs[*fault.InputError](t, "too many", err, "have not ended yet")
	if _, err := s.Admin.Retire(ctx, "admin", []string{"d1"}, "lost"); err != nil {
		t.Fatal(err)
	}
	_, err = ask(stating.Asking{Audience: "gate", Device: "d1"})
	refusedAs[*fault.InputError](t, "a retired device", err, "not one of ours")
}
