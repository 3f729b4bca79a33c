package service

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
)

const dependent = `rulebook: house
resources: [{id: payroll}, {id: rota}]
baselines:
  - id: crew
    applies: '"crew" in owner.groups'
    rules: [{id: disk, check: storage.encrypted, cap: limited}]
  - id: all
    applies: form == laptop
    rules:
      - {id: ours, check: on_roster or vouched, cap: sound, unknown: sound}
      - {id: shore, check: 'not ("deck" in owner.groups)', cap: unproven, unknown: limited}
gates:
  - {id: payroll, who: {groups: [finance]}, what: {resources: [payroll]}, need: level >= sound}
  - {id: rota, who: {everyone: true}, what: {resources: [rota]}, need: 'level >= limited and not ("deck" in user.groups)'}
break_glass: [master]
`

// After every change of people, roster, waivers and vouches each device stands as if
// the whole fleet were appraised again, and every session that is left is an allow.
func TestAppraisingWhatDependsIsEnough(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, Options{Dir: t.TempDir(), AdminToken: "il_a_token_for_tests_only", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, _, err := s.Publish(ctx, "author", Draft{Files: []rulebook.File{{Name: "r.yaml", Text: dependent}}}); err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(7, 2))
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	person := func() string { return fmt.Sprint("p", r.IntN(12)) }
	device := func() string { return fmt.Sprint("d", r.IntN(25)) }
	groups := func() (out []string) {
		for _, g := range []string{"crew", "deck", "finance"} {
			if r.IntN(3) == 0 {
				out = append(out, g)
			}
		}
		return out
	}
	var given []string
	accepted := "a trial"
	steps := map[string]func() error{
		"report": func() error {
			id := device()
			text := fmt.Sprintf(`{"source":%q,"identity":{"id":%q,"serial":"S-%s"},"evidence":{"form":"laptop","storage.encrypted":%v,"owner":%q}}`,
				one("desk", "agent"), id, id, r.IntN(4) > 0, person())
			_, err := s.Take(ctx, "agent", "", strings.NewReader(text), evidence.NDJSON)
			return err
		},
		"people": func() error {
			var list []directory.Person
			for range 1 + r.IntN(3) {
				list = append(list, directory.Person{ID: person(), Name: one("Ada", "Bo"), Groups: groups()})
			}
			_, err := s.ImportPeople(ctx, "astrid", list, ListImport{AcceptImpact: accepted})
			return err
		},
		"whole directory": func() error {
			var list []directory.Person
			for i := range 12 {
				if r.IntN(5) > 0 {
					list = append(list, directory.Person{ID: fmt.Sprint("p", i), Name: "Ada", Groups: groups()})
				}
			}
			_, err := s.ImportPeople(ctx, "astrid", list, ListImport{Whole: true, AcceptImpact: accepted})
			return err
		},
		"leaver": func() error {
			_, err := s.RemovePerson(ctx, "astrid", person(), Removal{Reason: "left", AcceptImpact: accepted})
			return err
		},
		"roster": func() error {
			_, err := s.ImportRoster(ctx, "astrid", []directory.Hardware{{Serial: "S-" + device(), Note: one("a", "b")}}, ListImport{AcceptImpact: accepted})
			return err
		},
		"roster line": func() error {
			_, err := s.RemoveRoster(ctx, "astrid", "s-"+device(), Removal{Reason: "sold", AcceptImpact: accepted})
			return err
		},
		"waiver": func() error {
			w, err := s.Waive(ctx, "astrid", GrantRequest{Device: device(), Rule: one("crew/disk", "all/ours"), Reason: "a trial", For: "3d"})
			if err == nil {
				given = append(given, w.ID)
			}
			return err
		},
		"vouch": func() error {
			v, err := s.Vouch(ctx, "astrid", GrantRequest{Device: device(), Reason: "a trial", For: "3d"})
			if err == nil {
				given = append(given, v.ID)
			}
			return err
		},
		"revoke": func() error {
			if len(given) == 0 {
				return nil
			}
			_, err := s.Revoke(ctx, "astrid", one(given...), "enough")
			return err
		},
		"ask": func() error {
			for range 8 {
				e := &access.Evaluation{Subject: access.Entity{Type: "user", ID: person()}, Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "app", ID: one("payroll", "rota")},
					Context: &access.Context{Device: &access.DeviceRef{ID: device()}}}
				if _, err := s.Decide("gate", e); err != nil {
					return err
				}
			}
			return nil
		},
	}
	names, done := sortedKeys(steps), map[string]int{}
	sessions := 0
	for step := range 500 {
		name := one(names...)
		if steps[name]() == nil {
			done[name]++
		}
		snap, now := s.Snapshot(), s.micros()
		anew := snap.tried(snap.Book, newPeople(slices.Clone(snap.People.List())), snap.Roster)
		snap.Fleet.All(func(d *Device) bool {
			e := d.carried(d.under, anew.Book.edition)
			e.View = nil
			anew.judge(e, &posture.Result{}, now)
			if got, want := snap.at(d, now).Result, e.Result; got.Level != want.Level || !slices.Equal(got.Verdicts, want.Verdicts) {
				t.Errorf("step %d, %s: %s stands at %d %v, and appraised anew at %d %v", step, name, d.ID, got.Level, got.Verdicts, want.Level, want.Verdicts)
			}
			return true
		})
		live := s.sessions.all(now)
		sessions = max(sessions, len(live))
		for _, x := range live {
			if got := anew.Book.Gates.Trial().Try(anew.request(x.asked, now).Request, now).Outcome; got != access.Allow {
				t.Errorf("step %d, %s: a session of %s on %s to %s is left, and the same is answered %s", step, name, x.Person, x.Device, x.Resource, got)
			}
		}
		if t.Failed() {
			t.FailNow()
		}
	}
	for _, name := range names {
		if done[name] < 8 {
			t.Errorf("%s was done %d times", name, done[name])
		}
	}
	if sessions < 8 {
		t.Errorf("there were %d sessions at most", sessions)
	}
}
