package service_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/service"
)

// village has people, devices and gates of each kind.
const village = `rulebook: village
break_glass: [master]
places: {office: {networks: [10.20.0.0/16]}}
resources:
  - {id: payroll, tags: [money], url: "https://payroll.example/"}
  - {id: till, tags: [money], url: "https://till.example/sell"}
  - {id: rota, url: "https://till.example"}
  - {id: attic}
baselines:
  - {id: b, applies: 'form in [laptop, phone]', rules: [{id: disk, check: storage.encrypted, cap: limited}, {id: threat, check: threat.score <= 30, unknown: sound}]}
gates:
  - {id: pay, number: 1, who: {groups: [finance]}, what: {resources: [payroll]}, when: action != "export", need: 'level >= strong and (auth.mfa or "office" in request.places)', otherwise: step-up}
  - {id: pay-out, number: 2, who: {groups: [finance]}, what: {resources: [payroll], actions: [export]}, need: level >= strong and auth.mfa}
  - {id: sell, number: 3, who: {groups: [quay], users: [maren]}, what: {resources: [till]}, need: level >= sound}
  - {id: rota, number: 4, who: {everyone: true, except: {users: [outcast]}}, what: {resources: [rota]}, need: known_device}
  - {id: tried, number: 5, mode: shadow, who: {everyone: true}, what: {resources: [rota]}, need: level >= strong}
`

func openVillage(t *testing.T) *service.Service {
	t.Helper()
	s := open(t, t.TempDir())
	publish(t, s, village)
	if _, err := s.Admin.ImportPeople(ctx, "admin", []directory.Person{{ID: "maren", Groups: []string{"finance"}},
		{ID: "edda", Groups: []string{"quay"}}, {ID: "outcast"}, {ID: "master", Groups: []string{"finance"}}},
		admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
	for id, attributes := range map[string]string{
		"m1":     `"form":"laptop","storage.encrypted":true,"threat.score":1,"owner":"maren"`,
		"m2":     `"form":"phone","storage.encrypted":false,"threat.score":1,"owner":"maren"`,
		"e1":     `"form":"phone","storage.encrypted":true,"owner":"edda"`,
		"o1":     `"form":"laptop","storage.encrypted":true,"threat.score":90,"owner":"outcast"`,
		"shared": `"form":"laptop","storage.encrypted":true,"threat.score":2`,
	} {
		report(t, s, id, attributes)
	}
	return s
}

var (
	villagers = []string{"maren", "edda", "outcast", "master"}
	machines  = []string{"", "m1", "m2", "e1", "o1", "shared"}
	places    = []string{"payroll", "till", "rota", "attic"}
)

func about(person, device, resource, action string, mfa *bool) *access.Evaluation {
	e := &access.Evaluation{Subject: access.Entity{Type: "user", ID: person},
		Action: access.Action{Name: action}, Resource: access.Entity{Type: "r", ID: resource},
		Context: &access.Context{}}
	if device != "" {
		e.Context.Device = &access.DeviceRef{ID: device}
	}
	if mfa != nil {
		e.Context.Auth = &access.Auth{MFA: mfa}
	}
	return e
}

// pagesAgree goes through who reaches something page by page, all and those who get through.
func pagesAgree(t *testing.T, s *service.Service, question *access.Evaluation, all *api.Reach) {
	t.Helper()
	for _, through := range []bool{false, true} {
		var paged []api.ReachPerson
		for q := (decision.ReachQuery{Through: through, Limit: 2}); ; {
			page, err := s.Decisions.WhoReaches(t.Context(), question, q)
			if err != nil || page.Allowed != all.Allowed || page.SteppedUp != all.SteppedUp || len(page.Items) > 2 {
				t.Fatalf("a page of %+v: %+v, %v", q, page, err)
			}
			paged = append(paged, page.Items...)
			if q.Cursor = page.Next; q.Cursor == "" {
				break
			}
		}
		want := slices.DeleteFunc(slices.Clone(all.Items),
			func(p api.ReachPerson) bool { return through && p.Best == access.Deny })
		if got, want := fmt.Sprintf("%+v", paged), fmt.Sprintf("%+v", want); got != want {
			t.Errorf("through %v: page by page there are %s, at once %s", through, got, want)
		}
	}
	if _, err := s.Decisions.WhoReaches(t.Context(), question, decision.ReachQuery{Cursor: "payroll"}); err == nil {
		t.Error("a cursor that no page gave is taken")
	}
}

// Of a directory that several look through at once, everybody is found once, with what asking gives.
func TestManyAreFoundByWhatTheyReach(t *testing.T) {
	t.Parallel()
	s := openVillage(t)
	defer shut(t, s)
	many := []directory.Person{{ID: "maren", Groups: []string{"quay"}}}
	for i := range 3000 {
		p := directory.Person{ID: fmt.Sprintf("v%04d", i)}
		if i%7 == 0 {
			p.Groups = []string{"finance"}
		}
		many = append(many, p)
	}
	if _, err := s.Admin.ImportPeople(ctx, "admin", many, admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
	yes := true
	question := about("nobody", "", "payroll", "open", &yes)
	reach, err := s.Decisions.WhoReaches(t.Context(), question, decision.ReachQuery{})
	if err != nil || reach.People != len(many)+3 || len(reach.Items) != reach.People {
		t.Fatalf("%d of %d are found, %v", len(reach.Items), reach.People, err)
	}
	seen, count := map[string]bool{}, map[access.Outcome]int{}
	for _, p := range reach.Items {
		best := p.Unknown
		for _, device := range machines {
			if o := s.Decisions.Ask(about(p.Person, device, "payroll", "open", &yes)).Outcome; o == access.Allow &&
				(device == "shared" || device != "" && slices.ContainsFunc(p.Devices,
					func(d api.ReachDevice) bool { return d.Device == device })) {
				best = o
			}
		}
		if seen[p.Person] || p.Best != best {
			t.Fatalf("%+v: asked %s", p, best)
		}
		seen[p.Person] = true
		count[best]++
	}
	if count[access.Allow] != reach.Allowed || count[access.StepUp] != reach.SteppedUp || reach.Allowed < len(many)/7 {
		t.Errorf("%v are counted as %d and %d", count, reach.Allowed, reach.SteppedUp)
	}
	left, leave := context.WithCancel(t.Context())
	leave()
	if _, err := s.Decisions.WhoReaches(left, question, decision.ReachQuery{}); !errors.Is(err, context.Canceled) {
		t.Errorf("who left is answered with %v", err)
	}
}

// Whatever way round it is asked, the answer is the one that asking gives.
func TestReachingAndFindingAgreeWithAsking(t *testing.T) {
	t.Parallel()
	s := openVillage(t)
	defer shut(t, s)
	yes, no := true, false
	for _, mfa := range []*bool{nil, &yes, &no} {
		for _, action := range []string{"open", "export"} {
			for _, resource := range places {
				question := about("nobody", "", resource, action, mfa)
				reach, err := s.Decisions.WhoReaches(t.Context(), question, decision.ReachQuery{})
				if err != nil || len(reach.Items) != len(villagers) || reach.People != len(villagers) {
					t.Fatalf("%d people of %d: %v", len(reach.Items), reach.People, err)
				}
				pagesAgree(t, s, question, reach)
				for _, p := range reach.Items {
					if got := s.Decisions.Ask(about(p.Person, "", resource, action,
						mfa)).Outcome; got != p.Unknown {
						t.Errorf("%s from an unknown device to %s: asked %s, reached %s", p.Person, resource,
							got, p.Unknown)
					}
					for _, d := range p.Devices {
						if got := s.Decisions.Ask(about(p.Person, d.Device, resource, action,
							mfa)).Outcome; got != d.Outcome {
							t.Errorf("%s from %s to %s: asked %s, reached %s", p.Person, d.Device, resource,
								got, d.Outcome)
						}
					}
					if shared := s.Decisions.Ask(about(p.Person, "shared", resource, action,
						mfa)).Outcome == access.Allow; shared != (p.Shared == 1) {
						t.Errorf("%s from the shared machine to %s: %t, %d shared", p.Person, resource,
							shared, p.Shared)
					}
				}
				for _, device := range machines {
					var want []string
					for _, p := range villagers {
						if s.Decisions.Ask(about(p, device, resource, action, mfa)).Outcome == access.Allow {
							want = append(want, p)
						}
					}
					slices.Sort(want)
					var got []string
					for _, f := range s.Decisions.Find(access.SearchSubject,
						about("-", device, resource, action, mfa)) {
						got = append(got, f.ID)
					}
					if !slices.Equal(got, want) {
						t.Errorf("who may %s %s from %q: found %v, asked %v", action, resource, device, got, want)
					}
				}
			}
			for _, person := range villagers {
				for _, device := range machines {
					for _, r := range s.Decisions.WhatReaches(about(person, device, "-", action, mfa)) {
						if got := s.Decisions.Ask(about(person, device, r.Resource, r.Action,
							mfa)).Outcome; got != r.Outcome {
							t.Errorf("%s from %q to %s %s: asked %s, reaches %s", person, device, r.Action,
								r.Resource, got, r.Outcome)
						}
					}
				}
			}
		}
	}
	var actions []string
	for _, f := range s.Decisions.Find(access.SearchAction, about("maren", "m1", "payroll", "-", &yes)) {
		actions = append(actions, f.Name)
	}
	if !slices.Equal(actions, []string{"export", "open"}) {
		t.Errorf("maren may %v", actions)
	}
}

func TestWhichResourceAnAddressBelongsTo(t *testing.T) {
	t.Parallel()
	s := openVillage(t)
	defer shut(t, s)
	for address, want := range map[string]string{
		"https://payroll.example": "payroll", "https://payroll.example/": "payroll",
		"https://payroll.example/2026/11?x=1": "payroll", "https://payroll.example.evil.example/": "",
		"https://payroll.examples/": "",
		"https://till.example/sell": "till", "https://till.example/sell/now": "till",
		"https://till.example/seller": "rota", "https://till.example/?x": "rota",
		"http://payroll.example/": "", "": "",
	} {
		if got := decision.ResourceAt(s.Snapshot().Book, address); got != want {
			t.Errorf("%s belongs to %q, want %q", address, got, want)
		}
	}
}

// What was decided is found again by what it was about, and counted.
func TestDecisionsAreFoundByGateAndTime(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := openVillage(t)
		defer shut(t, s)
		decide := func(person, device, resource string) {
			t.Helper()
			if _, err := s.Decisions.Decide("edge", about(person, device, resource, "open", nil)); err != nil {
				t.Fatal(err)
			}
		}
		decide("edda", "e1", "till")
		decide("maren", "m2", "till")
		time.Sleep(7 * time.Hour)
		noon := s.Now().UTC().Format(time.RFC3339)
		decide("outcast", "o1", "rota")
		decide("edda", "e1", "rota")
		time.Sleep(time.Hour)
		for _, c := range []struct {
			q    decision.Query
			want int
		}{
			{decision.Query{}, 4}, {decision.Query{Gate: "sell"}, 2},
			{decision.Query{Gate: "sell", Outcome: "deny"}, 1},
			{decision.Query{Gate: "tried"}, 2}, {decision.Query{Gate: "pay"}, 0},
			{decision.Query{Since: noon}, 2}, {decision.Query{Until: noon}, 2},
			{decision.Query{Since: noon, Until: noon}, 0},
			{decision.Query{Since: noon, Gate: "sell"}, 0}, {decision.Query{Person: "edda"}, 2},
		} {
			c.q.Limit = 100
			got, err := s.Decisions.Decisions(ctx, c.q)
			if err != nil || len(got) != c.want {
				t.Errorf("%+v finds %d, want %d (%v)", c.q, len(got), c.want, err)
			}
		}
		counts, err := s.Decisions.DecisionCounts(ctx, 1)
		if err != nil {
			t.Fatal(err)
		}
		sum := map[string]int{}
		for _, c := range counts {
			sum[string(c.Outcome)] += c.Count
			sum[fmt.Sprint("shadow ", c.Shadow)] += c.Count
		}
		if sum["allow"] != 2 || sum["deny"] != 2 || sum["shadow true"] != 1 {
			t.Errorf("the counts are %v of %v", sum, counts)
		}
		gates, err := s.Decisions.Gates(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, g := range gates {
			if w := g.Week; g.ID == "sell" && (w.Met != 1 || w.Denied != 1) || g.ID == "tried" &&
				(w.Denied != 2 || g.Mode != "shadow") {
				t.Errorf("%s said %+v", g.ID, w)
			}
		}
		time.Sleep(8 * 24 * time.Hour)
		if gates, err = s.Decisions.Gates(ctx); err != nil || gates[2].Week != (api.GateWeek{}) {
			t.Errorf("a week later it said %+v (%v)", gates[2].Week, err)
		}
	})
}
