package service_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/service"
	"ironledger.example/internal/view/find"
)

const house = `rulebook: house
freshness: {default: 24h, threat: 1h}
resources: [{id: payroll}]
break_glass: [master]
baselines:
  - id: laptop
    applies: form == laptop
    rules:
      - {id: disk, check: storage.encrypted, cap: limited}
      - {id: os, check: os.version >= 14, cap: limited, grace: 3h}
      - {id: threat, check: threat.score <= 30, unknown: sound}
gates:
  - {id: payroll, number: 1, who: {groups: [finance]}, what: {resources: [payroll]}, need: level >= sound}
`

var ctx = context.Background()

func open(t *testing.T, dir string) *service.Service {
	t.Helper()
	s, err := service.Open(ctx, service.Options{Dir: dir, AdminToken: "il_a_token_for_tests_only",
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func shut(t *testing.T, s *service.Service) {
	t.Helper()
	if err := s.Close(); err != nil {
		t.Error(err)
	}
}

func publish(t *testing.T, s *service.Service, text string) int {
	t.Helper()
	_, moved, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: text}}})
	if same := (*admin.UnchangedError)(nil); err != nil && !errors.As(err, &same) {
		t.Fatal(err)
	}
	return moved
}

// report brings one report, observed at the present moment, and returns what
// became of it.
func report(t *testing.T, s *service.Service, id, attributes string) api.ReportResult {
	t.Helper()
	in, err := s.Intake.Ingest(ctx, "agent", "",
		strings.NewReader(fmt.Sprintf(`{"source":"agent","observed_at":%q,"identity":{"id":%q},"evidence":{%s}}`,
			s.Now().UTC().Format(time.RFC3339), id, attributes)), evidence.NDJSON)
	if err != nil || len(in.Results) != 1 {
		t.Fatal(in, err)
	}
	return in.Results[0]
}

// level is where the writer has put a device, without asking what time it is.
func level(s *service.Service, id string) string {
	snap := s.Snapshot()
	return snap.Book.Rulebook.LevelName(snap.Fleet.Get(id).Result.Level)
}

const good = `"form":"laptop","storage.encrypted":true,"os.version":"14.1","threat.score":3,"owner":"maren"`

func ask(t *testing.T, s *service.Service, device string) access.Outcome {
	t.Helper()
	return s.Decisions.Ask(&access.Evaluation{Subject: access.Entity{Type: "user", ID: "maren"},
		Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "r", ID: "payroll"},
		Context: &access.Context{Device: &access.DeviceRef{ID: device}}}).Outcome
}

func TestLevelsMoveAtTheirMoment(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		publish(t, s, house)
		if got := report(t, s, "d1", good); got.Level != "strong" || !got.New {
			t.Fatalf("it stands at %+v", got)
		}
		for _, step := range []struct {
			after time.Duration
			level string
		}{
			{time.Hour, "strong"},  // exactly as old as it may be
			{time.Second, "sound"}, // the threat score is stale
			{23*time.Hour - 2*time.Second, "sound"},
			{2 * time.Second, "unproven"}, // the rest is stale too
		} {
			time.Sleep(step.after)
			synctest.Wait()
			if got := level(s, "d1"); got != step.level {
				t.Errorf("after another %s it stands at %s, want %s", step.after, got, step.level)
			}
		}
		if got := report(t, s, "d1", good); got.Level != "strong" || got.PreviousLevel != "unproven" {
			t.Errorf("a new report leaves it at %+v", got)
		}
	})
}

func TestThousandsAreDueInTheSameSecond(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		publish(t, s, house)
		var b strings.Builder
		for i := range 3000 {
			fmt.Fprintf(&b, `{"source":"agent","observed_at":%q,"identity":{"id":"d%d"},"evidence":{%s}}`+
				"\n", s.Now().UTC().Format(time.RFC3339), i, good)
		}
		in, err := s.Intake.Ingest(ctx, "agent", "", strings.NewReader(b.String()), evidence.NDJSON)
		if err != nil || in.Accepted != 3000 {
			t.Fatal(in.Accepted, err)
		}
		time.Sleep(time.Hour + time.Second)
		synctest.Wait()
		page, err := s.View.Devices(ctx, find.Query{Where: "level == sound", Limit: 1})
		if err != nil || page.Total != 3000 {
			t.Errorf("%d of 3000 have moved (%v)", page.Total, err)
		}
	})
}

func TestGraceOutlivesRestartsAndRulebooks(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		publish(t, s, house)
		if got := report(t, s, "d1", strings.Replace(good, "14.1", "13", 1)); got.Level != "strong" {
			t.Fatalf("within its grace it stands at %s", got.Level)
		}
		time.Sleep(2 * time.Hour)
		shut(t, s)
		s = open(t, dir)
		publish(t, s, house+"places: {office: {networks: [10.0.0.0/8]}}\n")
		report(t, s, "d1", `"threat.score":3`)
		if got := level(s, "d1"); got != "strong" {
			t.Errorf("after two of three hours it stands at %s", got)
		}
		time.Sleep(61 * time.Minute)
		synctest.Wait()
		if got := level(s, "d1"); got != "limited" {
			t.Errorf("after the grace it stands at %s: the restart or the rulebook gave it a new one", got)
		}
		shut(t, s)
	})
}

func TestARestartBringsStandingsUpToDate(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		publish(t, s, house)
		if _, err := s.Admin.ImportPeople(ctx, "admin",
			[]directory.Person{{ID: "maren", Groups: []string{"finance"}}}, admin.ListImport{}); err != nil {
			t.Fatal(err)
		}
		report(t, s, "d1", good)
		before := s.View.Device("d1")
		shut(t, s)
		s = open(t, dir)
		after := s.View.Device("d1")
		if after == nil || after.Level != before.Level || after.Since != before.Since ||
			len(after.Readings) != len(before.Readings) || ask(t, s, "d1") != access.Allow {
			t.Errorf("after a restart it is %+v, before %+v", after, before)
		}
		shut(t, s)
		time.Sleep(2 * time.Hour) // nobody is running
		s = open(t, dir)
		if got := s.View.Device("d1"); got.Level != "sound" || got.Since == before.Since {
			t.Errorf("what went stale in between leaves it at %s since %s", got.Level, got.Since)
		}
		shut(t, s)
	})
}

func TestAPublicationIsAllOrNothing(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	report(t, s, "d1", strings.Replace(good, "encrypted\":true", "encrypted\":false", 1))
	one, two := int64(1), int64(2)
	for name, c := range map[string]struct {
		draft api.Draft
		want  any
	}{
		"a mistake": {api.Draft{Files: []rulebook.File{{Name: "r.yaml",
			Text: strings.Replace(house, "cap: limited", "cap: lmited", 1)}}}, new(rulebook.Problems)},
		"a failing example": {api.Draft{Files: []rulebook.File{{Name: "r.yaml",
			Text: house + "examples: [{device: {form: laptop}, level: strong}]"}}}, new(*admin.ExampleError)},
		"an outdated base": {api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: house}},
			Base: &two}, new(*admin.ConflictError)},
	} {
		if _, _, err := s.Admin.Publish(ctx, "author", c.draft); err == nil || !errors.As(err, c.want) {
			t.Errorf("%s gives %v", name, err)
		}
	}
	if v, err := s.View.Version(ctx, 0); err != nil || v.Version != 1 || level(s, "d1") != "limited" {
		t.Errorf("version %v is in force (%v) and the device stands at %s", v, err, level(s, "d1"))
	}
	if _, moved, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml",
			Text: strings.Replace(house, "cap: limited}", "cap: sound}", 1)}}, Base: &one}); err != nil ||
		moved != 1 || level(s, "d1") != "sound" {
		t.Errorf("a right one moves %d (%v) to %s", moved, err, level(s, "d1"))
	}
}

func TestWhatCannotBeRecordedHasNoEffect(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	defer shut(t, s)
	publish(t, s, house)
	report(t, s, "d1", good)
	db, err := sql.Open("sqlite", filepath.Join(dir, "ironledger.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TRIGGER full BEFORE INSERT ON entries BEGIN SELECT RAISE(ABORT, 'the disk is full'); END"); err != nil {
		t.Fatal(err)
	}
	_, err = s.Intake.Ingest(ctx, "agent", "",
		strings.NewReader(`{"identity":{"id":"d1"},"evidence":{"storage.encrypted":false}}`), evidence.NDJSON)
	if err == nil || !strings.Contains(err.Error(), "the disk is full") {
		t.Errorf("evidence that moves a device is taken: %v", err)
	}
	if got := level(s, "d1"); got != "strong" {
		t.Errorf("the device stands at %s all the same", got)
	}
	e := &access.Evaluation{Subject: access.Entity{Type: "user", ID: "master"},
		Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "r", ID: "payroll"}}
	if r, err := s.Decisions.Decide("proxy", e); err == nil {
		t.Errorf("a decision leaves without a record: %+v", r)
	}
	if _, err := db.Exec("DROP TRIGGER full"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Decisions.Decide("proxy", e); err != nil {
		t.Errorf("when the disk is back, decisions are not: %v", err)
	}
	if list, err := s.Decisions.Decisions(ctx, decision.Query{Limit: 10}); err != nil || len(list) != 1 ||
		!list[0].BreakGlass || list[0].Actor != "proxy" {
		t.Errorf("recorded are %+v (%v)", list, err)
	}
}

func TestEverybodyAtOnce(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	if _, err := s.Admin.ImportPeople(ctx, "admin", []directory.Person{{ID: "maren", Groups: []string{"finance"}}},
		admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	const each = 25
	for w := range 4 {
		wg.Go(func() {
			for i := range each {
				report(t, s, fmt.Sprintf("d%d", w),
					strings.Replace(good, `score":3`, fmt.Sprintf(`score":%d`, i%2*90), 1))
			}
		})
		wg.Go(func() {
			for range each {
				if _, err := s.Decisions.Decide("proxy",
					&access.Evaluation{Subject: access.Entity{Type: "user", ID: "maren"},
						Action:   access.Action{Name: "open"},
						Resource: access.Entity{Type: "r", ID: "payroll"},
						Context: &access.Context{Device: &access.DeviceRef{ID: fmt.Sprintf("d%d",
							w)}}}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Go(func() {
		for range 5 {
			publish(t, s, house)
		}
	})
	wg.Go(func() {
		for range each {
			if _, err := s.View.Devices(ctx, find.Query{Where: "level >= sound", Sort: "-level",
				Limit: 10}); err != nil {
				t.Error(err)
			}
		}
	})
	wg.Wait()
	if n, err := s.Decisions.DecisionCount(ctx); err != nil || n != 4*each {
		t.Errorf("%d decisions are recorded (%v), want %d", n, err, 4*each)
	}
	for w := range 4 {
		if got, want := level(s, fmt.Sprintf("d%d", w)), "strong"; got != want {
			t.Errorf("d%d ends at %s, want %s as its last report says", w, got, want)
		}
	}
}

func TestListsKeepTheirPlace(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	for i := range 7 {
		report(t, s, fmt.Sprintf("d%d", i), strings.Replace(good, `true`, fmt.Sprint(i%2 == 0), 1))
	}
	for sort, want := range map[string]string{"id": "d0 d1 d2 d3 d4 d5 d6", "-id": "d6 d5 d4 d3 d2 d1 d0",
		"level": "d1 d3 d5 d0 d2 d4 d6", "-level": "d0 d2 d4 d6 d1 d3 d5"} {
		var got []string
		q := find.Query{Sort: sort, Limit: 2}
		for {
			page, err := s.View.Devices(ctx, q)
			if err != nil || page.Total != 7 || page.Levels["strong"] != 4 {
				t.Fatal(page, err)
			}
			for _, d := range page.Items {
				got = append(got, d.ID)
			}
			if q.Cursor = page.Next; q.Cursor == "" {
				break
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("by %s: %v, want %s", sort, got, want)
		}
	}
	for _, bad := range []find.Query{{Sort: "colour"}, {Cursor: "x"}, {Where: "levl == strong"},
		{Where: "("}} {
		bad.Limit = 1
		var q *fault.QueryError
		if _, err := s.View.Devices(ctx, bad); !errors.As(err, &q) {
			t.Errorf("%+v gives %v", bad, err)
		}
	}
}

func TestTokens(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	made, secret, err := s.Admin.CreateToken(ctx, "first-admin", "mdm", bearer.Source, "")
	if err != nil {
		t.Fatal(err)
	}
	if got, ok := s.Admin.Authenticate(secret); !ok || got.ID != made.ID || got.Role.May(bearer.MayRead) ||
		!got.Role.May(bearer.MayReport) {
		t.Errorf("the secret stands for %+v (%v)", got, ok)
	}
	for name, role := range map[string]bearer.Role{"mdm": bearer.Reader, "": bearer.Reader, "x": "king"} {
		if _, _, err := s.Admin.CreateToken(ctx, "a", name, role, ""); !errors.As(err, new(*fault.InputError)) {
			t.Errorf("a token %q of the role %q: %v", name, role, err)
		}
	}
	session, err := s.Admin.SignIn(&made)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Admin.RevokeToken(ctx, "first-admin", "mdm"); err != nil {
		t.Fatal(err)
	}
	if _, ok := s.Admin.Authenticate(secret); ok {
		t.Error("a revoked token still opens")
	}
	if _, ok := s.Admin.SignedIn(ctx, session); ok {
		t.Error("a session outlives its token")
	}
	if _, err := s.Admin.RevokeToken(ctx, "first-admin", "first-admin"); !errors.As(err, new(*fault.InputError)) {
		t.Errorf("the last administrator can lock everybody out: %v", err)
	}
}
