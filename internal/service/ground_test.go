package service_test

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/service"
)

// quay lets in devices that nobody knows, and keeps an allow for a working day.
const quay = `rulebook: quay
break_glass: [master]
freshness: {default: 24h, threat: 1h}
resources: [{id: payroll}]
baselines:
  - {id: laptop, applies: form == laptop, rules: [{id: threat, check: threat.score <= 30, unknown: barred}]}
gates:
  - {id: payroll, number: 1, who: {everyone: true}, what: {resources: [payroll]}, need: level >= unproven, valid_for: 8h}
`

// ended is why the session of a decision ended, "" while it has not.
func ended(t *testing.T, s *service.Service, decision string) string {
	t.Helper()
	lines, err := s.Audit.LedgerLines(ctx, audit.Query{Kind: string(ledger.SessionEnded), About: decision, Limit: 10})
	if err != nil || len(lines) > 1 {
		t.Fatal(lines, err)
	}
	if len(lines) == 0 {
		return ""
	}
	e, err := event.Read(&ledger.Entry{Kind: lines[0].Kind, Body: lines[0].Body, About: lines[0].About})
	if err != nil {
		t.Fatal(err)
	}
	return e.(*event.SessionEnded).Cause
}

// An allow outlives a restart, and lasts no longer for it than what it was decided
// from.
func TestAnAllowOverARestart(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		publish(t, s, quay)
		staff(t, s)
		report(t, s, "d1", good)
		first, ok := permit(t, s, "maren", "d1")
		if !ok {
			t.Error("a good device is refused")
		}
		shut(t, s)
		time.Sleep(20 * time.Minute)
		s = open(t, dir)
		defer func() { shut(t, s) }()
		if again, ok := permit(t, s, "maren", "d1"); !ok || again != first {
			t.Errorf("an allow that holds is not taken over: %s, %t", again, ok)
		}
		shut(t, s)
		time.Sleep(45 * time.Minute) // the threat score is more than an hour old
		s = open(t, dir)
		if again, ok := permit(t, s, "maren", "d1"); ok || again == first {
			t.Errorf("with evidence that is no longer fresh %s is answered %t", again, ok)
		}
		if kept := s.Decisions.Kept(); len(kept) != 0 {
			t.Errorf("%d sessions are kept", len(kept))
		}
	})
}

// An allow to a device that nobody knew ends when the device is known and may not.
func TestAnAllowToAnUnknownDeviceThatTurnsOutBad(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, quay)
	staff(t, s)
	first, ok := permit(t, s, "maren", "d9")
	if !ok {
		t.Fatal("an unknown device is refused")
	}
	report(t, s, "d8", good) // another one
	if again, ok := permit(t, s, "maren", "d9"); !ok || again != first {
		t.Errorf("another device ends the session: %s, %t", again, ok)
	}
	report(t, s, "d9", `"form":"laptop","threat.score":95`)
	if n := len(s.Decisions.Kept()); n != 0 || ended(t, s, first) == "" {
		t.Errorf("%d sessions are left of a device that turned out bad", n)
	}
	if _, ok := permit(t, s, "maren", "d9"); ok {
		t.Error("it is let in")
	}
}

// A question that names a serial is about whichever machine has it: when the serial
// moves to another that may not, an allow from before ends.
func TestAnAllowEndsWhenItsSerialMoves(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, quay)
	staff(t, s)
	take := func(line string) string {
		t.Helper()
		in, err := s.Intake.Ingest(ctx, "agent", "", strings.NewReader(line), evidence.NDJSON)
		if err != nil || len(in.Results) != 1 {
			t.Fatal(in, err)
		}
		return in.Results[0].Unmatched
	}
	take(`{"source":"mdm","external_id":"1","identity":{"id":"d1","serial":"S-1"},"evidence":{"form":"laptop","threat.score":1}}`)
	take(`{"source":"mdm","external_id":"2","identity":{"id":"d2"},"evidence":{"form":"laptop","threat.score":95}}`)
	q := question("maren", "")
	q.Context.Device = &access.DeviceRef{Serial: "S-1"}
	first, refused, err := s.Decisions.Permit("edge", q)
	if err != nil || refused != nil {
		t.Fatal(refused, err)
	}
	aside := take(`{"source":"agent","identity":{"id":"d2","serial":"S-1"},"evidence":{"name":"x"}}`)
	if aside == "" {
		t.Fatal("a report that points at two devices is not kept aside")
	}
	if _, err := s.Admin.Settle(ctx, "astrid", aside,
		api.Settlement{Device: "d2", Reason: "its board was changed"}); err != nil {
		t.Fatal(err)
	}
	if ended(t, s, first) == "" || len(s.Decisions.Kept()) != 0 {
		t.Error("the allow stays though the serial is a bad device's")
	}
	if _, refused, err := s.Decisions.Permit("edge", q); err != nil || refused == nil {
		t.Errorf("the bad device is let in by the serial (%v)", err)
	}
}

// A question that shows a certificate is about the device that has it: when a second
// machine shows the same one, it is nobody's, and an allow from before ends.
func TestAnAllowEndsWhenItsCertificateIsShared(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	a := newAuthority(t)
	files := a.files(5 * time.Hour)
	files[2].Text = strings.Replace(quay, "level >= unproven", "level >= sound", 1) +
		"issuers: [{id: house, file: ca.pem, crl: ca.crl}]\n"
	if _, _, err := s.Admin.Publish(ctx, "author", api.Draft{Files: files}); err != nil {
		t.Fatal(err)
	}
	staff(t, s)
	cert, shows := a.device("d1", -time.Hour, 100*time.Hour)
	report(t, s, "d1", good+`,"certs":`+shows)
	q := question("maren", "")
	q.Context.Device = &access.DeviceRef{CertificateSHA256: fmt.Sprintf("%x", sha256.Sum256(cert.Raw))}
	first, refused, err := s.Decisions.Permit("edge", q)
	if err != nil || refused != nil {
		t.Fatal(refused, err)
	}
	report(t, s, "d2", good)
	if again, refused, err := s.Decisions.Permit("edge", q); err != nil || refused != nil || again != first {
		t.Errorf("another device ends the session: %s, %v, %v", again, refused, err)
	}
	report(t, s, "d2", `"threat.score":95,"certs":`+shows)
	if ended(t, s, first) == "" || len(s.Decisions.Kept()) != 0 {
		t.Error("the allow stays though a bad device shows the certificate too")
	}
	if _, refused, err := s.Decisions.Permit("edge", q); err != nil || refused == nil {
		t.Errorf("who shows the shared certificate is let in (%v)", err)
	}
}

// A rulebook that no longer takes a serial for a key loses the devices that are asked
// for by it, and trying it out says so.
func TestTryingARulebookThatIgnoresAKey(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	strict := strings.Replace(quay, "level >= unproven", "level >= sound", 1)
	publish(t, s, strict)
	staff(t, s)
	if _, err := s.Intake.Ingest(ctx, "agent", "", strings.NewReader(
		`{"source":"mdm","identity":{"id":"d1","serial":"S-1"},"evidence":{"form":"laptop","threat.score":1}}`),
		evidence.NDJSON); err != nil {
		t.Fatal(err)
	}
	q := question("maren", "")
	q.Context.Device = &access.DeviceRef{Serial: "S-1"}
	if _, refused, err := s.Decisions.Permit("edge", q); err != nil || refused != nil {
		t.Fatal(refused, err)
	}
	files := []rulebook.File{{Name: "r.yaml", Text: strict + "ignore_keys: [s-1]\n"}}
	shift, err := s.Decisions.Replay(ctx, files, 7)
	if err != nil || shift.Denied != 1 {
		t.Errorf("the replay tells %+v (%v)", shift, err)
	}
	if same, err := s.Decisions.Replay(ctx, []rulebook.File{{Name: "r.yaml", Text: strict}}, 7); err != nil ||
		same.Denied != 0 {
		t.Errorf("of the same rulebook it tells %+v (%v)", same, err)
	}
}

// However an allow to a device that nobody knows and the report that makes it known
// cross, none is left when it may not.
func TestAnAllowCrossesTheReportThatMakesItsDeviceKnown(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, quay)
	staff(t, s)
	for round := range 25 {
		id := fmt.Sprint("n", round)
		var wg sync.WaitGroup
		for w := range 6 {
			wg.Go(func() {
				if _, _, err := s.Decisions.Permit(fmt.Sprint("edge", w), question("maren", id)); err != nil {
					t.Error(err)
				}
			})
		}
		report(t, s, id, `"form":"laptop","threat.score":95`)
		wg.Wait()
	}
	for deadline := time.Now().Add(10 * time.Second); len(s.Decisions.Kept()) > 0; time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d sessions are left of devices that turned out bad", len(s.Decisions.Kept()))
		}
	}
}
