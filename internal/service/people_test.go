package service_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/decision"
)

// crowd is a directory of n people of finance, maren among them.
func crowd(n int) []directory.Person {
	people := []directory.Person{{ID: "maren", Name: "Maren", Groups: []string{"finance"}}}
	for i := range n - 1 {
		people = append(people, directory.Person{ID: fmt.Sprintf("p%02d", i), Groups: []string{"finance"}})
	}
	return people
}

func TestAWholeDirectoryRemovesWhoHasLeft(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	whole := admin.ListImport{Whole: true}
	all := crowd(40)
	take := func(people []directory.Person, how admin.ListImport, want api.ListIntake) {
		t.Helper()
		if in, err := s.Admin.ImportPeople(ctx, "hr", people, how); err != nil || in.Added != want.Added ||
			in.Changed != want.Changed || in.Unchanged != want.Unchanged || in.Removed != want.Removed {
			t.Errorf("taken in: %+v (%v), want %+v", in, err, want)
		}
	}
	take(all, whole, api.ListIntake{Added: 40})
	take(all, whole, api.ListIntake{Unchanged: 40})
	take(all[:3], admin.ListImport{}, api.ListIntake{Unchanged: 3})
	moved := slices.Clone(all[:33])
	moved[1].Groups = []string{"office"}
	take(append(moved, directory.Person{ID: "new"}, directory.Person{ID: "new", Name: "The last one counts"}),
		whole, api.ListIntake{Added: 1, Changed: 1, Unchanged: 32, Removed: 7})
	if p := s.View.Person("new"); p.Name != "The last one counts" || p.BreakGlass || !p.Known {
		t.Errorf("the new one is %+v", p)
	}
	if p := s.View.Person("p38"); p.Known || len(p.Groups) > 0 {
		t.Errorf("who has left is still there: %+v", p)
	}

	// A cut file is not taken for a company that was dissolved.
	var held *admin.ImpactError
	if _, err := s.Admin.ImportPeople(ctx, "hr", all[:20], whole); !errors.As(err, &held) ||
		held.Impacts[0].Kind != admin.PeopleRemoved || len(held.Impacts[0].Who) != 14 {
		t.Errorf("a cut directory: %v", err)
	}
	if n := len(s.Snapshot().People.List()); n != 34 {
		t.Errorf("after it was refused there are %d people", n)
	}
	take(all[:20], admin.ListImport{Whole: true, AcceptImpact: "the quay was sold"},
		api.ListIntake{Unchanged: 19, Changed: 1, Removed: 14})
}

// Who leaves loses what their groups gave at once, and a decision from before is
// still made again as it was.
func TestWhoIsRemovedHasNoGroups(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := open(t, dir)
	publish(t, s, house)
	if _, err := s.Admin.ImportPeople(ctx, "hr", crowd(3), admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
	report(t, s, "d1", `"form":"laptop","owner":"maren","storage.encrypted":true,"os.version":"15","threat.score":3`)
	asked, err := access.ParseEvaluation([]byte(`{"subject":{"type":"user","id":"maren"},"action":{"name":"open"},"resource":{"type":"app","id":"payroll"},"context":{"device":{"id":"d1"}}}`))
	if err != nil {
		t.Fatal(err)
	}
	outcome := func() access.Outcome { return s.Decisions.Ask(asked).Outcome }
	if _, err := s.Decisions.Decide("edge", asked); err != nil || outcome() != access.Allow ||
		len(s.Decisions.Sessions("maren", "", "")) != 1 {
		t.Fatalf("before, maren gets %s (%v)", outcome(), err)
	}
	if p := s.View.Person("maren"); len(p.Devices) != 1 || p.Devices[0].ID != "d1" ||
		!slices.Equal(p.Groups, []string{"finance"}) {
		t.Errorf("maren is %+v", p)
	}
	for reason, id := range map[string]string{"": "maren", "left": "nobody"} {
		if _, err := s.Admin.RemovePerson(ctx, "hr", id, api.Removal{Reason: reason}); err == nil {
			t.Errorf("%q is removed because of %q", id, reason)
		}
	}
	if _, err := s.Admin.RemovePerson(ctx, "hr", "maren", api.Removal{Reason: "left on Friday"}); err != nil {
		t.Fatal(err)
	}
	if outcome() != access.Deny || len(s.Decisions.Sessions("maren", "", "")) != 0 {
		t.Errorf("afterwards maren gets %s, with sessions %v", outcome(), s.Decisions.Sessions("maren", "", ""))
	}
	if p := s.View.Person("maren"); p.Known || len(p.Devices) != 1 {
		t.Errorf("whose device is still there is %+v", p)
	}
	shut(t, s)
	s = open(t, dir) // and it is kept
	defer shut(t, s)
	if p := s.View.Person("maren"); p.Known || outcome() != access.Deny {
		t.Errorf("after a restart maren is %+v and gets %s", p, outcome())
	}
	made, err := s.Decisions.Decisions(ctx, decision.Query{Person: "maren", Limit: 5})
	if err != nil || len(made) != 1 {
		t.Fatal(made, err)
	}
	if r, err := s.Decisions.ReproduceDecision(ctx, made[0].ID); err != nil || !r.Same {
		t.Errorf("the decision from before is made again as %+v (%v)", r, err)
	}
	lines, err := s.Audit.LedgerLines(ctx, audit.Query{Kind: "person.removed", Limit: 5})
	if err != nil || len(lines) != 1 || !strings.Contains(string(lines[0].Body), "left on Friday") {
		t.Errorf("the ledger tells %+v (%v)", lines, err)
	}
}

// A list that takes something from those whom it changes is weighed against everybody who was active, not against those alone
// whose requests were replayed.
func TestWhatAListTakesIsAShareOfAllWhoWereActive(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	defer shut(t, s)
	publish(t, s, house)
	var people []directory.Person
	for i := range 6 {
		id := fmt.Sprint("quay", i)
		people = append(people, directory.Person{ID: id, Name: id, Groups: []string{"finance"}})
	}
	if _, err := s.Admin.ImportPeople(ctx, "hr", people, admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
	for _, p := range people {
		report(t, s, "d-"+p.ID,
			fmt.Sprintf(`"form":"laptop","owner":%q,"storage.encrypted":true,"os.version":"15","threat.score":3`, p.ID))
		asked, err := access.ParseEvaluation([]byte(fmt.Sprintf(`{"subject":{"type":"user","id":%q},"action":{"name":"open"},"resource":{"type":"app","id":"payroll"},"context":{"device":{"id":"d-%s"}}}`, p.ID, p.ID)))
		if err != nil {
			t.Fatal(err)
		}
		if a, err := s.Decisions.Decide("edge", asked); err != nil || a.Outcome != access.Allow {
			t.Fatalf("%s gets %+v (%v)", p.ID, a, err)
		}
	}
	leaving := []directory.Person{{ID: "quay0", Name: "quay0"}, {ID: "quay1", Name: "quay1"}}
	_, err := s.Admin.ImportPeople(ctx, "hr", leaving, admin.ListImport{})
	var held *admin.ImpactError
	if !errors.As(err, &held) ||
		!strings.Contains(err.Error(), "2 of the 6 people active in the last 7 days would lose something") {
		t.Fatalf("two who lose what they reached are taken with %v", err)
	}
}
