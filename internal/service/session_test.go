package service_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/service"
	"ironledger.example/internal/state"
)

func question(person, device string) *access.Evaluation {
	return &access.Evaluation{Subject: access.Entity{Type: "user", ID: person},
		Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "r", ID: "payroll"},
		Context: &access.Context{Device: &access.DeviceRef{ID: device}}}
}

// permit asks as a proxy does and returns the id of the decision, and whether
// it is an allow.
func permit(t *testing.T, s *service.Service, person, device string) (string, bool) {
	t.Helper()
	id, refused, err := s.Decisions.Permit("edge", question(person, device))
	if err != nil {
		t.Fatal(err)
	}
	return id, refused == nil
}

func staff(t *testing.T, s *service.Service, groups ...string) {
	t.Helper()
	if _, err := s.Admin.ImportPeople(ctx, "admin",
		[]directory.Person{{ID: "maren", Name: "Maren", Groups: groups}}, admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
}

// While an allow holds, asking again makes no new decision; when what it stood
// on changes, it ends with that change.
func TestAnAllowHoldsWhileItsGroundDoes(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := open(t, t.TempDir())
		defer shut(t, s)
		publish(t, s, house)
		staff(t, s, "finance")
		report(t, s, "d1", good)
		live := func() int { return len(s.Decisions.Sessions("", "", "")) }

		first, ok := permit(t, s, "maren", "d1")
		if !ok || live() != 1 {
			t.Fatalf("%s %t, %d sessions", first, ok, live())
		}
		time.Sleep(time.Minute)
		if again, ok := permit(t, s, "maren", "d1"); !ok || again != first {
			t.Errorf("a minute later the decision is %s, not %s", again, first)
		}
		report(t, s, "d1", `"threat.score":4`)
		if again, ok := permit(t, s, "maren", "d1"); !ok || again != first {
			t.Errorf("a report that changes nothing makes the decision %s of %s", again, first)
		}
		for name, ground := range map[string]struct{ cut, mend func() }{
			"a threat": {func() { report(t, s, "d1", `"threat.score":90`) },
				func() { report(t, s, "d1", `"threat.score":1`) }},
			"the groups": {func() { staff(t, s, "deck") }, func() { staff(t, s, "finance") }},
			"the rulebook": {func() {
				publish(t, s, strings.Replace(house, "need: level >= sound",
					"need: level >= strong and auth.mfa", 1)+"guard: {max_newly_denied: 100%}\n")
			},
				func() { publish(t, s, house) }},
			"its retirement": {func() {
				if _, err := s.Admin.Retire(ctx, "admin", []string{"d1"}, "lost"); err != nil {
					t.Fatal(err)
				}
			}, func() {
				e, err := s.Admin.Enrol(ctx, "admin", state.Claims{ID: "d1"}, nil)
				if err == nil {
					_, err = s.Admin.DecideEnrolment(ctx, "admin", e.ID, true, "found")
				}
				if err != nil {
					t.Fatal(err)
				}
			}},
		} {
			before, _ := permit(t, s, "maren", "d1")
			if live() != 1 {
				t.Fatalf("before %s there are %d sessions", name, live())
			}
			ground.cut()
			if n := live(); n != 0 {
				t.Errorf("%s leaves %d sessions", name, n)
			}
			if id, ok := permit(t, s, "maren", "d1"); ok || id == before {
				t.Errorf("after %s: %s, allowed %t", name, id, ok)
			}
			ground.mend()
			if id, ok := permit(t, s, "maren", "d1"); !ok || id == before {
				t.Errorf("when %s is over: %s, allowed %t", name, id, ok)
			}
		}
		last, _ := permit(t, s, "maren", "d1")
		time.Sleep(6 * time.Minute) // a gate's answer holds for five when it does not say
		if live() != 0 {
			t.Error("the session outlives the gate's validity")
		}
		if again, ok := permit(t, s, "maren", "d1"); !ok || again == last {
			t.Errorf("past its end the decision is %s again, allowed %t", again, ok)
		}
	})
}

// However evidence and requests cross, nobody is let in by an allow whose device
// has fallen: once a report is answered, the next request is refused.
func TestNoRequestOutrunsTheFall(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	staff(t, s, "finance")
	var wg sync.WaitGroup
	for w := range 4 {
		wg.Go(func() {
			id := fmt.Sprintf("d%d", w)
			for range 25 {
				report(t, s, id, good)
				if _, ok := permit(t, s, "maren", id); !ok {
					t.Error("a good device is refused")
				}
				report(t, s, id, `"threat.score":95`)
				if _, ok := permit(t, s, "maren", id); ok {
					t.Error("a device that fell is let in")
				}
				if n := len(s.Decisions.Sessions("", id, "")); n != 0 {
					t.Errorf("%d sessions of a device that fell", n)
				}
			}
		})
	}
	wg.Wait()
}

// An allow that is decided while its device falls is ended as any other, though
// it was not yet known when the fall was worked out.
func TestAnAllowOnTheWayIsEnded(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	staff(t, s, "finance")
	allowed := map[string]bool{}
	var mu sync.Mutex
	for round := range 20 {
		report(t, s, "d1", good)
		var wg sync.WaitGroup
		for w := range 8 {
			wg.Go(func() {
				id, refused, err := s.Decisions.Permit(fmt.Sprintf("edge %d %d", round, w), question("maren", "d1"))
				if err != nil {
					t.Error(err)
				}
				if mu.Lock(); refused == nil {
					allowed[id] = true
				}
				mu.Unlock()
			})
		}
		report(t, s, "d1", `"threat.score":95`)
		wg.Wait()
	}
	for deadline := time.Now().Add(10 * time.Second); len(allowed) > 0; time.Sleep(time.Millisecond) {
		ended, err := s.Audit.LedgerLines(ctx, audit.Query{Kind: string(ledger.SessionEnded), Limit: 500})
		if err != nil {
			t.Fatal(err)
		}
		seen := map[string]bool{}
		for _, e := range ended {
			if seen[e.About] {
				t.Fatalf("%s ends twice", e.About)
			}
			seen[e.About] = true
			delete(allowed, e.About)
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d allows of a device that fell are not ended", len(allowed))
		}
	}
	if n := len(s.Decisions.Sessions("", "", "")); n != 0 {
		t.Errorf("%d sessions are left", n)
	}
}

// What would lock people out is held back unless somebody says why.
func TestTheGuard(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	staff(t, s, "finance")
	report(t, s, "d1", good)
	draft := func(text string) error {
		_, _, err := s.Admin.Publish(ctx, "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: text}}})
		return err
	}
	strict := strings.Replace(house, "need: level >= sound", "need: level >= strong and auth.mfa", 1)
	if err := draft(strict); err != nil {
		t.Fatalf("nobody has asked for anything, and it is held back: %v", err)
	}
	publish(t, s, house)
	permit(t, s, "maren", "d1")
	kinds := func(err error) []string {
		var impact *admin.ImpactError
		if !errors.As(err, &impact) {
			t.Fatalf("it is not held back: %v", err)
		}
		var out []string
		for _, x := range impact.Impacts {
			out = append(out, x.Kind)
		}
		return out
	}
	version := s.Snapshot().Book.Info.Version
	if got := kinds(draft(strict)); !slices.Equal(got, []string{admin.DeniesMany}) {
		t.Error(got)
	}
	if got := kinds(draft(strict +
		"guard: {max_newly_denied: 100%, administrators: {groups: [finance]}}\n")); !slices.Equal(got,
		[]string{admin.DeniesAdministrators}) {
		t.Error(got)
	}
	open := strings.Replace(strings.Replace(house, "groups: [finance]", "everyone: true", 1),
		"break_glass: [master]", "break_glass: []", 1)
	if got := kinds(draft(open)); !slices.Equal(got, []string{admin.NoBreakGlass, admin.BreakGlassMeetsGate}) {
		t.Error(got)
	}
	if got := s.Snapshot().Book.Info.Version; got != version {
		t.Errorf("version %d is in force, not %d", got, version)
	}
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: strict}}, AcceptImpact: " "}); err == nil {
		t.Error("a blank is taken for a reason")
	}
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: strict}}, AcceptImpact: "agreed"}); err != nil {
		t.Errorf("with a reason it is held back: %v", err)
	}
	for _, days := range []int{0, -1, decision.MaxReplayDays + 1} {
		if _, err := s.Decisions.Replay(ctx, []rulebook.File{{Name: "r.yaml", Text: house}}, days); err == nil {
			t.Errorf("%d days are replayed", days)
		}
	}
}

// A ticket opens its own decision and no other, also after a restart.
func TestTickets(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	publish(t, s, house)
	id, ok := permit(t, s, "nobody", "nowhere")
	if ok {
		t.Fatal("nobody is let in from nowhere")
	}
	other, _ := permit(t, s, "somebody", "nowhere")
	ticket := s.Decisions.Ticket(id)
	for name, text := range map[string]string{"nothing": "", "an id": id, "an id with a dot": id + ".",
		"another's": other + ticket[len(id):], "one cut short": ticket[:len(ticket)-1],
		"one of nothing": "06h0hpk1z40031pbw4tx" + ticket[len(id):]} {
		if _, err := s.Decisions.ByTicket(ctx, text); err == nil {
			t.Errorf("%s opens a refusal", name)
		}
	}
	shut(t, s)
	s = open(t, dir)
	defer shut(t, s)
	got, err := s.Decisions.ByTicket(ctx, ticket)
	if err != nil || got.ID != id || got.Code == "" {
		t.Fatalf("after a restart: %+v %v", got, err)
	}
	if by, err := s.Decisions.Decision(ctx, " "+strings.ToLower(got.Code)+" "); err != nil || by.ID != id {
		t.Errorf("its code leads to %s, %v", by.ID, err)
	}
}
