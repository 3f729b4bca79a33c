package service_test

import (
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/service"
	"ironledger.example/internal/state"
)

// decide asks for a decision that counts and returns its id.
func decide(t *testing.T, s *service.Service, person, device string) string {
	t.Helper()
	a, err := s.Decisions.Decide("edge", &access.Evaluation{Subject: access.Entity{Type: "user", ID: person},
		Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "r", ID: "payroll"},
		Context: &access.Context{Device: &access.DeviceRef{ID: device}}})
	if err != nil {
		t.Fatal(err)
	}
	return a.ID
}

func verified(t *testing.T, s *service.Service) *api.Verification {
	t.Helper()
	for s.Audit.BeginVerification(false); ; time.Sleep(time.Millisecond) {
		if v := s.Audit.Ledger().Verification; v.State != "running" {
			return &v
		}
	}
}

// A week of everything that can happen to devices, people and rules; then every
// decision and many standings come out again as they were recorded.
func TestThePastIsComputedAgainAsItWas(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		defer func() { shut(t, s) }()
		r := rand.New(rand.NewPCG(7, 7))
		publish(t, s, house)
		texts := []string{house, strings.Replace(house, "os.version >= 14", "os.version >= 14.2", 1),
			strings.Replace(house, "{id: disk, check: storage.encrypted, cap: limited}",
				"{id: disc, check: storage.encrypted, cap: unproven}", 1),
			strings.Replace(house, "level >= sound", "level >= limited", 1)}
		devices := []string{"d1", "d2", "d3"}
		var ids []string
		var moments []time.Time
		waivers := []string{}
		must := func(err error) {
			t.Helper()
			if err != nil {
				t.Fatal(err)
			}
		}
		for range service.Rounds(250) {
			d := devices[r.IntN(len(devices))]
			switch r.IntN(12) {
			case 0:
				_, _, err := s.Admin.Publish(ctx, "author",
					api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: texts[r.IntN(len(texts))]}},
						AcceptImpact: "a trial"})
				if same := (*admin.UnchangedError)(nil); !errors.As(err, &same) {
					must(err)
				}
			case 1:
				_, err := s.Admin.ImportPeople(ctx, "hr",
					[]directory.Person{{ID: "maren", Name: "Maren",
						Groups: [][]string{{"finance"}, {}}[r.IntN(2)]}}, admin.ListImport{})
				must(err)
			case 2:
				if g, err := service.WaiveOne(ctx, s, "desk",
					api.ExceptionDraft{Device: d, Rule: "laptop/os", Reason: "on its way",
						For: "6h"}); err == nil {
					waivers = append(waivers, g.ID)
				}
			case 3:
				if n := len(waivers); n > 0 {
					_, _ = s.Admin.Revoke(ctx, "desk", waivers[n-1], "done") // it may have ended
					waivers = waivers[:n-1]
				}
			case 4:
				_, err := s.Admin.ImportRoster(ctx, "it", []directory.Hardware{{Serial: "S-" + d}},
					admin.ListImport{})
				must(err)
			case 5:
				if r.IntN(4) == 0 {
					_, _ = s.Admin.Retire(ctx, "it", []string{d}, "lost") // it may not be known yet
					e, err := s.Admin.Enrol(ctx, "agent", state.Claims{Platform: "windows", Serial: "S-" + d}, nil)
					if err == nil && e.State == state.Held {
						_, err = s.Admin.DecideEnrolment(ctx, "desk", e.ID, true, "found")
					}
					must(err)
				}
			case 6:
				time.Sleep(time.Duration(r.IntN(300)) * time.Minute)
			default:
				report(t, s, d, fmt.Sprintf(`"form":"laptop","serial":"S-%s","storage.encrypted":%t,"os.version":"14.%d","threat.score":%d,"owner":"maren"`, d, r.IntN(3) > 0, r.IntN(4), r.IntN(60)))
			}
			time.Sleep(time.Duration(1+r.IntN(900)) * time.Second)
			synctest.Wait()
			ids = append(ids, decide(t, s, []string{"maren", "nobody"}[r.IntN(2)], d))
			moments = append(moments, s.Now())
		}
		check := func() {
			t.Helper()
			for _, id := range ids {
				if got, err := s.Decisions.ReproduceDecision(ctx, id); err != nil || !got.Same {
					t.Fatalf("decision %s: %+v (%v)", id, got, err)
				}
			}
			for _, at := range moments {
				for _, d := range devices {
					got, err := s.View.DeviceAt(ctx, d, at.UnixMicro())
					var early *fault.InputError
					if errors.As(err, &early) && strings.Contains(early.Message, "first seen") {
						continue
					}
					if err != nil || !got.Reproduction.Same {
						t.Fatalf("%s at %s: %+v (%v)", d, at, got, err)
					}
				}
			}
		}
		check()
		if v := verified(t, s); v.State != "sound" || v.Devices != len(devices) {
			t.Errorf("the ledger is %+v", v)
		}
		shut(t, s)
		s = open(t, dir)
		check()
		shut(t, s)

		db, err := sql.Open("sqlite", engine.DatabasePath(dir))
		must(err)
		if _, err := db.Exec(`UPDATE device_past SET undo = replace(undo, '"storage.encrypted":true', '"storage.encrypted":false')`); err != nil {
			t.Fatal(err)
		}
		must(db.Close())
		s = open(t, dir)
		different := 0
		for _, id := range ids {
			if got, err := s.Decisions.ReproduceDecision(ctx, id); err != nil || !got.Same {
				different++
			}
		}
		if different == 0 {
			t.Error("the kept past was changed, and every decision comes out the same")
		}
	})
}

func TestThePastIsForgottenWhenItsTimeIsOver(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s, err := service.Open(ctx, service.Options{Dir: t.TempDir(), AdminToken: "il_a_token_for_tests_only",
			KeepPast: 48 * time.Hour, Log: slog.New(slog.DiscardHandler)})
		if err != nil {
			t.Fatal(err)
		}
		defer shut(t, s)
		publish(t, s, house)
		var ids []string
		var moments []int64
		for i := range 5 {
			report(t, s, "d1", strings.Replace(good, "14.1", fmt.Sprint("14.", i), 1))
			time.Sleep(time.Hour)
			ids, moments = append(ids, decide(t, s, "maren", "d1")), append(moments, s.Now().UnixMicro())
			time.Sleep(23 * time.Hour)
		}
		time.Sleep(time.Hour)
		synctest.Wait()
		kept := 0
		for i, id := range ids {
			_, err := s.Decisions.ReproduceDecision(ctx, id)
			_, then := s.View.DeviceAt(ctx, "d1", moments[i])
			if (err == nil) != (then == nil) {
				t.Errorf("day %d: the decision says %v, the device %v", i, err, then)
			}
			if err == nil {
				kept++
			} else if !strings.Contains(err.Error(), "no longer kept") {
				t.Errorf("day %d: %v", i, err)
			}
		}
		if kept < 2 || kept > 3 {
			t.Errorf("of five days, with two kept, %d can be computed again", kept)
		}
	})
}

// One that has more to tell than an entry holds does not stop those who share
// its commit.
func TestLargeReportsAreRecordedInPart(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	var many strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&many, `"no.such.attribute.%d":"%s",`, i, strings.Repeat("x", 50))
	}
	lines := fmt.Sprintf(`{"identity":{"id":"d1"},"evidence":{%s%s}}`, &many, good) + "\n" +
		`{"identity":{"id":"d2"},"evidence":{` + good + "}}\n"
	in, err := s.Intake.Ingest(ctx, "agent", "", strings.NewReader(lines), evidence.NDJSON)
	if err != nil || in.Accepted != 2 || in.Refused != 3000 {
		t.Fatalf("%d taken, %d refused (%v)", in.Accepted, in.Refused, err)
	}
	told, err := s.Audit.LedgerLines(ctx, audit.Query{Kind: string(ledger.EvidenceRefused), Limit: 5})
	if err != nil || len(told) != 1 || !strings.Contains(string(told[0].Body), `"attributes":3000`) {
		t.Errorf("it is recorded as %v (%v)", told, err)
	}
	if _, err := s.Decisions.Decide("edge", &access.Evaluation{Subject: access.Entity{Type: "user",
		ID: strings.Repeat("x", 70_000)}, Action: access.Action{Name: "open"},
		Resource: access.Entity{Type: "r", ID: "payroll"}}); !errors.Is(err, ledger.ErrTooLarge) {
		t.Errorf("a question larger than an entry: %v", err)
	}
	if v := verified(t, s); v.State != "sound" {
		t.Errorf("the ledger is %+v", v)
	}
}

func TestRedactionTakesTheBodyAndLeavesTheProof(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	report(t, s, "d1", good)
	id := decide(t, s, "maren", "d1")
	d, err := s.Decisions.Decision(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Audit.Redact(ctx, "dpo", d.Seq, " "); err == nil {
		t.Error("it takes no reason")
	}
	told, err := s.Audit.Redact(ctx, "dpo", d.Seq, "erasure")
	if err != nil || told.Kind != ledger.Redacted || told.Actor != "dpo" {
		t.Fatal(told, err)
	}
	for what, seq := range map[string]int64{"again": d.Seq, "itself": told.Seq, "none": 999} {
		if _, err := s.Audit.Redact(ctx, "dpo", seq, "erasure"); err == nil {
			t.Errorf("%s is redacted", what)
		}
	}
	e, err := s.Audit.LedgerEntry(ctx, d.Seq)
	if err != nil || !e.Redacted || e.Canonical != "" || e.RedactedBy != told.Seq || e.Proof.Leaf != e.Leaf {
		t.Errorf("it is shown as %+v (%v)", e, err)
	}
	if got, err := s.Decisions.Decision(ctx, id); err != nil || !got.Redacted || got.Asked.Subject.ID != "" {
		t.Errorf("the decision is shown as %+v (%v)", got, err)
	}
	if _, err := s.Decisions.Decisions(ctx, decision.Query{Person: "maren", Limit: 10}); err != nil {
		t.Error(err)
	}
	if _, err := s.Decisions.ReproduceDecision(ctx, id); err == nil {
		t.Error("it is computed again from nothing")
	}
	if v := verified(t, s); v.State != "sound" || v.Redacted != 1 {
		t.Errorf("the ledger is %+v", v)
	}
}
